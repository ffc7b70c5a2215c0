"""Forecasting a store: its accounts by grade and last login, beside a log where there is one."""

from collections.abc import Callable, Iterator
from datetime import date

import numpy as np
import polars as pl
from msgspec import Struct, field

from lean_tumbler.core.forecast.back_test import BackTest
from lean_tumbler.core.forecast.irregularities import Irregularity
from lean_tumbler.core.forecast.last_logins import NEVER_SEEN, Population
from lean_tumbler.core.forecast.log_table import TabledLog, seen_later, tabled
from lean_tumbler.core.forecast.times import Times, day_of, days_of, number_of
from lean_tumbler.core.forecast.waiting import Forecast, FromDates, FromLog
from lean_tumbler.core.grades import BELOW_FLOOR, Grade
from lean_tumbler.stores.scans.login_log import LoginLog, folded
from lean_tumbler.stores.scans.profiling import NO_GRADED_ROWS

_WEAK = tuple(grade for grade in Grade if grade in BELOW_FLOOR)
_STALE_DAYS = 7


class StoreForecast(Struct, frozen=True, kw_only=True):
    """What is to be expected of a store."""

    as_of: date  # the day that it starts from
    weak: Forecast  # accounts below the floor that have not returned
    layered: Forecast  # the same of accounts that are layered already
    dated: int  # accounts with a date of their last login
    # by grade, and by what a check needs, of values below the floor or layered: rows, and those
    # that were seen in the last days
    seen_lately: dict[tuple[Grade, str], tuple[int, int]]
    # whether there is a log, or the day on which each account was made; without them who has left
    # for good is taken for somebody who returns
    sees_who_leaves: bool
    notes: tuple[str, ...]  # what a reader should know of the data
    # of these, what makes a forecast, or its intervals, worth less
    irregularities: tuple[Irregularity, ...] = ()
    # of a log, what forecasts of the past missed, and what the baseline did
    tests: tuple[BackTest, BackTest] | None = None


class ForecastContext(Struct, frozen=True, kw_only=True):
    """What a forecast works with."""

    today: date  # the day that it is made for
    session_days: int  # how long a session is remembered: seen is not typed
    lately_days: int  # what counts as lately

    @property
    def day(self) -> int:
        """Today as a number of days since 1970."""
        return number_of(self.today)


class Accounts(Struct, kw_only=True):
    """A store's accounts by grade, by what a check needs, and by the day they were last seen."""

    today: date  # later days are left out
    with_logins: bool = False  # whether each account's login is kept, to be held against a log
    with_created: bool = False  # whether the day is kept on which each was made
    _times: Times = field(default_factory=Times)
    _parts: list[pl.DataFrame] = field(default_factory=list)

    def __post_init__(self) -> None:
        self.add(NO_GRADED_ROWS)

    def add(self, graded: pl.DataFrame) -> None:
        """Add rows, as `graded_rows` gives them."""
        kept = {"day": days_of(graded["seen"], today=self.today, times=self._times)}
        if self.with_created:
            kept["made"] = days_of(graded["created"], today=self.today, times=Times())
        dated = graded.select("grade", "needs", **kept, login=folded("login"))
        dated = dated.filter(pl.col("grade") != Grade.LOCKED)
        if self.with_logins:
            self._parts.append(dated.with_columns(accounts=pl.lit(1, pl.UInt32)))
        else:
            self._parts.append(dated.group_by("grade", "needs", *kept).agg(accounts=pl.len()))

    @property
    def rows(self) -> pl.DataFrame:
        """All that a password opens: `grade`, `needs`, `day` and `accounts`.

        Perhaps `made`, and `login`.
        """
        return pl.concat(self._parts)

    @property
    def notes(self) -> list[str]:
        """What a reader should know of the dates."""
        return self._times.notes()


class _Basis(Struct, frozen=True, kw_only=True):
    """What forecasts rest on: rows with `ago`, how to forecast some of them, and what was seen."""

    rows: pl.DataFrame
    forecast: Callable[[pl.DataFrame], Forecast]
    irregularities: tuple[Irregularity, ...]
    notes: tuple[str, ...]
    tests: tuple[BackTest, BackTest] | None = None


def forecast_accounts(
    accounts: Accounts, *, context: ForecastContext, log: LoginLog | None = None
) -> StoreForecast:
    """Forecast when a store's accounts return.

    Args:
        accounts: all of them; with their logins where there is a log.
        context: the day and the session's length.
        log: of logins with passwords; without it, last logins alone are read.
    """
    rows = accounts.rows
    end = _end(rows if log is None else log.events, context)
    basis = _on_dates(accounts, end, context) if log is None else _on_log(rows, log, end)
    weak, layered = (
        basis.forecast(basis.rows.filter(pl.col("grade").is_in(grades)))
        for grades in (_WEAK, (Grade.LAYERED,))
    )
    return StoreForecast(
        as_of=day_of(end),
        weak=weak,
        layered=layered,
        dated=int(basis.rows.filter(pl.col("ago") < NEVER_SEEN)["accounts"].sum()),
        seen_lately=_seen_lately(basis.rows, context.lately_days),
        sees_who_leaves=log is not None or accounts.with_created,
        notes=(*_stale(end, context), *basis.notes),
        irregularities=basis.irregularities,
        tests=basis.tests,
    )


