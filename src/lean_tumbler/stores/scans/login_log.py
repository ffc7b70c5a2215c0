"""A log of logins with typed passwords: who came on which day."""

from collections import Counter
from collections.abc import Iterable, Iterator
from contextlib import closing
from datetime import date
from pathlib import Path

import polars as pl
from msgspec import Struct

from lean_tumbler.core.forecast.times import Times, day_of, days_of
from lean_tumbler.core.policy import StorePolicy
from lean_tumbler.errors import UsageError
from lean_tumbler.stores.files.base import Table, Unreadable
from lean_tumbler.stores.kinds import tables_at
from lean_tumbler.stores.scans.profiling import policy_table

_LOGIN_NAMES = ("login", "account", "email", "user", "username", "user_id", "account_id", "mail")
_ROWS_AT_ONCE = 2_000_000
_TIME_SHARE = 0.5  # of a column's first rows that must be times


class LoginLog(Struct, frozen=True, kw_only=True):
    """A log of logins with passwords."""

    events: pl.DataFrame  # `login`, as a number, and `day`; of one day there may be several
    accounts: pl.DataFrame  # `login`, folded, and its `number`
    name: str  # of the file or table
    notes: tuple[str, ...]  # what a reader should know of it

    def last_days(self) -> dict[str, date]:
        """Give the last day of each login, folded."""
        last = self.events.group_by("login").agg(pl.col("day").max())
        named = self.accounts.join(last, left_on="number", right_on="login").select("login", "day")
        return {login: day_of(day) for login, day in named.iter_rows()}


def folded(column: str) -> pl.Expr:
    """Take logins as equal that differ in letter case, or in blanks around them."""
    return pl.col(column).str.strip_chars().str.to_lowercase()


def folded_login(login: str) -> str:
    """Fold one login, as `folded` does a column of them."""
    return login.strip().lower()


def read_log(
    named: str, store: StorePolicy, *, base: Path, today: date, accounts: pl.Series
) -> LoginLog:
    """Read a log of logins.

    Args:
        named: a file, or a table of the store's own database.
        store: whose logins they are.
        base: the folder that relative paths start from.
        today: later days are left out.
        accounts: the store's logins.

    Raises:
        UsageError: there is no such file or table, or its columns do not say who and when.
        SourceError: it cannot be read.
    """
    table = _log_table(named, store, base)
    login, time = _log_columns(table, store, today)
    times, unreadable = Times(), Unreadable()
    known = pl.DataFrame({"login": accounts}).select(folded("login")).unique()
    known = known.drop_nulls().with_row_index("number")
    parts, strangers, dated = [], [], 0
    for frame in _larger(table.frames((login, time), unreadable)):
        day = days_of(frame[time], today=today, times=times)
        logins = frame.select(login=folded(login), day=day).drop_nulls()
        dated += logins.height
        numbered = logins.join(known, on="login", how="left")
        of_nobody = pl.col("number").is_null()
        strangers.append(numbered.filter(of_nobody)["login"].unique())
        parts.append(numbered.filter(~of_nobody).select(login="number", day="day"))
        del frame, day, logins, numbered  # before the next rows are gathered
    if not dated:
        raise UsageError(f"{named}: holds no login with a time that can be read")
    events = pl.concat(parts)
    notes = times.notes()
    if unreadable.rows:
        notes.append(f"lines of the log that cannot be read, and are left out: {unreadable.rows:,}")
    if number := pl.concat(strangers).n_unique():
        notes.append(f"logins that match no account, and are ignored: {number:,}")
    if not events.height:
        raise UsageError(f"{named}: none of its logins is an account of the store {store.name}")
    return LoginLog(events=events, accounts=known, name=named, notes=tuple(notes))


def logins_of(store: StorePolicy, *, base: Path) -> pl.Series:
    """Give the logins of a store.

    Raises:
        UsageError: it has no column of logins.
        SourceError: the store cannot be read.
    """
    table = policy_table(store, base=base)
    name = login_column(store)
    parts = [frame[name] for frame in table.frames((name,), Unreadable())]
    return pl.concat(parts) if parts else pl.Series(name, [], pl.String)


def login_column(store: StorePolicy) -> str:
    """Give the name of a store's column of logins.

    Raises:
        UsageError: it has none.
    """
    if not store.columns.login:
        raise UsageError(f"[store.{store.name}] names no column “login”, which a log refers to")
    return store.columns.login


def _larger(frames: Iterable[pl.DataFrame]) -> Iterator[pl.DataFrame]:
    """Put frames together: each is held against all accounts, which costs the same every time."""
    waiting: list[pl.DataFrame] = []
    for frame in frames:
        waiting.append(frame)
        if sum(each.height for each in waiting) >= _ROWS_AT_ONCE:
            yield pl.concat(waiting)
            waiting = []
    if waiting:
        yield pl.concat(waiting)


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
