"""One invented table through the whole change, and what became of everybody in it."""

import os
import re
import sqlite3
import time
from collections import Counter
from concurrent.futures import Executor
from contextlib import closing
from dataclasses import dataclass, field
from datetime import date
from pathlib import Path

from invented.tables import KINDS, Person, Table
from lean_tumbler import CredentialGateway, StoragePolicy
from lean_tumbler.core.masked import Masked
from lean_tumbler.core.reading.evidence import Counts, Evidence
from lean_tumbler.core.reading.of_stores import store_reader
from lean_tumbler.core.warrant import Step, Warrant
from lean_tumbler.migration.bulk.context import RunContext
from lean_tumbler.migration.bulk.layering import Workers, layer_store
from lean_tumbler.stores.interface import Store, Swap
from lean_tumbler.stores.kinds import open_store
from lean_tumbler.stores.known_accounts import KnownAccount
from lean_tumbler.stores.locators import require_bulk
from lean_tumbler.stores.scans.surveying import survey_store
from lean_tumbler.stores.scans.verification import verify_accounts

POLICY = """
[target]
memory_kib = 64
passes = 1
[floor]
argon2id = {{ memory_kib = 64, passes = 1 }}
bcrypt = {{ cost_log2 = 10 }}
[store.kiosk]
locator = "{locator}"
table = "kiosk"
readers_ready = 2026-01-01
[store.kiosk.columns]
account = "id"
login = "mail"
stored = "pw"
salt = "pw_salt"
created = "joined"
[store.kiosk.parts]
rounds = "pw_rounds"
{cohorts}
"""
CREATE = (
    "CREATE TABLE kiosk (id integer PRIMARY KEY, mail varchar(120), pw varchar(700), "
    "pw_salt varchar(100), pw_rounds integer, joined varchar(30), made_by varchar(10))"
)


def created(kind: str) -> str:
    """The same table with another kind of column for the stored values."""
    return CREATE.replace("pw varchar(700)", f"pw {kind}")


COLUMNS = 7
_BARE = re.compile("(?:[0-9a-fA-F]{2}){16,64}")
KNOWN_OF_EACH = 5


@dataclass
class Result:
    """What happened, counted; and the first of each fault, by kind of row."""

    counts: Counter[str] = field(default_factory=Counter)
    faults: list[tuple[str, str, str]] = field(default_factory=list)

    def fault(self, what: str, person: Person, more: str = "") -> None:
        self.counts[what] += 1
        self.faults.append((what, person.kind, more))


def cells(person: Person) -> tuple[object, ...]:
    return (person.number, person.login, person.stored, person.salt, person.rounds,
            person.created, person.made_by)  # fmt: skip


def binary_cells(person: Person) -> tuple[object, ...]:
    """The same row in a binary column: bare digests as bytes, other values as the bytes of text."""
    number, login, stored, *others = cells(person)
    if isinstance(stored, str):
        is_bare = _BARE.fullmatch(stored) and person.kind in KINDS
        stored = bytes.fromhex(stored) if is_bare else stored.encode()
    return number, login, stored, *others


def write_sqlite(table: Table, path: Path, *, binary: bool = False) -> None:
    with closing(sqlite3.connect(path)) as connection, connection:
        connection.execute(created("blob") if binary else CREATE)
        marks = ", ".join("?" * COLUMNS)
        of = binary_cells if binary else cells
        connection.executemany(
            f"INSERT INTO kiosk VALUES ({marks})", [of(person) for person in table.people]
        )


def policy_of(table: Table, locator: str) -> StoragePolicy:
    return StoragePolicy.from_toml(POLICY.format(locator=locator, cohorts=table.cohorts))


