"""Invented tables, drafted from a few known accounts: who opens by the draft, and who does not."""

import random
import sqlite3
import time
from collections import Counter
from contextlib import closing
from dataclasses import dataclass, field
from pathlib import Path

from invented import tables
from lean_tumbler.core.drafting.class_solving import Search
from lean_tumbler.core.formulas.search_space import Constants
from lean_tumbler.core.formulas.solutions import Narrowed
from lean_tumbler.core.login.checking import check
from lean_tumbler.core.masked import Masked
from lean_tumbler.core.policy import StoragePolicy
from lean_tumbler.core.reading.of_stores import store_reader
from lean_tumbler.core.reading.rows import Row
from lean_tumbler.core.reading.survey import Survey
from lean_tumbler.core.reading.ways import Bounds, Certainty
from lean_tumbler.jobs.draft.policy_text import policy_text
from lean_tumbler.jobs.draft.source import Draft, draft_source
from lean_tumbler.stores.known_accounts import KnownAccount

_COLUMNS = ("id", "email", "pw", "pw_salt", "pw_rounds", "created", "made_by")


@dataclass
class Drafted:
    """One table's draft, held against the truth.

    Attributes:
        opened: people whose password opens by the draft.
        left: those whose row is in no cohort of it.
        wrong: those whose row is in a cohort that does not open it, by kind: a lockout.
        leaks: salts, stored values and passwords that stand in the policy's text.
        wrong_though_sure: those of them whose cohort was said to be sure.
    """

    people: int = 0
    opened: int = 0
    left: int = 0
    wrong: Counter[str] = field(default_factory=Counter)
    leaks: list[str] = field(default_factory=list)
    wrong_though_sure: int = 0
    left_kinds: Counter[str] = field(default_factory=Counter)
    cohorts: int = 0
    sure: int = 0
    seconds: float = 0.0


def tried(seed: int, folder: Path, *, rows: int = 300, known_of_each: int = 3) -> Drafted:
    """Invent a table, draft it from some of its people, and read everybody by the draft."""
    table = tables.table(seed, rows=rows)
    people = [p for p in table.people if p.kind != "nobody" and p.stored is not None]
    _write(folder / "kiosk.db", table.people)
    started = time.monotonic()
    draft = draft_source(
        "kiosk.db",
        base=folder,
        beside=folder,
        known=_known(people, random.Random(seed), known_of_each),
        search=Search(
            constants=Constants(),
            narrowed=Narrowed(),
            seconds_left=lambda: max(1.0, started + 60 - time.monotonic()),
            clock=time.monotonic,
            progress=lambda _: None,
        ),
    )
    result = Drafted(people=len(people), seconds=time.monotonic() - started)
    _judge(draft, people, result)
    return result


def _write(path: Path, people: list[tables.Person]) -> None:
    with closing(sqlite3.connect(path)) as db, db:
        db.execute(
            "CREATE TABLE kiosk (id INTEGER PRIMARY KEY, email TEXT, pw TEXT, pw_salt TEXT,"
            " pw_rounds INTEGER, created TEXT, made_by TEXT)"
        )
        db.executemany("INSERT INTO kiosk VALUES (?, ?, ?, ?, ?, ?, ?)", map(_cells, people))


def _cells(p: tables.Person) -> tuple[object, ...]:
    return p.number, p.login, p.stored, p.salt, p.rounds, p.created, p.made_by


def _known(people: list[tables.Person], chance: random.Random, each: int) -> list[KnownAccount]:
    by_kind: dict[str, list[tables.Person]] = {}
    for person in people:
        by_kind.setdefault(person.kind, []).append(person)
    chosen = [p for kind in by_kind.values() for p in chance.sample(kind, min(each, len(kind)))]
    return [
        KnownAccount(line=number, login=p.login, password=Masked(p.password))
        for number, p in enumerate(chosen, start=2)
    ]


def _judge(draft: Draft, people: list[tables.Person], result: Drafted) -> None:
    (placed,) = draft.stores
    cohorts = placed.drafted.cohorts
    result.cohorts = len(cohorts)
    sure = {n for n, cohort in cohorts.items() if not cohort.unsure}
    result.sure = len(sure)
    text = policy_text(draft.stores, source="kiosk.db", day="2026-11-26")
    secrets = {s for p in people for s in (p.stored, p.salt, p.password, p.digest) if s}
    result.leaks = [secret for secret in secrets if _is_telling(secret) and secret in text]
    policy = StoragePolicy.from_toml(text)
    (store,) = policy.stores.values()
    reader = store_reader(policy, store)
    rows = {person.number: _row(person, store.columns.salt) for person in people}
    survey = Survey()
    survey.add([row.text or "" for row in rows.values() if reader.may_be_plain_text(row)])
    column = survey.column()
    reader = reader.seen_with(lambda: column)
    for person in people:
        reading = reader.read(rows[person.number])
        declared = {way.name for way in reading.ways if way.certainty is Certainty.DECLARED}
        if check(reading, person.password, bounds=Bounds()).accepted:
            result.opened += 1
        elif declared:
            result.wrong[person.kind] += 1
            result.wrong_though_sure += declared <= sure
        else:
            result.left += 1
            result.left_kinds[person.kind] += 1


def _is_telling(secret: str) -> bool:
    """Leave out what may well be a word of the policy."""
    return len(secret) > 5 and not (secret.isascii() and secret.isalpha()) and not secret.isdigit()


def _row(person: tables.Person, salt: str | None) -> Row:
    cells = dict(zip(_COLUMNS, _cells(person), strict=True))
    raw = {name: None if cell is None else str(cell).encode() for name, cell in cells.items()}
    return Row(stored=raw["pw"], salt=raw[salt] if salt else None, login=person.login, others=raw)
