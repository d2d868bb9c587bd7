<?php
declare(strict_types=1);

namespace Gerastic;

/**
 * Found, or filled once for all who ask. When the node cannot be reached, everything is filled as if it were
 * not there. The words for a fragment are name, parts, version, lifetime, stale, tags and
 * nothing.
 */
final class Fragments
{
    private const MOST_KEYS = 1000;
    private const OPTIONS = ['timeout', 'wait', 'lease', 'off', 'check', 'lifetime', 'tags'];
    private const MOST_SEEN = 10_000;
    private const AT_HAND = 16 << 20; // bytes of bodies that a process keeps

    /** @var array<string, int> */
    private array $counts = ['found' => 0, 'filled' => 0, 'waited' => 0, 'failed' => 0];
    private readonly float $timeout;
    private readonly float $wait;
    private readonly float $lease;
    private readonly bool $off;
    private readonly float $share; // of what is found, that is filled, too, and compared
    private readonly array $defaults;
    private readonly Check $check;
    private string $called;
    /** @var list<Scope> what is being made now */
    private array $inside = [];
    /** @var list<\Closure> what is done when the page has been sent */
    private array $behind = [];
    /** @var array<string, float> */
    private array $warned = [];
    /** @var array<string, array{string, string, string}> validator, plain body and type, by key */
    private array $atHand = [];
    private int $atHandBytes = 0;
    /** @var array<string, int> the ledger's sequence when each key was last looked up */
    private array $seen = [];

    /** Options are timeout, wait and lease (lengths of time), off, check (a share), and lifetime and tags of every fragment. */
    public function __construct(private readonly Wire $wire, private readonly ?string $namespace, array $options = [])
    {
        if ($unknown = array_diff(array_keys($options), self::OPTIONS)) {
            throw new \InvalidArgumentException('fragments have the options ' . implode(', ', self::OPTIONS) . '; there is no ' . implode(', ', $unknown));
        }
        $this->timeout = Key::seconds($options['timeout'] ?? 0.25, 'timeout');
        $this->wait = Key::seconds($options['wait'] ?? '5s', 'wait');
        $this->lease = Key::seconds($options['lease'] ?? '30s', 'lease');
        $this->off = $options['off'] ?? strtolower((string) getenv('GERASTIC_FRAGMENTS')) === 'off';
        $this->share = (float) ($options['check'] ?? 0);
        if ($this->share < 0 || $this->share > 1) {
            throw new \InvalidArgumentException('check is a share from 0 to 1');
        }
        $this->defaults = ['lifetime' => $options['lifetime'] ?? null, 'tags' => $options['tags'] ?? []];
        $this->check = new Check();
        $this->called = $namespace ?? '';
    }

    /** What became of fragments: found, filled here, waited for; failed: the node was not reached. */
    public function counts(): array
    {
        return $this->counts;
    }

    /** A page that collects what is put into it. */
    public function page(?array $requestHeaders = null): Scope
    {
        return new Scope($this, requestHeaders: $requestHeaders);
    }

    /** Runs what makes a page; what this is asked for goes into it. */
    public function within(Scope $page, callable $make): mixed
    {
        $this->inside[] = $page;
        try {
            return $make($page);
        } finally {
            array_pop($this->inside);
        }
    }

    /** Returns a fragment as it is stored, or as fill makes it, which is then stored for everyone. */
    public function loadOrFill(array $item, callable $fill): ?string
    {
        return $this->scope()->loadOrFill($item, $fill);
    }

    /** Does the same for many: one trip finds them, fill($item) makes those that are missing, one trip stores them. */
    public function loadOrFillAll(array $items, callable $fill): array
    {
        return $this->scope()->loadOrFillAll($items, $fill);
    }

    /** Does the same for a thing with fragmentKey() and perhaps fragmentTags(); the fill is given it. */
    public function of(object $thing, callable $fill): ?string
    {
        return $this->scope()->of($thing, $fill);
    }

