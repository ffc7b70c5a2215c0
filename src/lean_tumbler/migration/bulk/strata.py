"""What proof rests on: the people of a cohort, and the rows that they do not speak for."""

from collections import Counter
from collections.abc import Iterator
from datetime import date

from msgspec import Struct, field
from msgspec.structs import replace

from lean_tumbler.core.printable import printable
from lean_tumbler.core.reading.evidence import Counts, Mark, RowFacts
from lean_tumbler.core.reasons import Reason

_IMPORT_SHARE = 0.05  # of a cohort's rows, made on one day: they were hardly registered one by one
_IMPORT_ROWS = 20
_IMPORTS = 3  # that are named
# By how much longer than the last days it seldom takes: in 9 of 10 invented populations it does not
# (`benchmarks/run.py observing-truth`); sessions that keep people logged in take longer still.
_LONGER, _LONGER_DAYS = 3, 3
_KINDS = 12  # that a column tells apart; more are no roles and no origins


class CohortRows(Struct):
    """The rows of one cohort, by when they were made, last logged in to, and by their marks."""

    days: Counter[date] = field(default_factory=Counter)
    logins: Counter[date] = field(default_factory=Counter)
    marks: Counter[Mark] = field(default_factory=Counter)
    rows: int = 0

    def add(self, facts: RowFacts) -> None:
        """Take a row in."""
        self.rows += 1
        if facts.created is not None:
            self.days[facts.created] += 1
        if facts.last_login is not None:
            self.logins[facts.last_login] += 1
        self.marks.update(facts.marks)

    def days_of_logins(self, people: int) -> int | None:
        """Say in how many of the last days so many people logged in; None where too few ever did.

        Each account has one last login, so these are different people.
        """
        seen = 0
        for day in sorted(self.logins, reverse=True):
            seen += self.logins[day]
            if seen >= people:
                return (max(self.logins) - day).days + 1
        return None

    @property
    def years(self) -> Counter[int]:
        """The rows by the year in which they were made, as far as that is known."""
        years: Counter[int] = Counter()
        for day, rows in self.days.items():
            years[day.year] += rows
        return years

    def untouched_by(self, counts: Counts) -> tuple[str, ...]:
        """Name rows that nobody who is known speaks for, each with its number."""
        people = counts.joined or counts
        return tuple(self._untouched(people)) if people.right else ()

    def _untouched(self, counts: Counts) -> Iterator[str]:
        years = self.years
        missing = sorted(year for year in years if year not in counts.years)
        if missing and counts.years:
            rows = sum(years[year] for year in missing)
            yield f"{rows:,} rows made in {_spans(missing)}"
        for day, rows in self.days.most_common(_IMPORTS):
            if rows >= max(_IMPORT_ROWS, _IMPORT_SHARE * self.rows) and day.year in missing:
                yield f"{rows:,} rows made on {day}, as by an import"
        for kind in sorted({kind for kind, _ in counts.marks}):
            own = [(mark, rows) for mark, rows in self.marks.most_common() if mark[0] == kind]
            if len(own) <= _KINDS:
                for mark, rows in own:
                    if mark not in counts.marks:
                        yield f"{rows:,} rows with the {kind} “{printable(mark[1])}”"


def most_days(days: int) -> int:
    """Say in how many days so many people come, but for one time in ten.

    Args:
        days: the last ones, in which as many people logged in.
    """
    return _LONGER * days + _LONGER_DAYS


def _spans(years: list[int]) -> str:
    """Write years as spans."""
    spans: list[list[int]] = []
    for year in years:
        if spans and spans[-1][-1] == year - 1:
            spans[-1].append(year)
        else:
            spans.append([year])
    return ", ".join(
        f"{span[0]} to {span[-1]}" if len(span) > 1 else f"{span[0]}" for span in spans
    )


class CohortProof(Struct, frozen=True, kw_only=True):
    """What is known of a cohort, held against its rows."""

    counts: Counts  # of its people
    rows: int  # that need proof
    bound: float  # the largest share of its rows that can be made otherwise unseen, at 95 %
    most: float  # the largest bound that is accepted
    missing: Reason | None  # why it is not proven; None where it is
    untouched: tuple[str, ...] = ()  # rows that none of the people speaks for
    # the rows by day; for how long logins would have to be observed
    beside: CohortRows = field(default_factory=CohortRows)

    @property
    def days_of_logins(self) -> int | None:
        """In how many days of logins as the last ones so many people come; None if unknown."""
        return self.beside.days_of_logins(self.more_needed)

    @property
    def most_days_of_logins(self) -> int | None:
        """In how many days they come, but for one time in ten; None if unknown."""
        days = self.days_of_logins
        return None if days is None else most_days(days)

    @property
    def more_needed(self) -> int:
        """How many more people, all of them right, would prove it."""
        counts = self.counts
        low, high = 0, max(0, self.rows - counts.right - counts.wrong)
        while low < high:
            middle = (low + high) // 2
            right = replace(
                counts, accepted=counts.right + middle, agreed=0, guessed=0, people=None
            )
            if right.bound_among(self.rows) <= self.most:
                high = middle
            else:
                low = middle + 1
        return low
