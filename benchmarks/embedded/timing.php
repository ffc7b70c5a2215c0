<?php
// Prints how many seconds so many logins took, and as many runs of the bare primitive, by turns.
require $argv[1];
[, , $value, $logins] = $argv;
$check = new App\Login\KioskLogin();
$row = ['stored' => $value];
$own = $bare = 0.0;
for ($number = 0; $number < $logins; $number++) {
    $start = hrtime(true);
    $check->check($row, 'Gull 4711');
    $own += hrtime(true) - $start;
    $start = hrtime(true);
    password_verify('Gull 4711', $value);
    $bare += hrtime(true) - $start;
}
echo json_encode([$own / 1e9, $bare / 1e9]);
