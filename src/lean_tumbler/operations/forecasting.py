"""Forecasting a store: its accounts by grade and last login, a log where there is one."""

from collections import Counter
from collections.abc import Callable, Iterator
from contextlib import closing
from dataclasses import dataclass, field
from datetime import date
from pathlib import Path

import numpy as np
import polars as pl

from lean_tumbler.core.forecast.back_test import BackTest, back_test
from lean_tumbler.core.forecast.bands import DRAWS
from lean_tumbler.core.forecast.forecasting import HORIZONS, Forecast, Population, forecast
from lean_tumbler.core.forecast.times import EPOCH, Times, days_of
from lean_tumbler.core.forecast.watching import NEVER_SEEN, from_last_logins, from_log, last_seen
from lean_tumbler.core.grades import BELOW_FLOOR, Grade
from lean_tumbler.core.policy import StorePolicy
from lean_tumbler.errors import UsageError
from lean_tumbler.operations.auditing import Means, graded_rows
from lean_tumbler.stores.sources.base import Table, Unreadable
from lean_tumbler.stores.sources.opening import tables_at

# Every fortnight of a year and the first days, for the plot; and the days that are told.
DAYS = tuple(sorted({3, 7, *range(14, 365, 14), *HORIZONS}))
_LOGIN_NAMES = ("login", "account", "email", "user", "username", "user_id", "account_id", "mail")
_TIME_SHARE = 0.5  # of a column's first rows that must be times
_WEAK = tuple(grade for grade in Grade if grade in BELOW_FLOOR)
_BACK_TEST_CUTS = 4
_STALE_DAYS = 7


@dataclass(frozen=True, slots=True, kw_only=True)
class LoginLog:
    """A log of logins with passwords.

    Attributes:
        events: `login`, as a number, and `day`; of one day there may be several.
        accounts: `login`, folded, and its `number`.
        name: of the file or table.
        notes: what a reader should know of it.
    """

    events: pl.DataFrame
    accounts: pl.DataFrame
    name: str
    notes: tuple[str, ...]

    def last_days(self) -> dict[str, date]:
        """Give the last day of each login, folded."""
        last = self.events.group_by("login").agg(pl.col("day").max())
        named = self.accounts.join(last, left_on="number", right_on="login").select("login", "day")
        return {login: date.fromordinal(day + EPOCH) for login, day in named.iter_rows()}


@dataclass(frozen=True, slots=True, kw_only=True)
class StoreForecast:
    """What is to be expected of a store.

    Attributes:
        as_of: the day that it starts from.
        weak: accounts below the floor that have not returned.
        layered: the same of accounts that are layered already.
        dated: accounts with a date of their last login.
        accounts: all with a value that a password opens.
        seen_lately: by grade, and by what a check needs, of values below the floor or layered:
            rows, and those that were seen in the last days.
        notes: what a reader should know of the data.
        back_test: None where it was not asked for.
    """

    as_of: date
    weak: Forecast
    layered: Forecast
    dated: int
    accounts: int
    seen_lately: dict[tuple[Grade, str], tuple[int, int]]
    notes: tuple[str, ...]
    back_test: BackTest | None = None


@dataclass(frozen=True, slots=True, kw_only=True)
class ForecastMeans:
    """What a forecast works with.

    Attributes:
        today: the day that it is made for.
        session_days: how long a session is remembered: seen is not typed.
        lately_days: what counts as lately.
        progress: told of each draw of the bootstrap.
    """

    today: date
    session_days: int = 0
    lately_days: int = 30
    progress: Callable[[int], None] = field(default=lambda _: None)

    @property
    def day(self) -> int:
        """Today as a number of days since 1970."""
        return self.today.toordinal() - EPOCH


def draws_of(*, with_back_test: bool) -> int:
    """Say of how many draws the progress will be told."""
    return DRAWS * (2 + (_BACK_TEST_CUTS if with_back_test else 0))


