"""`lock-dormant`: who did not come back is closed, listed, and can be opened again."""

import csv
import os
import re
import sqlite3
import time
from collections.abc import Callable, Iterator, Sequence
from contextlib import closing
from datetime import UTC, date, datetime, timedelta
from pathlib import Path

import pytest

import servers
from conftest import CHEAP_POLICY, Portal, Program, make_portal, run_program
from lean_tumbler.core.policy import StoragePolicy, StorePolicy
from lean_tumbler.core.reasons import Reason
from lean_tumbler.core.warrant import Step, Warrant
from lean_tumbler.jobs.lock_dormant.locking import (
    LockChoice,
    Locked,
    lock_dormant,
)
from lean_tumbler.migration.bulk.context import RunContext
from lean_tumbler.migration.bulk.warranting import warrant_of
from lean_tumbler.stores.interface import Store, Swap
from lean_tumbler.stores.kinds import open_store
from lean_tumbler.stores.locators import require_bulk
from server_portal import is_mariadb
from server_portal import make_portal as make_server_portal
from test_forecast import ago
from test_servers import STARTERS

TODAY = datetime.now(UTC).date()
COHORTS = ["md5", "sha1", "sha1", "current", "locked", "null", "md5", "md5", "md5", "md5"]
# Days since each was seen; None for no date, a text for one that cannot be read.
SEEN: list[int | str | None] = [400, 300, 250, 500, 600, 700, 10, None, "soon", 181]
DUE = [1, 2, 3, 10]


@pytest.fixture
def program(in_process: Program) -> Program:
    """Run in this process: there are many runs, and the built program is run elsewhere."""
    return in_process


def fill(portal: Portal) -> None:
    """Give each passenger a last login."""
    policy = CHEAP_POLICY.replace('stored = "pw"', 'stored = "pw"\nlast_login = "seen"')
    (portal.folder / "tumbler.toml").write_text(policy)
    texts = [ago(each) if isinstance(each, int) else each for each in SEEN]
    with closing(sqlite3.connect(portal.database)) as connection, connection:
        connection.execute("ALTER TABLE passengers ADD COLUMN seen TEXT")
        connection.executemany(
            "UPDATE passengers SET seen = ? WHERE id = ?",
            [(text, number) for number, text in enumerate(texts, start=1)],
        )


@pytest.fixture
def dormant(tmp_path: Path) -> Portal:
    portal = make_portal(tmp_path, COHORTS)
    fill(portal)
    assert run_program("layer", "--no-backup", "--only", "portal-2011", cwd=tmp_path).code == 0
    assert (portal.stored()[3] or "").startswith("$over$")
    assert run_program("keys", "new", "recovery", cwd=tmp_path).code == 0
    return portal


SEALED = ("--backup", "lock.sealed", "--to", "recovery.public.pem")


def test_who_did_not_come_back_is_locked_and_opened_again(
    dormant: Portal, program: Program
) -> None:
    """Weak and layered values alone; the list names them, `undo` puts back what stood there."""
    before = dormant.stored()
    tried = program(
        "lock-dormant", "--inactive-days", "180", "--dry-run", "--format", "json"
    ).document
    assert (tried["locked"], dormant.stored()) == (4, before)
    finished = program("lock-dormant", "--inactive-days", "180", "--list", "reset.csv", *SEALED)
    assert finished.code == 0, finished.err
    after = dormant.stored()
    assert [number for number in after if after[number] != before[number]] == DUE
    markers = {after[number] or "" for number in DUE}
    assert len(markers) == len(DUE)  # no two are alike
    assert all(re.fullmatch(r"!locked\$[A-Za-z0-9_-]{22}", marker) for marker in markers)
    assert "Among them 1 administrator:" in finished.out
    with (dormant.folder / "reset.csv").open(newline="") as file:
        listed = list(csv.DictReader(file))
    assert [row["account"] for row in listed] == ["1", "2", "3", "10"]
    assert [row["administrator"] for row in listed] == ["yes", "no", "no", "no"]
    assert (dormant.folder / "reset.csv").stat().st_mode & 0o777 == 0o600
    for number in DUE:
        person = dormant.passengers[number - 1]
        assert program("admit", person.login, stdin=person.password.encode()).code == 1
    again = program("lock-dormant", "--inactive-days", "180", "--backup", "x.sealed", *SEALED[2:])
    assert again.out.startswith("0 accounts locked")
    undone = program("undo", "lock.sealed", "--key", "recovery.private.pem")
    assert undone.code == 0, undone.err
    assert dormant.stored() == before


def context_with(keep: Callable[[Sequence[Swap]], None] = lambda _: None) -> RunContext:
    return RunContext(clock=time.monotonic, randomness=os.urandom, pause=time.sleep, keep=keep)


def locking_warrant(
    store: Store, store_policy: StorePolicy, policy: StoragePolicy, share: float = 1.0
) -> Warrant:
    return warrant_of(
        Step.LOCK, store, store_policy=store_policy, policy=policy, today=TODAY, has_way_back=True,
        share=share,
    )  # fmt: skip


def locked_with(
    portal: Portal, choice: LockChoice, context: RunContext, share: float = 1.0
) -> Locked:
    policy = StoragePolicy.from_toml((portal.folder / "tumbler.toml").read_text())
    store_policy = policy.stores["passengers"]
    store = require_bulk(open_store(store_policy, base=portal.folder, writable=True))
    try:
        return lock_dormant(
            store,
            store_policy=store_policy,
            policy=policy,
            choice=choice,
            warrant=locking_warrant(store, store_policy, policy, share),
            context=context,
        )
    finally:
        store.close()


