"""After a copy of the table has left the house: what falls when, and who must do what."""

from enum import StrEnum

from msgspec import Struct

from lean_tumbler.core.grades import Grade
from lean_tumbler.core.tuning.attacker import Attacker
from lean_tumbler.core.tuning.popularity import Opened

PERIODS: tuple[tuple[str, float], ...] = (
    ("hour", 3_600.0),
    ("day", 86_400.0),
    ("30 days", 30 * 86_400.0),
    ("year", 365 * 86_400.0),
)
_DAY, _YEAR = "day", "year"
# Of the accounts: whoever opens half in a day opens most of them before a mail is read.
_HALF, _TENTH = 0.5, 0.1


class Urgency(StrEnum):
    """What the owner of an account must do."""

    TODAY = "reset today"
    NEXT_LOGIN = "change at the next login"
    NOTHING = "nothing"
    LOOK = "look at the value"


class SinceThen(StrEnum):
    """What has happened to an account since the copy left."""

    NOTHING = "its value is in the copy"
    MADE = "made since: not in the copy"
    CHANGED = "changed since: the copy holds an earlier password"
    UPGRADED = "written since: what the copy holds is not known"


class LeakedKind(Struct, frozen=True, kw_only=True):
    """What a copy holds of some accounts."""

    words: str  # scheme or formula, for a person
    grade: Grade  # of these values, in the copy
    # at one value; infinite where it can be read, None where not known
    guesses_per_second: float | None
    salted: bool  # whether each value has a salt of its own


def opened(kind: LeakedKind, accounts: int, attacker: Attacker) -> dict[str, Opened]:
    """Say what share of accounts of one kind falls within each period, all effort spent on them."""
    rate = kind.guesses_per_second
    if rate is None or kind.grade is Grade.READABLE:
        return {name: Opened(share=1.0, is_at_most=rate is None) for name, _ in PERIODS}
    apart = max(1, accounts) if kind.salted else 1
    return {name: attacker.popularity.opened(rate * seconds / apart) for name, seconds in PERIODS}


def urgency(
    kind: LeakedKind, since: SinceThen, falls: dict[str, Opened], *, administrators: bool
) -> Urgency:
    """Decide what must be done about accounts of one kind.

    It goes by when a value falls, whatever its grade: a few accounts at the floor fall as soon as
    many below it. Whoever can be opened before a mail is read must be reset today; of
    administrators, whom an attacker tries first, a smaller share is enough. Whom a year opens, and
    every administrator, changes the password at the next login.
    """
    if since in (SinceThen.MADE, SinceThen.CHANGED) or kind.grade is Grade.LOCKED:
        return Urgency.NOTHING
    if kind.grade is Grade.UNKNOWN:
        return Urgency.LOOK
    if since is SinceThen.UPGRADED or falls[_DAY].share >= (_TENTH if administrators else _HALF):
        return Urgency.TODAY
    if administrators or falls[_YEAR].share >= _TENTH:
        return Urgency.NEXT_LOGIN
    return Urgency.NOTHING
