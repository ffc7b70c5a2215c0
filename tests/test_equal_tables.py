"""Thirty schemas of one program: one policy, and no table is written that nothing speaks for."""

import hashlib
import sqlite3
from contextlib import closing
from pathlib import Path

import pytest

import servers
from conftest import Program
from invented.careless_trial import HEAD
from lean_tumbler import StoragePolicy
from lean_tumbler.errors import PolicyError

PIERS = [f"pier{number:02}_guests" for number in range(1, 19)]
SILENT, OTHER = PIERS[1], PIERS[2]  # without a known account; written by another program
ROWS = 40
LAYER = ("layer", "--no-backup", "--format", "json")


def policy(locator: str = "piers.db", *, tables: str = "pier*_guests", more: str = "") -> str:
    return f"""{HEAD}
[store.piers]
locator = "{locator}"
tables = "{tables}"
{more}
mode = "upgrade"
readers_ready = 2026-01-31
columns = {{ account = "id", login = "login", stored = "pw" }}
cohort = [{{ name = "of the shop", formula = "utf-8, md5, hex" }}]
"""


def password(pier: str, number: int) -> str:
    return f"{pier} Lantern {number}"


def stored_value(pier: str, number: int) -> str:
    encoding = "utf-16-le" if pier == OTHER else "utf-8"
    return hashlib.md5(password(pier, number).encode(encoding)).hexdigest()


def statements() -> str:
    made = []
    for pier in PIERS:
        made.append(f"CREATE TABLE {pier} (id integer PRIMARY KEY, login varchar(40), "
                    "pw varchar(255));")  # fmt: skip
        rows = ", ".join(
            f"({number}, 'guest{number}', '{stored_value(pier, number)}')" for number in range(ROWS)
        )
        made.append(f"INSERT INTO {pier} VALUES {rows};")
    return "\n".join(made)


@pytest.fixture
def piers(tmp_path: Path) -> Path:
    with closing(sqlite3.connect(tmp_path / "piers.db")) as db:
        db.executescript(statements())
    (tmp_path / "tumbler.toml").write_text(policy())
    return tmp_path


def know(folder: Path, run: Program, pier: str, *numbers: int) -> int:
    lines = [f"guest{number},{password(pier, number)}" for number in numbers]
    (folder / "known.csv").write_text("\n".join(["login,password", *lines, ""]))
    return run("verify", "known.csv", "--store", f"piers/{pier}").code


def layered(run: Program, pier: str, *more: str) -> int:
    return int(run(*LAYER, "--store", f"piers/{pier}", *more).document["layered"])


def test_one_account_of_each_table_is_enough_where_others_speak_for_the_rest(
    piers: Path, in_process: Program
) -> None:
    """A table without an account is left, one whose account speaks against it too."""
    assert know(piers, in_process, PIERS[0], *range(16)) == 0
    for pier in (PIERS[3], PIERS[-1]):
        assert layered(in_process, pier) == 0
        assert know(piers, in_process, pier, 7) == 0
        assert layered(in_process, pier) == ROWS
    assert know(piers, in_process, OTHER, 7) == 1
    assert layered(in_process, OTHER) == 0
    assert layered(in_process, SILENT) == 0
    assert layered(in_process, PIERS[0]) == ROWS
    admitted = in_process("admit", "guest9", "--store", f"piers/{PIERS[-1]}",
                          stdin=password(PIERS[-1], 9).encode())  # fmt: skip
    assert admitted.code == 0


def test_accounts_of_all_tables_count_together(piers: Path, in_process: Program) -> None:
    """Sixteen tables with one account each prove each of the sixteen."""
    told = [pier for pier in PIERS if pier not in {SILENT, OTHER}][:16]
    for pier in told:
        assert know(piers, in_process, pier, 3) == 0
    assert [layered(in_process, pier) for pier in told] == [ROWS] * 16
    assert layered(in_process, SILENT) == 0