    /** A fragment, or null if it is not there, or stale. */
    public function load(array $item): ?string
    {
        return $this->loadAll([$item])[0];
    }

    /** Many fragments, null for those that are not there. */
    public function loadAll(array $items): array
    {
        return $this->loadInto($this->scope(), $items);
    }

    public function loadInto(Scope $scope, array $items): array
    {
        $all = $this->wanted($items, $scope, needsLife: false);
        $asked = $this->off ? [] : array_values(array_filter($all, fn ($one) => $one->key !== '' && !$this->again($scope, $one)));
        foreach (array_chunk($asked, self::MOST_KEYS) as $open) {
            [$stamp, $answers] = $this->look($open, ['fresh' => true], 0.0) ?? [0, []];
            foreach ($answers as $i => $answer) {
                if (($answer['state'] ?? '') === 'fresh') {
                    $this->use($scope, $open[$i], $answer, $stamp);
                }
            }
        }
        return array_map(static fn ($one) => $one->done ? $one->value : null, $all);
    }

    /** Stores a fragment; false if a purge of it came since it was last looked up here, or the node was not reached. */
    public function store(array $item, string $value): bool
    {
        $one = Item::read($item, new Scope($this), $this->defaults);
        $since = $this->seen[$one->key] ?? null;
        $one->made(new Scope($this), $value, microtime(true));
        $this->forget($one->key);
        // A lease of its own, so that a purge that comes now is not overtaken.
        $found = $this->off ? null : $this->look([$one], ['renew' => true], $this->lease);
        $one->lease = $found[1][0]['lease'] ?? '';
        return $one->lease !== '' && $this->keep([$one], ['direct' => true] + ($since === null ? [] : ['since' => $since])) === 1;
    }

    /** Drops a fragment on every node. Throws Refused or Unreached. */
    public function drop(array $item): void
    {
        $key = Key::of($item['name'] ?? null, $item['parts'] ?? [], $item['version'] ?? null);
        $this->forget($key);
        $this->wire->json('DELETE', '/v1/fragments/' . rawurlencode($key) . Wire::query($this->namespace));
    }

    /** Notes that what is being made here shows these things. */
    public function tag(string ...$tags): void
    {
        end($this->inside) && end($this->inside)->tag(...$tags);
    }

    /** Counts what it took to make what is being made here: did(queries: 1, rows: 20). */
    public function did(int|float ...$amounts): void
    {
        end($this->inside) && end($this->inside)->did(...$amounts);
    }

    /** Templates of plain PHP in a directory; see Templates. */
    public function templates(string $directory): Templates
    {
        return new Templates($this, $directory);
    }

    /** Does what was left for when the page has been sent: makes anew what was used stale, and checks keys. */
    public function settle(): void
    {
        while ($work = array_shift($this->behind)) {
            $outside = $this->inside;
            $this->inside = [];
            try {
                $work();
            } finally {
                $this->inside = $outside;
            }
        }
    }

    /** Finds or fills what goes into a scope; code is what the application fills with. */
    public function into(Scope $scope, array $items, callable $fill, callable $code): array
    {
        $all = $this->wanted($items, $scope);
        if ($this->share > 0) {
            foreach (array_unique(array_map(static fn ($one) => $one->key === '' ? '' : $one->words['name'], $all)) as $name) {
                $name !== '' && ($line = $this->check->copied($name, $code)) !== null && $this->warn($line);
            }
        }
        $this->off ? $this->fill($all, $fill, $scope) : $this->settleAll($scope, $all, $fill, $code);
        foreach ($all as $one) {
            $one->error !== null && throw $one->error;
        }
        return array_map(static fn ($one) => $one->value, $all);
    }

