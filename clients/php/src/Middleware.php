<?php
declare(strict_types=1);

namespace Gerastic;

use Psr\Http\Message\{ResponseInterface, ServerRequestInterface, StreamFactoryInterface};
use Psr\Http\Server\{MiddlewareInterface, RequestHandlerInterface};

/**
 * Middleware (PSR-15) that tells the edge what is in a page, and answers early with 304. The page is the request's
 * attribute gerastic.page, and what $fragments is asked for goes into it: after $page->unchanged(null, [...]) returned
 * true the application answers anything, and it becomes a 304, empty if there is a factory of streams.
 */
final class Middleware implements MiddlewareInterface
{
    public function __construct(private readonly Fragments $fragments, private readonly ?StreamFactoryInterface $streams = null)
    {
    }

    public function process(ServerRequestInterface $request, RequestHandlerInterface $handler): ResponseInterface
    {
        $page = $this->fragments->page($request->getHeaders());
        $answer = $this->fragments->within($page, static fn () => $handler->handle($request->withAttribute('gerastic.page', $page)));
        $told = $page->headers();
        if (!in_array($answer->getStatusCode(), [200, 304], true)) {
            unset($told['ETag'], $told['Last-Modified']);
        }
        if ($answer->getStatusCode() === 200 && $page->notModified) {
            $answer = $answer->withStatus(304)->withoutHeader('Content-Length')->withoutHeader('Content-Type')->withoutHeader('Content-Encoding');
            $answer = $this->streams === null ? $answer : $answer->withBody($this->streams->createStream(''));
        }
        foreach ($told as $name => $value) {
            $answer = in_array($name, ['Server-Timing', 'Cache-Groups'], true) ? $answer->withAddedHeader($name, $value) : $answer->withHeader($name, $value);
        }
        return $answer;
    }
}
