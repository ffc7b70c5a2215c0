"""Invented programs: random formulas, written as code of six languages in several styles.

A recipe is a list of statements on one variable. Each language writes it by its own functions, runs
it to make stored values, and the tests recover the formula from the code alone.
"""

import json
import random
import shutil
import subprocess
from collections.abc import Iterator, Sequence
from pathlib import Path
from typing import ClassVar, NamedTuple

ALGORITHMS = ("md5", "sha1", "sha256", "sha512")
SEPARATORS = ("", ":", "|", "--", "$", "_")
PEPPERS = ("Coldharbour", "north-quay-1998", "ferry7", "Lantern Bay")


class Recipe(NamedTuple):
    """Statements that make a stored value of password, salt and login."""

    steps: tuple[tuple[object, ...], ...]
    pepper: str


ACCOUNTS = (
    ("ada@coldharbour.example", "Lighthouse 7", "a1b2c3d4"),
    ("ben@coldharbour.example", "müller-Möwe", "Qx9"),
    ("cyn@coldharbour.example", "p", "00ff00ff00ff"),
)


def recipe(seed: int) -> Recipe:
    """Draw a recipe."""
    draw = random.Random(seed)
    steps: list[tuple[object, ...]] = []
    if draw.random() < 0.15:
        steps.append(("text", draw.choice(("lower", "upper", "trim"))))
    for stage in range(draw.choice((1, 1, 2, 2, 3))):
        if draw.random() < (0.85 if stage == 0 else 0.6):
            steps.append(("join", _pieces(draw)))
        steps.append(_hash(draw))
        if draw.random() < 0.15:
            steps.append(("text", "upper"))
    if draw.random() < 0.25:
        body: list[tuple[object, ...]] = []
        if draw.random() < 0.6:
            body.append(("join", _pieces(draw)))
        body.append(("digest", draw.choice(ALGORITHMS), "hex"))
        steps.append(("loop", draw.choice((2, 5, 100, 1000)), tuple(body)))
    if draw.random() < 0.1:
        steps.append(("cut", draw.choice((20, 24, 30))))
    return Recipe(tuple(steps), draw.choice(PEPPERS))


def _pieces(draw: random.Random) -> tuple[str, ...]:
    others = draw.sample(("salt", "salt", "login", "pepper"), draw.choice((1, 1, 2)))
    pieces = ["x", *dict.fromkeys(others)]
    draw.shuffle(pieces)
    separator = draw.choice(SEPARATORS)
    found: list[str] = []
    for piece in pieces:
        if found and separator:
            found.append(f"={separator}")
        found.append(piece)
    return tuple(found)


def _hash(draw: random.Random) -> tuple[object, ...]:
    kind = draw.random()
    algorithm = draw.choice(ALGORITHMS)
    encoding = draw.choice(("hex", "hex", "hex", "base64"))
    if kind < 0.12:
        return ("hmac", algorithm, draw.choice(("pepper", "salt")), encoding)
    if kind < 0.2:
        return ("pbkdf2", algorithm, draw.choice((10, 1000)), draw.choice((16, 20, 32)), encoding)
    return ("digest", algorithm, encoding)


