<?php
declare(strict_types=1);

namespace Gerastic;

/**
 * The part of CBOR (RFC 8949) that the calls for many fragments are made of: strings are text, Bytes are
 * bytes. A call's body is a sequence of data items (RFC 8742).
 */
final class Cbor
{
    private int $at = 0;

    private function __construct(private readonly string $data)
    {
    }

    public static function encode(mixed $value): string
    {
        return match (get_debug_type($value)) {
            'string' => self::head(0x60, strlen($value)) . $value,
            'float' => "\xfb" . pack('E', $value),
            'array' => array_is_list($value) ? self::head(0x80, count($value)) . implode('', array_map(self::encode(...), $value)) : self::members($value),
            'null' => "\xf6",
            'bool' => $value ? "\xf5" : "\xf4",
            'int' => $value >= 0 ? self::head(0x00, $value) : self::head(0x20, -1 - $value),
            Bytes::class => self::head(0x40, strlen($value->bytes)) . $value->bytes,
            default => throw new \TypeError('a ' . get_debug_type($value) . ' cannot be sent'),
        };
    }

    private static function members(array $value): string
    {
        $out = self::head(0xa0, count($value));
        foreach ($value as $name => $one) {
            $out .= self::encode((string) $name) . self::encode($one);
        }
        return $out;
    }

    private static function head(int $major, int $n): string
    {
        if ($n < 24) {
            return chr($major | $n);
        }
        return match (true) {
            $n < 1 << 8 => chr($major | 24) . chr($n),
            $n < 1 << 16 => chr($major | 25) . pack('n', $n),
            $n < 1 << 32 => chr($major | 26) . pack('N', $n),
            default => chr($major | 27) . pack('J', $n),
        };
    }

    /** Decodes all data items in some bytes; throws Unreached. */
    public static function decodeAll(string $data): array
    {
        $reader = new self($data);
        $items = [];
        while ($reader->at < strlen($data)) {
            $items[] = $reader->item(0);
        }
        return $items;
    }

    private static function malformed(string $why): Unreached
    {
        return new Unreached("its answer cannot be read: $why");
    }

    private function take(int $n): string
    {
        if ($n < 0 || $n > strlen($this->data) - $this->at) {
            throw self::malformed('the answer ends within an item');
        }
        $this->at += $n;
        return substr($this->data, $this->at - $n, $n);
    }

    private function item(int $depth): mixed
    {
        if ($depth > 16) {
            throw self::malformed('items are nested too deeply');
        }
        $first = ord($this->data[$this->at] ?? throw self::malformed('the answer ends within an item'));
        $this->at++;
        if ($first < 24) {
            return $first;
        }
        if ($first === 0xFB) {
            return unpack('E', $this->take(8))[1];
        }
        if ($first >= 0x60 && $first < 0x78) {
            return $this->text($first - 0x60);
        }
        [$major, $n] = [$first >> 5, $first & 31];
        if ($major === 7) {
            return match ($n) {
                20 => false,
                21 => true,
                22 => null,
                26 => unpack('G', $this->take(4))[1],
                default => throw self::malformed('a simple value that is not known'),
            };
        }
        if ($n >= 24) {
            $n = $n <= 27 ? unpack([24 => 'C', 25 => 'n', 26 => 'N', 27 => 'J'][$n], $this->take(1 << ($n - 24)))[1] : throw self::malformed('an item of indefinite length');
        }
        return match ($major) {
            0 => $n,
            1 => -1 - $n,
            2 => new Bytes($this->take($n)),
            3 => $this->text($n),
            4 => $this->items($n, $depth),
            5 => $this->map($n, $depth),
            default => throw self::malformed('a tagged item'),
        };
    }

    private function text(int $n): string
    {
        $text = $this->take($n);
        return preg_match('//u', $text) ? $text : throw self::malformed('a text that is not UTF-8');
    }

    private function items(int $n, int $depth): array
    {
        $items = [];
        for (; $n > 0; $n--) {
            $items[] = $this->item($depth + 1);
        }
        return $items;
    }

    private function map(int $n, int $depth): array
    {
        $members = [];
        for (; $n > 0; $n--) {
            $size = ord($this->data[$this->at] ?? '') - 0x60;
            if ($size > 0 && $size < 24) { // a short name, as all are
                $name = substr($this->data, $this->at + 1, $size);
                $this->at += $size + 1;
            } else {
                $name = $this->item($depth + 1);
            }
            if (!is_string($name)) {
                throw self::malformed('a member whose name is not text');
            }
            $first = ord($this->data[$this->at] ?? '');
            if ($first === 0xFB && $this->at + 9 <= strlen($this->data)) { // a number, as most are
                $members[$name] = unpack('E', $this->data, $this->at + 1)[1];
                $this->at += 9;
            } else {
                $members[$name] = $this->item($depth + 1);
            }
        }
        return $members;
    }
}
