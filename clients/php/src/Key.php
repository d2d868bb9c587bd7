<?php
declare(strict_types=1);

namespace Gerastic;

/** Keys of fragments, and lengths of time. */
final class Key
{
    private const NO_VALUE = 'a part of the fragment %s is not a value; parts are text, numbers, booleans, times, bytes, and lists of them';

    /** Seconds of a life that only a purge or a new version ends. */
    public const FOREVER = 100.0 * 365 * 24 * 3600;

    /** @var array<string, float> lengths of time that were read before */
    private static array $read = [];

    /** Reads a length of time: seconds, a DateInterval, or "90s", "15m", "1h", "1d", "forever". */
    public static function seconds(int|float|string|\DateInterval|null $time, string $what = 'lifetime'): float
    {
        if ($time === 'forever') {
            return self::FOREVER;
        }
        if (is_string($time) && isset(self::$read[$time])) {
            return self::$read[$time];
        }
        if ($time instanceof \DateInterval) {
            $zero = new \DateTimeImmutable('@0');
            $time = (float) $zero->add($time)->format('U.u');
        }
        if (is_string($time)) {
            $shown = $text = $time;
            count(self::$read) < 100 || self::$read = [];
            $time = preg_match('/\A(\d+(?:\.\d+)?)(ms|s|m|h|d)\z/', $time, $m) ? (float) $m[1] * ['ms' => 0.001, 's' => 1, 'm' => 60, 'h' => 3600, 'd' => 86400][$m[2]] : null;
        }
        $shown ??= (string) $time;
        if ($time === null || !is_finite((float) $time) || $time < 0) {
            throw new \InvalidArgumentException("the $what, $shown, is no length of time; write 90s, 15m, 1h, 1d or forever");
        }
        $read = min((float) $time, self::FOREVER);
        return isset($text) ? self::$read[$text] = $read : $read;
    }

    /** The key of a fragment: name("part",2)@"version". Throws what cannot be part of it. */
    public static function of(mixed $name, mixed $parts = [], mixed $version = null): string
    {
        if (!is_string($name) || !preg_match('/\A[A-Za-z0-9_.-]{1,64}\z/', $name)) {
            throw new \InvalidArgumentException("a fragment's name has 1 to 64 letters, digits, -, _ and .; " . (is_scalar($name) ? $name : get_debug_type($name)) . ' is not one');
        }
        if (!is_array($parts) || !array_is_list($parts)) {
            throw new \TypeError("the parts of the fragment $name are a list");
        }
        $key = $name . '(' . implode(',', array_map(static fn ($part) => self::value($name, $part), $parts)) . ')';
        if ($version !== null) {
            $key .= '@' . self::value($name, $version);
        }
        if (strlen($key) > 1024) {
            throw new \InvalidArgumentException("the key of the fragment $name has more than 1024 bytes; use an identifier, or a digest, in place of a long text");
        }
        return $key;
    }

    /** Writes a part so that it reads one way only: as canonical JSON (RFC 8785), times behind t, bytes behind x. */
    private static function value(string $name, mixed $part, int $depth = 0): string
    {
        return match (true) {
            $part === null => 'null',
            is_bool($part) => $part ? 'true' : 'false',
            is_int($part) => (string) $part,
            is_float($part) => self::number($name, $part),
            is_string($part) => self::text($name, $part),
            $part instanceof Bytes => 'x"' . bin2hex($part->bytes) . '"',
            $part instanceof \DateTimeInterface => self::time($part),
            $part instanceof \BackedEnum => self::value($name, $part->value),
            is_array($part) && array_is_list($part) && $depth < 16 => '[' . implode(',', array_map(static fn ($one) => self::value($name, $one, $depth + 1), $part)) . ']',
            default => throw new \TypeError(sprintf(self::NO_VALUE, $name)),
        };
    }

    private static function text(string $name, string $text): string
    {
        $json = json_encode($text, JSON_UNESCAPED_UNICODE | JSON_UNESCAPED_SLASHES | JSON_UNESCAPED_LINE_TERMINATORS);
        return $json !== false ? $json : throw new \InvalidArgumentException("a part of the fragment $name is not text; make it bytes");
    }

    private static function time(\DateTimeInterface $time): string
    {
        $time = \DateTimeImmutable::createFromInterface($time)->setTimezone(new \DateTimeZone('UTC'));
        $fraction = rtrim($time->format('.u'), '0.');
        return 't"' . $time->format('Y-m-d\TH:i:s') . $fraction . 'Z"';
    }

    /** Writes a number as ECMAScript does (RFC 8785 §3.2.2.3). */
    private static function number(string $name, float $number): string
    {
        if (!is_finite($number)) {
            throw new \InvalidArgumentException(sprintf(self::NO_VALUE, $name));
        }
        if ($number == 0) {
            return '0';
        }
        [$mantissa, $exponent] = explode('e', strtolower(var_export(abs($number), true)) . 'e0');
        [$whole, $fraction] = explode('.', $mantissa . '.');
        $digits = ltrim($whole . $fraction, '0');
        $power = (int) $exponent + strlen($whole) - (strlen($whole . $fraction) - strlen($digits));
        $digits = rtrim($digits, '0');
        $out = match (true) {
            $power >= 1 && $power <= 21 => strlen($digits) <= $power ? str_pad($digits, $power, '0') : substr($digits, 0, $power) . '.' . substr($digits, $power),
            $power >= -5 && $power <= 0 => '0.' . str_repeat('0', -$power) . $digits,
            default => $digits[0] . (strlen($digits) > 1 ? '.' . substr($digits, 1) : '') . 'e' . sprintf('%+d', $power - 1),
        };
        return ($number < 0 ? '-' : '') . $out;
    }
}