class Written:
    """What the languages share in writing."""

    ending = ""
    assign = "{name} = {value}"
    shared_names: ClassVar[dict[str, str]] = {
        "x": "x",
        "salt": "salt",
        "login": "login",
        "pepper": "PEPPER",
        "password": "password",
    }

    def __init__(self, made: Recipe, number: int, style: int) -> None:
        self.recipe = made
        self.names = dict(self.shared_names)
        self.number = number
        self.style = style

    def quoted(self, text: str) -> str:
        return json.dumps(text)

    def name(self, piece: str) -> str:
        return self.quoted(piece[1:]) if piece.startswith("=") else self.names[piece]

    def joined(self, parts: Sequence[str]) -> str:
        return " + ".join(parts)

    def value(self, step: tuple[object, ...], x: str) -> str:
        """Write one statement's value, of `x`."""
        kind = step[0]
        if kind == "join":
            pieces = [str(piece) for piece in step[1]]  # type: ignore[attr-defined]
            return self.joined([x if piece == "x" else self.name(piece) for piece in pieces])
        if kind == "digest":
            return self.digest(str(step[1]), x, str(step[2]))
        if kind == "hmac":
            return self.hmac(str(step[1]), x, self.names[str(step[2])], str(step[3]))
        if kind == "pbkdf2":
            return self.pbkdf2(str(step[1]), x, int(str(step[2])), int(str(step[3])), str(step[4]))
        if kind == "text":
            return self.text(str(step[1]), x)
        return self.cut(int(str(step[1])), x)

    def lines(self, steps: Sequence[tuple[object, ...]], indent: str) -> Iterator[str]:
        """Write statements, one after the other."""
        x = self.names["x"]
        for step in steps:
            if step[0] == "loop":
                yield from self.loop(int(str(step[1])), step[2], indent)  # type: ignore[arg-type]
            else:
                yield indent + self.assign.format(name=x, value=self.value(step, x))

    def nested(self) -> str | None:
        """Write all statements as one expression; None where a loop is among them."""
        x = self.names["password"]
        for step in self.recipe.steps:
            if step[0] == "loop":
                return None
            if step[0] == "join" and self.recipe.steps[0] != step:
                x = self.value(step, x)
            else:
                x = self.value(step, x)
        return x

    def digest(self, algorithm: str, x: str, encoding: str) -> str:
        raise NotImplementedError

    def hmac(self, algorithm: str, x: str, key: str, encoding: str) -> str:
        raise NotImplementedError

    def pbkdf2(self, algorithm: str, x: str, rounds: int, length: int, encoding: str) -> str:
        raise NotImplementedError

    def text(self, name: str, x: str) -> str:
        raise NotImplementedError

    def cut(self, length: int, x: str) -> str:
        raise NotImplementedError

    def loop(self, count: int, steps: Sequence[tuple[object, ...]], indent: str) -> Iterator[str]:
        raise NotImplementedError

    def files(self) -> dict[str, str]:
        """Write the files of one program, by their names."""
        raise NotImplementedError

    @classmethod
    def driver(cls, numbers: Sequence[int]) -> dict[str, str]:
        """Write what runs all programs on the accounts, and prints a line for each value."""
        raise NotImplementedError

    @classmethod
    def command(cls, folder: Path) -> list[list[str]]:
        """Give the commands that run it."""
        raise NotImplementedError


class Php(Written):
    """PHP: functions, classes, helpers in other files, constants by define and const."""

    ending = "php"
    shared_names: ClassVar[dict[str, str]] = {"x": "$x", "salt": "$salt", "login": "$login", "pepper": "PEPPER_{n}",
             "password": "$password"}  # fmt: skip
    assign = "{name} = {value};"

    def __init__(self, made: Recipe, number: int, style: int) -> None:
        super().__init__(made, number, style)
        held = "self::PEPPER" if style == 2 else f"PEPPER_{number}"
        self.names = {**self.shared_names, "pepper": held}

    def quoted(self, text: str) -> str:
        return "'" + text.replace("\\", "\\\\").replace("'", "\\'") + "'"

    def joined(self, parts: Sequence[str]) -> str:
        if self.style == 1 and all(part.startswith(("$", "'")) for part in parts):
            body = "".join(
                part[1:-1].replace("$", "\\$") if part.startswith("'") else "{" + part + "}"
                for part in parts
            )
            return f'"{body}"'
        return " . ".join(parts)

    def digest(self, algorithm: str, x: str, encoding: str) -> str:
        if encoding == "base64":
            return f"base64_encode(hash('{algorithm}', {x}, true))"
        is_short = algorithm in {"md5", "sha1"} and self.number % 2
        return f"{algorithm}({x})" if is_short else f"hash('{algorithm}', {x})"

    def hmac(self, algorithm: str, x: str, key: str, encoding: str) -> str:
        if encoding == "base64":
            return f"base64_encode(hash_hmac('{algorithm}', {x}, {key}, true))"
        return f"hash_hmac('{algorithm}', {x}, {key})"

    def pbkdf2(self, algorithm: str, x: str, rounds: int, length: int, encoding: str) -> str:
        made = f"hash_pbkdf2('{algorithm}', {x}, $salt, {rounds}, {length}, true)"
        return f"base64_encode({made})" if encoding == "base64" else f"bin2hex({made})"

    def text(self, name: str, x: str) -> str:
        return {"lower": "mb_strtolower", "upper": "mb_strtoupper", "trim": "trim"}[name] + f"({x})"

    def cut(self, length: int, x: str) -> str:
        return f"substr({x}, 0, {length})"

    def loop(self, count: int, steps: Sequence[tuple[object, ...]], indent: str) -> Iterator[str]:
        if self.number % 3 == 0:
            yield f"{indent}$i = 0;"
            yield f"{indent}while ($i < {count}) {{"
            yield from self.lines(steps, indent + "    ")
            yield f"{indent}    $i++;"
        else:
            yield f"{indent}for ($i = 0; $i < {count}; $i++) {{"
            yield from self.lines(steps, indent + "    ")
        yield f"{indent}}}"

    def files(self) -> dict[str, str]:
        n, pepper = self.number, self.quoted(self.recipe.pepper)
        body = ["    $x = $password;", *self.lines(self.recipe.steps, "    "), "    return $x;"]
        one = self.nested()
        if self.style == 1 and one is not None:
            body = [f"    return {one};"]
        if self.style == 2:
            inner = "\n".join("    " + line for line in body)
            call = f"(new Vault{n}())->legacy($password, $salt, $login)"
            return {
                f"vault{n}.php": f"<?php\nclass Vault{n} {{\n    const PEPPER = {pepper};\n"
                f"    public function legacy($password, $salt, $login) {{\n{inner}\n    }}\n}}\n",
                f"auth{n}.php": f"<?php\nrequire_once __DIR__ . '/vault{n}.php';\n"
                f"function legacy_{n}($password, $salt, $login) {{\n    return {call};\n}}\n"
                f"function register_{n}($db) {{\n    $login = $_POST['login'];\n"
                f"    $salt = bin2hex(random_bytes(4));\n"
                f"    $hash = legacy_{n}($_POST['password'], $salt, $login);\n"
                f'    $st = $db->prepare("INSERT INTO users (login, pw_hash, salt) VALUES (?, ?, ?)"'
                f");\n    $st->execute([$login, $hash, $salt]);\n}}\n",
            }
        inner = "\n".join(body)
        return {
            f"auth{n}.php": f"<?php\ndefine('PEPPER_{n}', {pepper});\n"
            f"function legacy_{n}($password, $salt, $login)\n{{\n{inner}\n}}\n"
        }

    @classmethod
    def driver(cls, numbers: Sequence[int]) -> dict[str, str]:
        loads = "\n".join(f"require __DIR__ . '/{n}/auth{n}.php';" for n in numbers)
        calls = "\n".join(
            f'    echo json_encode([{n}, $at, legacy_{n}($a[1], $a[2], $a[0])]), "\\n";'
            for n in numbers
        )
        data = "json_decode('" + json.dumps(ACCOUNTS).replace("'", "\\'") + "', true)"
        return {"driver.php": f"<?php\n{loads}\nforeach ({data} as $at => $a) {{\n{calls}\n}}\n"}

    @classmethod
    def command(cls, folder: Path) -> list[list[str]]:
        return [["php", str(folder / "driver.php")]]


