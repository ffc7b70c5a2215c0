"""Whether a migration is on course: counts since its start, beside the forecast made then."""

from collections import Counter
from collections.abc import Mapping, Sequence
from datetime import date, datetime, timedelta

from msgspec import Struct

from lean_tumbler.core.audit.results import Profile
from lean_tumbler.core.forecast.intervals import Interval
from lean_tumbler.core.forecast.waiting import Forecast, from_history
from lean_tumbler.core.grades import Grade
from lean_tumbler.stores.history import Entry, StoreCount
from lean_tumbler.stores.scans.store_forecast import StoreForecast
from lean_tumbler.stores.sql.column_move import ColumnMove

_EARLY_DAYS = 84
_LAST_ONE = 0.5  # accounts: fewer are none
_LOCKED = str(Grade.LOCKED)


class MigrationProgress(Struct, frozen=True, kw_only=True):
    """One store, from its first count on."""

    name: str  # the store's, in the policy
    table: str  # its table
    profile: Profile  # what was counted now
    started: date | None  # the day of the first count; None where this is it
    counted: Sequence[tuple[date, int]]  # day -> accounts that waited: below the floor, or layered
    # what was forecast at the start, by days from there; empty where nothing was
    promised: Mapping[int, Interval]
    # the forecast made now, from what has happened or from last logins; None where there is nothing
    # to tell it from, or nobody waits
    ahead: Forecast | None
    from_history: bool  # whether from what has happened
    # the forecast from last logins or a log; None where there are no dates
    store: StoreForecast | None
    before: Mapping[str, int]  # the grades at the first count
    # by what a check needs, how many accounts fewer need it than on some day before: that often it
    # was used
    fewer: Mapping[str, int]
    fewer_since: date | None  # that day; None where there is none
    lately_days: int  # the days that count as recent, for what is still needed
    # how far values have moved to another column; None where they stay in theirs
    move: ColumnMove | None = None

    @property
    def waiting(self) -> int:
        """Accounts that have not been upgraded."""
        return self.counted[-1][1]

    @property
    def expected_now(self) -> Interval | None:
        """What the forecast of the start says of today; None where there is none."""
        if self.started is None or not self.promised:
            return None
        start = self.counted[0][1]
        since = (self.counted[-1][0] - self.started).days
        promised = Forecast(accounts=start, days=self.promised, method="the forecast of the start")
        return promised.at(since) if 0 < since <= max(self.promised) else None

    @property
    def verdict(self) -> str:
        """One of `on course`, `ahead`, `behind`, `finished`, `just begun` and `under way`.

        Under way is what was forecast without an interval: nothing says how far off is too far.
        """
        if not self.waiting:
            return "finished"
        expected = self.expected_now
        if expected is None:
            return "just begun"
        if expected.low is None or expected.high is None:
            return "under way"
        if self.waiting > expected.high:
            return "behind"
        return "ahead" if self.waiting < expected.low else "on course"

    @property
    def ahead_from(self) -> date:
        """The day that the forecast made now starts from."""
        if self.store is not None and not self.from_history:
            return self.store.as_of
        return self.counted[-1][0]

    @property
    def last_expected(self) -> int | None:
        """Days until the last one is expected to have returned; None where that is never."""
        if self.ahead is None:
            return None
        return next(
            (day for day, interval in self.ahead.days.items() if interval.expected < _LAST_ONE),
            None,
        )


def store_count(profile: Profile, table: str, found: StoreForecast | None) -> StoreCount:
    """Give what the history keeps of a store."""
    return StoreCount(
        table=table,
        rows=profile.rows,
        grades={str(grade): rows for grade, rows in profile.grades.items()},
        below_floor=profile.below_floor,
        layered=profile.grades.get(Grade.LAYERED, 0),
        needed={} if found is None else _needed(found),
        forecast=None
        if found is None
        else {day: _rounded(interval) for day, interval in _together(found).items()},
    )


def _needed(found: StoreForecast) -> dict[str, int]:
    """Count accounts by what a check of their values needs, weak or layered."""
    counted: Counter[str] = Counter()
    for (_, needs), (rows, _) in found.seen_lately.items():
        counted[needs] += rows
    return dict(counted)


def _rounded(interval: Interval) -> tuple[float | None, float, float | None]:
    low, high = (None if end is None else round(end, 1) for end in (interval.low, interval.high))
    return low, round(interval.expected, 1), high


def _together(found: StoreForecast) -> dict[int, Interval]:
    """Add up what is weak and what is layered: a bulk run moves rows from one to the other."""
    return {day: weak + found.layered.days[day] for day, weak in found.weak.days.items()}


def migration(
    name: str,  # the store's
    table: str,  # its table
    profile: Profile,  # what was counted now
    *,
    found: StoreForecast | None,  # the forecast from last logins or a log
    entries: Sequence[Entry],  # earlier counts, oldest first
    taken_at: datetime,  # when it was counted now
    lately_days: int,  # what counts as lately
    move: ColumnMove | None = None,  # how far values have moved to another column
) -> MigrationProgress:
    """Hold a count against the history."""
    own = [(entry.taken_at, entry.stores[name]) for entry in entries if name in entry.stores]
    now = store_count(profile, table, found)
    counts = [(when.date(), store.waiting) for when, store in own]
    counts.append((taken_at.date(), now.waiting))
    started = counts[0][0] if own else None
    locked = [store.grades.get(_LOCKED, 0) for store in (*(s for _, s in own), now)]
    since = [
        ((day - counts[0][0]).days, waiting + (here - locked[0]))
        for (day, waiting), here in zip(counts, locked, strict=True)
    ]
    waiting = counts[-1][1]
    # Until some months have passed, who leaves is better seen from a log, or from who is new.
    is_early = since[-1][0] < _EARLY_DAYS and found is not None and found.sees_who_leaves
    happened = from_history(since, waiting=waiting) if waiting and not is_early else None
    first = (own[0][1].forecast or {}) if own else {}
    long_ago = taken_at - timedelta(days=lately_days)
    earlier = [(when, store.needed) for when, store in own if store.needed]
    compared = next(
        (each for each in reversed(earlier) if each[0] <= long_ago), earlier[0] if earlier else None
    )
    return MigrationProgress(
        name=name,
        table=table,
        profile=profile,
        started=started,
        counted=counts,
        promised={day: Interval(low=low, expected=middle, high=high)
                  for day, (low, middle, high) in first.items()},
        ahead=happened or (_ahead(found) if found and waiting else None),
        from_history=happened is not None,
        store=found,
        before=own[0][1].grades if own else {},
        fewer={needs: rows - now.needed.get(needs, 0) for needs, rows in compared[1].items()}
        if compared else {},
        fewer_since=compared[0].date() if compared else None,
        lately_days=lately_days,
        move=move,
    )  # fmt: skip


def _ahead(found: StoreForecast) -> Forecast:
    weak, layered = found.weak, found.layered
    return Forecast(
        accounts=weak.accounts + layered.accounts,
        days=_together(found),
        method=weak.method,
        baseline={day: number + layered.baseline[day] for day, number in weak.baseline.items()},
        no_interval=weak.no_interval,
        withheld=weak.withheld,
    )