def forecast_store(
    store: StorePolicy,
    *,
    base: Path,
    audit: Means,
    means: ForecastMeans,
    log: LoginLog | None = None,
    with_back_test: bool = False,
) -> StoreForecast:
    """Forecast when a store's accounts return.

    Args:
        store: of the policy.
        base: the folder that a relative locator starts from.
        audit: floor and target that grades go by.
        means: the day and the session's length.
        log: of logins with passwords; without it, last logins alone are read.
        with_back_test: hold forecasts of the past against the log.

    Raises:
        UsageError: neither a column of last logins nor a log is there.
        SourceError: the store cannot be read.
    """
    if log is None and not store.columns.last_login:
        raise UsageError(
            f"[store.{store.name}] names no column “last_login”, and there is no --logins: "
            "without dates nothing can be forecast"
        )
    times = Times()
    rows, end = _dated(store, base, audit, means, times, log)
    everybody = _population(rows)
    watched = (
        from_last_logins(everybody.seen_days_ago, everybody.accounts)
        if log is None
        else from_log(log.events, end=end)
    )
    weak, layered = (
        forecast(
            _population(rows.filter(pl.col("grade").is_in(grades))),
            everybody,
            watched,
            days=DAYS,
            parts=_cohorts(rows.filter(pl.col("grade").is_in(grades))),
            progress=means.progress,
        )
        for grades in (_WEAK, (Grade.LAYERED,))
    )
    return StoreForecast(
        as_of=date.fromordinal(end + EPOCH),
        weak=weak,
        layered=layered,
        dated=int(rows.filter(pl.col("ago") < NEVER_SEEN)["accounts"].sum()),
        accounts=everybody.total,
        seen_lately=_seen_lately(rows, means.lately_days),
        notes=(*_notes(times, means, end, log), *(log.notes if log else ())),
        back_test=back_test(log.events, progress=means.progress)
        if log is not None and with_back_test
        else None,
    )