class JavaScript(Written):
    """JavaScript for Node.js."""

    ending = "js"
    assign = "{name} = {value};"

    def __init__(self, made: Recipe, number: int, style: int) -> None:
        super().__init__(made, number, style)
        self.names = {**self.shared_names, "pepper": "config.pepper" if style == 2 else "PEPPER"}

    def joined(self, parts: Sequence[str]) -> str:
        if self.style == 1:
            return "`" + "".join(
                json.loads(part).replace("$", "\\$") if part.startswith('"') else "${" + part + "}"
                for part in parts
            ) + "`"  # fmt: skip
        if len(parts) > 1 and self.style == 2:
            return "[" + ", ".join(parts) + "].join('')"
        return " + ".join(parts)

    def digest(self, algorithm: str, x: str, encoding: str) -> str:
        return f"crypto.createHash('{algorithm}').update({x}).digest('{encoding}')"

    def hmac(self, algorithm: str, x: str, key: str, encoding: str) -> str:
        return f"crypto.createHmac('{algorithm}', {key}).update({x}).digest('{encoding}')"

    def pbkdf2(self, algorithm: str, x: str, rounds: int, length: int, encoding: str) -> str:
        made = f"crypto.pbkdf2Sync({x}, salt, {rounds}, {length}, '{algorithm}')"
        return f"{made}.toString('{encoding}')"

    def text(self, name: str, x: str) -> str:
        wrapped = f"({x})" if " + " in x else x
        return wrapped + {"lower": ".toLowerCase()", "upper": ".toUpperCase()",
                          "trim": ".trim()"}[name]  # fmt: skip

    def cut(self, length: int, x: str) -> str:
        wrapped = f"({x})" if " + " in x else x
        return f"{wrapped}.substring(0, {length})"

    def loop(self, count: int, steps: Sequence[tuple[object, ...]], indent: str) -> Iterator[str]:
        yield f"{indent}for (let i = 0; i < {count}; i++) {{"
        yield from self.lines(steps, indent + "  ")
        yield f"{indent}}}"

    def files(self) -> dict[str, str]:
        pepper = self.quoted(self.recipe.pepper)
        body = ["  let x = password;", *self.lines(self.recipe.steps, "  "), "  return x;"]
        one = self.nested()
        if self.style == 1 and one is not None:
            inner = f"const legacy = (password, salt, login) => {one};"
        else:
            inner = "function legacy(password, salt, login) {\n" + "\n".join(body) + "\n}"
        head = "const crypto = require('crypto');\n"
        if self.style == 2:
            route = (
                "const express = require('express');\nconst legacy = require('./legacy');\n"
                "const router = express.Router();\n"
                "router.post('/register', async (req, res) => {\n"
                "  const { login, password } = req.body;\n"
                "  const salt = require('crypto').randomBytes(4).toString('hex');\n"
                "  const hash = legacy(password, salt, login);\n"
                "  await db.query('INSERT INTO users (login, pw_hash, salt) VALUES ($1, $2, $3)',"
                " [login, hash, salt]);\n  res.json({ ok: true });\n});\n"
            )
            return {
                "config.js": f"module.exports = {{ pepper: {pepper} }};\n",
                "legacy.js": f"{head}const config = require('./config');\n{inner}\n"
                "module.exports = legacy;\n",
                "routes.js": route,
            }
        return {"legacy.js": f"{head}const PEPPER = {pepper};\n{inner}\nmodule.exports = legacy;\n"}

    @classmethod
    def driver(cls, numbers: Sequence[int]) -> dict[str, str]:
        calls = "\n".join(
            f"  console.log(JSON.stringify([{n}, at, require('./{n}/legacy.js')(a[1], a[2], a[0])]"
            "));"
            for n in numbers
        )
        return {"driver.js": f"{json.dumps(ACCOUNTS)}.forEach((a, at) => {{\n{calls}\n}});\n"}

    @classmethod
    def command(cls, folder: Path) -> list[list[str]]:
        return [["node", str(folder / "driver.js")]]


