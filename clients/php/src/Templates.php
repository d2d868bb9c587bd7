<?php
declare(strict_types=1);

namespace Gerastic;

/**
 * Templates of plain PHP in a directory, in which blocks are fragments:
 *
 *   <?= $this->fragment('row', parts: [$sailing->id], version: $sailing->updated, lifetime: '1h', sailing: $sailing) ?>
 *   <?= $this->fragments('row', $sailings, each: 'sailing', parts: ['id'], lifetime: '1h') ?>
 *
 * A fragment's name is that of its template. The digest of the template's text, and of those within it, is part of the
 * key, so that an edited block shows at once. $this->h($text) escapes.
 */
final class Templates
{
    public function __construct(private readonly Fragments $fragments, private readonly string $directory)
    {
    }

    /** Renders a template; the values are its variables. */
    public function render(string $name, array $values = []): string
    {
        $file = $this->file($name);
        $level = ob_get_level();
        ob_start();
        try {
            (function () use ($file, $values): void {
                extract($values, EXTR_SKIP);
                require $file;
            })->call($this);
            return (string) ob_get_clean();
        } finally {
            while (ob_get_level() > $level) {
                ob_end_clean();
            }
        }
    }

    /** A block of a page, found or rendered. */
    public function fragment(string $name, array $parts = [], mixed $version = null, mixed $lifetime = null, mixed $stale = null, ?array $tags = null, mixed ...$values): string
    {
        $fill = fn (): string => $this->render($name, $values);
        return (string) $this->fragments->loadOrFill($this->item($name, $parts, ['version' => $version, 'lifetime' => $lifetime, 'stale' => $stale, 'tags' => $tags]), $fill);
    }

    /** A block for each of a list, in one trip; parts, version and {places} of tags name members of each. */
    public function fragments(string $name, iterable $items, string $each, array $parts = [], ?string $version = null, mixed $lifetime = null, mixed $stale = null, array $tags = [], mixed ...$values): string
    {
        $all = is_array($items) ? array_values($items) : iterator_to_array($items, false);
        $wanted = array_map(function ($one) use ($name, $parts, $version, $lifetime, $stale, $tags): array {
            $said = is_object($one) && method_exists($one, 'fragmentKey') ? Item::wordsOf($one) : [];
            $filled = array_map(static fn ($tag) => (string) preg_replace_callback('/\{([^}]*)\}/', static fn ($m) => (string) self::member($one, $m[1]), $tag), $tags);
            return $this->item($name, [...$said['parts'] ?? [], ...array_map(static fn ($path) => self::member($one, $path), $parts)], [
                'version' => $version !== null ? self::member($one, $version) : $said['version'] ?? null, 'lifetime' => $lifetime ?? $said['lifetime'] ?? null, 'stale' => $stale, 'tags' => [...$said['tags'] ?? [], ...$filled]]);
        }, $all);
        return implode('', $this->fragments->loadOrFillAll($wanted, fn (array $words, Scope $scope, int $at): string => $this->render($name, [...$values, $each => $all[$at]])));
    }

    /** Escapes text for HTML. */
    public function h(mixed $text): string
    {
        return htmlspecialchars((string) $text, ENT_QUOTES | ENT_SUBSTITUTE);
    }

    private function item(string $name, array $parts, array $words): array
    {
        $called = substr((string) preg_replace('/[^A-Za-z0-9_.-]/', '.', $name), 0, 64);
        return ['name' => $called, 'parts' => [...$parts, $this->digest($name)]] + array_filter($words, static fn ($value) => $value !== null);
    }

    private static function member(mixed $thing, string $path): mixed
    {
        foreach (explode('.', $path) as $name) {
            $thing = is_array($thing) || $thing instanceof \ArrayAccess ? $thing[$name] : $thing->$name;
        }
        return $thing;
    }

    private function file(string $name): string
    {
        foreach (['', '.php', '.html.php', '.phtml'] as $ending) {
            if (is_file($file = "{$this->directory}/$name$ending")) {
                return $file;
            }
        }
        throw new \InvalidArgumentException("there is no template $name in {$this->directory}");
    }

    /** The digest of a template's text and of those within it. */
    private function digest(string $name): string
    {
        $texts = [];
        for ($open = [$name]; $open !== [];) {
            $one = array_pop($open);
            if (!isset($texts[$one])) {
                $texts[$one] = (string) file_get_contents($this->file($one));
                preg_match_all('/\b(?:fragments?|render)\(\s*[\'"]([^\'"]+)/', $texts[$one], $within);
                array_push($open, ...$within[1]);
            }
        }
        ksort($texts);
        return substr(hash('sha256', serialize($texts)), 0, 12);
    }
}
