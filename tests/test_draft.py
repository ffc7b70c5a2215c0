"""From a store and a few known accounts to a policy: drafted, proven, layered and guarded."""

import csv
import hashlib
import json
import random
import sqlite3
import tomllib
import uuid
from collections.abc import Callable, Iterator, Sequence
from contextlib import closing
from functools import partial
from pathlib import Path

import pytest

import servers
from conftest import CHEAP_POLICY, Program, run_program
from invented import drafts
from invented.passwords import human
from test_tuning import measured_document

CHEAP_HEAD = CHEAP_POLICY.partition("[store.passengers]")[0]
People = Sequence[tuple[str, str]]


def md5(text: str) -> str:
    return hashlib.md5(text.encode()).hexdigest()


def write_known(folder: Path, people: People) -> None:
    with (folder / "known.csv").open("w", newline="") as file:
        csv.writer(file).writerows([("login", "password"), *people])


def make_ready(folder: Path) -> None:
    """Edit the one line that a person edits."""
    policy = folder / "tumbler.toml"
    text = policy.read_text()
    assert text.count("# readers_ready = ") == 1
    policy.write_text(text.replace("# readers_ready = 2026-01-31", "readers_ready = 2026-01-31"))


@pytest.fixture(scope="module")
def running() -> Iterator[dict[str, servers.Server]]:
    with servers.postgresql() as one, servers.mariadb() as other:
        yield {"postgresql": one, "mariadb": other}


# -- Three stores that nobody wrote a policy for ----------------------------------------------


def make_shop(server: servers.Server) -> People:
    """Four generations of MD5 in one column, in a shop on MariaDB."""
    makes: list[Callable[[str, str], str]] = [
        lambda p, _: md5(p),
        lambda p, s: md5(p + s),
        lambda p, s: md5(s + p),
        lambda p, s: md5(f"{s}--{p}--"),
    ]
    chance = random.Random(5)
    people, rows = [], []
    for number in range(400):
        place = number % 4
        password = f"Gannet {number} ä" if number % 3 else f"Ebb{number}"
        salt = f"{chance.randrange(16**8):08x}" if place else ""
        login = f"c{number}@tidepost.example"
        joined = f"{2003 + 4 * place}-0{chance.randint(1, 9)}-11"
        stored = makes[place](password, salt)
        rows.append(f"({number}, '{login}', '{stored}', '{salt}', {place}, '{joined}')")
        people.append((login, password))
    server.run(
        "DROP TABLE IF EXISTS customers; CREATE TABLE customers (customer_id int PRIMARY KEY,"
        " email varchar(120), passwd varchar(255), salt char(8), algo tinyint, registered date)"
        f" CHARACTER SET utf8mb4; INSERT INTO customers VALUES {', '.join(rows)};"
    )
    return people


def make_crm(server: servers.Server) -> People:
    """Uuid keys, quoted names in a schema of its own, and a layout of the house's own."""
    chance = random.Random(6)
    people, rows = [], []
    for number in range(40):
        password, salt = f"Kittiwake {number} é", f"{chance.randrange(16**12):012x}"
        rounds = (1000, 1500)[number % 2]
        digest = hashlib.pbkdf2_hmac("sha256", password.encode(), salt.encode(), rounds, 32).hex()
        login = f"Agent{number}@tidepost.example"
        key = uuid.UUID(int=chance.getrandbits(128), version=4)
        rows.append(f"('{key}', '{login}', 'v2|{rounds}|{salt}|{digest}', 'agent')")
        people.append((login, password))
    server.run(
        'DROP SCHEMA IF EXISTS crm CASCADE; CREATE SCHEMA crm; CREATE TABLE crm."User" ('
        '"Id" uuid PRIMARY KEY, "EMail" text UNIQUE, "PassPhrase" text, "role" text);'
        f'INSERT INTO crm."User" VALUES {", ".join(rows)};'
    )
    return people


DRAFTED = {
    "shop": (
        "mariadb",
        make_shop,
        {
            ("utf-8, md5, hex", "salt empty"),
            ("utf-8, append salt, md5, hex", 'algo = "1"'),
            ("utf-8, prepend salt, md5, hex", 'algo = "2"'),
            ('utf-8, prepend "--", prepend salt, append "--", md5, hex', 'algo = "3"'),
        },
    ),
    "crm": (
        "postgresql",
        make_crm,
        {("utf-8, pbkdf2-sha256 rounds 32 salt, hex", None)},
    ),
}