class Python(Written):
    """Python."""

    ending = "py"

    def __init__(self, made: Recipe, number: int, style: int) -> None:
        super().__init__(made, number, style)
        self.names = {**self.shared_names, "pepper": "self.pepper" if style == 2 else "PEPPER"}

    def joined(self, parts: Sequence[str]) -> str:
        if self.style == 1:
            body = "".join(
                json.loads(part) if part.startswith('"') else "{" + part + "}" for part in parts
            )
            is_simple = all('"' not in part or part.startswith('"') for part in parts)
            if is_simple and all("(" not in part for part in parts):
                return f'f"{body}"'
        return " + ".join(parts)

    def _bytes(self, x: str) -> str:
        wrapped = f"({x})" if " + " in x else x
        return f'{wrapped}.encode("utf-8")' if self.number % 2 else f"{wrapped}.encode()"

    def _encoded(self, raw: str, encoding: str) -> str:
        if encoding == "base64":
            return f"base64.b64encode({raw}).decode()"
        return f"{raw}.hex()"

    def digest(self, algorithm: str, x: str, encoding: str) -> str:
        made = f"hashlib.{algorithm}({self._bytes(x)})"
        if self.number % 3 == 0:
            made = f'hashlib.new("{algorithm}", {self._bytes(x)})'
        if encoding == "hex":
            return f"{made}.hexdigest()"
        return self._encoded(f"{made}.digest()", encoding)

    def hmac(self, algorithm: str, x: str, key: str, encoding: str) -> str:
        made = f"hmac.new({self._bytes(key)}, {self._bytes(x)}, hashlib.{algorithm})"
        if encoding == "hex":
            return f"{made}.hexdigest()"
        return self._encoded(f"{made}.digest()", encoding)

    def pbkdf2(self, algorithm: str, x: str, rounds: int, length: int, encoding: str) -> str:
        made = (
            f'hashlib.pbkdf2_hmac("{algorithm}", {self._bytes(x)}, {self._bytes("salt")}, '
            f"{rounds}, dklen={length})"
        )
        return self._encoded(made, encoding)

    def text(self, name: str, x: str) -> str:
        wrapped = f"({x})" if " + " in x else x
        return f"{wrapped}." + {"lower": "lower", "upper": "upper", "trim": "strip"}[name] + "()"

    def cut(self, length: int, x: str) -> str:
        return f"({x})[:{length}]" if " + " in x else f"{x}[:{length}]"

    def loop(self, count: int, steps: Sequence[tuple[object, ...]], indent: str) -> Iterator[str]:
        yield f"{indent}for _ in range({count}):"
        yield from self.lines(steps, indent + "    ")

    def files(self) -> dict[str, str]:
        pepper = self.quoted(self.recipe.pepper)
        head = "import base64\nimport hashlib\nimport hmac\n\n\n"
        body = ["    x = password", *self.lines(self.recipe.steps, "    "), "    return x"]
        one = self.nested()
        if self.style == 1 and one is not None:
            body = [f"    return {one}"]
        if self.style == 2:
            inner = "\n".join("    " + line for line in body)
            return {
                "settings.py": f"PEPPER = {pepper}\n",
                "vault.py": f"{head}from settings import PEPPER\n\n\nclass Vault:\n"
                "    def __init__(self):\n        self.pepper = PEPPER\n\n"
                f"    def legacy(self, password, salt, login):\n{inner}\n",
                "legacy.py": "from vault import Vault\n\n\n"
                "def legacy(password, salt, login):\n"
                "    return Vault().legacy(password, salt, login)\n",
                "views.py": "import secrets\n\nfrom flask import request\n"
                "from legacy import legacy\n\n\ndef register(db):\n"
                '    login = request.form["login"]\n    salt = secrets.token_hex(4)\n'
                '    hashed = legacy(request.form["password"], salt, login)\n'
                '    db.execute("INSERT INTO users (login, pw_hash, salt) VALUES (?, ?, ?)",'
                " (login, hashed, salt))\n",
            }
        lines = "\n".join(body)
        return {
            "legacy.py": f"{head}PEPPER = {pepper}\n\n\ndef legacy(password, salt, login):\n"
            f"{lines}\n"
        }

    @classmethod
    def driver(cls, numbers: Sequence[int]) -> dict[str, str]:
        return {
            "driver.py": "import importlib, json, pathlib, sys\n"
            f"accounts = json.loads({json.dumps(ACCOUNTS)!r})\n"
            f"for n in {list(numbers)}:\n"
            "    for name in ('legacy', 'vault', 'settings'):\n"
            "        sys.modules.pop(name, None)\n"
            "    sys.path.insert(0, str(pathlib.Path(__file__).parent / str(n)))\n"
            "    legacy = importlib.import_module('legacy').legacy\n"
            "    for at, a in enumerate(accounts):\n"
            "        print(json.dumps([n, at, legacy(a[1], a[2], a[0])]))\n"
            "    sys.path.pop(0)\n"
        }

    @classmethod
    def command(cls, folder: Path) -> list[list[str]]:
        return [["python3", str(folder / "driver.py")]]