def test_a_line_of_the_policy_says_that_tables_are_alike(piers: Path, in_process: Program) -> None:
    """The tables that it names need no account; the others do, and a contradiction still stops."""
    alike = f'alike = ["{SILENT}", "{OTHER}"]'
    (piers / "tumbler.toml").write_text(policy(more=alike))
    assert layered(in_process, SILENT) == 0
    assert know(piers, in_process, PIERS[0], *range(16)) == 0
    assert layered(in_process, SILENT) == ROWS
    assert layered(in_process, PIERS[5]) == 0
    assert know(piers, in_process, OTHER, 7) == 1
    assert layered(in_process, OTHER) == 0


def test_a_table_that_was_made_otherwise_speaks_against_the_rest(
    piers: Path, in_process: Program
) -> None:
    """Where one of them shows another make, sixteen accounts of a table prove no other."""
    assert know(piers, in_process, PIERS[0], *range(16)) == 0
    assert know(piers, in_process, OTHER, 7) == 1
    assert know(piers, in_process, PIERS[5], 7) == 0
    assert layered(in_process, PIERS[5]) == 0
    assert layered(in_process, PIERS[0]) == ROWS


def test_proof_of_an_equal_table_counts_while_its_rows_stand_there(
    piers: Path, in_process: Program
) -> None:
    """What spoke for the others was another table's rows: it does not speak for them any more."""
    assert know(piers, in_process, PIERS[0], *range(16)) == 0
    assert know(piers, in_process, PIERS[5], 1) == 0
    with closing(sqlite3.connect(piers / "piers.db")) as db, db:
        db.execute(f"UPDATE {PIERS[0]} SET pw = upper(pw)")
    assert layered(in_process, PIERS[5]) == 0


def test_all_tables_are_counted_under_the_name_of_their_kind(
    piers: Path, in_process: Program
) -> None:
    """`progress --store piers` speaks of each of them, one by one."""
    stores = in_process("progress", "--store", "piers", "--format", "json").document["stores"]
    assert [store["store"] for store in stores] == [f"piers/{pier}" for pier in PIERS]


def test_a_draft_of_equal_tables_is_one_store(piers: Path, in_process: Program) -> None:
    """Accounts of two tables, of two makes, known by the same logins: each counts in its own."""
    (piers / "tumbler.toml").unlink()
    lines = [f"guest{n},{password(PIERS[0], n)}" for n in range(16)]
    lines += [f"guest{n},{password(OTHER, n)}" for n in range(20, 36)]
    (piers / "known.csv").write_text("\n".join(["login,password", *lines, ""]))
    drafted = in_process("draft", "piers.db", "known.csv", "--format", "json")
    assert drafted.code == 0, drafted.err
    (store,) = drafted.document["stores"]
    assert (store["tables"], store["rows"], store["opened"]) == (
        ["pier*_guests"],
        len(PIERS) * ROWS,
        32,
    )
    assert drafted.document["known_not_opened"] == []
    assert {c["formula"] for c in store["cohorts"]} == {"utf-8, md5, hex", "utf-16le, md5, hex"}
    text = (piers / "tumbler.toml").read_text()
    ready = text.replace("# readers_ready", "readers_ready")
    (piers / "tumbler.toml").write_text(ready)
    name = store["name"]
    assert in_process(*LAYER, "--store", f"{name}/{SILENT}").document["layered"] == 0
    assert in_process(*LAYER, "--store", f"{name}/{PIERS[0]}").document["layered"] == ROWS
    assert in_process(*LAYER, "--store", f"{name}/{OTHER}").document["layered"] == ROWS
    for pier, number in ((PIERS[0], 3), (OTHER, 21)):
        admitted = in_process("admit", f"guest{number}", "--store", f"{name}/{pier}",
                              stdin=password(pier, number).encode())  # fmt: skip
        assert admitted.code == 0
    again = in_process("draft", "piers.db", "known.csv", "--merge", "--budget", "2", "--format",
                       "json")  # fmt: skip
    assert again.document["added"] == []
    refused = in_process("verify", "known.csv", "--store", name)
    assert refused.code == 0, refused.out