def test_who_comes_back_meanwhile_is_left_alone(dormant: Portal) -> None:
    """Between the reading and the writing: a new date, or a new value, keeps the account open."""

    def return_now(_: Sequence[Swap]) -> None:
        with closing(sqlite3.connect(dormant.database)) as connection, connection:
            connection.execute("UPDATE passengers SET seen = ? WHERE id = 1", (TODAY.isoformat(),))
            connection.execute("UPDATE passengers SET pw = 'x' WHERE id = 2")

    choice = LockChoice(before=TODAY - timedelta(days=180))
    found = locked_with(dormant, choice, context_with(return_now))
    assert [account.key for account in found.accounts] == [3, 10]
    assert found.changed_meanwhile == 2
    assert dormant.stored()[2] == "x"
    assert dormant.stored()[1] == dormant.passengers[0].stored


def test_why_accounts_stay(dormant: Portal) -> None:
    """Every reason is counted; a log of typed passwords counts beside the store's own dates."""
    choice = LockChoice(
        before=TODAY - timedelta(days=180),
        undated=True,
        typed={dormant.passengers[0].login: TODAY - timedelta(days=3)},
        dry_run=True,
    )
    found = locked_with(dormant, choice, context_with())
    assert [account.key for account in found.accounts] == [2, 3, 8, 10]
    assert found.left == {
        Reason.SEEN: 2,
        Reason.NOT_WEAK: 2,
        Reason.NO_VALUE: 1,
        Reason.UNREADABLE_DATE: 1,
    }


def test_a_part_first(tmp_path: Path) -> None:
    """A share is a stable part: a larger one contains the smaller."""
    portal = make_portal(tmp_path, ["md5"] * 300)
    policy = CHEAP_POLICY.replace('stored = "pw"', 'stored = "pw"\nlast_login = "pw_salt"')
    (tmp_path / "tumbler.toml").write_text(policy)
    with closing(sqlite3.connect(portal.database)) as connection, connection:
        connection.execute("UPDATE passengers SET pw_salt = '2020-01-01'")
    keys = []
    for share in (0.05, 0.3):
        choice = LockChoice(before=date(2021, 1, 1), dry_run=True)
        found = locked_with(portal, choice, context_with(), share)
        keys.append({row.key for row in found.accounts})
    assert keys[0] < keys[1]
    assert 4 <= len(keys[0]) <= 30


@pytest.mark.parametrize(
    ("arguments", "code", "expected"),
    [
        (("--inactive-days", "180"), 2, "nothing says how to put the old values back"),
        ((), 2, "one of the arguments --before --accounts --inactive-days is required"),
        (("--inactive-days", "0"), 2, "whole number"),
        (("--before", "soon"), 2, "expected a day"),
        (("--before", "2020-01-01", "--inactive-days", "3"), 2, "not allowed with"),
    ],
)
def test_what_is_refused(
    dormant: Portal, arguments: tuple[str, ...], code: int, expected: str
) -> None:
    """One line, and nothing is written."""
    finished = run_program("lock-dormant", *arguments, cwd=dormant.folder)
    assert (finished.code, expected in finished.err) == (code, True), finished.err


def test_a_store_without_dates_is_refused(portal: Portal, program: Program) -> None:
    """Nothing says who has not come back."""
    assert portal.passengers
    finished = program("lock-dormant", "--inactive-days", "180", "--dry-run")
    assert (finished.code, "nothing says who has not come back" in finished.err) == (2, True)


@pytest.fixture(scope="module", params=STARTERS)
def server(request: pytest.FixtureRequest) -> Iterator[servers.Server]:
    with STARTERS[request.param]() as running:
        yield running


@pytest.mark.parametrize("kind", ["date", "timestamp", "varchar(40)"])
def test_dates_of_servers(server: servers.Server, tmp_path: Path, kind: str) -> None:
    """Real columns of dates and times: the same accounts, and one that returns is left alone."""
    make_server_portal(server, tmp_path, rows=60)
    if is_mariadb(server) and kind == "timestamp":
        kind = "timestamp NULL"
    server.run(
        f"ALTER TABLE passengers ADD COLUMN seen {kind};"
        f"UPDATE passengers SET seen = '{ago(400)}' WHERE id <= 30;"
        f"UPDATE passengers SET seen = '{ago(3)}' WHERE id > 30 AND id <= 50;"
    )
    policy = (tmp_path / "tumbler.toml").read_text()
    (tmp_path / "tumbler.toml").write_text(
        policy.replace('stored = "pw"', 'stored = "pw"\nlast_login = "seen"')
    )
    parsed = StoragePolicy.from_toml((tmp_path / "tumbler.toml").read_text())
    store_policy = parsed.stores["passengers"]
    store = require_bulk(open_store(store_policy, base=tmp_path, writable=True))

    def return_now(_: Sequence[Swap]) -> None:
        server.run(f"UPDATE passengers SET seen = '{ago(0)}' WHERE id = 1;")

    found = lock_dormant(
        store,
        store_policy=store_policy,
        policy=parsed,
        choice=LockChoice(before=TODAY - timedelta(days=180)),
        warrant=locking_warrant(store, parsed.stores["passengers"], parsed),
        context=context_with(return_now),
    )
    store.close()
    locked = server.ask(
        "SELECT id FROM passengers WHERE pw LIKE '!locked%' AND id <= 30 ORDER BY id"
    ).split()
    assert found.left[Reason.UNDATED] > 0
    assert {str(account.key) for account in found.accounts} <= set(locked)
    assert all(int(str(account.key)) <= 30 for account in found.accounts)
    assert found.locked > 10
    assert not server.ask("SELECT pw FROM passengers WHERE id = 1").startswith("!")
