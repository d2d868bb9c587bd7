<?php
declare(strict_types=1);

namespace Gerastic;

/**
 * Found, or filled once for all who ask. When the node cannot be reached, everything is filled as if it were
 * not there. The words for a fragment are name, parts, version, lifetime, stale and tags.
 */
final class Fragments
{
    private const MOST_KEYS = 1000;
    private const PACK_FROM = 16 << 10;
    private const WORDS = ['name', 'parts', 'version', 'lifetime', 'stale', 'tags'];

    /** @var array<string, int> */
    public array $counts = ['reused' => 0, 'stale' => 0, 'waited' => 0, 'filled' => 0, 'alone' => 0, 'unreached' => 0, 'refused' => 0];
    private readonly float $timeout;
    private readonly float $wait;
    private readonly float $lease;
    private readonly bool $off;
    private string $called;
    /** @var list<Scope> what is being made now */
    private array $inside = [];
    /** @var list<array{object, callable}> */
    private array $behind = [];
    private float $warned = 0.0;

    public function __construct(private readonly Wire $wire, private readonly ?string $namespace, array $options = [])
    {
        if ($unknown = array_diff(array_keys($options), ['timeout', 'wait', 'lease', 'off'])) {
            throw new \InvalidArgumentException('fragments have the options timeout, wait, lease and off; there is no ' . implode(', ', $unknown));
        }
        $this->timeout = Key::seconds($options['timeout'] ?? 0.25, 'timeout');
        $this->wait = Key::seconds($options['wait'] ?? '5s', 'wait');
        $this->lease = Key::seconds($options['lease'] ?? '30s', 'lease');
        $this->off = $options['off'] ?? strtolower((string) getenv('GERASTIC_FRAGMENTS')) === 'off';
        $this->called = $namespace ?? '';
    }

    /** A page that collects what is put into it. */
    public function page(): Scope
    {
        return new Scope($this);
    }

    /** Returns a fragment as it is stored, or as fill makes it, which is then stored for everyone. */
    public function loadOrFill(array $item, callable $fill): string
    {
        return $this->scope()->loadOrFill($item, $fill);
    }

    /** Does the same for many: one trip finds them, fill($item) makes those that are missing, one trip stores them. */
    public function loadOrFillAll(array $items, callable $fill): array
    {
        return $this->scope()->loadOrFillAll($items, $fill);
    }

    /** A fragment, or null if it is not there, or stale. */
    public function load(array $item): ?string
    {
        return $this->loadAll([$item])[0];
    }

    /** Many fragments, null for those that are not there. */
    public function loadAll(array $items): array
    {
        $scope = $this->scope();
        $all = array_map(fn ($item) => $this->wanted($item, $scope, needsLife: false), array_values($items));
        foreach (array_chunk($this->off ? [] : $all, self::MOST_KEYS) as $open) {
            [$stamp, $answers] = $this->look($open, ['fresh' => true], 0.0) ?? [0, []];
            foreach ($answers as $i => $answer) {
                if (($answer['state'] ?? '') === 'fresh') {
                    $this->use($scope, $open[$i], $answer, $stamp);
                }
            }
        }
        return array_map(static fn ($one) => $one->done ? $one->value : null, $all);
    }

    /** Stores a fragment; false if a purge came between, or the node was not reached. */
    public function store(array $item, string $value): bool
    {
        $one = $this->wanted($item, new Scope($this));
        $this->made($one, new Scope($this), $value, microtime(true));
        // A lease of its own, so that a purge that comes now is not overtaken.
        $found = $this->off ? null : $this->look([$one], ['renew' => true], $this->lease);
        $one->lease = $found[1][0]['lease'] ?? '';
        return $one->lease !== '' && $this->keep([$one]) === 1;
    }

    /** Drops a fragment on every node. Throws Refused or Unreached. */
    public function drop(array $item): void
    {
        $key = Key::of($item['name'] ?? null, $item['parts'] ?? [], $item['version'] ?? null);
        $this->wire->json('DELETE', '/v1/fragments/' . rawurlencode($key) . Wire::query($this->namespace));
    }

    /** Notes that what is being made here shows these things. */
    public function tag(string ...$tags): void
    {
        end($this->inside) && end($this->inside)->tag(...$tags);
    }

    /** Makes anew what was used stale; without this it is done when the page has been sent. */
    public function settle(): void
    {
        while ([$one, $fill] = array_shift($this->behind)) {
            $this->fill([$one], $fill, null);
            $one->error === null ? $this->counts['filled']++ : $this->warn('a fragment could not be made anew behind a caller', $one->error);
            $this->keep([$one]);
        }
    }

