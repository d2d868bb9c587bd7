<?php
declare(strict_types=1);

namespace Gerastic;

/** What goes into a page, or into a fragment while it is filled: its tags, the shortest life and the fragments. */
final class Scope
{
    /** @var array<string, true> */
    public array $tags = [];
    /** @var array<string, true> */
    public array $parts = [];
    public float $until = INF; // end of the shortest life in it, in seconds since 1970
    public float $stamp = INF; // lowest ledger sequence that what is in it was found at
    private bool $holds = false;
    private array $validators = [];

    public function __construct(private readonly Fragments $fragments, public readonly bool $fragment = false, public readonly int $depth = 0, public ?\ArrayObject $report = null)
    {
        $this->report ??= new \ArrayObject();
    }

    /** Returns a fragment, which goes into this; see Fragments::loadOrFill. */
    public function loadOrFill(array $item, callable $fill): string
    {
        return $this->loadOrFillAll([$item], static fn ($_, $scope) => $fill($scope))[0];
    }

    /** Does the same for many. */
    public function loadOrFillAll(array $items, callable $fill): array
    {
        return $this->fragments->into($this, $items, $fill);
    }

    /** Notes that what is made here shows these things. */
    public function tag(string ...$tags): void
    {
        foreach ($tags as $tag) {
            $this->tags[$tag] = true;
        }
    }

    public function hold(string $name, array $tags, float $until, float $stamp): void
    {
        $this->tag(...array_map(strval(...), $tags));
        $this->parts[$name] = true;
        [$this->until, $this->stamp, $this->holds] = [min($this->until, $until), min($this->stamp, $stamp), true];
    }

    /**
     * Reports whether the visitor has the page already, by when what it shows changed and what else it depends
     * on: ['modified' => $time, 'parts' => [...]]. Then the answer is 304 with headers(). Headers may be named
     * as in $_SERVER.
     */
    public function unchanged(array $headers, array $by): bool
    {
        [$modified, $parts] = [$by['modified'] ?? null, $by['parts'] ?? []];
        if ($modified === null && $parts === []) {
            throw new \InvalidArgumentException('unchanged needs to know what the page depends on: modified, parts, or both');
        }
        $etag = '"' . substr(hash('sha256', Key::of('page', $parts, $modified)), 0, 32) . '"';
        $this->validators = ['ETag' => $etag];
        if ($modified !== null) {
            $this->validators['Last-Modified'] = gmdate('D, d M Y H:i:s', $modified->getTimestamp()) . ' GMT';
        }
        $given = [];
        foreach ($headers as $name => $value) {
            $given[preg_replace('/\Ahttp-/', '', strtr(strtolower((string) $name), '_', '-'))] = is_array($value) ? implode(', ', $value) : (string) $value;
        }
        if (isset($given['if-none-match'])) {
            foreach (explode(',', $given['if-none-match']) as $name) {
                $name = trim($name);
                if ($name === '*' || preg_replace('#\AW/#', '', $name) === $etag) {
                    return true;
                }
            }
            return false;
        }
        $since = strtotime($given['if-modified-since'] ?? '');
        return $modified !== null && $parts === [] && $since !== false && $modified->getTimestamp() <= $since; // a date does not tell the parts
    }

    /** The headers with which the page tells the edge, and Server-Timing, what is in it. */
    public function headers(): array
    {
        $out = $this->validators;
        if ($this->tags !== []) {
            $out['Cache-Groups'] = implode(', ', array_map(static fn ($tag) => self::quoted((string) $tag), array_keys($this->tags)));
        }
        if ($this->holds) {
            $left = is_infinite($this->until) ? Key::FOREVER : max(0.0, $this->until - microtime(true));
            $out['Gerastic-Life'] = sprintf('%.3F', floor($left * 1000) / 1000) . (is_infinite($this->stamp) ? '' : sprintf(';as-of=%.0F', $this->stamp));
        }
        $items = array_values(array_filter($this->report->getArrayCopy(), static fn ($item) => $item->key !== ''));
        if ($items === []) {
            return $out;
        }
        $out['Gerastic-Parts'] = implode(', ', array_map(static fn ($item) => self::quoted($item->key) . sprintf(';found=%s;depth=%d;took=%.3F', $item->found, $item->depth, $item->took)
            . (in_array($item->found, ['reused', 'stale'], true) ? sprintf(';age=%d', $item->age) : ''), array_slice($items, 0, 200)));
        $sums = array_count_values(array_map(static fn ($item) => $item->found, $items));
        $words = array_filter(['reused', 'stale', 'waited', 'filled', 'alone'], static fn ($word) => isset($sums[$word]));
        $longest = max([0.0, ...array_map(static fn ($item) => $item->depth === 1 ? $item->took : 0.0, $items)]);
        $out['Server-Timing'] = sprintf('fragments;desc="%s";dur=%.1F', implode(', ', array_map(static fn ($word) => "$sums[$word] $word", $words)), $longest);
        return $out;
    }

    /** Writes a string of a structured field, or a display string if it is not ASCII (RFC 9651). */
    public static function quoted(string $text): string
    {
        if (preg_match('/\A[\x20-\x7e]*\z/', $text)) {
            return '"' . addcslashes($text, '"\\') . '"';
        }
        return '%"' . preg_replace_callback('/[^\x20\x21\x23\x24\x26-\x7e]/', static fn ($m) => sprintf('%%%02x', ord($m[0])), $text) . '"';
    }
}
