"""Likely passwords against salted rows, row by row, within a budget of time."""

from collections.abc import Callable, Iterable, Iterator, Sequence
from dataclasses import dataclass, field

import polars as pl

from lean_tumbler.core.audit.profile import Frame
from lean_tumbler.core.audit.results import Profile
from lean_tumbler.core.checking import Rules, check
from lean_tumbler.core.formulas import notation
from lean_tumbler.core.formulas.evaluation import Inputs, prepared
from lean_tumbler.core.formulas.steps import DIGESTS
from lean_tumbler.core.grades import Grade
from lean_tumbler.core.policy import NamedFormula
from lean_tumbler.core.schemes.base import ParsedValue
from lean_tumbler.core.schemes.catalogue import read_value
from lean_tumbler.errors import CheckImpossible, InputDoesNotFit

ROWS_HELD = 200_000
_LOGIN_ENDINGS = ("", "1", "123")
_SLOW = frozenset({Grade.OUTDATED, Grade.CURRENT, Grade.LAYERED})


@dataclass(frozen=True, slots=True, kw_only=True)
class Budget:
    """What may be spent on salted rows.

    Attributes:
        passwords: the likeliest first.
        seconds: for one column.
        slow_schemes: whether slow schemes are tried too.
        clock: seconds that pass.
    """

    passwords: Sequence[str] = field(repr=False)
    seconds: float
    slow_schemes: bool
    clock: Callable[[], float]


@dataclass(slots=True)
class _Row:
    account: str
    privileged: bool
    opens: Callable[[str], bool] = field(repr=False)
    own: Sequence[str] = field(repr=False)


def guess(
    frames: Iterable[Frame], profile: Profile, formulas: Sequence[NamedFormula], budget: Budget
) -> tuple[pl.DataFrame, str]:
    """Try likely passwords on salted rows: the likeliest on all of them, then the next.

    Args:
        frames: the column, looked at again.
        profile: the same column's profile.
        formulas: what the policy knows of its values.
        budget: how long, and with what.

    Returns:
        The rows that one of them opens (`account`, `privileged`), and the coverage in words.
    """
    rows, left_out = _held(frames, profile, formulas, budget)
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
    frames: Iterable[Frame], profile: Profile, formulas: Sequence[NamedFormula], budget: Budget
) -> tuple[list[_Row], int]:
    """Hold the rows to try, and count those beyond what is held."""
    held: list[_Row] = []
    left_out = 0
    for frame in frames:
        grades = [profile.readings.get(g.reading, g.reading).grade for g in frame.groups]
        fast = [n for n, found in enumerate(grades) if found is Grade.FAST_SALTED]
        slow = [n for n, found in enumerate(grades) if found in _SLOW and budget.slow_schemes]
        for row in frame.of(*fast, *slow).iter_rows(named=True):
            opens = _opener(row, formulas, is_slow=row["group"] in slow)
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


def _opener(
    row: dict[str, str | None], formulas: Sequence[NamedFormula], *, is_slow: bool
) -> Callable[[str], bool] | None:
    stored, login = row["stored"] or "", row["login"]
    salt = None if row["salt"] is None else row["salt"].encode("utf-8")
    if is_slow:
        return _slow_opener(stored, salt, login, formulas)
    parsed = read_value(stored)
    if parsed.salt is not None:
        salt = parsed.salt
    runs = [
        (prepared(named.formula), canonical)
        for named, canonical in _canonical(stored, parsed, salt, formulas)
    ]
    if not runs:
        return None

    def opens(password: str) -> bool:
        inputs = Inputs(password=password, salt=salt, login=login)
        for run, canonical in runs:
            try:
                if run(inputs) == canonical:
                    return True
            except InputDoesNotFit:
                continue
        return False

    return opens


def _slow_opener(
    stored: str, salt: bytes | None, login: str | None, formulas: Sequence[NamedFormula]
) -> Callable[[str], bool]:
    rules = Rules(formulas=formulas, by_fingerprint={f.fingerprint: f for f in formulas})

    def opens(password: str) -> bool:
        try:
            return check(stored, password, salt=salt, login=login, rules=rules).accepted
        except CheckImpossible:
            return False

    return opens


def _canonical(
    stored: str, parsed: ParsedValue, salt: bytes | None, formulas: Sequence[NamedFormula]
) -> Iterator[tuple[NamedFormula, str]]:
    """Formulas that can have made a salted value, with the value as each prints it."""
    fitting = [named for named in formulas if named.fits(stored, salt=salt)]
    for named in fitting:
        yield named, named.output.canonical(stored) or ""
    if fitting:
        return
    texts = parsed.contents.formulas if parsed.salted else _either_side(parsed)
    for text in texts:
        yield NamedFormula(text, notation.parse(text)), parsed.digest.hex()


def _either_side(parsed: ParsedValue) -> Iterator[str]:
    """Where nobody says how the salt goes in, it goes on one of two sides."""
    for name, digest in DIGESTS.items():
        if digest.size_bytes == len(parsed.digest):
            yield f"append salt, {name}, hex"
            yield f"prepend salt, {name}, hex"
