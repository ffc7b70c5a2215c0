<?php
// Asks the login service over its Unix socket. From the handlers of an application:
//
//   require 'login.php';
//   if (admit($_POST['login'], $_POST['password'])) { session_regenerate_id(true); … }
//
// By itself, `php login.php LOGIN < password.txt` ends with 0 for yes and 1 for no; so does
// `php login.php change LOGIN` with the old and the new password on two lines.
// `php login.php hash LOGIN < password.txt` prints the stored value, and `php login.php observe LOGIN
// right` (or wrong, or unasked) tells what the old code said.
declare(strict_types=1);

/** Login. */
function admit(string $login, #[\SensitiveParameter] string $password): bool
{
    $fields = ['store' => 'passengers', 'login' => $login, 'password' => $password];
    return ask('/v1/admit', $fields)['admitted'] === true;
}

/**
 * While the old code still decides: tell what it said of the password alone. That is true for a
 * banned or expired account too, and null where it refused before it looked at the password.
 */
function observe(string $login, #[\SensitiveParameter] string $password, ?bool $was_right): void
{
    $fields = ['store' => 'passengers', 'login' => $login, 'password' => $password];
    ask('/v1/admit', $was_right === null ? $fields : $fields + ['expected' => $was_right]);
}

/** Registration, a reset behind the mailed link, seeds and imports: the value to store. */
function stored_value(string $login, #[\SensitiveParameter] string $password): string
{
    return ask('/v1/hash', ['login' => $login, 'password' => $password])['value'];
}

/** A change by somebody who knows the old password; the service writes it. */
function change(
    string $login,
    #[\SensitiveParameter] string $password,
    #[\SensitiveParameter] string $new
): bool {
    $fields = ['store' => 'passengers', 'login' => $login, 'password' => $password];
    return ask('/v1/change', $fields + ['new_password' => $new])['changed'] === true;
}

function ask(string $path, #[\SensitiveParameter] array $fields): array
{
    $body = json_encode($fields, JSON_THROW_ON_ERROR);
    $socket = stream_socket_client('unix://' . getenv('SERVICE'), $number, $text, 5.0);
    if ($socket === false) {
        throw new RuntimeException('the login service cannot be reached');
    }
    stream_set_timeout($socket, 5);
    fwrite($socket, "POST $path HTTP/1.1\r\nHost: tumbler\r\nConnection: close\r\n"
        . "Content-Type: application/json\r\nContent-Length: " . strlen($body) . "\r\n\r\n" . $body);
    $answer = stream_get_contents($socket);
    fclose($socket);
    [$head, $text] = explode("\r\n\r\n", $answer, 2) + ['', ''];
    if (str_starts_with($head, 'HTTP/1.1 422 ')) {  // a new password that breaks rules: show which
        throw new DomainException(implode('; ', json_decode($text, true)['reasons']));
    }
    // Only a 200 is an answer: a service that is busy must let nobody in, and lock nobody out.
    if (!str_starts_with($head, 'HTTP/1.1 200 ')) {
        throw new RuntimeException('the login service gave no answer');
    }
    return json_decode($text, true, 8, JSON_THROW_ON_ERROR);
}

if (PHP_SAPI === 'cli' && realpath($argv[0]) === __FILE__) {
    [$password, $new] = explode("\n", stream_get_contents(STDIN)) + ['', ''];
    try {
        if ($argv[1] === 'hash') {
            echo stored_value($argv[2], $password), "\n";
            exit(0);
        }
        if ($argv[1] === 'observe') {
            $said = ['right' => true, 'wrong' => false, 'unasked' => null];
            observe($argv[2], $password, $said[$argv[3]]);
            exit(0);
        }
        $is_change = $argv[1] === 'change';
        exit(($is_change ? change($argv[2], $password, $new) : admit($argv[1], $password)) ? 0 : 1);
    } catch (RuntimeException | DomainException $error) {
        fwrite(STDERR, $error->getMessage() . "\n");
        exit(3);
    }
}