def _on_dates(accounts: Accounts, end: int, context: ForecastContext) -> _Basis:
    """Rest forecasts on last logins, and on the days on which accounts were made."""
    ago = (end - pl.col("day") + context.session_days // 2).fill_null(NEVER_SEEN)
    rows = accounts.rows.with_columns(ago=ago.cast(pl.Float64))
    if accounts.with_created:
        rows = rows.with_columns(made_ago=_made_ago(end))
    known = FromDates(everybody=_population(rows))
    return _Basis(
        rows=rows,
        forecast=lambda some: known.forecast(
            _population(some),
            {name: _population(part) for name, part in _by_needs(some)},
        ),
        irregularities=known.irregularities,
        notes=(*accounts.notes, *_of_sessions(context), *_of_leavers(accounts)),
    )


def _on_log(rows: pl.DataFrame, log: LoginLog, end: int) -> _Basis:
    """Rest forecasts on a log; the days on which accounts were made tell who is from before it."""
    rows = rows.join(log.accounts, on="login", how="left").drop("login")
    rows = rows.rename({"number": "login"})
    last = log.events.group_by("login").agg(logged=pl.col("day").max())
    rows = rows.join(last, on="login", how="left").with_columns(
        ago=(end - pl.coalesce("logged", "day")).fill_null(NEVER_SEEN).cast(pl.Float64)
    )
    made = pl.col("made") if "made" in rows.columns else pl.lit(None, pl.Int32)
    own = rows.select("login", "day", "logged", made=made).drop_nulls("login").unique("login")
    of_log = tabled(log.events, own, end=end)
    known = FromLog(table=of_log.table, lacks=of_log.lacks)
    return _Basis(
        rows=rows,
        forecast=lambda some: known.forecast(
            of_log.waiting(some),
            {name: of_log.waiting(part) for name, part in _by_needs(some)},
        ),
        irregularities=known.irregularities,
        notes=(*log.notes, *_of_unknown(rows, of_log)),
        tests=known.tests,
    )


def _made_ago(end: int) -> pl.Expr:
    """Give how many days ago each account was made, as `Population` takes it."""
    return (end - pl.col("made")).clip(0).fill_null(NEVER_SEEN).cast(pl.Float64)


def _population(rows: pl.DataFrame) -> Population:
    """Count accounts that fare alike: of `ago`, and of `made_ago` where it is there."""
    by = [name for name in ("ago", "made_ago") if name in rows.columns]
    counted = rows.group_by(by).agg(pl.col("accounts").sum()).sort(by)
    columns = {name: counted[name].to_numpy().astype(np.float64) for name in counted.columns}
    return Population(
        seen_days_ago=columns["ago"],
        accounts=columns["accounts"],
        made_days_ago=columns.get("made_ago"),
    )


def _by_needs(rows: pl.DataFrame) -> Iterator[tuple[str, pl.DataFrame]]:
    """Part accounts by what a check of their values needs, the most first."""
    most = rows.group_by("needs").agg(pl.col("accounts").sum())
    names = most.sort("accounts", "needs", descending=[True, False])["needs"]
    return ((name, rows.filter(pl.col("needs") == name)) for name in names)


def _end(dated: pl.DataFrame, context: ForecastContext) -> int:
    """Give the day that the data is of: today, unless nothing was seen for days."""
    newest = dated["day"].max()
    if not isinstance(newest, int) or context.day - newest <= _STALE_DAYS:
        return context.day
    return newest


def _seen_lately(rows: pl.DataFrame, days: int) -> dict[tuple[Grade, str], tuple[int, int]]:
    found: dict[tuple[Grade, str], tuple[int, int]] = {}
    accounts = pl.col("accounts")
    grouped = (
        rows.filter(pl.col("grade").is_in([*_WEAK, Grade.LAYERED]))
        .group_by("grade", "needs")
        .agg(all=accounts.sum(), lately=accounts.filter(pl.col("ago") <= days).sum())
        .sort("all", descending=True)
    )
    for grade, needs, number, lately in grouped.iter_rows():
        found[Grade(grade), needs] = (int(number), int(lately))
    return found


def _stale(end: int, context: ForecastContext) -> Iterator[str]:
    if end < context.day:
        newest = day_of(end).isoformat()
        yield f"the newest login is dated {newest}, so that day is taken as today"


def _of_sessions(context: ForecastContext) -> Iterator[str]:
    if context.session_days:
        yield (
            f"“last seen” is taken for {context.session_days // 2} days newer than the last typed "
            f"password, half of a session of {context.session_days} days"
        )
    else:
        yield (
            "remembered sessions make “last seen” newer than the last typed password: "
            "--session-days takes their length into account"
        )


def _of_leavers(accounts: Accounts) -> Iterator[str]:
    if not accounts.with_created:
        yield (
            "last logins alone cannot tell who has left for good: if people leave, more will wait "
            "than this says; name “created” in [columns], or give a log of "
            "logins (--logins)"
        )


def _of_unknown(rows: pl.DataFrame, log: TabledLog) -> Iterator[str]:
    """Say how far a log and a store agree."""
    unknown = int(rows.filter(pl.col("logged").is_null())["accounts"].sum()) - log.lacked
    if unknown:
        yield (
            f"accounts that are not in the log: {unknown:,}; they are forecast as people "
            "from before it begins, by how many of those have come since"
        )
    if log.lacked:
        yield (
            f"accounts that the log lacks, though the store saw them in its time: {log.lacked:,}; "
            "they are forecast by when they were seen"
        )
    if later := seen_later(rows):
        yield (
            "accounts whose last login is in the store more than a week newer than in the log: "
            f"{later:,}, as with sessions that live on without a password, or a log that misses "
            "logins; the forecast follows the log"
        )