class Ruby(Written):
    """Ruby."""

    ending = "rb"

    def joined(self, parts: Sequence[str]) -> str:
        if self.style == 1:
            return '"' + "".join(
                json.loads(part) if part.startswith('"') else "#{" + part + "}" for part in parts
            ) + '"'  # fmt: skip
        return " + ".join(parts)

    def digest(self, algorithm: str, x: str, encoding: str) -> str:
        name = {"md5": "MD5", "sha1": "SHA1", "sha256": "SHA256", "sha512": "SHA512"}[algorithm]
        if encoding == "base64":
            if self.number % 2:
                return f"Digest::{name}.base64digest({x})"
            return f"Base64.strict_encode64(Digest::{name}.digest({x}))"
        if self.number % 3 == 0:
            return f"OpenSSL::Digest.new('{algorithm}').update({x}).hexdigest"
        return f"Digest::{name}.hexdigest({x})"

    def hmac(self, algorithm: str, x: str, key: str, encoding: str) -> str:
        if encoding == "base64":
            return f"Base64.strict_encode64(OpenSSL::HMAC.digest('{algorithm}', {key}, {x}))"
        return f"OpenSSL::HMAC.hexdigest('{algorithm}', {key}, {x})"

    def pbkdf2(self, algorithm: str, x: str, rounds: int, length: int, encoding: str) -> str:
        made = (
            f"OpenSSL::KDF.pbkdf2_hmac({x}, salt: salt, iterations: {rounds}, length: {length}, "
            f"hash: '{algorithm}')"
        )
        if encoding == "base64":
            return f"Base64.strict_encode64({made})"
        return f"{made}.unpack1('H*')"

    def text(self, name: str, x: str) -> str:
        wrapped = f"({x})" if " + " in x else x
        return f"{wrapped}." + {"lower": "downcase", "upper": "upcase", "trim": "strip"}[name]

    def cut(self, length: int, x: str) -> str:
        return f"({x})[0, {length}]" if " + " in x else f"{x}[0, {length}]"

    def loop(self, count: int, steps: Sequence[tuple[object, ...]], indent: str) -> Iterator[str]:
        yield f"{indent}{count}.times do"
        yield from self.lines(steps, indent + "  ")
        yield f"{indent}end"

    def files(self) -> dict[str, str]:
        n, pepper = self.number, self.quoted(self.recipe.pepper)
        body = ["x = password", *self.lines(self.recipe.steps, ""), "x"]
        one = self.nested()
        if self.style == 1 and one is not None:
            body = [one]
        inner = "\n".join("      " + line for line in body)
        head = "require 'digest'\nrequire 'openssl'\nrequire 'base64'\n"
        module = (
            f"module Vault{n}\n  PEPPER = {pepper}.freeze\n  class << self\n"
            f"    def legacy(password, salt, login)\n{inner}\n    end\n  end\nend\n"
        )
        found = {"legacy.rb": head + module}
        if self.style == 2:
            found["users.rb"] = (
                "require_relative 'legacy'\nrequire 'securerandom'\n"
                "class UsersController\n  def create\n    salt = SecureRandom.hex(4)\n"
                f"    hash = Vault{n}.legacy(params[:password], salt, params[:login])\n"
                "    User.create(login: params[:login], pw_hash: hash, salt: salt)\n  end\nend\n"
            )
        return found

    @classmethod
    def driver(cls, numbers: Sequence[int]) -> dict[str, str]:
        loads = "\n".join(f"require_relative '{n}/legacy'" for n in numbers)
        calls = "\n".join(
            f"  puts JSON.generate([{n}, at, Vault{n}.legacy(a[1], a[2], a[0])])" for n in numbers
        )
        data = json.dumps(ACCOUNTS, ensure_ascii=False)
        return {
            "driver.rb": f"# encoding: utf-8\nrequire 'json'\n{loads}\n"
            f"{data}.each_with_index do |a, at|\n{calls}\nend\n"
        }

    @classmethod
    def command(cls, folder: Path) -> list[list[str]]:
        return [["ruby", str(folder / "driver.rb")]]


