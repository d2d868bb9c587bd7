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
    /** @var array<string, float> */
    public array $work = [];
    public \ArrayObject $report;
    public \ArrayObject $found; // in this page, by key
    public bool $notModified = false; // the visitor has the page already
    /** How many purges this process has ordered: what a page had at hand before one may be old. */
    public static int $purges = 0;
    private bool $holds = false;
    private array $validators = [];

    public function __construct(private readonly Fragments $fragments, ?Scope $outer = null, public readonly bool $fragment = false, public readonly int $depth = 0, private readonly ?array $requestHeaders = null)
    {
        $this->report = $outer->report ?? new \ArrayObject();
        $this->found = $outer->found ?? new \ArrayObject();
    }

    /** A place in the report for a fragment of this. */
    public function begin(): object
    {
        $told = (object) ['key' => '', 'found' => '', 'took' => 0.0, 'age' => 0.0, 'depth' => $this->depth + 1];
        count($this->report) < 500 && $this->report[] = $told;
        return $told;
    }

    /** Counts what it took to make this: did(queries: 1, rows: 20). */
    public function did(int|float ...$amounts): void
    {
        foreach ($amounts as $name => $amount) {
            $this->work[$name] = ($this->work[$name] ?? 0) + $amount;
        }
    }

    /** Returns a fragment, which goes into this; see Fragments::loadOrFill. */
    public function loadOrFill(array $item, callable $fill): ?string
    {
        return $this->fragments->into($this, [$item], static fn ($_, $scope) => $fill($scope), $fill)[0];
    }

    /** Does the same for a thing with fragmentKey() and perhaps fragmentTags(); the fill is given it. */
    public function of(object $thing, callable $fill): ?string
    {
        return $this->fragments->into($this, [Item::wordsOf($thing)], static fn ($_, $scope) => $fill($thing, $scope), $fill)[0];
    }

    public function load(array $item): ?string
    {
        return $this->loadAll([$item])[0];
    }

    public function loadAll(array $items): array
    {
        return $this->fragments->loadInto($this, $items);
    }

    /** Does the same for many. */
    public function loadOrFillAll(array $items, callable $fill): array
    {
        return $this->fragments->into($this, $items, $fill, $fill);
    }

    /** Notes that what is made here shows these things. */
    public function tag(string ...$tags): void
    {
        foreach ($tags as $tag) {
            $this->tags[$tag] = true;
        }
    }

    /** Takes a fragment over, and has it at hand for the rest of the page. */
    public function hold(string $key, string $name, object $found): void
    {
        foreach ($found->tags as $tag) {
            $this->tags[(string) $tag] = true;
        }
        $this->parts[$name] = true;
        [$this->until, $this->stamp, $this->holds] = [min($this->until, $found->until), min($this->stamp, $found->stamp), true];
        count($this->found) < 1000 && $this->found[$key] = $found;
    }

    /**
     * Reports whether the visitor has the page already, by when what it shows changed and what else it depends
     * on: ['modified' => $time, 'parts' => [...]]. Then the answer is 304 with headers(). Headers may be named
     * as in $_SERVER; behind Middleware they may be null, and the answer becomes a 304 of itself.
     */
    public function unchanged(?array $headers, array $by): bool
    {
        $headers ??= $this->requestHeaders ?? throw new \InvalidArgumentException('unchanged needs the headers of the request');
        return $this->notModified = $this->same($headers, $by);
    }

    private function same(array $headers, array $by): bool
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
        if ($this->work !== []) {
            $out['Gerastic-Work'] = implode(', ', array_map(static fn ($name, $amount) => "$name=" . rtrim(rtrim(sprintf('%.3F', $amount), '0'), '.'), array_keys($this->work), $this->work));
        }
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
