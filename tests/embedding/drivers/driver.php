<?php
// Asks a written check, a question a line, and prints its answers: driver.php FILE CLASS KEYS
require $argv[1];
$class = 'App\\Login\\' . $argv[2];
$keys = array_map('hex2bin', json_decode($argv[3], true));
$check = new $class($keys);
$raw = fn ($text) => $text === null ? null : base64_decode($text);
while (($line = fgets(STDIN)) !== false) {
    $asked = json_decode($line, true);
    $password = base64_decode($asked['password']);
    try {
        if (isset($asked['new'])) {
            $answer = ['value' => $check->newValue($password, $asked['login'], $asked['account'])];
        } else {
            $row = [
                'stored' => $raw($asked['stored']),
                'salt' => $raw($asked['salt']),
                'login' => $asked['login'],
                'account' => $asked['account'],
                'columns' => array_map($raw, $asked['columns']),
            ];
            $answer = $check->check($row, $password);
            if (isset($asked['file'])) {
                $check->count($asked['file'], $asked['key'], $asked['login'], $answer, $asked['expected']);
            }
        }
    } catch (RuntimeException $error) {
        $answer = ['error' => $error->getMessage()];
    } catch (DomainException $error) {
        $answer = ['reasons' => $error->getMessage()];
    }
    echo json_encode($answer, JSON_THROW_ON_ERROR), "\n";
}