def test_names_that_no_pattern_tells_are_listed(piers: Path, in_process: Program) -> None:
    """A table of another kind bears a name like theirs: the equal ones are named one by one."""
    (piers / "tumbler.toml").unlink()
    with closing(sqlite3.connect(piers / "piers.db")) as db, db:
        for pier in PIERS[3:]:
            db.execute(f"DROP TABLE {pier}")
        db.execute("CREATE TABLE pier04_guests (id integer PRIMARY KEY, berth varchar(9))")
        db.execute("CREATE TABLE crew (id integer PRIMARY KEY, login, password)")
        db.execute("INSERT INTO crew VALUES (1, 'quay', 'Tern 7 on the mast')")
    drafted = in_process("draft", "piers.db", "--format", "json")
    tables = {tuple(store["tables"]): store["name"] for store in drafted.document["stores"]}
    assert tables == {tuple(PIERS[:3]): "pier_guests", (): "crew"}
    stores = in_process("progress", "--format", "json").document["stores"]
    assert [store["store"] for store in stores if store["store"] != "crew"] == [
        f"pier_guests/{pier}" for pier in PIERS[:3]
    ]


def test_a_table_and_its_copies_are_no_equal_tables(tmp_path: Path, in_process: Program) -> None:
    """Old copies bear the name of the live table: each stays a store of its own."""
    with closing(sqlite3.connect(tmp_path / "piers.db")) as db, db:
        for name in ("guests", "guests_2019", "guests_old"):
            db.execute(f"CREATE TABLE {name} (id integer PRIMARY KEY, login, pw)")
            db.execute(f"INSERT INTO {name} VALUES (1, 'guest1', '{stored_value('pier', 1)}')")
    drafted = in_process("draft", "piers.db", "--format", "json")
    assert [store["tables"] for store in drafted.document["stores"]] == [[], [], []]


@pytest.mark.parametrize(
    ("more", "message"),
    [
        ('table = "pier01_guests"', "“tables” stands instead of “table”"),
        ('alike = "all"', "“alike” must be true, or a list of tables"),
    ],
)
def test_what_is_refused(more: str, message: str) -> None:
    """A store is one table or many, and says which tables are alike by their names."""
    with pytest.raises(PolicyError, match=message):
        StoragePolicy.from_toml(policy(more=more))


def test_no_such_table(piers: Path, in_process: Program) -> None:
    """A pattern that fits no table is told with the place."""
    text = (piers / "tumbler.toml").read_text().replace("pier*_guests", "quay*")
    (piers / "tumbler.toml").write_text(text)
    done = in_process("progress")
    assert (done.code, "[store.piers] no table of piers.db is “quay*”" in done.err) == (2, True)


@pytest.mark.parametrize("start", [servers.postgresql, servers.mariadb])
def test_schemas_of_a_server(start: object, tmp_path: Path, in_process: Program) -> None:
    """A schema for each tenant: the pattern stands over schema and table."""
    with start() as server:  # type: ignore[operator] # a context manager
        for tenant in ("t1", "t2", "u1"):
            server.run(f"CREATE SCHEMA {tenant};")
            rows = ", ".join(f"({n}, 'guest{n}', '{stored_value(tenant, n)}')" for n in range(ROWS))
            server.run(
                f"CREATE TABLE {tenant}.users (id integer PRIMARY KEY, login varchar(40), "
                f"pw varchar(255)); INSERT INTO {tenant}.users VALUES {rows};"
            )
        text = policy(server.url, tables="t*.users")
        (tmp_path / "tumbler.toml").write_text(text)
        lines = [f"guest{number},{password('t1', number)}" for number in range(16)]
        (tmp_path / "known.csv").write_text("\n".join(["login,password", *lines, ""]))
        proven = in_process("verify", "known.csv", "--store", "piers/t1.users")
        assert proven.code == 0, proven.err
        assert layered(in_process, "t2.users") == 0
        lines = [f"guest1,{password('t2', 1)}"]
        (tmp_path / "known.csv").write_text("\n".join(["login,password", *lines, ""]))
        assert in_process("verify", "known.csv", "--store", "piers/t2.users").code == 0
        assert layered(in_process, "t2.users") == ROWS