    private function settleAll(Scope $scope, array $all, callable $fill, callable $code): void
    {
        [$bad, $first, $open, $twice] = [[], [], [], []];
        foreach ($all as $at => $one) {
            $one->at = $at;
            if ($one->key === '') {
                $bad[] = $one;
            } elseif (isset($first[$one->key])) {
                $twice[] = $one; // each fragment costs one trip
            } else {
                $first[$one->key] = $one;
                $this->again($scope, $one) || $open[] = $one;
            }
        }
        $bad === [] || $this->alone($scope, $bad, $fill);
        foreach (array_chunk($open, self::MOST_KEYS) as $batch) {
            $this->batch($scope, $batch, $fill);
        }
        foreach ($twice as $one) {
            [$one->value, $one->error] = [$first[$one->key]->value, $first[$one->key]->error];
            $this->ended($one, 'reused');
        }
        foreach ($this->share > 0 ? $all : [] as $one) {
            if ($one->told->found === 'reused' && $one->error === null && mt_rand() / mt_getrandmax() <= $this->share) {
                $again = clone $one;
                $this->later(fn () => $this->compare($again, $fill, $code));
            }
        }
    }

    /** Fills what was found. Twice, since what is made differently each time says nothing of the key; and after a moment it is there still, if no purge explains the difference. */
    private function compare(Item $one, callable $fill, callable $code): void
    {
        [$found, $made] = [(string) $one->value, []];
        for ($i = 0; $i < 2; $i++) {
            $this->fill([$one], $fill, null);
            if ($one->error !== null || (string) $one->value === $found) {
                return;
            }
            $made[] = (string) $one->value;
        }
        if ($made[0] !== $made[1]) {
            return;
        }
        usleep(Check::GRACE);
        $again = clone $one;
        $looked = $this->look([$again], ['fresh' => true], 0.0);
        if (($looked[1][0]['state'] ?? '') !== 'fresh' || !$this->use(new Scope($this), $again, $looked[1][0], $looked[0]) || (string) $again->value !== $found || !$this->check->first($one->words['name'])) {
            return;
        }
        $clash = Check::clash($one, $code, $found, $made[0]);
        $this->warn(Check::line($clash));
        try {
            $this->wire->json('POST', '/v1/fragments/clashes' . Wire::query($this->namespace), $clash);
        } catch (Refused | Unreached $error) {
            $this->warn('the clash could not be noted', $error);
        }
    }

    private function scope(): Scope
    {
        return end($this->inside) ?: new Scope($this);
    }

    private function forget(string $key): void
    {
        end($this->inside) && end($this->inside)->found->offsetUnset($key);
    }

    /** Reads many. One that is not in order is filled all the same, and a line says what is wrong. */
    private function wanted(array $items, Scope $scope, bool $needsLife = true): array
    {
        return array_map(function ($words) use ($scope, $needsLife): Item {
            try {
                return Item::read($words, $scope, $this->defaults, $needsLife);
            } catch (\InvalidArgumentException | \TypeError $error) {
                $this->warn($error->getMessage());
                return Item::bad($words);
            }
        }, array_values($items));
    }

