<?php
// Does what the conformance suite says, in lines of JSON; see clients/conformance.
declare(strict_types=1);

use Gerastic\{Bytes, Cbor, Client, Key, Middleware, Scope};

require __DIR__ . '/../autoload.php';
require __DIR__ . '/psr.php';

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
ini_set('error_log', $log = tempnam(sys_get_temp_dir(), 'gerastic'));
$directory = sys_get_temp_dir() . '/gerastic-' . getmypid();
mkdir($directory);
register_shutdown_function(static function () use ($log, $directory): void {
    array_map(unlink(...), [$log, ...glob("$directory/*")]);
    rmdir($directory);
});
$fragments = $client->fragments(['wait' => '2s']);
$checked = $client->fragments(['check' => 1]);

/** A thing that says its own key. */
final class Thing
{
    public function __construct(private readonly array $key, public readonly array $tags)
    {
    }

    public function fragmentKey(): array
    {
        return $this->key;
    }

    public function fragmentTags(): array
    {
        return $this->tags;
    }
}
$filled = 0;

// Times calls, in microseconds each: a bare exchange of the same bytes, one fragment found, a hundred in one trip, and
// one by one.
$bench = static function (array $ask) use ($fragments): array {
    $items = array_map(static fn ($i) => ['name' => 'bench', 'parts' => [$i], 'lifetime' => '1h'], range(0, 99));
    $fragments->loadOrFillAll($items, static fn () => str_repeat('x', 400));
    $curl = curl_init($ask['control'] . '/v1/fragments/lookup');
    curl_setopt_array($curl, [CURLOPT_RETURNTRANSFER => true, CURLOPT_POSTFIELDS => Cbor::encode(['keys' => ['bench(0)'], 'have' => [''], 'wait' => 2000.0, 'lease' => 30000.0, 'details' => true]),
        CURLOPT_HTTPHEADER => ["Authorization: Bearer {$ask['token']}", 'Content-Type: application/cbor-seq']]);
    $calls = [
        'bare' => static fn () => curl_exec($curl),
        'one' => static fn () => $fragments->loadOrFill($items[0], static fn () => ''),
        'hundred' => static fn () => $fragments->loadOrFillAll($items, static fn () => ''),
        'each' => static fn () => array_map(static fn ($item) => $fragments->loadOrFill($item, static fn () => ''), $items),
    ];
    $took = [];
    for ($round = 0; $round < $ask['rounds']; $round++) {
        foreach ($calls as $name => $call) {
            $n = $name === 'each' ? 1 : 50;
            $began = microtime(true);
            for ($i = 0; $i < $n; $i++) {
                $call();
            }
            $took[$name][] = (microtime(true) - $began) / $n * 1e6;
        }
    }
    return array_map(static function (array $all): float {
        sort($all);
        return $all[intdiv(count($all), 2)];
    }, $took);
};

$do = static function (array $ask) use ($client, $fragments, $checked, $log, $directory, $bench, &$filled): array {
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
        case 'thing':
            return ['value' => $fragments->of(new Thing(item($ask['item']), $ask['tags']), static fn (Thing $thing) => "of {$thing->tags[0]}")];
        case 'twice':
            $page = $fragments->page();
            $page->loadOrFill(item($ask['item']), static fn () => 'once');
            isset($ask['purge']) && $client->purge(['tags' => ['other']]);
            return ['value' => $page->loadOrFill(item($ask['item']), static fn () => 'twice'), 'report' => $page->headers()['Server-Timing']];
        case 'nothing':
            return ['value' => $fragments->loadOrFill(item($ask['item']), static fn () => null)];
        case 'clash':
            foreach ($ask['bodies'] as $language) {
                $checked->loadOrFill(item($ask['item']), static fn () => "in $language");
            }
            $checked->settle();
            return ['done' => true];
        case 'copied':
            $checked->loadOrFill(['name' => 'copied', 'lifetime' => '1h'], static fn () => 'one' . 'text');
            $checked->loadOrFill(['name' => 'copied', 'parts' => [2], 'lifetime' => '1h'], static fn () => 'another' . 'text');
            $checked->loadOrFill(['name' => 'same', 'parts' => [1], 'lifetime' => '1h'], static fn () => 'same' . strval(1));
            $checked->loadOrFill(['name' => 'same', 'parts' => [2], 'lifetime' => '1h'], static fn () => 'same' . strval(2));
            return ['done' => true];
        case 'work':
            return ['value' => $fragments->loadOrFill(item($ask['item']), static function (Scope $scope): string {
                $scope->did(queries: 2, rows: 10);
                return 'worked';
            })];
        case 'request':
            $answer = (new Middleware($fragments, new FakeStreams()))->process(new FakeRequest($ask['headers'] ?? []), new FakeHandler(static function ($request) use ($fragments): FakeAnswer {
                $page = $request->getAttribute('gerastic.page');
                if ($page->unchanged(null, ['modified' => new DateTimeImmutable('2026-05-17T06:00:00Z'), 'parts' => [1]])) {
                    return new FakeAnswer();
                }
                $page->did(queries: 3);
                return (new FakeAnswer())->withHeader('Content-Type', 'text/html')->withBody($fragments->loadOrFill(['name' => 'web', 'lifetime' => '1h', 'tags' => ['web']], static fn () => 'body'));
            }));
            return ['status' => $answer->getStatusCode(), 'headers' => $answer->headers, 'body' => $answer->body];
        case 'page':
            file_put_contents("$directory/page.php", '<?= $this->fragments("row", $rows, each: "row", parts: ["id"], lifetime: "1h", tags: ["row:{id}"]) ?>');
            file_put_contents("$directory/row.php", '<li><?= $row["id"] ?>' . $ask['edition'] . '</li>');
            function_exists('opcache_invalidate') && opcache_invalidate("$directory/row.php", true);
            $was = $fragments->counts()['filled'];
            $html = $fragments->templates($directory)->render('page', ['rows' => array_map(static fn ($id) => ['id' => $id], range(0, $ask['rows'] - 1))]);
            return ['html' => $html, 'filled' => $fragments->counts()['filled'] - $was];
        case 'bench':
            return $bench($ask);
        case 'warned':
            $lines = preg_replace('/^\[[^]]*\] gerastic: /', '', file($log, FILE_IGNORE_NEW_LINES));
            file_put_contents($log, '');
            return ['lines' => $lines];
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
