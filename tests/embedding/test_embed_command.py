"""`embed` and `evidence add`, as people run them."""

import hashlib
import json
import os
import sqlite3
import subprocess
import sys
from collections.abc import Callable
from contextlib import closing
from pathlib import Path

import pytest
from argon2 import low_level

from conftest import Finished, Program, oracle
from embedding.programs import node_packages
from lean_tumbler.core.embedding.registry import LANGUAGES
from lean_tumbler.errors import UsageError

POLICY = """
[target]
scheme = "argon2id"
memory_kib = 64
passes = 1
[floor]
argon2id = {{ memory_kib = 64, passes = 1 }}
[store.passengers]
locator = "harbour.db"
table = "people"
mode = "{mode}"
readers_ready = 2026-01-01
{more}
[store.passengers.columns]
account = "id"
login = "mail"
stored = "pw"
salt = "salt"
[[store.passengers.cohort]]
name = "portal-2011"
formula = "utf-8, append salt, sha1, hex"
"""
KEY = "an invented key of more than thirty-two signs"


def harbour(folder: Path, *, mode: str = "upgrade", more: str = "", rows: int = 20) -> None:
    """Make a database of salted digests, and its policy."""
    with closing(sqlite3.connect(folder / "harbour.db")) as connection, connection:
        connection.execute("DROP TABLE IF EXISTS people")
        connection.execute("CREATE TABLE people (id integer PRIMARY KEY, mail, pw text, salt text)")
        connection.executemany(
            "INSERT INTO people VALUES (?, ?, ?, ?)",
            [
                (n, f"ada{n}@tidepost.example",
                 hashlib.sha1(f"Gull {n} ebb{n:04}".encode()).hexdigest(), f"{n:04}")
                for n in range(1, rows + 1)
            ],
        )  # fmt: skip
    (folder / "tumbler.toml").write_text(POLICY.format(mode=mode, more=more), encoding="utf-8")


def test_a_file_is_written_checked_and_waited_for(program: Program, tmp_path: Path) -> None:
    """Written; current; left behind by the policy, and then `layer`, `plan` and the gate say so."""
    harbour(tmp_path)
    done = program("embed", "php", "--output", "Login.php", "--format", "json")
    found = json.loads(done.out)
    assert (done.code, found["rows"], found["not_checked"]) == (0, 20, {})
    harbour(tmp_path, more='embedded = ["Login.php"]')
    assert program("embed", "--check", "Login.php").code == 0
    assert program("enforce", "gate", "--state", "gate.state").code == 0
    text = (tmp_path / "tumbler.toml").read_text("utf-8")
    (tmp_path / "tumbler.toml").write_text(text.replace("passes = 1\n", "passes = 2\n", 1), "utf-8")
    checked = program("embed", "--check", "Login.php")
    assert checked.code == 1
    assert "the policy says something else now" in checked.out
    layered = program("layer", "--no-backup", "--unproven", "portal-2011")
    assert layered.code != 0
    assert "is not what would be written now" in layered.err
    assert "is not what would be written now" in program("plan").out
    assert program("enforce", "gate", "--state", "gate.state").code == 1
    assert program("embed", "php", "--output", "Login.php").code == 0
    assert program("layer", "--no-backup", "--unproven", "portal-2011").code == 0


def test_rows_that_a_file_cannot_check_are_told(program: Program, tmp_path: Path) -> None:
    """No file is written over their heads; with --leave-out it is, and they are counted."""
    harbour(tmp_path)
    with closing(sqlite3.connect(tmp_path / "harbour.db")) as connection, connection:
        connection.execute("UPDATE people SET pw = '\"' || pw || '\"' WHERE id = 3")
    done = program("embed", "php", "--output", "Login.php")
    assert done.code == 1
    assert "No file was written." in done.out
    assert not (tmp_path / "Login.php").exists()
    left = program("embed", "php", "--output", "Login.php", "--leave-out")
    assert left.code == 0
    assert "portal-2011" in left.out
    assert (tmp_path / "Login.php").exists()


