"""What a copy of a store's table holds of each account, by the copy or by what stands today."""

from collections.abc import Iterator
from datetime import date
from pathlib import Path

import polars as pl
from msgspec import Struct
from msgspec.structs import replace

from lean_tumbler.core.audit.frames import Group
from lean_tumbler.core.audit.profile import Profiler
from lean_tumbler.core.forecast.times import Times, days_of, number_of
from lean_tumbler.core.grades import BELOW_FLOOR, Grade, grade
from lean_tumbler.core.policy import StorePolicy
from lean_tumbler.core.reading.grading import grade_of_formulas
from lean_tumbler.core.reading.reader import RowReader
from lean_tumbler.core.reading.rows import Row
from lean_tumbler.core.reading.ways import FormulaWay, LegacyWay, PasswordWay
from lean_tumbler.core.tuning.attacker import guess_rate, guesses_per_second
from lean_tumbler.core.tuning.exposure import reading_rate
from lean_tumbler.core.tuning.leak import LeakedKind, SinceThen
from lean_tumbler.core.tuning.work import formula_work
from lean_tumbler.stores.files.base import Unreadable
from lean_tumbler.stores.kinds import tables_at
from lean_tumbler.stores.scans.profiling import AuditContext, looked_at, policy_table, reader_of

_NOT_KNOWN = LeakedKind(
    words="beneath a layer: not known", grade=Grade.UNKNOWN, guesses_per_second=None, salted=False
)
_WEAK = [str(grade) for grade in BELOW_FLOOR]
_ANY_DAY = date(9000, 1, 1)  # later than whatever a column says
_MOST = 0.95  # of the values of a kind
_SCHEMA = {
    "account": pl.String, "login": pl.String, "privileged": pl.Boolean, "kind": pl.UInt32,
    "beneath": pl.UInt32, "grade": pl.String, "created": pl.Int32, "updated": pl.Int32,
    "text": pl.UInt64, "salt": pl.UInt64,
}  # fmt: skip


class Leaked(Struct, frozen=True, kw_only=True):
    """What the copy holds."""

    # `account`, `login`, `privileged`, `kind` (the index in `kinds`) and `since`, what has happened
    # since; accounts without a value are left out
    rows: pl.DataFrame
    kinds: tuple[LeakedKind, ...]  # what values are
    unreadable: int  # rows that could not be read
    by_copy: bool  # whether the copy itself was read


def leaked(
    store: StorePolicy, *, base: Path, context: AuditContext, since: date, copy: str | None
) -> Leaked:
    """Say what a copy holds of each account.

    Args:
        store: the live one.
        base: the folder that relative paths start from.
        context: policy, floor and attacker.
        since: the day on which the copy left.
        copy: the copy itself, a file or a database; without it, today's values are taken.

    Raises:
        UsageError: there is no such table or column.
        SourceError: store or copy cannot be read.
    """
    kinds: dict[LeakedKind, int] = {}
    today, unreadable = _rows(store, base, context, kinds)
    if copy is None:
        rows = _by_today(today, number_of(since), ready=store.readers_ready is not None)
    else:
        copied, lost = _rows(_copied(store, copy, base), base, context, kinds)
        unsalted = [number for kind, number in kinds.items() if not kind.salted]
        rows = _by_copy(copied, today, unsalted)
        unreadable += lost
    return Leaked(
        rows=rows.select("account", "login", "privileged", "kind", "since"),
        kinds=tuple(kinds),
        unreadable=unreadable,
        by_copy=copy is not None,
    )


def _by_today(today: pl.DataFrame, since: int, *, ready: bool) -> pl.DataFrame:
    """Take today's values for the copy's, but for what may have been written since."""
    unwritten = (pl.col("updated") < since).fill_null(value=not ready)
    is_made = (pl.col("created") > since).fill_null(value=False)
    is_layered = pl.col("grade") == Grade.LAYERED
    # What is current or locked today may have been written over something else since.
    is_new = pl.col("grade").is_in([str(Grade.CURRENT), str(Grade.LOCKED)])
    return today.with_columns(
        # What was layered since lay bare in the copy.
        kind=pl.when(is_layered & ~unwritten).then("beneath").otherwise("kind"),
        since=pl.when(is_made)
        .then(pl.lit(SinceThen.MADE))
        .when(is_new & ~unwritten)
        .then(pl.lit(SinceThen.UPGRADED))
        .otherwise(pl.lit(SinceThen.NOTHING)),
    )


