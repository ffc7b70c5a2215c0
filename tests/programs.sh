#!/bin/sh
# Installs the programs that tests use as oracles, where this user may. Tests that lack one are
# skipped and say so; with CI set, a missing one fails the run instead.
set -u
missing=
command -v argon2 >/dev/null 2>&1 || missing="$missing argon2"
[ -e "$(ldconfig -p 2>/dev/null | sed -n 's/.*libcrypt\.so\.1 .*=> //p' | head -n 1)" ] || missing="$missing libcrypt1"
ls /usr/lib/postgresql/*/bin/initdb >/dev/null 2>&1 || missing="$missing postgresql"
command -v slapd >/dev/null 2>&1 || [ -x /usr/sbin/slapd ] || missing="$missing slapd ldap-utils"
command -v mariadbd >/dev/null 2>&1 || [ -x /usr/sbin/mariadbd ] || missing="$missing mariadb-server"
command -v redis-server >/dev/null 2>&1 || missing="$missing redis-server"
# The shells that complete lines.
command -v zsh >/dev/null 2>&1 || missing="$missing zsh"
command -v fish >/dev/null 2>&1 || missing="$missing fish"
# The languages of examples/.
command -v node >/dev/null 2>&1 || missing="$missing nodejs"
command -v php >/dev/null 2>&1 || missing="$missing php-cli"
command -v ruby >/dev/null 2>&1 || missing="$missing ruby"
command -v go >/dev/null 2>&1 || missing="$missing golang-go"
# What written checks are run, linted and formatted with.
command -v phpcs >/dev/null 2>&1 || missing="$missing php-codesniffer"
command -v rubocop >/dev/null 2>&1 || missing="$missing rubocop"
ruby -rminitest -e 1 >/dev/null 2>&1 || missing="$missing ruby-minitest"
command -v phpunit >/dev/null 2>&1 || missing="$missing phpunit"
php -m 2>/dev/null | grep -q pdo_sqlite || missing="$missing php-sqlite3"
php -m 2>/dev/null | grep -q intl || missing="$missing php-intl"
php -m 2>/dev/null | grep -q mbstring || missing="$missing php-mbstring"
ruby -rbcrypt -e 1 >/dev/null 2>&1 || missing="$missing ruby-bcrypt"
[ -d /usr/share/gocode/src/golang.org/x/crypto/bcrypt ] || missing="$missing golang-golang-x-crypto-dev"
[ -d /usr/share/gocode/src/golang.org/x/text/unicode/norm ] || missing="$missing golang-golang-x-text-dev"
command -v javac >/dev/null 2>&1 || missing="$missing default-jdk-headless"
[ -e /usr/share/java/bcprov.jar ] || missing="$missing libbcprov-java"
[ -e /usr/share/java/gson.jar ] || missing="$missing libgoogle-gson-java"
[ -e /usr/share/java/junit4.jar ] || missing="$missing junit4"
command -v npm >/dev/null 2>&1 || missing="$missing npm"
packages() {
    place="${XDG_CACHE_HOME:-$HOME/.cache}/lean-tumbler-tests"
    [ -d "$place/node_modules/php-parser" ] && return 0
    mkdir -p "$place" && npm install --silent --no-audit --no-fund --prefix "$place" \
        argon2@0.45 bcryptjs@3 pg@8 php-parser@3 prettier@3 eslint@10 @eslint/js@10 >/dev/null 2>&1 ||
        echo "tests/programs.sh: could not install packages for Node.js" >&2
}
[ -z "$missing" ] && { packages; exit 0; }
as_root=
if [ "$(id -u)" -ne 0 ]; then
    if command -v sudo >/dev/null 2>&1 && sudo -n true 2>/dev/null; then as_root="sudo -n"; else
        echo "tests/programs.sh: not installed, and this user may not install:$missing" >&2
        exit 0
    fi
fi
# shellcheck disable=SC2086 # the list of packages is meant to be split
{ $as_root apt-get update -qq && $as_root env DEBIAN_FRONTEND=noninteractive apt-get install -y -qq $missing; } >/dev/null ||
    echo "tests/programs.sh: could not install:$missing" >&2
packages
exit 0
