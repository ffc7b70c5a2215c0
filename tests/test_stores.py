"""Swaps, reads and files: what the stores promise, on real SQLite databases."""

import sqlite3
from contextlib import closing
from pathlib import Path

import pymysql
import pytest

from lean_tumbler.core.policy import Columns, Target
from lean_tumbler.errors import KnownAccountsError, SourceError, StoreUnavailable, UsageError
from lean_tumbler.stores.file_access import write_text
from lean_tumbler.stores.interface import Swap, SwapResult
from lean_tumbler.stores.known_accounts import read_known_accounts
from lean_tumbler.stores.policy_file import read_policy, save_target
from lean_tumbler.stores.sql import mysql
from lean_tumbler.stores.sql.errors import database_errors
from lean_tumbler.stores.sql.sqlite import open_sqlite
from lean_tumbler.stores.sql.store import SqlStore


def make_store(
    folder: Path, schema: str, rows: list[tuple[object, ...]], columns: Columns | None = None
) -> SqlStore:
    path = folder / "kiosk.db"
    with closing(sqlite3.connect(path)) as connection, connection:
        connection.executescript(schema)
        places = ", ".join("?" * len(rows[0]))
        connection.executemany(f"INSERT INTO kiosk VALUES ({places})", rows)
    return SqlStore(
        open_sqlite(path, writable=True),
        table="kiosk",
        columns=columns or Columns(login="login", stored="pw"),
        writable=True,
    )


PLAIN = "CREATE TABLE kiosk (id INTEGER PRIMARY KEY, login TEXT, pw TEXT);"


def values(folder: Path) -> dict[object, object]:
    with closing(sqlite3.connect(folder / "kiosk.db")) as connection:
        return dict(connection.execute("SELECT id, pw FROM kiosk"))


def test_a_swap_writes_only_where_the_old_bytes_stand(tmp_path: Path) -> None:
    """Changed, gone and NULL rows are told apart, and none of them is written."""
    rows: list[tuple[object, ...]] = [(1, "a", "old"), (2, "b", "other"), (3, "c", None)]
    store = make_store(tmp_path, PLAIN, rows)
    results = store.swap_many([Swap(key=key, old=b"old", new="new") for key in (1, 2, 3, 4)])
    assert results == [
        SwapResult.DONE,
        SwapResult.CHANGED,
        SwapResult.CHANGED,
        SwapResult.GONE,
    ]
    assert values(tmp_path) == {1: "new", 2: "other", 3: None}


@pytest.mark.parametrize("kept", ["old", b"old"], ids=["text", "blob"])
@pytest.mark.parametrize("affinity", ["TEXT", "BLOB", "", "TEXT COLLATE NOCASE"])
def test_a_swap_compares_bytes_whatever_the_column(
    tmp_path: Path, affinity: str, kept: str | bytes
) -> None:
    """Text against BLOB does not hinder a swap, a case-folding collation does not help one."""
    schema = PLAIN.replace("pw TEXT", f"pw {affinity}")
    store = make_store(tmp_path, schema, [(1, "a", kept)])
    assert store.swap(Swap(key=1, old=b"OLD", new="new")) is SwapResult.CHANGED
    assert store.swap(Swap(key=1, old=b"old", new="new")) is SwapResult.DONE
    assert store.fetch("a")[0].stored == b"new"


def test_a_value_that_the_database_alters_is_not_kept(tmp_path: Path) -> None:
    """A trigger that cuts values off is noticed, and the whole batch is rolled back."""
    schema = PLAIN + (
        "CREATE TRIGGER narrow AFTER UPDATE ON kiosk WHEN length(NEW.pw) > 10 BEGIN"
        " UPDATE kiosk SET pw = substr(NEW.pw, 1, 10) WHERE id = NEW.id; END;"
    )
    store = make_store(tmp_path, schema, [(1, "a", "old"), (2, "b", "old")])
    with pytest.raises(SourceError, match="did not keep a value as written"):
        store.swap_many([Swap(key=key, old=b"old", new="n" * 40) for key in (1, 2)])
    assert values(tmp_path) == {1: "old", 2: "old"}


def test_an_account_column_that_is_not_unique_writes_nothing(tmp_path: Path) -> None:
    """A key that names two rows is refused, and no row of the batch is changed."""
    schema = "CREATE TABLE kiosk (id INTEGER, login TEXT, pw TEXT);"
    columns = Columns(account="id", login="login", stored="pw")
    store = make_store(tmp_path, schema, [(1, "a", "old"), (1, "b", "old")], columns)
    with pytest.raises(SourceError, match="not unique"):
        store.swap(Swap(key=1, old=b"old", new="new"))
    with closing(sqlite3.connect(tmp_path / "kiosk.db")) as connection:
        assert connection.execute("SELECT DISTINCT pw FROM kiosk").fetchall() == [("old",)]


def test_a_table_without_a_key_is_not_written_to(tmp_path: Path) -> None:
    """Without a primary key the user must name a unique column."""
    with pytest.raises(UsageError, match="no primary key that names a row"):
        make_store(tmp_path, "CREATE TABLE kiosk (login TEXT, pw TEXT);", [("a", "old")])


