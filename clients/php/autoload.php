<?php
// For applications without Composer: require 'clients/php/autoload.php'.
spl_autoload_register(static function (string $class): void {
    if (str_starts_with($class, 'Gerastic\\')) {
        $file = __DIR__ . '/src/' . str_replace('\\', '/', substr($class, 9)) . '.php';
        if (is_file($file)) {
            require $file;
        }
    }
});
