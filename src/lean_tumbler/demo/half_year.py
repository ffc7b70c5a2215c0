"""Half a year of the portal: who comes back on which day, and what they type."""

import random
import sqlite3
from collections.abc import Iterable, Sequence
from contextlib import closing
from datetime import date, timedelta
from math import ceil
from pathlib import Path

from msgspec import Struct

from lean_tumbler.core.records import Hidden, MaskedRecord
from lean_tumbler.demo.people import SCALE_DAYS, SEED, SHAPE, TAKEOVER, Person

HALF_YEAR_DAYS = 180
_MISTYPED = 9  # every so many logins, somebody mistypes first


class Visit(MaskedRecord, Struct, frozen=True, kw_only=True):
    """The first login of somebody in the half-year; later ones would change nothing."""

    day: date
    login: str
    typed: Hidden[tuple[str, ...]]


def visits(everybody: Sequence[Person]) -> list[Visit]:
    """Draw who comes back, in order of days.

    How long people stayed away says how long they will: whoever was last seen so many days ago
    has a rate from the Gamma distribution, by Bayes' rule. See docs/FORECAST.md.
    """
    chance = random.Random(SEED + 1)  # noqa: S311 - invented data, the same at every run
    found = []
    for person in everybody:
        share = 1 - chance.random()
        if person.last_login is None:
            continue
        scale = SCALE_DAYS + (TAKEOVER - person.last_login).days
        days = ceil(scale * (share ** (-1 / (SHAPE + 1)) - 1))
        if days <= HALF_YEAR_DAYS:
            found.append((max(1, days), person))
    found.sort(key=lambda each: (each[0], each[1].login))
    return [
        Visit(
            day=TAKEOVER + timedelta(days=days),
            login=person.login,
            typed=(person.password.swapcase(), person.password)
            if number % _MISTYPED == 0
            else (person.password,),
        )
        for number, (days, person) in enumerate(found, start=1)
    ]


def note_seen(database: Path, some: Iterable[Visit]) -> None:
    """Write down when people were seen, as the portal's own code does."""
    with closing(sqlite3.connect(database)) as connection, connection:
        connection.executemany(
            "UPDATE passengers SET seen_on = ? WHERE email = ?",
            [(visit.day.isoformat(), visit.login) for visit in some],
        )
