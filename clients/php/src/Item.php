<?php
declare(strict_types=1);

namespace Gerastic;

/** One fragment on its way through a load: what an application says of it, and what became of it. */
final class Item
{
    private const WORDS = ['name' => 1, 'parts' => 1, 'version' => 1, 'lifetime' => 1, 'stale' => 1, 'tags' => 1, 'nothing' => 1];
    private const PACK_FROM = 16 << 10;
    public const NOTHING = 'application/x-nothing';

    public string $key = ''; // '': it cannot have one, and is filled without being stored
    public float $lifetime = 0.0;
    public float $stale = 0.0;
    public float $nothing = 0.0; // how long it is known that there is nothing
    /** @var list<string> */
    public array $tags = [];
    public object $told;
    public string $lease = '';
    public float $began;
    public int $at = 0; // its place among those asked for
    public bool $done = false;
    public ?string $value = null;
    public ?Scope $scope = null; // of its fill
    public float $took = 0.0;
    public float $until = INF;
    public ?\Throwable $error = null;

    private function __construct(public readonly array $words)
    {
        $this->began = microtime(true);
    }

    public function __clone()
    {
        $this->told = clone $this->told;
    }

    /** Reads the words; what is wrong with them is thrown. */
    public static function read(mixed $words, Scope $scope, array $defaults, bool $needsLife = true): self
    {
        if (!is_array($words) || ($unknown = array_keys(array_diff_key($words, self::WORDS)))) {
            throw new \InvalidArgumentException('a fragment has ' . implode(', ', array_keys(self::WORDS)) . '; it has no ' . implode(', ', $unknown ?? [get_debug_type($words)]));
        }
        $one = new self($words);
        $name = $words['name'] ?? null;
        $one->key = Key::of($name, $words['parts'] ?? [], $words['version'] ?? null);
        $one->lifetime = Key::seconds($words['lifetime'] ?? $defaults['lifetime'] ?? 0, "lifetime of the fragment $name");
        if ($needsLife && $one->lifetime <= 0) {
            throw new \InvalidArgumentException("the fragment $name has no lifetime; give one, such as 1h, or forever if only purges and versions end it");
        }
        if (!is_array($words['tags'] ?? [])) {
            throw new \TypeError("the tags of the fragment $name are a list");
        }
        if (($defaults['tags'] ?? []) !== [] || isset($words['tags'])) {
            $one->tags = array_values(array_unique(array_map(strval(...), [...$defaults['tags'] ?? [], ...array_values($words['tags'] ?? [])])));
        }
        isset($words['stale']) && $one->stale = Key::seconds($words['stale'], "stale of the fragment $name");
        isset($words['nothing']) && $one->nothing = Key::seconds($words['nothing'], "nothing of the fragment $name");
        $one->told = $scope->begin();
        return $one;
    }

    /** One that is not in order: it is filled all the same, and has no key. */
    public static function bad(mixed $words): self
    {
        $one = new self(is_array($words) ? $words : []);
        $one->told = (object) ['key' => '', 'found' => '', 'took' => 0.0, 'age' => 0.0, 'depth' => 1];
        return $one;
    }

    /** The words of a thing that says its own name, parts, version and lifetime (fragmentKey) and tags (fragmentTags). */
    public static function wordsOf(object $thing): array
    {
        if (!method_exists($thing, 'fragmentKey')) {
            throw new \TypeError('of takes a thing with fragmentKey(), which returns name, parts, version and lifetime');
        }
        $said = (array) $thing->fragmentKey();
        if (array_is_list($said)) {
            $said = array_combine(array_slice(['name', 'parts', 'version', 'lifetime'], 0, count($said)), $said);
        }
        method_exists($thing, 'fragmentTags') && $said['tags'] = [...$thing->fragmentTags()];
        return array_filter($said, static fn ($value) => $value !== null);
    }

    /** Notes what a fill brought. */
    public function made(Scope $inner, mixed $value, float $began): void
    {
        if ($value !== null && !is_string($value) && !$value instanceof \Stringable) {
            throw new \TypeError("the fill of the fragment {$this->words['name']} returned neither text nor bytes");
        }
        [$this->value, $this->scope, $this->took] = [$value === null ? null : (string) $value, $inner, microtime(true) - $began];
        $life = $value === null && $this->nothing > 0 ? $this->nothing : $this->lifetime;
        $this->until = min($life >= Key::FOREVER ? INF : microtime(true) + $life, $inner->until);
    }

    /** What is stored; or the lease given back, if the fill failed, brought nothing, or what is in it ended. */
    public function offer(): array
    {
        $life = is_infinite($this->until) ? Key::FOREVER : $this->until - microtime(true);
        if ($this->error !== null || $this->scope === null || ($life <= 0 && $this->stale <= 0) || ($this->value === null && $this->nothing <= 0)) {
            return ['key' => $this->key, 'lease' => $this->lease, 'failed' => true];
        }
        [$body, $coding] = [(string) $this->value, ''];
        if (strlen($body) >= self::PACK_FROM && strlen($short = gzencode($body)) < 0.9 * strlen($body)) {
            [$body, $coding] = [$short, 'gzip'];
        }
        $type = $this->value === null ? self::NOTHING : (preg_match('//u', $this->value) ? 'text/html; charset=utf-8' : 'application/octet-stream');
        $offer = ['key' => $this->key, 'lease' => $this->lease, 'type' => $type, 'coding' => $coding, 'life' => max(0.0, $life), 'stale' => $this->stale, 'cost' => $this->took * 1000,
            'tags' => array_map(strval(...), array_keys(array_fill_keys($this->tags, true) + $this->scope->tags)), 'parts' => array_keys($this->scope->parts), 'body' => new Bytes($body)];
        $this->scope->work !== [] && $offer['work'] = array_map(floatval(...), $this->scope->work);
        return $offer;
    }
}
