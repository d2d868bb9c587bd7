<?php
// Does what the conformance suite says, in lines of JSON; see clients/conformance.
declare(strict_types=1);

use Gerastic\{Bytes, Cbor, Client, Key, Scope};

require __DIR__ . '/../autoload.php';

function read(mixed $v): mixed
{
    if (!is_array($v) || array_is_list($v)) {
        return is_array($v) ? array_map(read(...), $v) : $v;
    }
    return match (true) {
        isset($v['time']) => new DateTimeImmutable($v['time']),
        isset($v['hex']) => new Bytes(hex2bin($v['hex'])),
        isset($v['long']) => str_repeat('x', $v['long']),
        isset($v['map']) => array_combine(array_column($v['map'], 0), array_map(read(...), array_column($v['map'], 1))),
        default => [],
    };
}

function shown(mixed $v): mixed
{
    return match (true) {
        $v instanceof Bytes => ['hex' => bin2hex($v->bytes)],
        is_array($v) && array_is_list($v) => array_map(shown(...), $v),
        is_array($v) => ['map' => array_map(static fn ($name, $one) => [$name, shown($one)], array_keys($v), $v)],
        default => $v,
    };
}

function item(array $given): array
{
    foreach (['parts', 'version'] as $name) {
        isset($given[$name]) && $given[$name] = read($given[$name]);
    }
    return $given;
}

$client = new Client($argv[1], $argv[2]);
$fragments = $client->fragments(['wait' => '2s']);
$filled = 0;

$do = static function (array $ask) use ($client, $fragments, &$filled): array {
    $before = $filled;
    switch ($ask['do']) {
        case 'key':
            return ['key' => Key::of($ask['name'], read($ask['parts'] ?? []), read($ask['version'] ?? null))];
        case 'seconds':
            return ['seconds' => Key::seconds($ask['time'])];
        case 'encode':
            return ['hex' => bin2hex(Cbor::encode(read($ask['value'])))];
        case 'decode':
            return ['value' => shown(Cbor::decodeAll(hex2bin($ask['hex']))[0])];
        case 'quoted':
            return ['field' => Scope::quoted($ask['text'])];
        case 'unchanged':
            $page = $fragments->page();
            $same = $page->unchanged($ask['headers'] ?? [], ['modified' => isset($ask['modified']) ? new DateTimeImmutable($ask['modified']) : null, 'parts' => read($ask['parts'] ?? [])]);
            return ['unchanged' => $same, 'headers' => $page->headers()];
        case 'fill':
            $page = $fragments->page();
            $value = $page->loadOrFill(item($ask['item']), static function (Scope $scope) use ($ask, &$filled): ?string {
                $inner = isset($ask['inner']) ? $scope->loadOrFill(item($ask['inner']), static fn () => 'inner') : '';
                $filled++;
                usleep(($ask['sleep_ms'] ?? 0) * 1000);
                isset($ask['fail']) && throw new RuntimeException($ask['fail']);
                return $ask['body'] . $inner;
            });
            return ['value' => $value, 'filled' => $filled - $before, 'headers' => $page->headers()];
        case 'many':
            $values = $fragments->loadOrFillAll(array_map(item(...), $ask['items']), static function (array $item) use (&$filled): string {
                $filled++;
                return $item['name'] . $item['parts'][0];
            });
            return ['values' => $values, 'filled' => $filled - $before];
        case 'load':
            return ['value' => $fragments->load(item($ask['item']))];
        case 'store':
            return ['stored' => $fragments->store(item($ask['item']), $ask['body'])];
        case 'drop':
            $fragments->drop(item($ask['item']));
            return ['done' => true];
        case 'purge':
            $client->purge($ask['order']);
            return ['done' => true];
        case 'settle':
            $fragments->settle();
            return ['done' => true];
        default:
            return ['counts' => $fragments->counts()];
    }
};

while (($line = fgets(STDIN)) !== false) {
    try {
        $answer = $do(json_decode($line, true, 64, JSON_THROW_ON_ERROR));
    } catch (Throwable $error) {
        $answer = ['error' => $error->getMessage()];
    }
    echo json_encode($answer, JSON_UNESCAPED_UNICODE | JSON_THROW_ON_ERROR), "\n";
    flush();
}
