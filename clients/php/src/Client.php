<?php
declare(strict_types=1);

namespace Gerastic;

/** A node of Gerastic: new Client('http://127.0.0.1:8490', $token). */
final class Client
{
    private readonly Wire $wire;
    private readonly ?string $namespace;

    public function __construct(string $control, string $token, array $options = [])
    {
        $this->wire = new Wire($control, $token);
        $this->namespace = $options['namespace'] ?? null;
    }

    /** The parts of pages that the application makes. Options are those of Fragments. */
    public function fragments(array $options = []): Fragments
    {
        return new Fragments($this->wire, $this->namespace, $options);
    }

    /**
     * Purges on every node; returns when it is in force. The words are tags, urls, below, routes, hosts, all, mode
     * and reason. Throws Refused or Unreached: then nothing is known to be purged.
     */
    public function purge(array $order): array
    {
        $lists = ['tags', 'urls', 'below', 'routes', 'hosts'];
        if ($unknown = array_diff(array_keys($order), [...$lists, 'all', 'mode', 'reason'])) {
            throw new \InvalidArgumentException('a purge names tags, urls, below, routes, hosts or all; there is no ' . implode(', ', $unknown));
        }
        foreach ($lists as $name) {
            if (!is_array($order[$name] ?? [])) {
                throw new \TypeError("$name is a list; write ['…']");
            }
        }
        $order = array_filter($order, static fn ($value) => $value !== []);
        if (array_intersect(array_keys($order), $lists) === [] && !($order['all'] ?? false)) {
            throw new \InvalidArgumentException("the purge names nothing; give tags, urls, below, routes or hosts, or 'all' => true");
        }
        $answer = $this->order('/v1/purges', $order);
        return is_array($answer) ? $answer : throw new Unreached('its answer does not say that it is purged');
    }

    /** Tells of something that changed, after the commit; before null is a create, after null a delete. */
    public function changed(string $kind, mixed $before, mixed $after): array
    {
        return $this->send([self::change($kind, $before, $after)]);
    }

    /** Tells of changes as they stand: kind, op, before, after and perhaps id, by which one that is sent twice counts once. */
    public function send(array $changes): array
    {
        return (array) $this->order('/v1/changes', ['changes' => $changes]);
    }

    private function order(string $path, array $order): mixed
    {
        try {
            return $this->wire->json('POST', $path, $order);
        } finally {
            Scope::$purges++;
        }
    }

    /** A change as it is sent. */
    public static function change(string $kind, mixed $before, mixed $after): array
    {
        $operation = $before === null ? 'create' : ($after === null ? 'delete' : 'update');
        return array_filter(['kind' => $kind, 'op' => $operation, 'before' => $before, 'after' => $after], static fn ($value) => $value !== null);
    }
}