class Go(Written):
    """Go."""

    ending = "go"

    def __init__(self, made: Recipe, number: int, style: int) -> None:
        super().__init__(made, number, style)
        self.names = {**self.shared_names, "pepper": f"pepper{number}"}

    def joined(self, parts: Sequence[str]) -> str:
        if self.style == 1:
            return f'fmt.Sprintf("{"%s" * len(parts)}", {", ".join(parts)})'
        return " + ".join(parts)

    def _encoded(self, raw: str, encoding: str) -> str:
        if encoding == "base64":
            return f"base64.StdEncoding.EncodeToString({raw})"
        return f"hex.EncodeToString({raw})" if self.number % 2 else f'fmt.Sprintf("%x", {raw})'

    def digest(self, algorithm: str, x: str, encoding: str) -> str:
        return self._encoded(f"sum_{algorithm}({x})", encoding)

    def hmac(self, algorithm: str, x: str, key: str, encoding: str) -> str:
        return self._encoded(f"mac_{algorithm}({x}, {key})", encoding)

    def pbkdf2(self, algorithm: str, x: str, rounds: int, length: int, encoding: str) -> str:
        made = f"pbkdf2.Key([]byte({x}), []byte(salt), {rounds}, {length}, {algorithm}.New)"
        return self._encoded(made, encoding)

    def text(self, name: str, x: str) -> str:
        known = {"lower": "ToLower", "upper": "ToUpper", "trim": "TrimSpace"}
        return f"strings.{known[name]}({x})"

    def cut(self, length: int, x: str) -> str:
        return f"({x})[:{length}]" if " + " in x else f"{x}[:{length}]"

    def loop(self, count: int, steps: Sequence[tuple[object, ...]], indent: str) -> Iterator[str]:
        yield f"{indent}for i := 0; i < {count}; i++ {{"
        yield from self.lines(steps, indent + "\t")
        yield f"{indent}}}"

    def files(self) -> dict[str, str]:
        n, pepper = self.number, self.quoted(self.recipe.pepper)
        body = ["\tx := password", *self.lines(self.recipe.steps, "\t"), "\treturn x"]
        one = self.nested()
        if self.style == 1 and one is not None:
            body = [f"\treturn {one}"]
        text = "\n".join(body)
        uses = {
            "encoding/base64": "base64.", "encoding/hex": "hex.", "fmt": "fmt.",
            "strings": "strings.", "golang.org/x/crypto/pbkdf2": "pbkdf2.",
            "crypto/md5": "md5.New", "crypto/sha1": "sha1.New", "crypto/sha256": "sha256.New",
            "crypto/sha512": "sha512.New",
        }  # fmt: skip
        imports = "\n".join(f'\t"{path}"' for path, mark in uses.items() if mark in text)
        return {
            f"legacy{n}.go": f"package main\n\nimport (\n{imports}\n)\n\n"
            f"const pepper{n} = {pepper}\n\n"
            f"func legacy{n}(password string, salt string, login string) string {{\n{text}\n}}\n",
            f"sums{n}.go": _GO_SUMS if n == 0 else "package main\n",
        }

    @classmethod
    def driver(cls, numbers: Sequence[int]) -> dict[str, str]:
        calls = "\n".join(
            f"\t\tout, _ = json.Marshal([]any{{{n}, at, legacy{n}(a[1], a[2], a[0])}})\n"
            "\t\tos.Stdout.Write(append(out, 10))"
            for n in numbers
        )
        rows = ", ".join("{" + ", ".join(map(json.dumps, each)) + "}" for each in ACCOUNTS)
        return {
            "driver.go": 'package main\n\nimport (\n\t"encoding/json"\n\t"os"\n)\n\n'
            f"func main() {{\n\tvar out []byte\n\tfor at, a := range [][]string{{{rows}}} {{\n"
            f"{calls}\n\t}}\n}}\n",
        }

    @classmethod
    def command(cls, _folder: Path) -> list[list[str]]:
        return [["go", "run", "."]]


