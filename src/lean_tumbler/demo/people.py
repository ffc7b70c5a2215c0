"""Invented people and their invented passwords, the same at every run."""

import random
from collections.abc import Iterable, Iterator
from datetime import date, timedelta

from msgspec import Struct

from lean_tumbler.core.records import Hidden, MaskedRecord

SEED = 20_261_031
TAKEOVER = date(2026, 5, 4)  # when Coldharbour Ferries took the three lines over
# Days between visits: the Pareto distribution of the second kind, heavy-tailed as real ones are.
SCALE_DAYS, SHAPE = 50, 0.5
LOG_DAYS = 730
_OLDEST_DAYS = 4_000  # the first line's accounts were moved once, and dated that day

_FIRST_NAMES = (
    "Ada", "Alma", "Arvid", "Bea", "Bram", "Cato", "Clara", "Dagny", "Edda", "Eino", "Elsa",
    "Ferdi", "Finn", "Greta", "Hauke", "Hedda", "Ida", "Ivo", "Jonna", "Jorin", "Kaja", "Lars",
    "Leif", "Lotte", "Malte", "Marit", "Nele", "Nils", "Oda", "Olli", "Pia", "Ragna", "Rune",
    "Saga", "Sanne", "Signe", "Siv", "Sven", "Thea", "Tove", "Ulla", "Veit", "Wiebke", "Ylva",
)  # fmt: skip
# Compounds that nobody is called.
_LAST_NAMES = (
    "Ankerquay", "Bollardmoor", "Brinewarden", "Buoymarker", "Capstanholt", "Driftmole",
    "Ebbwarden", "Fogbellow", "Gangwayer", "Gullwharfer", "Halyardmoor", "Hawserholt",
    "Jettyling", "Keelmarsher", "Lanternmole", "Leewardholt", "Moorlinger", "Pontooner",
    "Quaywarden", "Rudderholt", "Saltwharfer", "Seamarker", "Shoalbecker", "Slipwayer",
    "Spindrifter", "Tidewarden", "Windlasser", "Wharflight",
)  # fmt: skip
_BIRDS = (
    "Avocet", "Curlew", "Dunlin", "Fulmar", "Gannet", "Guillemot", "Kittiwake", "Möwe", "Petrel",
    "Plover", "Puffin", "Razorbill", "Sanderling", "Skua", "Tern", "Turnstone", "Whimbrel",
)  # fmt: skip
# What many people choose: the reason why equal digests stand in the column.
_COMMON = ("harbour1", "ferry2019", "coldharbour", "sailing", "qwertz123", "summer2020", "letmein")
_COMMON_SHARE = 0.18


class Person(MaskedRecord, Struct, frozen=True, kw_only=True):
    """One invented passenger."""

    login: str
    name: str
    password: Hidden[str]
    last_login: date | None
    administrator: bool


def _password(chance: random.Random) -> str:
    if chance.random() < _COMMON_SHARE:
        return chance.choice(_COMMON)
    bird, other = chance.sample(_BIRDS, 2)
    return f"{bird}{chance.randrange(100, 10_000)}{chance.choice('-_+!? ')}{other.lower()}"


def _days_away(chance: random.Random) -> int | None:
    """Days since the last login: heavy-tailed, and a few who never came back."""
    if chance.random() < 0.04:
        return None
    return min(int(SCALE_DAYS * chance.paretovariate(SHAPE)) - SCALE_DAYS, _OLDEST_DAYS)


def sign_ins(everybody: Iterable[Person]) -> Iterator[tuple[str, date]]:
    """Invent the typed logins of the last two years, each person's at a rate of their own.

    The rate is drawn from what the last login says of it, as the half-year's visits are.
    """
    chance = random.Random(SEED + 2)  # noqa: S311 - invented data, the same at every run
    for person in everybody:
        if person.last_login is None:
            continue
        away = (TAKEOVER - person.last_login).days
        rate = chance.gammavariate(SHAPE + 1, 1 / (SCALE_DAYS + away))
        while away <= LOG_DAYS:
            yield person.login, TAKEOVER - timedelta(days=away)
            away += max(1, round(chance.expovariate(rate)))


def people(count: int, *, administrators: frozenset[int]) -> Iterator[Person]:
    """Invent people.

    Args:
        count: how many.
        administrators: which of them, by position from 0.
    """
    chance = random.Random(SEED)  # noqa: S311 - invented data, the same at every run
    seen: set[str] = set()
    for position in range(count):
        first, last = chance.choice(_FIRST_NAMES), chance.choice(_LAST_NAMES)
        local = f"{first}.{last}".lower()
        while local in seen:
            local = f"{first}.{last}{chance.randrange(2, 1000)}".lower()
        seen.add(local)
        domain = chance.choice(("coldharbour", "skerry-mail", "tidepost"))
        away = _days_away(chance)
        yield Person(
            login=f"{local}@{domain}.example",
            name=f"{first} {last}",
            password=_password(chance),
            last_login=None if away is None else TAKEOVER - timedelta(days=away),
            administrator=position in administrators,
        )
