<?php
// Asks the login service over its Unix socket. From a login handler:
//
//   require 'login.php';
//   if (admit($_POST['login'], $_POST['password'])) { session_regenerate_id(true); … }
//
// By itself, `php login.php LOGIN < password.txt` ends with 0 for yes and 1 for no.
declare(strict_types=1);

function admit(string $login, string $password): bool
{
    $body = json_encode(
        ['store' => 'passengers', 'login' => $login, 'password' => $password],
        JSON_THROW_ON_ERROR
    );
    $socket = stream_socket_client('unix://' . getenv('SERVICE'), $number, $text, 5.0);
    if ($socket === false) {
        throw new RuntimeException('the login service cannot be reached');
    }
    stream_set_timeout($socket, 5);
    fwrite($socket, "POST /v1/admit HTTP/1.1\r\nHost: tumbler\r\nConnection: close\r\n"
        . "Content-Type: application/json\r\nContent-Length: " . strlen($body) . "\r\n\r\n" . $body);
    $answer = stream_get_contents($socket);
    fclose($socket);
    [$head, $text] = explode("\r\n\r\n", $answer, 2) + ['', ''];
    // Only a 200 is an answer: a service that is busy must let nobody in, and lock nobody out.
    if (!str_starts_with($head, 'HTTP/1.1 200 ')) {
        throw new RuntimeException('the login service gave no answer');
    }
    return json_decode($text, true, 8, JSON_THROW_ON_ERROR)['admitted'] === true;
}

if (PHP_SAPI === 'cli' && realpath($argv[0]) === __FILE__) {
    exit(admit($argv[1], rtrim(stream_get_contents(STDIN), "\n")) ? 0 : 1);
}
