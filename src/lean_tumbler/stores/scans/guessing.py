"""Likely passwords against salted rows, row by row, within a budget of time."""

from collections.abc import Callable, Iterable, Iterator, Sequence

import polars as pl
from msgspec import Struct

from lean_tumbler.core.audit.frames import Frame
from lean_tumbler.core.audit.representatives import row_of
from lean_tumbler.core.audit.results import Profile
from lean_tumbler.core.grades import Grade
from lean_tumbler.core.login.checking import is_opened
from lean_tumbler.core.reading.fitting_ways import either_side
from lean_tumbler.core.reading.reader import RowReader
from lean_tumbler.core.reading.rows import Row
from lean_tumbler.core.reading.ways import Bounds, FormulaWay
from lean_tumbler.core.records import Hidden, MaskedRecord

ROWS_HELD = 200_000
_LOGIN_ENDINGS = ("", "1", "123")
_BOUNDS = Bounds()
_SLOW = frozenset({Grade.OUTDATED, Grade.CURRENT, Grade.LAYERED})


class Budget(MaskedRecord, Struct, frozen=True, kw_only=True):
    """What may be spent on salted rows."""

    passwords: Hidden[Sequence[str]]  # the likeliest first
    seconds: float  # for one column
    slow_schemes: bool  # whether slow schemes are tried too
    clock: Callable[[], float]  # seconds that pass


class _Row(MaskedRecord, Struct):
    account: str
    privileged: bool
    opens: Hidden[Callable[[str], bool]]
    own: Hidden[Sequence[str]]


def guess(
    frames: Iterable[Frame], profile: Profile, reader: RowReader, budget: Budget
) -> tuple[pl.DataFrame, str]:
    """Try likely passwords on salted rows: the likeliest on all of them, then the next.

    Args:
        frames: the column, looked at again.
        profile: the same column's profile.
        reader: of the store's rows.
        budget: how long, and with what.

    Returns:
        The rows that one of them opens (`account`, `privileged`), and the coverage in words.
    """
    rows, left_out = _held(frames, profile, reader, budget)
    schema = {"account": pl.String, "privileged": pl.Boolean}
    if not rows:
        return pl.DataFrame(schema=schema), ""
    tried, opened, end = 0, [], budget.clock() + budget.seconds
    waiting = rows
    for passwords in _rounds(budget.passwords):
        still: list[_Row] = []
        for row in waiting:
            if budget.clock() > end:
                break
            tried += 1
            candidates = row.own if passwords is None else passwords
            if any(row.opens(password) for password in candidates):
                opened.append((row.account, row.privileged))
            else:
                still.append(row)
        else:
            waiting = still
            if waiting:
                continue
        break
    share = min(1.0, (tried + len(opened)) / (len(rows) * (len(budget.passwords) + 1)))
    if not waiting:
        share = 1.0
    more = f"; {left_out:,} more rows not tried" if left_out else ""
    coverage = f"{len(rows):,} salted rows: {share:.1%} of all tries in {budget.seconds:g} s{more}"
    return pl.DataFrame(opened, schema=schema, orient="row"), coverage


def _rounds(passwords: Sequence[str]) -> Iterator[Sequence[str] | None]:
    """Give what is tried on all rows in turn: what comes from their logins, then each password."""
    yield None
    for password in passwords:
        yield (password,)


def _held(
    frames: Iterable[Frame], profile: Profile, reader: RowReader, budget: Budget
) -> tuple[list[_Row], int]:
    """Hold the rows to try, and count those beyond what is held."""
    held: list[_Row] = []
    left_out = 0
    for frame in frames:
        grades = [profile.readings.get(g.reading, g.reading).grade for g in frame.groups]
        fast = [n for n, found in enumerate(grades) if found is Grade.FAST_SALTED]
        slow = [n for n, found in enumerate(grades) if found in _SLOW and budget.slow_schemes]
        for row in frame.of(*fast, *slow).iter_rows(named=True):
            opens = _opener(row_of(row), reader, is_slow=row["group"] in slow)
            if opens is None:
                continue
            if len(held) == ROWS_HELD:
                left_out += 1
                continue
            login = row["login"] or ""
            names = dict.fromkeys(name for name in (login, login.partition("@")[0]) if name)
            own = [name + ending for name in names for ending in _LOGIN_ENDINGS]
            held.append(_Row(row["account"], row["privileged"], opens, own))
    return held, left_out


def _opener(row: Row, reader: RowReader, *, is_slow: bool) -> Callable[[str], bool] | None:
    """Give what tries one password on a row; None where nothing says how."""
    reading = reader.read(row)
    if is_slow:
        return lambda password: is_opened(reading, password, bounds=_BOUNDS)
    ways = [way for way in reading.ways if isinstance(way, FormulaWay) and way.salt is not None]
    ways = ways or list(either_side(reading, row))
    if not ways:
        return None

    tried = [(way.computing(_BOUNDS), way.canonical) for way in ways]

    def opens_one(password: str) -> bool:
        return any(compute(password) == canonical for compute, canonical in tried)

    return opens_one