def _by_copy(copied: pl.DataFrame, today: pl.DataFrame, unsalted: list[int]) -> pl.DataFrame:
    """Take the copy's values; who is in the store alone was made since.

    A weak value that is another now is of another password if it is of the same kind, and without
    salt or beside the same. One of another kind, or with another salt, may be the same password,
    written anew. Where nearly all values of a kind differ, the copy has them in another form, and
    nothing is said; nor of accounts that have several rows.
    """
    live = today.unique("account", keep="none").select("account", "kind", "grade", "text", "salt")
    rows = copied.join(live, on="account", how="left", suffix="_now", maintain_order="left")
    has_same_salt = pl.col("kind").is_in(unsalted) | (pl.col("salt") == pl.col("salt_now"))
    is_alike = (pl.col("kind_now") == pl.col("kind")) & pl.col("grade_now").is_in(_WEAK)
    is_alike &= has_same_salt
    is_other = pl.col("text") != pl.col("text_now")
    is_changed = (
        is_alike & is_other & (is_other.filter(is_alike).mean().over("kind") < _MOST)
    ).fill_null(value=False)
    rows = rows.with_columns(
        since=pl.when(is_changed)
        .then(pl.lit(SinceThen.CHANGED))
        .otherwise(pl.lit(SinceThen.NOTHING))
    )
    made = today.join(copied, on="account", how="anti")
    made = made.with_columns(since=pl.lit(SinceThen.MADE))
    names = ["account", "login", "privileged", "kind", "since"]
    return pl.concat([rows.select(names), made.select(names)])


def _copied(store: StorePolicy, copy: str, base: Path) -> StorePolicy:
    """Give the store's columns, in the copy: in its table of that name, or in its only one."""
    _, tables = tables_at(copy, base=base)
    table = tables[0].name if len(tables) == 1 else store.table
    return replace(store, locator=copy, table=table)


def _rows(
    store: StorePolicy, base: Path, context: AuditContext, kinds: dict[LeakedKind, int]
) -> tuple[pl.DataFrame, int]:
    """Read a store's rows, with the kind of each value, and of what lies beneath a layer."""
    reader, unreadable = reader_of(store, context.policy), Unreadable()
    profiler = Profiler(floor=context.floor, reader=reader)
    table = policy_table(store, base=base)
    parts = [pl.DataFrame(schema=_SCHEMA)]
    for looked in looked_at(
        table, store.columns, unreadable, profiler, context, store.other_columns
    ):
        found = [tuple(_kinds(group, reader, context)) for group in looked.groups]
        groups = pl.DataFrame(
            {
                "group": range(len(found)),
                "kind": [kinds.setdefault(kind, len(kinds)) for kind, _ in found],
                "beneath": [kinds.setdefault(beneath, len(kinds)) for _, beneath in found],
                "grade": [str(kind.grade) for kind, _ in found],
            },
            schema={"group": pl.UInt32}
            | {name: _SCHEMA[name] for name in ("kind", "beneath", "grade")},
        )
        rows = looked.rows.join(groups, on="group", maintain_order="left")
        days = {
            name: days_of(rows[name], today=_ANY_DAY, times=Times())
            for name in ("created", "updated")
        }
        salt = pl.col("salt")
        hashes = {
            "text": pl.col("stored").str.strip_chars().hash(),
            "salt": pl.when(salt.str.len_bytes() > 0).then(salt.hash()),
        }
        parts.append(rows.with_columns(**days, **hashes).select(list(_SCHEMA)))
    return pl.concat(parts), unreadable.rows


def _kinds(group: Group, reader: RowReader, context: AuditContext) -> Iterator[LeakedKind]:
    """Give what a group's values are, and what lies beneath them; the same without a layer."""
    reading = group.reading
    own = LeakedKind(
        words=reading.scheme,
        grade=reading.grade,
        guesses_per_second=reading_rate(reading, context.attacker.hardware),
        salted=reading.salted,
    )
    yield own
    if reading.grade is not Grade.LAYERED:
        yield own
        return
    ways = reader.read(Row(stored=group.stored.encode())).ways
    beneath = [_beneath(way, context) for way in ways if not isinstance(way, PasswordWay)]
    yield max(beneath, key=_ease, default=_NOT_KNOWN)  # of several, what is guessed at soonest


def _ease(kind: LeakedKind) -> float:
    return float("inf") if kind.guesses_per_second is None else kind.guesses_per_second


def _beneath(way: LegacyWay, context: AuditContext) -> LeakedKind:
    """Give the kind of what lay bare before it was layered."""
    hardware = context.attacker.hardware
    if isinstance(way, FormulaWay):
        found = grade_of_formulas([way])
        return LeakedKind(
            words=way.formula.name,
            grade=found,
            guesses_per_second=guess_rate(formula_work(way.formula.formula), hardware),
            salted=found is Grade.FAST_SALTED,
        )
    parsed = way.parsed
    if parsed is None:
        return replace(_NOT_KNOWN, words=way.origin)
    return LeakedKind(
        words=parsed.scheme,
        grade=grade(parsed, context.floor, salted=True),
        guesses_per_second=guesses_per_second(parsed.scheme, parsed.parameters, hardware),
        salted=True,
    )
