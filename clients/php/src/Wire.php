<?php
declare(strict_types=1);

namespace Gerastic;

/** How calls reach a node: a connection that is kept, time limits, and a breaker. */
final class Wire
{
    private const BREAK_AFTER = 5;
    private const BREAK_FOR = 2.0;

    private readonly string $address;
    private ?\CurlHandle $handle = null;
    private ?\CurlMultiHandle $many = null; // which keeps the connection
    private int $process = 0;
    private int $failures = 0;
    private float $restsUntil = 0.0;

    public function __construct(string $control, private readonly string $token)
    {
        $this->address = rtrim(str_contains($control, '://') ? $control : "http://$control", '/');
        if (!preg_match('#\Ahttps?://[^/\s]+\z#', $this->address)) {
            throw new \InvalidArgumentException("control: \"$control\" is no address; write http://127.0.0.1:8490");
        }
        if ($token === '') {
            throw new \InvalidArgumentException('a token is missing; make one with: gerastic token create --name APP --rights fragments --namespace APP');
        }
    }

    /** Calls with data items and returns those of the answer; throws Unreached, also if the node did not answer several times of late. */
    public function items(string $what, ?string $namespace, array $values, float $timeout, float $more): array
    {
        if (microtime(true) < $this->restsUntil) {
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
                $this->restsUntil = microtime(true) + self::BREAK_FOR;
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
        if ($this->process !== getmypid()) { // the parent's connection is not ours
            [$this->handle, $this->many, $this->process] = [curl_init(), curl_multi_init(), getmypid()];
            curl_setopt_array($this->handle, [CURLOPT_RETURNTRANSFER => true, CURLOPT_FOLLOWLOCATION => false, CURLOPT_PROTOCOLS => CURLPROTO_HTTP | CURLPROTO_HTTPS, CURLOPT_PROXY => '', CURLOPT_NOSIGNAL => true]);
        }
        curl_setopt_array($this->handle, [
            CURLOPT_URL => $this->address . $path, CURLOPT_CUSTOMREQUEST => $method, CURLOPT_POSTFIELDS => $body ?? '', CURLOPT_HTTPHEADER => ["Authorization: Bearer {$this->token}", "Content-Type: $type", 'Expect:'],
            CURLOPT_CONNECTTIMEOUT_MS => max(1, (int) ($timeout * 1000)), CURLOPT_TIMEOUT_MS => max(1, (int) (($timeout + $more) * 1000)),
        ]);
        $many = $this->many;
        curl_multi_add_handle($many, $this->handle);
        $ends = microtime(true) + $timeout;
        try {
            for (curl_multi_exec($many, $running); $running > 0; curl_multi_exec($many, $running)) {
                $left = curl_getinfo($this->handle, CURLINFO_STARTTRANSFER_TIME_T) > 0 ? 1.0 : $ends - microtime(true);
                if ($left <= 0) {
                    throw new Unreached('it did not answer in time');
                }
                curl_multi_select($many, $left);
            }
            $info = curl_multi_info_read($many);
            if (($info['result'] ?? CURLE_OK) !== CURLE_OK) {
                throw new Unreached(curl_error($this->handle) ?: (string) curl_strerror($info['result']));
            }
            return [(int) curl_getinfo($this->handle, CURLINFO_RESPONSE_CODE), (string) curl_multi_getcontent($this->handle)];
        } catch (Unreached $error) {
            $this->process = 0; // the connection is not used again
            throw $error;
        } finally {
            curl_multi_remove_handle($many, $this->handle);
        }
    }

    private static function detail(int $status, string $body): string
    {
        $read = json_decode($body, true);
        return is_array($read) && is_string($read['detail'] ?? null) ? $read['detail'] : "it answered $status";
    }
}