@pytest.mark.parametrize("name", DRAFTED)
def test_from_a_url_and_known_accounts_to_a_guarded_store(
    name: str, running: dict[str, servers.Server], tmp_path: Path
) -> None:
    """Five commands and one line edited by hand: drafted, tuned, proven, layered, guarded.

    The larger store has a target that a test can pay for.
    """
    kind, make, expected = DRAFTED[name]
    people = make(running[kind])
    known = min(80, len(people) // 2)
    write_known(tmp_path, people[:known])
    run = partial(run_program, cwd=tmp_path)
    merge = ("--merge",) if len(people) > 200 else ()
    if merge:
        (tmp_path / "tumbler.toml").write_text(CHEAP_HEAD)
    drafted = run("draft", running[kind].url, "known.csv", *merge, "--format", "json")
    assert drafted.code == 0, drafted.err
    (store,) = drafted.document["stores"]
    assert (store["opened"], store["not_understood"]) == (known, [])
    cohorts = {(cohort["formula"], cohort["when"]) for cohort in store["cohorts"]}
    assert cohorts == expected
    if not merge:
        (tmp_path / "measured.json").write_text(json.dumps(measured_document()))
        options = ("--measurements", "measured.json", "--peak-logins", "20/s", "--save")
        quick = ("--schemes", "argon2id", "--within", "60ms")
        tuned = run("tune", *quick, *options)
        assert tuned.code == 0, tuned.err

    make_ready(tmp_path)
    write_known(tmp_path, people[:2])  # each is tried in many ways, at the target's cost
    assert run("rehearse", "known.csv", "--rows", "10").code == 0
    layered = run("layer", "--no-backup", "--format", "json")
    assert layered.code == 0, layered.err
    assert layered.document["layered"] == len(people)
    applied = run("enforce", "constraint", "--apply")
    assert applied.code == 0, applied.err
    for login, password in people[12:20]:
        assert run("admit", login, stdin=password.encode() + b"\n").code == 0
        assert run("admit", login, stdin=b"x" + password.encode() + b"\n").code == 1


def write_documents(folder: Path) -> People:
    """Write a file of documents with nested keys."""
    chance = random.Random(8)
    people, lines = [], []
    for number in range(90):
        password, salt = f"Puffin {number} ø", f"{chance.randrange(16**8):08x}"
        login = f"member{number}@tidepost.example"
        digest = hashlib.sha1((password + salt).encode()).hexdigest()
        card = {"hash": digest, "salt": salt, "algo": "sha1"}
        key = f"{chance.getrandbits(96):024x}"
        lines.append(json.dumps({"_id": {"$oid": key}, "email": login, "auth": card}))
        people.append((login, password))
    (folder / "members.json").write_text("\n".join(lines) + "\n")
    return people


def test_documents_are_drafted_and_layered_into_a_copy(tmp_path: Path, program: Program) -> None:
    """A file of documents: its own fields by role, and a copy that is whole."""
    people = write_documents(tmp_path)
    (tmp_path / "tumbler.toml").write_text(CHEAP_HEAD)
    write_known(tmp_path, people[:16])
    drafted = program("draft", "members.json", "known.csv", "--merge", "--format", "json")
    assert drafted.code == 0, drafted.err
    (store,) = drafted.document["stores"]
    assert store["columns"]["stored"]["column"] == "auth.hash"
    assert store["columns"]["account"]["column"] == "_id.$oid"
    assert [cohort["formula"] for cohort in store["cohorts"]] == ["utf-8, append salt, sha1, hex"]
    make_ready(tmp_path)
    layered = program("layer", "--into", "new.json", "--format", "json")
    assert layered.code == 0, layered.err
    assert layered.document["layered"] == 90


# -- The file ---------------------------------------------------------------------------------


def small_shop(folder: Path, rows: int = 60) -> People:
    people = [(f"tern{n}@tidepost.example", f"Wrack {n} ü") for n in range(rows)]
    with closing(sqlite3.connect(folder / "harbour.db")) as db, db:
        db.execute(
            "CREATE TABLE passengers (id INTEGER PRIMARY KEY, login TEXT, pw TEXT, pw_salt TEXT,"
            " joined TEXT)"
        )
        db.executemany(
            "INSERT INTO passengers VALUES (?, ?, ?, ?, ?)",
            [
                (n, login, md5(password + salt), salt, f"20{10 + n % 2}-03-04")
                for n, (login, password) in enumerate(people)
                for salt in (f"s{n}" if n % 2 else "",)
            ],
        )  # fmt: skip
    return people


def test_a_policy_is_never_overwritten_and_a_merge_keeps_its_comments(
    tmp_path: Path, program: Program
) -> None:
    """A second draft is refused; merged, it adds what is new alone, and says so."""
    people = small_shop(tmp_path)
    write_known(tmp_path, people[1:8:2])
    assert program("draft", "harbour.db", "known.csv").code == 0
    policy = tmp_path / "tumbler.toml"
    first = policy.read_text()
    assert 'when = "salt present"' in first
    assert "30 rows with salt empty" in first.replace("\n# ", " ")
    refused = program("draft", "harbour.db", "known.csv")
    assert (refused.code, policy.read_text()) == (2, first)
    assert "--merge" in refused.err

    policy.write_text("# Ours: keep.\n" + first)
    write_known(tmp_path, people[:8])
    merged = program("draft", "harbour.db", "known.csv", "--merge", "--format", "json")
    assert merged.code == 0, merged.err
    assert policy.read_text().startswith("# Ours: keep.\n" + first.rstrip("\n"))
    assert len(merged.document["added"]) >= 1
    assert program("verify", "known.csv", "--store", "passengers").code == 0
    again = program("draft", "harbour.db", "known.csv", "--merge", "--format", "json")
    assert (again.code, again.document["added"]) == (0, [])


def test_a_merge_adds_a_part_beside_those_that_are_there(tmp_path: Path, program: Program) -> None:
    """A formula's further input joins [parts]; one that is another column is refused by name."""
    with closing(sqlite3.connect(tmp_path / "crew.db")) as db, db:
        db.execute("CREATE TABLE crew (id INTEGER PRIMARY KEY, login text, pw text, berth text)")
        for n in range(12):
            text = hashlib.sha1(f"Fulmar {n}{1000 + n * 7}".encode()).hexdigest()
            row = (n, f"u{n}@tidepost.example", text, f"{1000 + n * 7}")
            db.execute("INSERT INTO crew VALUES (?, ?, ?, ?)", row)
    (tmp_path / "known.csv").write_text(
        "login,password\n" + "".join(f"u{n}@tidepost.example,Fulmar {n}\n" for n in range(4))
    )
    begun = (
        '[store.crew]\nlocator = "crew.db"\ntable = "crew"\n[store.crew.columns]\naccount = "id"\n'
        'login = "login"\nstored = "pw"\n[store.crew.parts]  # ours\n'
    )
    policy = tmp_path / "tumbler.toml"
    policy.write_text(begun + 'berth = "id"\n')
    refused = program("draft", "crew.db", "known.csv", "--merge")
    assert refused.code == 2
    assert "“berth” is another column" in refused.err
    assert policy.read_text() == begun + 'berth = "id"\n'
    policy.write_text(begun + 'deck = "id"\n')
    assert program("draft", "crew.db", "known.csv", "--merge").code == 0
    assert "[store.crew.parts]  # ours" in policy.read_text()
    assert 'berth = "berth"' in policy.read_text()
    assert program("verify", "known.csv", "--store", "crew").code == 0


def test_a_merge_names_the_salt_column_where_nobody_has(tmp_path: Path, program: Program) -> None:
    """A store that was written by hand without it learns what known accounts prove."""
    people = small_shop(tmp_path)
    write_known(tmp_path, people[1:8:2])
    policy = tmp_path / "tumbler.toml"
    policy.write_text(
        '[store.ours]\nlocator = "harbour.db"\ntable = "passengers"\n'
        '[store.ours.columns]  # by hand\nlogin = "login"\nstored = "pw"\n'
    )
    merged = program("draft", "harbour.db", "known.csv", "--merge", "--format", "json")
    assert merged.code == 0, merged.err
    assert "the salt column pw_salt of ours" in merged.document["added"]
    assert "[store.ours.columns]  # by hand" in policy.read_text()
    assert program("verify", "known.csv", "--store", "ours").code == 0


def test_rows_without_a_known_account_get_no_cohort(tmp_path: Path, program: Program) -> None:
    """What is proven for salted rows says nothing of those whose salt is empty."""
    people = small_shop(tmp_path)
    write_known(tmp_path, people[1:8:2])
    drafted = program("draft", "harbour.db", "known.csv", "--format", "json")
    (store,) = drafted.document["stores"]
    assert [cohort["when"] for cohort in store["cohorts"]] == ["salt present"]
    assert [(each["rows"], each["when"]) for each in store["not_understood"]] == [
        (30, "salt empty")
    ]
    assert store["cohorts"][0]["seen"] == ["all of them have joined from 2011-03-04"]


def test_without_known_accounts_the_draft_says_what_it_needs(
    tmp_path: Path, program: Program
) -> None:
    """No formula is guessed; the last lines name the file of known accounts and the command."""
    small_shop(tmp_path)
    drafted = program("draft", "harbour.db")
    assert drafted.code == 0
    assert drafted.out.splitlines()[0] == (
        "tumbler.toml: 1 store with 60 rows, 60 of them not understood."
    )
    assert "known.csv" in drafted.out.splitlines()[-2]
    assert "cohort" not in tomllib.loads((tmp_path / "tumbler.toml").read_text())["store"][
        "passengers"
    ]  # fmt: skip


def test_an_encoding_that_no_known_password_tests_is_declared_twice(
    tmp_path: Path, program: Program
) -> None:
    """With ASCII passwords alone both encodings are tried, and nobody is locked out."""
    people = [(f"tern{n}", f"Wrack {n}" + ("é" if n > 5 else "")) for n in range(20)]
    with closing(sqlite3.connect(tmp_path / "harbour.db")) as db, db:
        db.execute("CREATE TABLE crew (id INTEGER PRIMARY KEY, login TEXT, pw TEXT)")
        db.executemany(
            "INSERT INTO crew VALUES (?, ?, ?)",
            [(n, login, hashlib.md5(password.encode("latin-1")).hexdigest())
             for n, (login, password) in enumerate(people)],
        )  # fmt: skip
    write_known(tmp_path, people[:4])
    drafted = program("draft", "harbour.db", "known.csv", "--format", "json")
    (store,) = drafted.document["stores"]
    (cohort,) = store["cohorts"]
    assert cohort["formula"] == "utf-8, md5, hex"
    assert cohort["untested"] == ["blanks", "encoding"]
    write_known(tmp_path, people)
    assert program("verify", "known.csv", "--store", "crew").code == 0


# -- Solving from the store -------------------------------------------------------------------


def test_a_formula_is_solved_from_the_store_and_saved_where_verify_uses_it(
    tmp_path: Path, program: Program
) -> None:
    """Login and password are enough; salt and the number of rounds come from columns."""
    people = [(f"tern{n}", human(random.Random(n)) + " ß") for n in range(8)]
    with closing(sqlite3.connect(tmp_path / "harbour.db")) as db, db:
        db.execute("CREATE TABLE crew (id INTEGER PRIMARY KEY, login TEXT, pw TEXT, born TEXT)")
        db.executemany(
            "INSERT INTO crew VALUES (?, ?, ?, ?)",
            [(n, login, md5(f"{password}crew{n}"), f"19{n}0-01-01")
             for n, (login, password) in enumerate(people, start=1)],
        )  # fmt: skip
    (tmp_path / "tumbler.toml").write_text(
        '[store.crew]\nlocator = "harbour.db"\ntable = "crew"\n'
        '[store.crew.columns]\nlogin = "login"\nstored = "pw"\n'
    )
    write_known(tmp_path, people[:3])
    solved = program(
        "formula", "solve", "known.csv", "--store", "crew", "--save", "home", "--format", "json"
    )
    assert solved.code == 0, solved.err
    assert solved.document["formula"] == 'utf-8, append "crew", append id, md5, hex'
    write_known(tmp_path, people)
    assert program("verify", "known.csv", "--store", "crew").code == 0


def test_two_generations_are_told_from_known_accounts(tmp_path: Path, program: Program) -> None:
    """Three accounts of two makes: both formulas, and the lines that each explains."""
    rows = [
        ("a", "Skua 1", md5("Skua 1" + "ss1"), "ss1"),
        ("b", "Skua 2", md5("Skua 2" + "ss2"), "ss2"),
        ("c", "Skua 3", md5("ss3" + "Skua 3"), "ss3"),
    ]
    with (tmp_path / "known.csv").open("w", newline="") as file:
        csv.writer(file).writerows([("login", "password", "stored", "salt"), *rows])
    solved = program("formula", "solve", "known.csv", "--format", "json")
    assert (solved.code, solved.document["formula"]) == (1, None)
    assert [(each["formula"], each["lines"]) for each in solved.document["generations"]] == [
        ("utf-8, append salt, md5, hex", [2, 3]),
        ("utf-8, prepend salt, md5, hex", [4]),
    ]


# -- Invented tables --------------------------------------------------------------------------


def test_a_schema_of_another_make(tmp_path: Path, program: Program) -> None:
    """Passwords among rows of attributes, flags that are called so, and digests of other things.

    A number that is also somebody's key is no reference: only an account that opens proves one.
    """
    people = [(f"member{n}@tidepost.example", f"Fulmar {n} quay") for n in range(60)]
    with closing(sqlite3.connect(tmp_path / "club.db")) as connection, connection:
        connection.executescript(
            "CREATE TABLE members (id INTEGER PRIMARY KEY, name TEXT, must_change_password TEXT,"
            " password_change TEXT);"
            "CREATE TABLE checks (id INTEGER PRIMARY KEY, username TEXT, attribute TEXT, op TEXT,"
            " value TEXT);"
            "CREATE TABLE charts (id INTEGER PRIMARY KEY, hash TEXT, title TEXT, unit TEXT);"
            "CREATE TABLE chart_items (id INTEGER PRIMARY KEY, hash TEXT, chart_id INTEGER,"
            " position INTEGER);"
            "CREATE TABLE tides (id INTEGER PRIMARY KEY, data TEXT);"
        )
        for number, (login, password) in enumerate(people, start=1):
            flags = ("on", "") if number % 9 == 0 else ("", "on")
            connection.execute("INSERT INTO members VALUES (?,?,?,?)", (number, login, *flags))
            kind = "Plain-Password" if number % 3 == 0 else "MD5-Password"
            value = password if number % 3 == 0 else md5(password)
            rows = [(login, kind, "=", value), (login, "Session-Limit", "=", "2")]
            connection.executemany("INSERT INTO checks VALUES (NULL,?,?,?,?)", rows)
        for number in range(1, 41):
            title = f"Tide at pier {number % 7} and others"
            connection.execute(
                "INSERT INTO charts VALUES (?,?,?,'m')", (number, md5(f"chart {number}"), title)
            )
            connection.execute(
                "INSERT INTO chart_items VALUES (?,?,?,0)",
                (number, md5(f"item {number}"), number),
            )
            document = json.dumps({"pier": number % 7, "hash": md5(f"tide {number}")})
            connection.execute("INSERT INTO tides VALUES (?,?)", (number, document))
    write_known(tmp_path, people[:9])
    audited = program("audit", "club.db", "--format", "json").document
    assert [(s["table"], s["column"]) for s in audited["stores"]] == [("checks", "value")]
    assert audited["set_aside"] == ["chart_items.hash", "charts.hash", "tides.data.hash"]
    listed = '"MD5-Password", "Plain-Password"'
    assert audited["only_rows"] == [{"place": "checks.value", "when": f"attribute in ({listed})"}]
    said = program("audit", "club.db").out
    assert "Not judged, as they hold digests of something else: " in said
    assert 'Of checks.value only the rows with attribute in ("MD5-Password' in said
    drafted = program("draft", "club.db", "known.csv", "--format", "json").document
    assert [(s["name"], s["known"], s["opened"]) for s in drafted["stores"]] == [("checks", 9, 9)]
    policy = tomllib.loads((tmp_path / "tumbler.toml").read_text())
    assert policy["store"]["checks"]["rows"] == {"when": f"attribute in ({listed})"}
    make_ready(tmp_path)
    write_known(tmp_path, people[1:4])  # each is tried in many ways, at the target's cost
    assert program("rehearse", "known.csv", "--rows", "10").code == 0


@pytest.mark.parametrize("seed", [7000, 7002, 7003, 7005, 7006])
def test_an_invented_table_is_drafted_rightly(seed: int, tmp_path: Path) -> None:
    """Nobody reads wrongly by a draft: who does not open is in no cohort that is written."""
    result = drafts.tried(seed, tmp_path)
    assert not result.wrong, result
    assert not result.leaks, result
    assert result.opened + result.left == result.people
