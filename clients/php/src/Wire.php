<?php
declare(strict_types=1);

namespace Gerastic;

/** How calls reach a node: a connection that is kept, time limits, and a breaker. */
final class Wire
{
    private const BREAK_AFTER = 5;
    private const BREAK_FOR = 2.0;

    private readonly string $address;
    private readonly string $prefix; // of paths
    private readonly string $head;
    private ?Connection $idle = null;
    private int $process = 0;
    private int $failures = 0;
    private float $restsUntil = 0.0;

    public function __construct(string $control, string $token)
    {
        $address = str_contains($control, '://') ? $control : "http://$control";
        if (!preg_match('#\Ahttp(s?)://((?:\[[0-9a-fA-F:.]+\]|[^/\s:@]+)(?::(\d+))?)((?:/[\x21-\x7e]*?)?)/?\z#', $address, $is)) {
            throw new \InvalidArgumentException("control: \"$control\" is no address; write http://127.0.0.1:8490");
        }
        if ($token === '') {
            throw new \InvalidArgumentException('a token is missing; make one with: gerastic token create --name APP --rights fragments --namespace APP');
        }
        if (!preg_match('/\A[\x20-\x7e]+\z/', $token)) {
            throw new \InvalidArgumentException('the token is not one line of ASCII');
        }
        $this->address = ($is[1] ? 'tls://' : 'tcp://') . $is[2] . ($is[3] !== '' ? '' : ($is[1] ? ':443' : ':80'));
        $this->prefix = $is[4];
        $this->head = "Host: {$is[2]}\r\nAuthorization: Bearer $token\r\n";
    }

    /** Calls with data items and returns those of the answer; throws Unreached, also if the node did not answer several times of late. */
    public function items(string $what, ?string $namespace, array $values, float $timeout, float $more): array
    {
        if (Connection::now() < $this->restsUntil) {
            throw new Unreached('it did not answer several times, and is done without for a moment');
        }
        try {
            [$status, $body] = $this->exchange('POST', "/v1/fragments/$what" . self::query($namespace), implode('', array_map(Cbor::encode(...), $values)), 'application/cbor-seq', $timeout, $more);
            if ($status !== 200) {
                throw new Unreached(self::detail($status, $body));
            }
            try {
                $items = Cbor::decodeAll($body);
            } catch (Unreached) {
                throw new Unreached('its answer cannot be read');
            }
        } catch (Unreached $error) {
            if (++$this->failures >= self::BREAK_AFTER) {
                $this->restsUntil = Connection::now() + self::BREAK_FOR;
            }
            throw $error;
        }
        $this->failures = 0;
        return $items;
    }

    /** Makes a call in JSON; throws Refused or Unreached. */
    public function json(string $method, string $path, ?array $value = null, float $timeout = 10.0): mixed
    {
        [$status, $body] = $this->exchange($method, $path, $value === null ? null : json_encode($value, JSON_THROW_ON_ERROR), 'application/json', $timeout, $timeout);
        if ($status >= 400) {
            throw new Refused(self::detail($status, $body), $status);
        }
        if ($status === 204) {
            return null;
        }
        try {
            return json_decode($body, true, 64, JSON_THROW_ON_ERROR);
        } catch (\JsonException) {
            throw new Unreached('its answer is no JSON');
        }
    }

    public static function query(?string $namespace): string
    {
        return $namespace === null ? '' : '?namespace=' . rawurlencode($namespace);
    }

    /** The answer has begun within timeout seconds and ended more seconds later, or it is Unreached. */
    private function exchange(string $method, string $path, ?string $body, string $type, float $timeout, float $more): array
    {
        $request = "$method {$this->prefix}$path HTTP/1.1\r\n{$this->head}" . ($body === null ? '' : "Content-Type: $type\r\nContent-Length: " . strlen($body) . "\r\n") . "\r\n$body";
        $begins = Connection::now() + $timeout;
        if ($this->process !== getmypid()) { // the parent's connection is not ours
            [$this->idle, $this->process] = [null, getmypid()];
        }
        while (true) {
            [$connection, $this->idle] = [$this->idle ?? new Connection($this->address, $timeout), null];
            try {
                [$status, $text, $again] = $connection->exchange($request, $begins, $begins + $more);
            } catch (Unreached $error) {
                if ($connection->used && !$connection->begun && Connection::now() < $begins) {
                    continue; // it had rested for too long
                }
                throw $error;
            }
            $this->idle = $again ? $connection : null;
            return [$status, $text];
        }
    }

    private static function detail(int $status, string $body): string
    {
        $read = json_decode($body, true);
        return is_array($read) && is_string($read['detail'] ?? null) ? $read['detail'] : "it answered $status";
    }
}
