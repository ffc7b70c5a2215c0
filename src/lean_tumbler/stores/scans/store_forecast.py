"""Forecasting a store: its accounts by grade and last login, beside a log where there is one."""

from collections.abc import Callable, Iterator
from dataclasses import dataclass, field
from datetime import date

import polars as pl

from lean_tumbler.core.forecast.back_test import CUTS, BackTest, back_test
from lean_tumbler.core.forecast.forecasting import (
    HORIZONS,
    Fitted,
    Forecast,
    fitted,
    forecast,
    with_others,
)
from lean_tumbler.core.forecast.intervals import DRAWS
from lean_tumbler.core.forecast.observations import (
    NEVER_SEEN,
    Population,
    from_last_logins,
    from_log,
    last_seen,
    population,
)
from lean_tumbler.core.forecast.times import Times, day_of, days_of, number_of
from lean_tumbler.core.grades import BELOW_FLOOR, Grade
from lean_tumbler.stores.scans.login_log import LoginLog, folded
from lean_tumbler.stores.scans.profiling import NO_GRADED_ROWS

# Every fortnight of a year and the first days, for the plot; and the days that are told.
DAYS = tuple(sorted({3, 7, *range(14, 365, 14), *HORIZONS}))
_WEAK = tuple(grade for grade in Grade if grade in BELOW_FLOOR)
_STALE_DAYS = 7


@dataclass(frozen=True, slots=True, kw_only=True)
class StoreForecast:
    """What is to be expected of a store.

    Attributes:
        as_of: the day that it starts from.
        weak: accounts below the floor that have not returned.
        layered: the same of accounts that are layered already.
        dated: accounts with a date of their last login.
        seen_lately: by grade, and by what a check needs, of values below the floor or layered:
            rows, and those that were seen in the last days.
        sees_who_leaves: whether there is a log, or the day on which each account was made; without
            them who has left for good is taken for somebody who returns.
        notes: what a reader should know of the data.
        back_test: None where it was not asked for.
    """

    as_of: date
    weak: Forecast
    layered: Forecast
    dated: int
    seen_lately: dict[tuple[Grade, str], tuple[int, int]]
    sees_who_leaves: bool
    notes: tuple[str, ...]
    back_test: BackTest | None = None


@dataclass(frozen=True, slots=True, kw_only=True)
class ForecastContext:
    """What a forecast works with.

    Attributes:
        today: the day that it is made for.
        session_days: how long a session is remembered: seen is not typed.
        lately_days: what counts as lately.
        progress: told of each draw of the bootstrap.
    """

    today: date
    session_days: int
    lately_days: int
    progress: Callable[[int], None] = field(default=lambda _: None)

    @property
    def day(self) -> int:
        """Today as a number of days since 1970."""
        return number_of(self.today)


def draws_of(*, with_back_test: bool) -> int:
    """Say of how many draws the progress will be told."""
    return DRAWS * (1 + (len(CUTS) if with_back_test else 0))


@dataclass(slots=True, kw_only=True)
class Accounts:
    """A store's accounts by grade, by what a check needs, and by the day they were last seen.

    Attributes:
        today: later days are left out.
        with_logins: whether each account's login is kept, to be held against a log.
        with_created: whether the day is kept on which each was made.
    """

    today: date
    with_logins: bool = False
    with_created: bool = False
    _times: Times = field(default_factory=Times)
    _parts: list[pl.DataFrame] = field(default_factory=list)

    def __post_init__(self) -> None:
        self.add(NO_GRADED_ROWS)

    def add(self, graded: pl.DataFrame) -> None:
        """Add rows, as `graded_rows` gives them."""
        kept = {"day": days_of(graded["seen"], today=self.today, times=self._times)}
        if self.with_created:
            kept["made"] = days_of(graded["created"], today=self.today, times=self._times)
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