class Trial:
    """Everybody before, after layering, and after the first and second login."""

    def __init__(self, table: Table, locator: str, folder: Path, executor: Executor) -> None:
        self.table = table
        self.policy = policy_of(table, locator)
        self.folder = folder
        self.executor = executor
        self.result = Result()

    def run(self) -> Result:
        store = require_bulk(
            open_store(self.policy.stores["kiosk"], base=self.folder, writable=True)
        )
        try:
            self._run(store)
        finally:
            store.close()
        return self.result

    def _run(self, store: Store) -> None:
        store_policy = self.policy.stores["kiosk"]
        reader = store_reader(self.policy, store_policy)
        column = survey_store(store, reader)
        self.gateway = CredentialGateway(self.policy, columns={"kiosk": lambda: column})
        evidence = self._evidence(store)
        before = {p.number: self._admitted(store, p, p.password) for p in self.table.people}
        self._look(store, before, "before")
        context = RunContext(clock=time.perf_counter, randomness=os.urandom, pause=time.sleep)
        layer_store(
            store, store_policy=store_policy, policy=self.policy, context=context,
            workers=Workers(self.executor, 2),
            warrant=Warrant(
                step=Step.LAYER, store=store_policy, today=date(2026, 12, 1), has_way_back=True,
                evidence=evidence, most_otherwise=1.0,
            ),
        )  # fmt: skip
        self._look(store, before, "layered")
        self._left(store)
        self._log_in(store)
        self._look(store, before, "after the first login")

    def _evidence(self, store: Store) -> Evidence:
        """Verify a few known accounts of each kind, as an operator would."""
        known: list[KnownAccount] = []
        seen: Counter[str] = Counter()
        for person in self.table.people:
            seen[person.kind] += 1
            if person.kind in KINDS and seen[person.kind] <= KNOWN_OF_EACH:
                known.append(
                    KnownAccount(line=0, login=person.login, password=Masked(person.password))
                )
        found = verify_accounts(
            known, reader=self.gateway.reader("kiosk"), bounds=self.gateway.bounds, store=store,
            store_name="kiosk",
        )  # fmt: skip
        right = Counter(tried.key for tried in found.tried if tried.right and tried.key)
        wrong = Counter(tried.key for tried in found.tried if not tried.right and tried.key)
        keys = {*right, *wrong}
        return Evidence({key: Counts(accepted=right[key], refused=wrong[key]) for key in keys})

    def _admitted(self, store: Store, person: Person, typed: str) -> bool:
        (account,) = store.fetch(person.login)
        outcome = self.gateway.admit_row(account.row, password=typed, store="kiosk", upgrade=False)
        return outcome.admitted

    def _look(self, store: Store, before: dict[int, bool], moment: str) -> None:
        for person in self.table.people:
            self.result.counts["rows"] += moment == "before"
            opens = self._admitted(store, person, person.password)
            has_password = person.kind in KINDS
            if moment == "before":
                if has_password and not opens:
                    self.result.fault("refused before", person)
                if not has_password and opens:
                    self.result.fault("opened without a password", person)
            elif before[person.number] and not opens:
                self.result.fault("locked out", person, moment)
            elif opens and not before[person.number]:
                self.result.fault("opened only later", person, moment)
            self._require_closed(store, person, moment)

    def _require_closed(self, store: Store, person: Person, moment: str) -> None:
        """Type what is no password: another one, what is stored, and the legacy digest."""
        kind = KINDS.get(person.kind)
        (account,) = store.fetch(person.login)
        now = account.row.text or ""
        wrong = {"another password": "x" + person.password[1:] + "y"}
        if kind is None or not kind.plain:
            wrong["the value as it was"] = person.stored or ""
            wrong["the legacy digest"] = person.digest
            wrong["the digest in capitals"] = (person.digest or person.stored or "").upper()
        if now != person.stored:
            wrong["the value as it is"] = now
        for what, typed in wrong.items():
            if typed and typed != person.password and self._admitted(store, person, typed):
                if kind is not None and kind.lossy and what == "another password":
                    continue
                self.result.fault("wrongly admitted", person, f"{what}, {moment}")

    def _left(self, store: Store) -> None:
        for person in self.table.people:
            kind = KINDS.get(person.kind)
            (account,) = store.fetch(person.login)
            as_bytes = f"\\x{person.stored}".lower()
            unchanged = (account.row.text or "") in {person.stored or "", as_bytes}
            if kind is not None and unchanged and not kind.current:
                reading = self.gateway.reader("kiosk").read(account.row)
                more = f"{reading.doubt} {reading.suspected} {reading.label}"
                self.result.fault("left", person, more)
            if kind is None and not unchanged:
                self.result.fault("changed without need", person)

    def _log_in(self, store: Store) -> None:
        for person in self.table.people:
            (account,) = store.fetch(person.login)
            outcome = self.gateway.admit_row(account.row, password=person.password, store="kiosk")
            if outcome.new_value is not None:
                old = account.stored or b""
                store.swap(Swap(key=account.key, old=old, new=outcome.new_value))
                self.result.counts["upgraded"] += 1