    /** Finds or fills what goes into a scope. */
    public function into(Scope $scope, array $items, callable $fill): array
    {
        $all = array_map(fn ($item) => $this->wanted($item, $scope), array_values($items));
        if ($this->off) {
            $this->fill($all, $fill, $scope);
        } else {
            foreach (array_chunk($all, self::MOST_KEYS) as $batch) {
                $this->batch($scope, $batch, $fill);
            }
        }
        foreach ($all as $one) {
            $one->error !== null && throw $one->error;
        }
        return array_map(static fn ($one) => $one->value, $all);
    }

    private function scope(): Scope
    {
        return end($this->inside) ?: new Scope($this);
    }

    private function wanted(mixed $item, Scope $scope, bool $needsLife = true): object
    {
        if (!is_array($item) || ($unknown = array_diff(array_keys($item), self::WORDS))) {
            throw new \InvalidArgumentException('a fragment has name, parts, version, lifetime, stale and tags; it has no ' . implode(', ', $unknown ?? [get_debug_type($item)]));
        }
        $key = Key::of($item['name'] ?? null, $item['parts'] ?? [], $item['version'] ?? null);
        $life = Key::seconds($item['lifetime'] ?? 0);
        if ($needsLife && $life <= 0) {
            throw new \InvalidArgumentException("the fragment {$item['name']} has no lifetime; give one, such as 'lifetime' => '1h', or 'forever' if only purges and versions end it");
        }
        if (!is_array($item['tags'] ?? [])) {
            throw new \TypeError("the tags of the fragment {$item['name']} are a list; write ['…']");
        }
        $told = (object) ['key' => '', 'found' => '', 'took' => 0.0, 'age' => 0.0, 'depth' => $scope->depth + 1];
        $scope->report[] = $told;
        return (object) ['item' => $item, 'key' => $key, 'lifetime' => $life, 'stale' => Key::seconds($item['stale'] ?? 0, 'stale'), 'tags' => array_map(strval(...), array_values($item['tags'] ?? [])),
            'told' => $told, 'lease' => '', 'began' => microtime(true), 'done' => false, 'value' => null, 'scope' => null, 'took' => 0.0, 'until' => INF, 'error' => null];
    }

    /** Its own fills come before it waits for those of others, who may be waiting for them. */
    private function batch(Scope $scope, array $open, callable $fill): void
    {
        for ($round = 0; $round < 4 && $open !== []; $round++) {
            $found = $this->look($open, $scope->fragment ? ['fresh' => true] : [], $this->lease);
            if ($found === null) {
                break;
            }
            [$mine, $others, $off] = [[], [], []];
            foreach ($found[1] as $i => $answer) {
                $one = $open[$i];
                [$state, $one->lease] = [$answer['state'] ?? '', $answer['lease'] ?? ''];
                if (in_array($state, ['fresh', 'stale'], true) && $this->use($scope, $one, $answer, $found[0])) {
                    $one->lease !== '' && $this->fillBehind($one, $fill);
                } elseif ($state === 'yours') {
                    $mine[] = $one;
                } elseif ($state === 'filling') {
                    $others[] = $one;
                } else { // switched off, or not to be read: it is filled without being stored
                    $off[] = $one;
                }
            }
            if ($mine !== []) {
                $this->fill($mine, $fill, $scope);
                $this->keep($mine);
            }
            array_walk($mine, fn ($one) => $this->take($scope, $one, (float) $found[0], 'filled'));
            $this->alone($scope, $off, $fill);
            $open = $others;
            if ($mine === []) {
                break; // it waited already
            }
        }
        $this->alone($scope, $open, $fill);
    }

    private function call(string $what, array $values, float $more): ?array
    {
        try {
            return $this->wire->items($what, $this->namespace, $values, $this->timeout, $more);
        } catch (Unreached $error) {
            $this->counts['unreached']++;
            $this->warn('fragments are made without Gerastic', $error);
            return null;
        }
    }

    /** What is known of fragments: the ledger's sequence, and an answer for each; null if the node did not answer as it should. */
    private function look(array $open, array $how, float $lease): ?array
    {
        $wait = $lease > 0 ? $this->wait : 0.0;
        $items = $this->call('lookup', [['keys' => array_map(static fn ($one) => $one->key, $open), 'wait' => $wait * 1000, 'lease' => $lease * 1000, 'details' => true] + $how], $wait);
        if ($items === null) {
            return null;
        }
        $answers = [];
        foreach (array_slice($items, 1) as $answer) {
            is_array($answer) && is_int($answer['at'] ?? null) && $answers[$answer['at']] = $answer;
        }
        ksort($answers);
        if (!is_int($items[0]['stamp'] ?? null) || !is_string($items[0]['namespace'] ?? null) || array_keys($answers) !== array_keys($open)) {
            $this->counts['unreached']++;
            $this->warn('fragments are made without Gerastic', new Unreached('its answer is not whole'));
            return null;
        }
        $this->called = $items[0]['namespace'];
        return [$items[0]['stamp'], $answers];
    }

