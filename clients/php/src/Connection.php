<?php
declare(strict_types=1);

namespace Gerastic;

/**
 * A connection to a node, which carries one exchange of HTTP/1.1 (RFC 9112) after the other, with a time limit for
 * the beginning of an answer and one for its end. After an error it is of no use.
 */
final class Connection
{
    private const LONGEST_HEAD = 64 << 10;
    private const LONGEST_BODY = 256 << 20;

    /** Whether it had answers before. */
    public bool $used = false;
    /** Whether something of the answer came. */
    public bool $begun = false;
    /** @var resource */
    private $socket;
    private string $data = ''; // what came and is not read yet

    /** Address is tcp://host:port or tls://host:port. */
    public function __construct(string $address, float $timeout)
    {
        $socket = @stream_socket_client($address, $code, $message, $timeout, STREAM_CLIENT_CONNECT, stream_context_create(['socket' => ['tcp_nodelay' => true]]));
        if ($socket === false) {
            throw new Unreached($message ?: 'no connection to it could be made');
        }
        stream_set_read_buffer($socket, 0);
        $this->socket = $socket;
    }

    /** Seconds of a clock that nobody sets. */
    public static function now(): float
    {
        return hrtime(true) / 1e9;
    }

    public function __destruct()
    {
        if (is_resource($this->socket)) {
            fclose($this->socket);
        }
    }

    /** The status and body of the answer, and whether there may be another exchange; throws Unreached. */
    public function exchange(string $request, float $begins, float $ends): array
    {
        [$this->data, $this->begun] = ['', false];
        $this->send($request, $begins);
        do {
            [$status, $fields] = $this->head($begins);
        } while ($status < 200); // an interim answer (RFC 9110 §15.2)
        if ($status === 408) { // said to a connection that rested, and no answer (RFC 9110 §15.5.9)
            $this->begun = false;
            throw new Unreached('it gave up waiting for a request');
        }
        $last = strtolower($fields['connection'] ?? '') === 'close';
        if ($status === 204 || $status === 304) {
            $body = '';
        } elseif (isset($fields['transfer-encoding'])) {
            $body = $this->chunks($fields['transfer-encoding'], $ends);
        } elseif (isset($fields['content-length'])) {
            $body = $this->take(self::number($fields['content-length'], '/\A\d{1,12}\z/', 10), $ends);
        } else {
            [$last, $body] = [true, $this->rest($ends)];
        }
        $this->used = true;
        return [$status, $body, !$last && $this->data === ''];
    }

    private function send(string $request, float $until): void
    {
        while ($request !== '') {
            $this->patience($until);
            $sent = @fwrite($this->socket, $request);
            if (!$sent) {
                throw new Unreached('it does not take what it is sent');
            }
            $request = substr($request, $sent);
        }
    }

    /** Lets the next step wait for as long as there is. */
    private function patience(float $until): void
    {
        $left = $until - self::now();
        if ($left <= 0) {
            throw new Unreached('it did not answer in time');
        }
        stream_set_timeout($this->socket, (int) $left, max(1000, (int) (fmod($left, 1) * 1e6)));
    }

    private function head(float $until): array
    {
        $text = $this->line("\r\n\r\n", $until);
        if (!preg_match('#\AHTTP/1\.\d (\d{3})(?: |\r|\z)#', $text, $status)) {
            throw new Unreached('its answer is not of HTTP/1.1');
        }
        $fields = [];
        foreach (preg_match_all('/\r\n(content-length|transfer-encoding|connection):[ \t]*([^\r\n]*)/i', $text, $lines) ? $lines[1] : [] as $i => $name) {
            $fields[strtolower($name)] = rtrim($lines[2][$i]);
        }
        return [(int) $status[1], $fields];
    }

    private function line(string $end, float $until): string
    {
        while (($at = strpos($this->data, $end)) === false) {
            if (strlen($this->data) > self::LONGEST_HEAD) {
                throw new Unreached('the head of its answer is too long');
            }
            $this->need($until);
        }
        $line = substr($this->data, 0, $at);
        $this->data = substr($this->data, $at + strlen($end));
        return $line;
    }

    private function need(float $until): void
    {
        if (!$this->more($until)) {
            throw new Unreached('its answer ended too early');
        }
    }

    private function more(float $until): bool
    {
        $this->patience($until);
        $piece = @fread($this->socket, 64 << 10);
        if ($piece === false || $piece === '') {
            if (stream_get_meta_data($this->socket)['timed_out']) {
                throw new Unreached('it did not answer in time');
            }
            return false;
        }
        $this->data .= $piece;
        return $this->begun = true;
    }

    private function take(int $size, float $until): string
    {
        self::short($size);
        while (strlen($this->data) < $size) {
            $this->need($until);
        }
        $body = substr($this->data, 0, $size);
        $this->data = substr($this->data, $size);
        return $body;
    }

    private function chunks(string $coding, float $until): string
    {
        if (strtolower($coding) !== 'chunked') {
            throw new Unreached('its answer is in a transfer coding that nobody asked for');
        }
        $body = '';
        while ($size = self::number(explode(';', $this->line("\r\n", $until))[0], '/\A[0-9a-fA-F]{1,8}\z/', 16)) {
            self::short(strlen($body) + $size);
            $body .= $this->take($size, $until);
            if ($this->take(2, $until) !== "\r\n") {
                throw new Unreached('its answer is in chunks of another length than they say');
            }
        }
        while ($this->line("\r\n", $until) !== '') {
            // fields behind the body
        }
        return $body;
    }

    private function rest(float $until): string
    {
        while ($this->more($until)) {
            self::short(strlen($this->data));
        }
        [$body, $this->data] = [$this->data, ''];
        return $body;
    }

    private static function short(int $size): void
    {
        if ($size > self::LONGEST_BODY) {
            throw new Unreached('its answer is too long');
        }
    }

    private static function number(string $text, string $form, int $base): int
    {
        if (!preg_match($form, trim($text))) {
            throw new Unreached('its answer says no length');
        }
        return (int) base_convert(trim($text), $base, 10);
    }
}