def test_settings_that_a_library_lacks_are_told(program: Program, tmp_path: Path) -> None:
    """Go's module has no old version of Argon2: such a row is counted, and not found at a login."""
    harbour(tmp_path)
    value = low_level.hash_secret(b"Gull 4711", b"saltsalt", 1, 64, 1, 16, low_level.Type.ID, 16)
    with closing(sqlite3.connect(tmp_path / "harbour.db")) as connection, connection:
        connection.execute("UPDATE people SET pw = ? WHERE id = 3", (value.decode(),))
    done = program("embed", "go", "--output", "login.go", "--format", "json")
    assert (done.code, json.loads(done.out)["not_checked"]) == (1, {"argon2id": 1})
    done = program("embed", "java", "--output", "Login.java", "--format", "json")
    assert (done.code, json.loads(done.out)["not_checked"]) == (0, {})


def test_what_a_language_lacks_is_said_before(program: Program, tmp_path: Path) -> None:
    """A target that PHP cannot make, and a digest that Node.js has not."""
    harbour(tmp_path)
    text = (tmp_path / "tumbler.toml").read_text("utf-8")
    scrypt = text.replace('scheme = "argon2id"\nmemory_kib = 64\npasses = 1', 'scheme = "scrypt"')
    (tmp_path / "tumbler.toml").write_text(scrypt, encoding="utf-8")
    done = program("embed", "php", "--output", "Login.php")
    assert (done.code, "php lacks scrypt" in done.out) == (1, True)
    (tmp_path / "tumbler.toml").write_text(text.replace("sha1, hex", "md4, hex"), encoding="utf-8")
    done = program("embed", "node", "--output", "login.js", "--leave-out")
    assert (done.code, "digest md4" in done.out) == (1, True)
    listed = program("embed", "--list", "--format", "json")
    assert [each["name"] for each in json.loads(listed.out)["languages"]] == list(LANGUAGES)


def _php(folder: Path, file: str) -> list[str]:
    script = (
        f"require '{file}'; $check = new App\\Login\\PassengersLogin();"
        "foreach (json_decode(stream_get_contents(STDIN), true) as [$row, $password, $old]) {"
        "  $answer = $check->check($row, $password);"
        f"  $check->count('verdicts.log', '{KEY}', $row['login'], $answer, $old); }}"
    )
    return [oracle("php"), "-r", script]


def _node(folder: Path, file: str) -> list[str]:
    script = (
        f"const {{ PassengersLogin }} = require('./{file}'); const check = new PassengersLogin();"
        "(async () => { for (const [row, password, old] of JSON.parse(require('fs')"
        ".readFileSync(0, 'utf8'))) {"
        f" check.count('verdicts.log', '{KEY}', row.login, await check.check(row, password), old);"
        " } })();"
    )
    return [oracle("node"), "-e", script]