def _dated(
    store: StorePolicy, base: Path, audit: Means, means: ForecastMeans, times: Times,
    log: LoginLog | None,
) -> tuple[pl.DataFrame, int]:  # fmt: skip
    """Give accounts that a password opens by when they were seen, and the day of the data."""
    rows = _rows(store, base, audit, means, times, keep_logins=log is not None)
    rows = rows.filter(pl.col("grade") != Grade.LOCKED)
    end = _end(rows if log is None else log.events, means)
    if log is None:
        rows = rows.with_columns(ago=end - pl.col("day") + means.session_days // 2)
    else:
        seen = last_seen(log.events, end=end)
        rows = rows.join(log.accounts, on="login", how="left").join(
            seen, left_on="number", right_on="login", how="left"
        )
    return rows.with_columns(ago=pl.col("ago").fill_null(NEVER_SEEN).cast(pl.Float64)), end


def _rows(
    store: StorePolicy, base: Path, audit: Means, means: ForecastMeans, times: Times,
    *, keep_logins: bool,
) -> pl.DataFrame:  # fmt: skip
    """Give accounts by grade, need and day they were last seen; by login where asked for."""
    by = ["grade", "needs", "day", *(["login"] if keep_logins else [])]
    parts = []
    for frame in graded_rows(store, base=base, means=audit):
        day = days_of(frame["seen"], today=means.today, times=times)
        dated = frame.with_columns(day=day, login=_folded("login"))
        parts.append(dated.group_by(by).agg(accounts=pl.len()))
    if not parts:
        schema = {"grade": pl.String, "needs": pl.String, "day": pl.Int32, "accounts": pl.UInt32}
        return pl.DataFrame(schema={**schema, **({"login": pl.String} if keep_logins else {})})
    return pl.concat(parts).group_by(by).agg(pl.col("accounts").sum())


def _folded(column: str) -> pl.Expr:
    return pl.col(column).str.strip_chars().str.to_lowercase()


def _end(dated: pl.DataFrame, means: ForecastMeans) -> int:
    """Give the day that the data is of: today, unless nothing was seen for days."""
    newest = dated["day"].max()
    if not isinstance(newest, int) or means.day - newest <= _STALE_DAYS:
        return means.day
    return newest


def _population(rows: pl.DataFrame) -> Population:
    grouped = rows.group_by("ago").agg(pl.col("accounts").sum()).sort("ago")
    return Population(
        seen_days_ago=grouped["ago"].to_numpy().astype(np.float64),
        accounts=grouped["accounts"].to_numpy().astype(np.float64),
    )


def _cohorts(rows: pl.DataFrame) -> dict[str, Population]:
    """Part accounts by what a check of their values needs, the most first."""
    most = rows.group_by("needs").agg(pl.col("accounts").sum())
    names = most.sort("accounts", "needs", descending=[True, False])["needs"]
    return {name: _population(rows.filter(pl.col("needs") == name)) for name in names}


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


def _notes(times: Times, means: ForecastMeans, end: int, log: LoginLog | None) -> Iterator[str]:
    if end < means.day:
        newest = date.fromordinal(end + EPOCH).isoformat()
        yield f"the newest login is of {newest}: the data is taken to be of that day"
    if log is not None:
        return
    yield from times.notes()
    if means.session_days:
        yield (
            f"“last seen” is taken for {means.session_days // 2} days newer than the last typed "
            f"password, half of a session of {means.session_days} days"
        )
    else:
        yield (
            "remembered sessions make “last seen” newer than the last typed password: "
            "--session-days takes their length into account"
        )
    yield (
        "from last logins alone, who has left for good since is taken for somebody who returns: "
        "a log of logins (--logins) knows better"
    )


def read_log(
    named: str, store: StorePolicy, *, base: Path, today: date, accounts: Callable[[], pl.Series]
) -> LoginLog:
    """Read a log of logins.

    Args:
        named: a file, or a table of the store's own database.
        store: whose logins they are.
        base: the folder that relative paths start from.
        today: later days are left out.
        accounts: gives the store's logins, to count those of nobody.

    Raises:
        UsageError: there is no such file or table, or its columns do not say who and when.
        SourceError: it cannot be read.
    """
    table = _log_table(named, store, base)
    login, time = _log_columns(table, store, today)
    times, unreadable = Times(), Unreadable()
    known = pl.DataFrame({"login": accounts()}).select(_folded("login")).unique()
    known = known.drop_nulls().with_row_index("number")
    parts, strangers, dated = [], [], 0
    for frame in table.frames((login, time), unreadable):
        day = days_of(frame[time], today=today, times=times)
        logins = frame.select(login=_folded(login), day=day).drop_nulls()
        dated += logins.height
        numbered = logins.join(known, on="login", how="left")
        of_nobody = pl.col("number").is_null()
        strangers.append(numbered.filter(of_nobody)["login"].unique())
        parts.append(numbered.filter(~of_nobody).select(login="number", day="day"))
    if not dated:
        raise UsageError(f"{named}: holds no login with a time that can be read")
    events = pl.concat(parts)
    notes = times.notes()
    if unreadable.rows:
        notes.append(f"{unreadable.rows:,} lines of the log cannot be read and are left out")
    if number := pl.concat(strangers).n_unique():
        notes.append(f"{number:,} logins of the log are no accounts of the store; left out")
    if not events.height:
        raise UsageError(f"{named}: none of its logins is an account of the store {store.name}")
    return LoginLog(events=events, accounts=known, name=named, notes=tuple(notes))


def logins_of(store: StorePolicy, *, base: Path, audit: Means) -> pl.Series:
    """Give the logins of a store.

    Raises:
        UsageError: it has no column of logins.
    """
    if not store.columns.login:
        raise UsageError(f"[store.{store.name}] names no column “login”, which a log refers to")
    parts = [frame["login"] for frame in graded_rows(store, base=base, means=audit)]
    return pl.concat(parts) if parts else pl.Series("login", [], pl.String)


def _log_table(named: str, store: StorePolicy, base: Path) -> Table:
    if (base / named).is_file():
        name, tables = tables_at(str(base / named), base=base)
        if len(tables) != 1:
            raise UsageError(f"{name}: holds several tables; give a file with one")
        return tables[0]
    name, tables = tables_at(store.locator, base=base)
    found = next((table for table in tables if table.name == named), None)
    if found is None:
        raise UsageError(f"--logins {named}: no such file, and {name} has no such table")
    return found


def _log_columns(table: Table, store: StorePolicy, today: date) -> tuple[str, str]:
    """Find who and when: by name, and by what looks like times."""
    own = (store.columns.login, *_LOGIN_NAMES)
    login = next((name for name in own if name in table.columns), None)
    if login is None:
        names = ", ".join(table.columns)
        raise UsageError(f"{table.name}: no column says who logged in; its columns are {names}")
    others = [name for name in table.columns if name != login]
    with closing(table.frames(table.columns, Unreadable())) as frames:
        first = next(frames, None)
    counted: Counter[str] = Counter()
    for name in others if first is not None else []:
        head = first[name].head(1000)  # type: ignore[index]  # there is a frame
        days = days_of(head, today=today, times=Times())
        if len(head) and (len(days) - days.null_count()) / len(head) >= _TIME_SHARE:
            counted[name] = len(days) - days.null_count()
    if not counted:
        raise UsageError(f"{table.name}: no column holds times that can be read")
    return login, counted.most_common(1)[0][0]