def forecast_accounts(
    accounts: Accounts,
    *,
    context: ForecastContext,
    log: LoginLog | None = None,
    with_back_test: bool = False,
) -> StoreForecast:
    """Forecast when a store's accounts return.

    Args:
        accounts: all of them; with their logins where there is a log.
        context: the day and the session's length.
        log: of logins with passwords; without it, last logins alone are read.
        with_back_test: hold forecasts of the past against the log.
    """
    rows = accounts.rows
    end = _end(rows if log is None else log.events, context)
    rows = _seen(rows, end, context, log)
    everybody = population(rows)
    watched = from_last_logins(everybody) if log is None else from_log(log.events, end=end)
    known = fitted(watched, days=DAYS, progress=context.progress)
    weak, layered = (
        _forecast(rows.filter(pl.col("grade").is_in(grades)), everybody, known)
        for grades in (_WEAK, (Grade.LAYERED,))
    )
    return StoreForecast(
        as_of=day_of(end),
        weak=weak,
        layered=layered,
        dated=int(rows.filter(pl.col("ago") < NEVER_SEEN)["accounts"].sum()),
        seen_lately=_seen_lately(rows, context.lately_days),
        sees_who_leaves=log is not None or accounts.with_created,
        notes=tuple(_notes(accounts, context, end, log, not_in_log=_not_in_log(rows))),
        back_test=back_test(log.events, progress=context.progress)
        if log is not None and with_back_test
        else None,
    )


def _seen(
    rows: pl.DataFrame, end: int, context: ForecastContext, log: LoginLog | None
) -> pl.DataFrame:
    """Say of accounts how many days ago they were seen; of a log, since when they are known."""
    if log is None:
        rows = rows.with_columns(ago=end - pl.col("day") + context.session_days // 2)
        if "made" in rows.columns:
            rows = rows.with_columns(known=end - pl.col("made"))
    else:
        seen = last_seen(log.events, end=end).join(log.accounts, left_on="login", right_on="number")
        seen = seen.select("ago", "known", login="login_right")
        rows = rows.join(seen, on="login", how="left").with_columns(
            in_log=pl.col("ago").is_not_null(),
            ago=pl.coalesce("ago", end - pl.col("day") + context.session_days // 2),
        )
    days = [name for name in ("ago", "known") if name in rows.columns]
    return rows.with_columns(pl.col(days).cast(pl.Float64).fill_null(NEVER_SEEN))


def _forecast(rows: pl.DataFrame, everybody: Population, known: Fitted) -> Forecast:
    """Forecast some accounts; those that the log does not know by their own stored dates."""
    others = rows.filter(~pl.col("in_log")) if "in_log" in rows.columns else rows.clear()
    rows = rows.filter("in_log") if "in_log" in rows.columns else rows
    found = forecast(population(rows), everybody, known, days=DAYS, parts=_cohorts(rows))
    return with_others(found, population(others), _cohorts(others)) if len(others) else found


def _end(dated: pl.DataFrame, context: ForecastContext) -> int:
    """Give the day that the data is of: today, unless nothing was seen for days."""
    newest = dated["day"].max()
    if not isinstance(newest, int) or context.day - newest <= _STALE_DAYS:
        return context.day
    return newest


def _cohorts(rows: pl.DataFrame) -> dict[str, Population]:
    """Part accounts by what a check of their values needs, the most first."""
    most = rows.group_by("needs").agg(pl.col("accounts").sum())
    names = most.sort("accounts", "needs", descending=[True, False])["needs"]
    return {name: population(rows.filter(pl.col("needs") == name)) for name in names}


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


def _not_in_log(rows: pl.DataFrame) -> int:
    """Count accounts that the log does not know; none without a log."""
    if "in_log" not in rows.columns:
        return 0
    return int(rows.filter(~pl.col("in_log"))["accounts"].sum())


def _notes(
    accounts: Accounts,
    context: ForecastContext,
    end: int,
    log: LoginLog | None,
    *,
    not_in_log: int,
) -> Iterator[str]:
    if end < context.day:
        newest = day_of(end).isoformat()
        yield f"the newest login is of {newest}: the data is taken to be of that day"
    if log is not None:
        yield from log.notes
        if not_in_log:
            yield (
                f"the log does not know {not_in_log:,} of the accounts: for these the forecast is "
                "the baseline of their stored last logins, and no fit"
            )
        return
    yield from accounts.notes
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
    if not accounts.with_created:
        yield (
            "from last logins alone, who has left for good is taken for somebody who returns: "
            "where people leave, more will wait than the interval says; name “created” in "
            "[columns], or give a log of logins (--logins)"
        )
