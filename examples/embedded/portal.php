<?php
// A portal that checks logins by a file that `lean-tumbler embed php` wrote: no service beside it.
//
//   CHECK=PassengersLogin.php DATABASE=harbour.db php portal.php login LOGIN < password.txt
//
// ends with 0 for yes, 1 for no, and 3 where nobody could tell. `register` and `reset` take a new
// password, `change` the old and the new one on two lines; `observe LOGIN right` (or wrong, or
// unasked) counts the verdict in VERDICTS, while the old code still decides.
declare(strict_types=1);

require getenv('CHECK');

use App\Login\PassengersLogin;

function account(PDO $database, string $login): array
{
    $found = $database->prepare('SELECT id, email, pw, pw_salt FROM passengers WHERE email = ?');
    $found->execute([$login]);
    $row = $found->fetch(PDO::FETCH_ASSOC);
    // An unknown login is checked too, and costs the same time.
    return $row === false ? ['id' => null, 'email' => $login, 'pw' => null, 'pw_salt' => null] : $row;
}

function row(array $account): array
{
    return [
        'stored' => $account['pw'],
        'salt' => $account['pw_salt'],
        'login' => $account['email'],
        'account' => (string) $account['id'],
    ];
}

/** Writes a value only where exactly the old one still stands; else somebody changed it meanwhile. */
function swap(PDO $database, array $account, string $value): bool
{
    $write = $database->prepare('UPDATE passengers SET pw = ? WHERE id = ? AND pw IS ?');
    $write->execute([$value, $account['id'], $account['pw']]);
    return $write->rowCount() === 1;
}

function login(
    PDO $database,
    PassengersLogin $check,
    string $login,
    #[\SensitiveParameter]
    string $password
): bool {
    $account = account($database, $login);
    $answer = $check->check(row($account), $password);
    if ($answer['new_value'] !== null) {
        swap($database, $account, $answer['new_value']);
    }
    return $answer['admitted'];
}

function register(PDO $database, string $login, string $value): void
{
    $write = $database->prepare('INSERT INTO passengers (email, pw, is_admin) VALUES (?, ?, 0)');
    $write->execute([$login, $value]);
}

[, $action, $login] = $argv;
[$password, $new] = explode("\n", stream_get_contents(STDIN)) + ['', ''];
$database = new PDO('sqlite:' . getenv('DATABASE'));
$check = new PassengersLogin();
try {
    switch ($action) {
        case 'login':
            exit(login($database, $check, $login, $password) ? 0 : 1);
        case 'observe':
            $said = ['right' => true, 'wrong' => false, 'unasked' => null][$argv[3]];
            $answer = $check->check(row(account($database, $login)), $password);
            $check->count(getenv('VERDICTS'), getenv('VERDICTS_KEY'), $login, $answer, $said);
            exit(0);
        case 'register':
            register($database, $login, $check->newValue($password, $login));
            exit(0);
        case 'change':
            if (!login($database, $check, $login, $password)) {
                exit(1);
            }
            exit(swap($database, account($database, $login), $check->newValue($new, $login)) ? 0 : 1);
        case 'reset': // behind the mailed link
            exit(swap($database, account($database, $login), $check->newValue($password, $login)) ? 0 : 1);
    }
} catch (DomainException $error) { // a new password that breaks rules: show which
    fwrite(STDERR, $error->getMessage() . "\n");
    exit(2);
} catch (RuntimeException $error) { // nobody can tell now: no refusal
    fwrite(STDERR, "try again in a moment\n");
    exit(3);
}