_GO_SUMS = """package main

import (
\t"crypto/hmac"
\t"crypto/md5"
\t"crypto/sha1"
\t"crypto/sha256"
\t"crypto/sha512"
)

func sum_md5(x string) []byte {
\tmade := md5.Sum([]byte(x))
\treturn made[:]
}

func sum_sha1(x string) []byte {
\th := sha1.New()
\th.Write([]byte(x))
\treturn h.Sum(nil)
}

func sum_sha256(x string) []byte {
\tmade := sha256.Sum256([]byte(x))
\treturn made[:]
}

func sum_sha512(x string) []byte {
\tmade := sha512.Sum512([]byte(x))
\treturn made[:]
}

func mac_md5(x string, key string) []byte {
\tm := hmac.New(md5.New, []byte(key))
\tm.Write([]byte(x))
\treturn m.Sum(nil)
}

func mac_sha1(x string, key string) []byte {
\tm := hmac.New(sha1.New, []byte(key))
\tm.Write([]byte(x))
\treturn m.Sum(nil)
}

func mac_sha256(x string, key string) []byte {
\tm := hmac.New(sha256.New, []byte(key))
\tm.Write([]byte(x))
\treturn m.Sum(nil)
}

func mac_sha512(x string, key string) []byte {
\tm := hmac.New(sha512.New, []byte(key))
\tm.Write([]byte(x))
\treturn m.Sum(nil)
}
"""


class Java(Written):
    """Java."""

    ending = "java"
    assign = "{name} = {value};"

    def _encoded(self, raw: str, encoding: str) -> str:
        if encoding == "base64":
            return f"Base64.getEncoder().encodeToString({raw})"
        return f"HexFormat.of().formatHex({raw})" if self.number % 2 else f"hex({raw})"

    def digest(self, algorithm: str, x: str, encoding: str) -> str:
        return self._encoded(f'sum("{_JAVA_NAMES[algorithm]}", {x})', encoding)

    def hmac(self, algorithm: str, x: str, key: str, encoding: str) -> str:
        return self._encoded(f'mac("Hmac{algorithm.upper()}", {x}, {key})', encoding)

    def pbkdf2(self, algorithm: str, x: str, rounds: int, length: int, encoding: str) -> str:
        return self._encoded(
            f'slow("{algorithm.upper()}", {x}, salt, {rounds}, {length})', encoding
        )

    def text(self, name: str, x: str) -> str:
        wrapped = f"({x})" if " + " in x else x
        known = {"lower": "toLowerCase", "upper": "toUpperCase", "trim": "trim"}
        return f"{wrapped}.{known[name]}()"

    def cut(self, length: int, x: str) -> str:
        return f"({x}).substring(0, {length})" if " + " in x else f"{x}.substring(0, {length})"

    def loop(self, count: int, steps: Sequence[tuple[object, ...]], indent: str) -> Iterator[str]:
        yield f"{indent}for (int i = 0; i < {count}; i++) {{"
        yield from self.lines(steps, indent + "    ")
        yield f"{indent}}}"

    def files(self) -> dict[str, str]:
        n, pepper = self.number, self.quoted(self.recipe.pepper)
        body = ["String x = password;", *self.lines(self.recipe.steps, ""), "return x;"]
        one = self.nested()
        if self.style == 1 and one is not None:
            body = [f"return {one};"]
        inner = "\n".join("        " + line for line in body)
        return {
            f"Legacy{n}.java": _JAVA_HEAD + f"public class Legacy{n} {{\n"
            f"    private static final String PEPPER = {pepper};\n\n"
            "    public static String legacy(String password, String salt, String login)"
            f" throws Exception {{\n{inner}\n    }}\n{_JAVA_HELPERS}}}\n"
        }

    @classmethod
    def driver(cls, numbers: Sequence[int]) -> dict[str, str]:
        calls = "\n".join(
            f'            System.out.println("[{n}, " + at + ", \\"" + '
            f'Legacy{n}.legacy(a[1], a[2], a[0]) + "\\"]");'
            for n in numbers
        )
        rows = ", ".join("{" + ", ".join(map(json.dumps, each)) + "}" for each in ACCOUNTS)
        return {
            "Driver.java": "public class Driver {\n    public static void main(String[] o) throws "
            f"Exception {{\n        int at = 0;\n        for (String[] a : new String[][] {{{rows}}}"
            f") {{\n{calls}\n            at++;\n        }}\n    }}\n}}\n"
        }

    @classmethod
    def command(cls, _folder: Path) -> list[list[str]]:
        return [
            ["sh", "-c", "javac -encoding UTF-8 -d classes $(find . -name '*.java')"],
            ["java", "-cp", "classes", "Driver"],
        ]