    /** Uses what this page has of a fragment already; nothing stale goes into a fragment. */
    private function again(Scope $scope, Item $one): bool
    {
        $found = $scope->found[$one->key] ?? null;
        if ($found === null || $found->until <= microtime(true) || $found->purges !== Scope::$purges || ($found->stale && $scope->fragment)) {
            return false;
        }
        $one->value = $found->value;
        $scope->hold($one->key, "{$this->called}/{$one->key}", $found);
        $this->ended($one, 'reused');
        return true;
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
            foreach ($open as $i => $one) {
                $answer = $found[1][$i];
                [$state, $one->lease] = [$answer['state'] ?? '', $answer['lease'] ?? ''];
                if (in_array($state, ['fresh', 'stale'], true) && $this->use($scope, $one, $answer, $found[0])) {
                    $one->lease !== '' && $this->fillBehind(clone $one, $fill);
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
            $off === [] || $this->alone($scope, $off, $fill);
            $open = $others;
            if ($mine === []) {
                break; // it waited already
            }
        }
        $open === [] || $this->alone($scope, $open, $fill);
    }

    private function call(string $what, array $values, float $more): ?array
    {
        try {
            return $this->wire->items($what, $this->namespace, $values, $this->timeout, $more);
        } catch (Unreached $error) {
            return $this->unreached($error);
        }
    }

    private function unreached(Unreached $error): ?array
    {
        $this->counts['failed']++;
        $this->warn('fragments are made without Gerastic', $error);
        return null;
    }

    /** What is known of fragments: the ledger's sequence, and an answer for each; null if the node did not answer as it should. */
    private function look(array $open, array $how, float $lease): ?array
    {
        $wait = $lease > 0 ? $this->wait : 0.0;
        $ask = ['keys' => [], 'have' => [], 'wait' => $wait * 1000, 'lease' => $lease * 1000] + $how;
        foreach ($open as $one) {
            $ask['keys'][] = $one->key;
            $ask['have'][] = $this->atHand[$one->key][0] ?? '';
        }
        $items = $this->call('lookup', [$ask], $wait);
        if ($items === null) {
            return null;
        }
        $answers = [];
        foreach ($items as $n => $answer) {
            if (isset($answer['same'])) {
                $this->same($answer, $open, $answers);
            } elseif ($n > 0 && is_int($at = $answer['at'] ?? null) && isset($open[$at])) {
                $answers[$at] = $answer;
            }
        }
        if (!is_int($items[0]['stamp'] ?? null) || !is_string($items[0]['namespace'] ?? null) || count($answers) !== count($open)) {
            return $this->unreached(new Unreached('its answer cannot be read'));
        }
        if (!isset($how['renew'])) {
            count($this->seen) < self::MOST_SEEN || $this->seen = [];
            foreach ($open as $one) {
                $this->seen[$one->key] = $items[0]['stamp'];
            }
        }
        $this->called = $items[0]['namespace'];
        return [$items[0]['stamp'], $answers];
    }

    /** Notes an answer of several, whose bodies are at hand. */
    private function same(array $answer, array $open, array &$answers): void
    {
        foreach (is_array($answer['same']) ? $answer['same'] : [] as $n => $at) {
            $kept = is_int($at) && isset($open[$at]) ? $this->atHand[$open[$at]->key] ?? null : null;
            if ($kept !== null && isset($answer['ages'][$n], $answer['lives'][$n])) {
                $answers[$at] = ['state' => 'fresh', 'age' => $answer['ages'][$n], 'left' => $answer['lives'][$n], 'tags' => $answer['tagsets'][$n] ?? [], 'text' => $kept[1], 'type' => $kept[2]];
            }
        }
    }

    /** Stores what was filled, and gives the leases of what was not back; returns how many were stored. */
    private function keep(array $all, array $how = []): int
    {
        $results = $this->call('store', array_map(static fn ($one) => $one->offer() + $how, $all), 3 * $this->timeout) ?? [];
        $stored = 0;
        foreach (array_values($all) as $i => $one) {
            $stored += ($results[$i]['stored'] ?? null) === true ? 1 : 0;
            if ($one->error === null && ($results[$i]['refused'] ?? 'overtaken') !== 'overtaken') {
                $this->warn("the fragment {$one->words['name']} cannot be stored", new Unreached((string) ($results[$i]['why'] ?? '')));
            }
        }
        return $stored;
    }

    private function use(Scope $scope, Item $one, array $answer, int $stamp): bool
    {
        $text = $answer['text'] ?? $this->text($one, $answer);
        if ($text === null || !is_numeric($answer['left'] ?? null)) {
            return false; // whoever stored it did not do what they said
        }
        $type = (string) ($answer['type'] ?? '');
        $one->value = $type === Item::NOTHING ? null : $text;
        $until = $answer['left'] > Key::FOREVER / 2 ? INF : microtime(true) + $answer['left'];
        $this->has($scope, $one, $answer['tags'] ?? [], $until, (float) $stamp, $answer['state'] === 'stale');
        $this->ended($one, $answer['state'] === 'stale' ? 'stale' : (($answer['waited'] ?? false) ? 'waited' : 'reused'), (float) ($answer['age'] ?? 0));
        return true;
    }

    /** A body that came, which is at hand from now on; null if it cannot be read. */
    private function text(Item $one, array $answer): ?string
    {
        $body = $answer['body'] ?? null;
        $text = !$body instanceof Bytes ? false : (($answer['coding'] ?? '') === 'gzip' ? @gzdecode($body->bytes) : $body->bytes);
        if ($text === false) {
            return null;
        }
        if (is_string($answer['etag'] ?? null)) {
            $this->atHandBytes += strlen($text);
            if ($this->atHandBytes > self::AT_HAND || count($this->atHand) > self::MOST_SEEN) {
                [$this->atHand, $this->atHandBytes] = [[], strlen($text)];
            }
            $this->atHand[$one->key] = [$answer['etag'], $text, (string) ($answer['type'] ?? '')];
        }
        return $text;
    }

    private function has(Scope $scope, Item $one, array $tags, float $until, float $stamp, bool $stale): void
    {
        $scope->hold($one->key, "{$this->called}/{$one->key}", (object) ['value' => $one->value, 'tags' => $tags, 'until' => $until, 'stamp' => $stamp, 'stale' => $stale, 'purges' => Scope::$purges]);
    }

    private function take(Scope $scope, Item $one, float $stamp, string $found): void
    {
        if ($one->error === null) {
            $one->key !== '' && $this->has($scope, $one, [...$one->tags, ...array_keys($one->scope->tags)], $one->until, min($stamp, $one->scope->stamp), false);
            $this->ended($one, $found);
        }
    }

    private function ended(Item $one, string $found, float $age = 0.0): void
    {
        $this->counts[match ($found) {
            'waited' => 'waited',
            'filled', 'alone' => 'filled',
            default => 'found',
        }]++;
        $one->done = true;
        if ($one->key !== '') {
            $told = $one->told;
            $told->key = "{$this->called}/{$one->key}";
            $told->found = $found;
            $told->took = (microtime(true) - $one->began) * 1000;
            $told->age = $age;
        }
    }

    private function fill(array $all, callable $fill, ?Scope $outer): void
    {
        foreach ($all as $one) {
            $inner = new Scope($this, $outer, true, $one->told->depth);
            $this->inside[] = $inner;
            $began = microtime(true);
            try {
                $one->made($inner, $fill($one->words, $inner, $one->at), $began);
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

    private function fillBehind(Item $again, callable $fill): void
    {
        $this->later(function () use ($again, $fill): void {
            $this->fill([$again], $fill, null);
            $again->error === null ? $this->counts['filled']++ : $this->warn('a fragment could not be made anew behind a caller', $again->error);
            $this->keep([$again]);
        });
    }

    /** A process does one thing at a time: the rest is done when the page has been sent. */
    private function later(\Closure $work): void
    {
        if ($this->behind === []) {
            register_shutdown_function(function (): void {
                if ($this->behind !== []) {
                    function_exists('fastcgi_finish_request') && fastcgi_finish_request();
                    $this->settle();
                }
            });
        }
        $this->behind[] = $work;
    }

    /** Says a line, at most once in ten seconds. */
    private function warn(string $text, ?\Throwable $error = null): void
    {
        $line = strtok($error === null ? $text : "$text: {$error->getMessage()}", "\n");
        if (microtime(true) - ($this->warned[$line] ?? 0.0) >= 10) {
            $this->warned = count($this->warned) < 100 ? $this->warned : [];
            $this->warned[$line] = microtime(true);
            error_log("gerastic: $line");
        }
    }
}
