"""Who is an administrator, and what an empty salt means: the same to every command."""

import hashlib
import json
import sqlite3
from collections.abc import Sequence
from contextlib import closing
from functools import partial
from pathlib import Path

import pytest

import servers
from conftest import CHEAP_POLICY, Program, prove, run_program
from lean_tumbler import StoragePolicy
from lean_tumbler.stores.kinds import open_store
from lean_tumbler.stores.locators import require_bulk
from test_servers import STARTERS

HEAD = CHEAP_POLICY.partition("[store.passengers]")[0]
ROLES = ("member", "Admin", "staff", "", None, "administration")
WANTED = 'privileged = { column = "role", values = ["admin", "staff"] }'
Row = tuple[int, str, str, str | None, str | None]


def rows() -> list[Row]:
    """Thirty rows of salted MD5; every second salt is empty or NULL."""
    made: list[Row] = []
    for n in range(30):
        salt = (f"s{n:03}", "", None)[n % 3]
        password = "123456" if n % 5 == 0 else f"Fulmar {n}"
        digest = hashlib.md5((password + (salt or "")).encode()).hexdigest()
        made.append((n, f"u{n}@tidepost.example", digest, salt, ROLES[n % len(ROLES)]))
    return made


def policy(locator: str, table: str, privileged: str = WANTED) -> str:
    return (
        HEAD + f'[store.crew]\nlocator = "{locator}"\n{table}readers_ready = 2026-01-01\n'
        f'[store.crew.columns]\naccount = "id"\nlogin = "login"\nstored = "pw"\nsalt = "salt"\n'
        f"{privileged}\n"
        '[[store.crew.cohort]]\nname = "salted"\nformula = "utf-8, append salt, md5, hex"\n'
    )


def in_sqlite(folder: Path) -> str:
    with closing(sqlite3.connect(folder / "crew.db")) as db, db:
        db.execute("CREATE TABLE crew (id INTEGER PRIMARY KEY, login, pw, salt, role)")
        db.executemany("INSERT INTO crew VALUES (?, ?, ?, ?, ?)", rows())
    return policy("crew.db", 'table = "crew"\n')


def in_json_lines(folder: Path) -> str:
    names = ("id", "login", "pw", "salt", "role")
    lines = [json.dumps(dict(zip(names, row, strict=True))) for row in rows()]
    (folder / "crew.json").write_text("\n".join(lines) + "\n")
    return policy("crew.json", "")


@pytest.mark.parametrize("make", [in_sqlite, in_json_lines])
def test_administrators_by_their_role(make: object, tmp_path: Path, program: Program) -> None:
    """Ten of thirty, whatever the letter case: in the audit, with the policy and without."""
    assert callable(make)
    (tmp_path / "tumbler.toml").write_text(make(tmp_path))
    source = next(tmp_path.glob("crew.*")).name
    options = (
        "--column",
        "pw",
        "--privileged-column",
        "role",
        "--privileged-values",
        "admin,staff",
    )
    for asked in (("audit", "crew"), ("audit", source, *options)):
        found = program(*asked, "--format", "csv", "--all-accounts")
        assert found.code == 0, found.err
        head, *lines = found.out.splitlines()
        place = head.split(",").index("administrator")
        assert sum(line.split(",")[place] in {"yes", "True", "true"} for line in lines) == 10


def test_naming_columns_does_not_hide_the_salt(tmp_path: Path, program: Program) -> None:
    """Who names the stored column and the login still gets the salt column by its name."""
    in_sqlite(tmp_path)
    found = program("audit", "crew.db", "--column", "pw", "--login-column", "login",
                    "--format", "json")  # fmt: skip
    (store,) = found.document["stores"]
    assert {(group["salted"], group["rows"]) for group in store["groups"]} == {
        (True, 10), (False, 20),
    }  # fmt: skip


def test_an_empty_salt_is_no_salt(tmp_path: Path, program: Program) -> None:
    """Rows whose salt is empty are unsalted, whatever the formula takes; likely passwords tell."""
    (tmp_path / "tumbler.toml").write_text(in_sqlite(tmp_path))
    found = program("audit", "crew", "--format", "json")
    (store,) = found.document["stores"]
    assert store["grades"] == {"fast-salted": 10, "fast-unsalted": 20}
    rows_of = {finding["code"]: finding["rows"] for finding in store["findings"]}
    assert (rows_of["unsalted-digest"], rows_of["common-password"]) == (20, 4)


@pytest.mark.parametrize("starter", STARTERS)
def test_administrators_come_first_on_a_server(starter: str, tmp_path: Path) -> None:
    """A column of roles decides who is layered first, and is told in the audit alike."""

    def literal(values: Sequence[object]) -> str:
        texts = ("NULL" if each is None else str(each) if isinstance(each, int) else f"'{each}'"
                 for each in values)  # fmt: skip
        return f"({', '.join(texts)})"

    with STARTERS[starter]() as server:
        assert isinstance(server, servers.Server)
        server.run(
            "CREATE TABLE crew (id int PRIMARY KEY, login varchar(90), pw varchar(255),"
            " salt varchar(20), role varchar(30));"
            f"INSERT INTO crew VALUES {', '.join(map(literal, rows()))};"
        )
        (tmp_path / "tumbler.toml").write_text(policy(server.url, 'table = "crew"\n'))
        run = partial(run_program, cwd=tmp_path)
        prove(tmp_path, StoragePolicy.from_toml((tmp_path / "tumbler.toml").read_text()))
        read = StoragePolicy.from_toml((tmp_path / "tumbler.toml").read_text()).stores["crew"]
        with closing(require_bulk(open_store(read, base=tmp_path))) as store:
            first = store.page(after=None, rows=50, privileged=True)
            others = store.page(after=None, rows=50, privileged=False)
        assert [account.key for account in first] == [n for n in range(30) if n % 6 in {1, 2}]
        assert len(others) == 20
        assert run("layer", "--no-backup").code == 0


def test_a_role_column_is_drafted_with_its_values(tmp_path: Path, program: Program) -> None:
    """The draft lists the values that look like administrators, for a person to complete."""
    in_sqlite(tmp_path)
    (tmp_path / "known.csv").write_text("login,password\nu0@tidepost.example,123456\n")
    assert program("draft", "crew.db", "known.csv").code == 0
    text = (tmp_path / "tumbler.toml").read_text()
    assert 'privileged = { column = "role", values = ["Admin", "staff"] }' in text
