<?php
// As much of the interfaces of PSR-7 and PSR-15 as the middleware uses, and messages that have them.
declare(strict_types=1);

namespace Psr\Http\Message {
    interface ServerRequestInterface
    {
    }
    interface ResponseInterface
    {
    }
    interface StreamFactoryInterface
    {
    }
}

namespace Psr\Http\Server {
    use Psr\Http\Message\{ResponseInterface, ServerRequestInterface};

    interface RequestHandlerInterface
    {
        public function handle(ServerRequestInterface $request): ResponseInterface;
    }
    interface MiddlewareInterface
    {
        public function process(ServerRequestInterface $request, RequestHandlerInterface $handler): ResponseInterface;
    }
}

namespace {
    use Psr\Http\Message\{ResponseInterface, ServerRequestInterface, StreamFactoryInterface};

    final class FakeRequest implements ServerRequestInterface
    {
        public array $attributes = [];

        public function __construct(public array $headers)
        {
        }

        public function getHeaders(): array
        {
            return array_map(static fn ($value) => [$value], $this->headers);
        }

        public function withAttribute(string $name, mixed $value): static
        {
            $this->attributes[$name] = $value;
            return $this;
        }

        public function getAttribute(string $name): mixed
        {
            return $this->attributes[$name];
        }
    }

    final class FakeAnswer implements ResponseInterface
    {
        public int $status = 200;
        public array $headers = [];
        public string $body = '';

        public function getStatusCode(): int
        {
            return $this->status;
        }

        public function withStatus(int $status): static
        {
            $this->status = $status;
            return $this;
        }

        public function withHeader(string $name, string $value): static
        {
            $this->headers[$name] = $value;
            return $this;
        }

        public function withAddedHeader(string $name, string $value): static
        {
            return $this->withHeader($name, $value);
        }

        public function withoutHeader(string $name): static
        {
            unset($this->headers[$name]);
            return $this;
        }

        public function withBody(string $body): static
        {
            $this->body = $body;
            return $this;
        }
    }

    final class FakeStreams implements StreamFactoryInterface
    {
        public function createStream(string $text): string
        {
            return $text;
        }
    }

    final class FakeHandler implements Psr\Http\Server\RequestHandlerInterface
    {
        public function __construct(private readonly Closure $do)
        {
        }

        public function handle(ServerRequestInterface $request): ResponseInterface
        {
            return ($this->do)($request);
        }
    }
}