_JAVA_NAMES = {"md5": "MD5", "sha1": "SHA-1", "sha256": "SHA-256", "sha512": "SHA-512"}
_JAVA_HEAD = """import java.nio.charset.StandardCharsets;
import java.security.MessageDigest;
import java.util.Base64;
import java.util.HexFormat;
import javax.crypto.Mac;
import javax.crypto.SecretKeyFactory;
import javax.crypto.spec.PBEKeySpec;
import javax.crypto.spec.SecretKeySpec;

"""
_JAVA_HELPERS = """
    private static byte[] sum(String name, String x) throws Exception {
        MessageDigest digest = MessageDigest.getInstance(name);
        digest.update(x.getBytes(StandardCharsets.UTF_8));
        return digest.digest();
    }

    private static byte[] mac(String name, String x, String key) throws Exception {
        Mac mac = Mac.getInstance(name);
        mac.init(new SecretKeySpec(key.getBytes(StandardCharsets.UTF_8), name));
        return mac.doFinal(x.getBytes(StandardCharsets.UTF_8));
    }

    private static byte[] slow(String name, String x, String salt, int rounds, int length)
            throws Exception {
        if (name.equals("MD5")) {
            throw new IllegalArgumentException(name);
        }
        PBEKeySpec spec = new PBEKeySpec(
            x.toCharArray(), salt.getBytes(StandardCharsets.UTF_8), rounds, length * 8);
        return SecretKeyFactory.getInstance("PBKDF2WithHmac" + name)
            .generateSecret(spec).getEncoded();
    }

    private static String hex(byte[] raw) {
        StringBuilder text = new StringBuilder();
        for (byte each : raw) {
            text.append(String.format("%02x", each));
        }
        return text.toString();
    }
"""

LANGUAGES: dict[str, type[Written]] = {
    "php": Php, "javascript": JavaScript, "python": Python, "ruby": Ruby, "go": Go, "java": Java,
}  # fmt: skip


def suits(language: str, made: Recipe) -> bool:
    """Tell whether a language's own functions can compute a recipe."""
    has_md5_kdf = any(step[:2] == ("pbkdf2", "md5") for step in made.steps)
    return not (language == "java" and has_md5_kdf)


def write_programs(language: str, seeds: Sequence[int], folder: Path) -> list[int]:
    """Write a program for each seed, in a folder of its own, and what runs them all."""
    kind = LANGUAGES[language]
    numbers: list[int] = []
    for number, seed in enumerate(seeds):
        made = recipe(seed)
        if not suits(language, made):
            continue
        numbers.append(number)
        own = folder / str(number)
        if language == "go":
            own = folder
        own.mkdir(parents=True, exist_ok=True)
        for name, text in kind(made, number, seed % 3).files().items():
            (own / name).write_text(text, encoding="utf-8")
    if language == "go" and 0 not in numbers:
        (folder / "sums0.go").write_text(_GO_SUMS, encoding="utf-8")
    for name, text in kind.driver(numbers).items():
        (folder / name).write_text(text, encoding="utf-8")
    if language == "go":
        (folder / "go.mod").write_text("module legacy\n\ngo 1.19\n", encoding="utf-8")
    return numbers


def made_values(language: str, folder: Path, environment: dict[str, str]) -> dict[int, list[str]]:
    """Run the programs; gives each one's stored values, in the order of the accounts."""
    output = ""
    for command in LANGUAGES[language].command(folder):
        program = shutil.which(command[0]) or command[0]
        done = subprocess.run(
            [program, *command[1:]], cwd=folder, capture_output=True, text=True, check=False,
            env=environment, timeout=500,
        )  # fmt: skip
        if done.returncode != 0:
            raise RuntimeError(done.stderr[-3000:])
        output = done.stdout
    found: dict[int, list[str]] = {}
    for line in output.splitlines():
        number, _, value = json.loads(line)
        found.setdefault(int(number), []).append(str(value))
    return found
