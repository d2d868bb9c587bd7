<?php
declare(strict_types=1);

namespace Gerastic;

/** A wrong key is noticed: what was found is filled, too, and compared. */
final class Check
{
    public const GRACE = 1_000_000; // microseconds in which a purge may come that explains a difference
    private const SAMPLE = 400;

    /** @var array<string, array{string, string}> */
    private array $places = [];
    /** @var array<string, true> */
    private array $told = [];

    /** What is wrong, if another place fills this name otherwise; null if none does. */
    public function copied(string $name, callable $fill): ?string
    {
        $code = new \ReflectionFunction(\Closure::fromCallable($fill));
        $place = $code->getFileName() . ':' . $code->getStartLine();
        $before = $this->places[$name] ?? null;
        if ($before === null || $before[0] === $place) {
            $before === null && count($this->places) < 1000 && $this->places[$name] = [$place, self::shape($code)];
            return null;
        }
        return $before[1] === self::shape($code) ? null : "the fragment $name is filled in two places, $before[0] and $place; give each a name of its own, or share one fill";
    }

    /** Reports whether it is the first clash of a name here. */
    public function first(string $name): bool
    {
        $first = !isset($this->told[$name]);
        count($this->told) < 1000 && $this->told[$name] = true;
        return $first;
    }

    /** What is told of a clash. */
    public static function clash(Item $one, callable $fill, string $found, string $made): array
    {
        $at = strspn($found ^ $made, "\0");
        $from = max(strlen($found), strlen($made)) > self::SAMPLE ? max(0, $at - intdiv(self::SAMPLE, 2)) : 0;
        $samples = array_map(static fn ($text) => self::plain(substr($text, $from, self::SAMPLE)), [$found, $made]);
        return ['key' => $one->key, 'samples' => $samples, 'missing' => self::missing($one, $fill, $found, $made)];
    }

    /** The line of a clash. */
    public static function line(array $clash): string
    {
        [$found, $made] = array_map(static fn ($sample) => substr(trim((string) preg_replace('/\s+/', ' ', $sample)), 0, 80), $clash['samples']);
        $likely = $clash['missing'] === '' ? '' : ", likely {$clash['missing']}";
        return "the key {$clash['key']} leaves something out$likely: what was there is '$found', and a fill made '$made'";
    }

    /** What a function does, but for its numbers, and however its variables are called; its place, where that is not known. */
    private static function shape(\ReflectionFunction $code): string
    {
        $file = $code->getFileName();
        if ($file === false || !is_readable($file)) {
            return (string) $code->getStartLine();
        }
        $lines = array_slice(file($file), $code->getStartLine() - 1, $code->getEndLine() - $code->getStartLine() + 1);
        [$shape, $inside, $depth] = ['', false, 0];
        foreach (\PhpToken::tokenize("<?php\n" . implode('', $lines)) as $token) {
            $inside = $inside || $token->is([T_FN, T_FUNCTION]);
            if (!$inside || $token->is([T_WHITESPACE, T_COMMENT, T_DOC_COMMENT])) {
                continue;
            }
            $depth += in_array($token->text, ['(', '[', '{', '${'], true) ? 1 : (in_array($token->text, [')', ']', '}'], true) ? -1 : 0);
            if ($depth < 0 || ($depth === 0 && in_array($token->text, [',', ';'], true))) {
                break;
            }
            $shape .= ' ' . match (true) {
                $token->is(T_VARIABLE) => '$',
                $token->is([T_LNUMBER, T_DNUMBER]) => '0',
                default => $token->text,
            };
        }
        return $shape;
    }

    /** The argument that the key likely leaves out: one whose value stands in what was made, and not in what was found. */
    private static function missing(Item $one, callable $fill, string $found, string $made): string
    {
        $parts = array_map(static fn ($part) => is_scalar($part) ? (string) $part : '', $one->words['parts'] ?? []);
        $leftOut = array_filter(self::values($fill), static fn ($text) => $text !== '' && !in_array($text, $parts, true));
        foreach ($leftOut as $name => $text) {
            if (preg_match('/\b' . preg_quote($text, '/') . '/', $made) && !preg_match('/\b' . preg_quote($text, '/') . '/', $found)) {
                return $name;
            }
        }
        return (string) (array_key_first($leftOut) ?? '');
    }

    /** The values that a function holds, as text by name, with those of what it holds. */
    private static function values(callable $fill): array
    {
        $code = new \ReflectionFunction(\Closure::fromCallable($fill));
        $held = $code->getStaticVariables() + ($code->getClosureThis() ? ['this' => $code->getClosureThis()] : []);
        foreach ($held as $name => $thing) {
            $fields = is_object($thing) && !$thing instanceof \Closure ? get_object_vars($thing) : (is_array($thing) ? $thing : []);
            foreach (array_slice($fields, 0, 50, true) as $field => $value) {
                $held["$name.$field"] = $value;
            }
        }
        return array_map(static fn ($value) => is_bool($value) ? var_export($value, true) : (string) $value, array_filter($held, is_scalar(...)));
    }

    /** Text that can be written as JSON. */
    private static function plain(string $text): string
    {
        return preg_match('//u', $text) ? $text : (string) iconv('UTF-8', 'UTF-8//IGNORE', $text);
    }
}