def test_pages_go_through_every_row_once(tmp_path: Path) -> None:
    """Keyset pages neither skip nor repeat, with text keys too."""
    schema = "CREATE TABLE kiosk (id TEXT PRIMARY KEY, login TEXT, pw TEXT);"
    rows: list[tuple[object, ...]] = [(f"k{number}", "a", "x") for number in range(25)]
    store = make_store(tmp_path, schema, rows)
    seen: list[object] = []
    after = None
    while page := store.page(after=after, rows=4):
        seen.extend(account.key for account in page)
        after = page[-1].key
    assert sorted(map(str, seen)) == sorted(str(row[0]) for row in rows)
    assert len(seen) == store.count() == 25


def test_a_read_only_engine_cannot_write(tmp_path: Path) -> None:
    """An audit's connection refuses writes, whatever the code above it does."""
    make_store(tmp_path, PLAIN, [(1, "a", "old")]).close()
    store = SqlStore(
        open_sqlite(tmp_path / "kiosk.db", writable=False),
        table="kiosk",
        columns=Columns(login="login", stored="pw"),
    )
    with pytest.raises(SourceError, match="readonly"):
        store.swap(Swap(key=1, old=b"old", new="new"))


def test_names_that_need_quoting_are_quoted(tmp_path: Path) -> None:
    """Identifiers never reach SQL as text of ours."""
    path = tmp_path / "odd.db"
    with closing(sqlite3.connect(path)) as connection, connection:
        connection.execute('CREATE TABLE "or""der; x" ("i d" INTEGER PRIMARY KEY, "select" TEXT)')
        connection.execute('INSERT INTO "or""der; x" VALUES (1, \'old\')')
    store = SqlStore(
        open_sqlite(path, writable=True),
        table='or"der; x',
        columns=Columns(account="i d", login="select", stored="select"),
        writable=True,
    )
    assert store.swap(Swap(key=1, old=b"old", new="new")) is SwapResult.DONE


@pytest.mark.parametrize("kind", ["OperationalError", "InterfaceError"])
def test_a_lost_connection_may_come_back(kind: str) -> None:
    """Whichever way the driver notices it: worth another try, and said in the same words."""
    raised = getattr(pymysql.err, kind)(0, "")
    with (
        pytest.raises(StoreUnavailable, match="cannot be reached, or went away"),
        database_errors("ferries", mysql.SERVER.meaning, pymysql),
    ):
        raise raised


def test_a_file_is_replaced_whole_and_keeps_no_leftover(tmp_path: Path) -> None:
    """Writing goes beside and renames; a failure leaves the old file and nothing else."""
    path = tmp_path / "report.json"
    write_text(path, "one")
    write_text(path, "two")
    assert (path.read_text(), path.stat().st_mode & 0o777) == ("two", 0o600)
    (tmp_path / "folder").mkdir()
    with pytest.raises(SourceError):
        write_text(tmp_path / "folder", "three")
    assert sorted(path.name for path in tmp_path.iterdir()) == ["folder", "report.json"]


def test_saving_a_target_keeps_comments_and_order(tmp_path: Path) -> None:
    """Only the [target] changes; the file still reads as a policy."""
    path = tmp_path / "tumbler.toml"
    path.write_text(
        '# ours\n[target] # chosen in spring\nscheme = "bcrypt"\ncost_log2 = 12 # slow\n\n'
        "[limits]\npassword_bytes = 512 # a bound\n"
    )
    target = Target("argon2id", {"memory_kib": 32768, "passes": 2, "lanes": 1})
    save_target(path, target)
    text = path.read_text()
    assert "# ours\n[target] # chosen in spring\n" in text
    assert "password_bytes = 512 # a bound" in text
    assert "cost_log2" not in text
    assert read_policy(path).target == target


@pytest.mark.parametrize(
    ("text", "expected"),
    [
        ("", "line 1: no column “login”"),
        ("login,stored\n", "line 1: no column “password”"),
        ("login,password,stored\n", "no account after the header line"),
        ("login,password,stored\na,b\n", "line 2: 2 fields, expected 3"),
        ("login,password,stored\na,b,$argon2id$m=1,t=1\n", "line 2: 4 fields, expected 3 (values"),
        ("login,password,stored\na,,c\n", "line 2: the column “password” is empty"),
        ("login,password,stored\na,b,\n", "line 2: the column “stored” is empty"),
        ('login,password,stored\na,"b,c\n', "line 2: unexpected end of data"),
        ("login,password,stored\na,b\0,c\n", "line 2"),
    ],
)
def test_mistakes_in_known_accounts_name_the_line(tmp_path: Path, text: str, expected: str) -> None:
    """A file of known accounts that cannot be used says where."""
    path = tmp_path / "known.csv"
    path.write_text(text)
    try:
        accounts = read_known_accounts(path, with_stored=True)
    except KnownAccountsError as error:
        message = str(error)
    else:  # some versions of Python read a NUL as any character
        message = f"line {accounts[0].line}"
    assert expected in message


def test_known_accounts_may_have_a_byte_order_mark(tmp_path: Path) -> None:
    """A spreadsheet's export reads like any other, and its passwords stay hidden."""
    path = tmp_path / "known.csv"
    path.write_bytes(b'\xef\xbb\xbfLogin,Password\r\nada,"comma, quote"" "\r\n')
    (account,) = read_known_accounts(path, with_stored=False)
    assert account.password.reveal() == 'comma, quote" '
    assert "comma" not in repr(account)
    assert "comma" not in f"{account.password}{account.password!s:>9}"