@pytest.mark.parametrize(
    ("language", "file", "command"), [("php", "Login.php", _php), ("node", "login.js", _node)]
)
def test_verdicts_prove_a_cohort(
    program: Program,
    tmp_path: Path,
    monkeypatch: pytest.MonkeyPatch,
    language: str,
    file: str,
    command: Callable[[Path, str], list[str]],
) -> None:
    """Observed without a service: counted once a person, bad lines left out, and `layer` may write."""
    harbour(tmp_path, mode="observe")
    assert program("embed", language, "--output", file).code == 0
    with closing(sqlite3.connect(tmp_path / "harbour.db")) as connection:
        rows = connection.execute("SELECT id, mail, pw, salt FROM people").fetchall()
    asked = [
        [{"stored": pw, "salt": salt, "login": mail, "account": str(n)}, f"Gull {n} ebb", True]
        for n, mail, pw, salt in rows
    ]
    if language == "node":
        monkeypatch.setenv("NODE_PATH", str(node_packages()))
    for _ in range(2):
        subprocess.run(command(tmp_path, file), input=json.dumps(asked), text=True, cwd=tmp_path,
                       check=True, env=dict(os.environ))  # fmt: skip
    log = tmp_path / "verdicts.log"
    assert "ada1@" not in log.read_text("utf-8")
    with log.open("a", encoding="utf-8") as file_:
        file_.write("nonsense\n" + log.read_text("utf-8").splitlines()[0][:-1] + "0\n")
    monkeypatch.setenv("LEAN_TUMBLER_VERDICTS_KEY", KEY)
    done: Finished = program("evidence", "add", "verdicts.log", "--format", "json")
    found = json.loads(done.out)
    assert (done.code, found["lines"], found["used"], found["against"]) == (0, 42, 40, 0)
    assert sum(found["not_used"].values()) == 2
    harbour_policy = (tmp_path / "tumbler.toml").read_text("utf-8")
    (tmp_path / "tumbler.toml").write_text(
        harbour_policy.replace('"observe"', '"upgrade"'), "utf-8"
    )
    assert program("layer", "--no-backup").code == 0
    monkeypatch.setenv("LEAN_TUMBLER_VERDICTS_KEY", "short")
    assert program("evidence", "add", "verdicts.log").code == UsageError.exit_code


@pytest.mark.parametrize(
    ("language", "file"), [("php", "Login.php"), ("node", "login.js"), ("python", "login.py")]
)
def test_the_way_out_is_a_few_lines(
    program: Program, tmp_path: Path, language: str, file: str, monkeypatch: pytest.MonkeyPatch
) -> None:
    """Without a legacy value the file calls the stock function, and admits who should be."""
    harbour(tmp_path, rows=3)
    values = {
        n: program("hash", stdin=f"Gull {n} on a mast".encode()).out.strip() for n in (1, 2, 3)
    }
    with closing(sqlite3.connect(tmp_path / "harbour.db")) as connection, connection:
        connection.executemany("UPDATE people SET pw = ?2 WHERE id = ?1", list(values.items()))
    done = program("embed", language, "--output", file, "--format", "json")
    assert (done.code, json.loads(done.out)["is_finished"]) == (0, True)
    text = (tmp_path / file).read_text("utf-8")
    code = [line for line in text.splitlines() if not line.lstrip().startswith(("*", "/", "//"))]
    assert len(code) < 45
    assert program("embed", "--check", file).code == 0
    if language == "php":
        script = (
            f"require '{file}'; $c = new App\\Login\\PassengersLogin(); [$s, $p] = json_decode(stream_get_contents(STDIN));"
            "echo json_encode([$c->check($s, $p), $c->check($s, $p . 'x'), $c->check('!', $p), $c->newValue($p)]);"
        )
        command = [oracle("php"), "-r", script]
    elif language == "python":
        script = (
            "import json, sys; sys.path.insert(0, '.'); import login as c; s, p = json.load(sys.stdin);"
            "print(json.dumps([c.check(s, p), c.check(s, p + 'x'), c.check('!', p), c.new_value(p)]))"
        )
        command = [sys.executable, "-c", script]
    else:
        monkeypatch.setenv("NODE_PATH", str(node_packages()))
        script = (
            f"const c = require('./{file}'); const [s, p] = JSON.parse(require('fs').readFileSync(0, 'utf8'));"
            "(async () => console.log(JSON.stringify([await c.check(s, p), await c.check(s, p + 'x'), await c.check('!', p), await c.newValue(p)])))();"
        )
        command = [oracle("node"), "-e", script]
    answered = subprocess.run(command, input=json.dumps([values[2], "Gull 2 on a mast"]), text=True,
                              cwd=tmp_path, check=True, capture_output=True, env=dict(os.environ))  # fmt: skip
    *verdicts, value = json.loads(answered.stdout)
    assert verdicts == [True, False, False]
    assert value.startswith("$argon2id$v=19$m=64,t=1,p=1$")