    /** Stores what was filled, and gives the leases of what was not back; returns how many were stored. */
    private function keep(array $all): int
    {
        $results = $this->call('store', array_map($this->offer(...), $all), 3 * $this->timeout) ?? [];
        $stored = count(array_filter($results, static fn ($result) => is_array($result) && ($result['stored'] ?? null) === true));
        $this->counts['refused'] += max(0, min(count($results), count(array_filter($all, static fn ($one) => $one->error === null))) - $stored);
        return $stored;
    }

    private function offer(object $one): array
    {
        $life = is_infinite($one->until) ? Key::FOREVER : $one->until - microtime(true);
        if ($one->error !== null || $one->scope === null || ($life <= 0 && $one->stale <= 0)) {
            return ['key' => $one->key, 'lease' => $one->lease, 'failed' => true];
        }
        [$body, $coding] = [$one->value, ''];
        if (strlen($body) >= self::PACK_FROM && strlen($short = gzencode($body)) < 0.9 * strlen($body)) {
            [$body, $coding] = [$short, 'gzip'];
        }
        return ['key' => $one->key, 'lease' => $one->lease, 'type' => preg_match('//u', $one->value) ? 'text/html; charset=utf-8' : 'application/octet-stream', 'coding' => $coding, 'life' => max(0.0, $life),
            'stale' => $one->stale, 'cost' => $one->took * 1000, 'tags' => array_map(strval(...), array_keys(array_fill_keys($one->tags, true) + $one->scope->tags)), 'parts' => array_keys($one->scope->parts), 'body' => new Bytes($body)];
    }

    private function use(Scope $scope, object $one, array $answer, int $stamp): bool
    {
        $body = $answer['body'] ?? null;
        $text = !$body instanceof Bytes ? false : (($answer['coding'] ?? '') === 'gzip' ? @gzdecode($body->bytes) : $body->bytes);
        if ($text === false || !is_numeric($answer['left'] ?? null)) {
            return false; // whoever stored it did not do what they said
        }
        $one->value = $text;
        $until = $answer['left'] > Key::FOREVER / 2 ? INF : microtime(true) + $answer['left'];
        $scope->hold("{$this->called}/{$one->key}", $answer['tags'] ?? [], $until, (float) $stamp);
        $this->ended($one, $answer['state'] === 'stale' ? 'stale' : (($answer['waited'] ?? false) ? 'waited' : 'reused'), (float) ($answer['age'] ?? 0));
        return true;
    }

    private function take(Scope $scope, object $one, float $stamp, string $found): void
    {
        if ($one->error === null) {
            $scope->hold("{$this->called}/{$one->key}", [...$one->tags, ...array_keys($one->scope->tags)], $one->until, min($stamp, $one->scope->stamp));
            $this->ended($one, $found);
        }
    }

    private function ended(object $one, string $found, float $age = 0.0): void
    {
        $this->counts[$found]++;
        $one->done = true;
        [$one->told->key, $one->told->found, $one->told->took, $one->told->age] = ["{$this->called}/{$one->key}", $found, (microtime(true) - $one->began) * 1000, $age];
    }

    private function made(object $one, Scope $inner, mixed $value, float $began): void
    {
        if (!is_string($value)) {
            throw new \TypeError("the fill of the fragment {$one->item['name']} returned a " . get_debug_type($value) . '; return a string');
        }
        [$one->value, $one->scope, $one->took] = [$value, $inner, microtime(true) - $began];
        $one->until = min($one->lifetime >= Key::FOREVER ? INF : microtime(true) + $one->lifetime, $inner->until);
    }

    private function fill(array $all, callable $fill, ?Scope $outer): void
    {
        foreach ($all as $one) {
            $inner = new Scope($this, true, $one->told->depth, $outer?->report);
            $this->inside[] = $inner;
            $began = microtime(true);
            try {
                $this->made($one, $inner, $fill($one->item, $inner), $began);
            } catch (\Throwable $error) {
                $one->error = $error;
            } finally {
                array_pop($this->inside);
            }
        }
    }

    /** It was made after it was asked for: no purge that a page of it knows is missing. */
    private function alone(Scope $scope, array $all, callable $fill): void
    {
        $this->fill($all, $fill, $scope);
        array_walk($all, fn ($one) => $this->take($scope, $one, INF, 'alone'));
    }

    /** A process does one thing at a time: what was used stale is made anew when the page has been sent. */
    private function fillBehind(object $one, callable $fill): void
    {
        if ($this->behind === []) {
            register_shutdown_function(function (): void {
                if ($this->behind !== []) {
                    function_exists('fastcgi_finish_request') && fastcgi_finish_request();
                    $this->settle();
                }
            });
        }
        $again = clone $one;
        $again->told = clone $one->told;
        $this->behind[] = [$again, $fill];
    }

    /** Warns, at most once in ten seconds. */
    private function warn(string $text, \Throwable $error): void
    {
        if (microtime(true) - $this->warned >= 10) {
            $this->warned = microtime(true);
            error_log("gerastic: $text: {$error->getMessage()}");
        }
    }
}
