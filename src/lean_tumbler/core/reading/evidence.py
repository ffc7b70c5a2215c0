"""What is known of a cohort before it is written to: counts of people, and the bound they give."""

from collections.abc import Callable, Mapping, Sequence
from datetime import date
from math import exp, lgamma

from msgspec import Struct, field
from msgspec.structs import replace

from lean_tumbler.core.reading.readings import Reading
from lean_tumbler.core.reasons import Reason

CONFIDENCE = 0.95
MOST_OTHERWISE = 0.2  # of a cohort's rows, where neither policy nor option says another share
MORE_ROWS = 0.01  # than there were, which neither key nor date tells from those of then
_LARGE = 10_000_000  # rows; more give the same bound in three digits


Mark = tuple[str, str]  # what a column says of a row: its role, and what stands there


class CohortKey(Struct, frozen=True):
    """Whose counts they are: a store, the row's ways by name, and what these rest on."""

    store: str
    cohort: str
    identity: str

    @classmethod
    def of(cls, store: str, reading: Reading) -> "CohortKey":
        """Give the key of a row."""
        return cls(store, reading.label, reading.identity)

    @property
    def label(self) -> str:
        """Name it for people: the cohort, and the structure of texts that proof stands for."""
        structure = self.identity.partition(" ")[2]
        return f"{self.cohort} ({structure})" if structure else self.cohort


class Counts(Struct, frozen=True, kw_only=True):
    """People of one cohort, each counted once in each number."""

    accepted: int = 0  # those whose known password opened the row, at the last try of all
    refused: int = 0  # those whose known password did not
    agreed: int = 0  # those who logged in
    differed: int = 0  # those whose login another program judged otherwise
    guessed: int = 0  # those whose row a likely password opened
    # those of whom anything is right, whatever shows it; None for the sum
    people: int | None = None
    # in which their accounts were made, as far as that is known
    years: frozenset[int] = frozenset()
    marks: frozenset[Mark] = frozenset()  # that they have: role or origin, and what stands there
    # the same cohort's people in equal tables; None where there are none
    elsewhere: "Counts | None" = None
    # whether somebody said that the equal tables were written by the same program
    alike: bool = False

    @property
    def joined(self) -> "Counts | None":
        """These people with those of equal tables, where one of these says that they are equal."""
        if self.elsewhere is None or self.wrong or not (self.right or self.alike):
            return None
        return Counts(
            accepted=self.right + self.elsewhere.right,
            refused=self.elsewhere.wrong,
            years=self.years | self.elsewhere.years,
            marks=self.marks | self.elsewhere.marks,
        )

    @property
    def right(self) -> int:
        """People that the cohort's ways opened."""
        return self.accepted + self.agreed + self.guessed if self.people is None else self.people

    @property
    def wrong(self) -> int:
        """People that speak against them."""
        return self.refused + self.differed

    @property
    def bound(self) -> float:
        """The bound for a cohort of any size."""
        return self.bound_among(None)

    def bound_among(self, rows: int | None) -> float:
        """Give the largest share of a cohort's rows that can be made otherwise unseen, at 95 %.

        The people are taken for a sample drawn at random without putting back: the largest number
        of other rows of which so few would show in one of twenty such samples (the hypergeometric
        distribution; without wrong ones and for many rows 1 − 0.05^(1/n), Hanley and Lippman-Hand,
        JAMA 1983). It is a share of all rows: of those not yet seen, it would grow while the last
        of few rows are looked at. Where somebody speaks against the cohort, it is of those.

        Args:
            rows: of the cohort, the people's own among them; None for any number.
        """
        joined = self.joined
        if joined is not None:
            return min(replace(self, elsewhere=None).bound_among(rows), joined.bound)
        seen = self.right + self.wrong
        if not self.right:
            return 1.0
        total = _LARGE if rows is None else min(rows, _LARGE)
        if seen >= total:
            return 0.0
        low, high = self.wrong, total - self.right
        while low < high:  # the largest number that is still likely enough
            middle = (low + high + 1) // 2
            if _at_most(self.wrong, seen, middle, total) >= 1.0 - CONFIDENCE:
                low = middle
            else:
                high = middle - 1
        return (low - self.wrong) / (total - seen if self.wrong else total)

    def leaves_out(self, year: int | None) -> bool:
        """Tell whether an account is older or newer than all of these people's accounts."""
        years = (self.joined or self).years
        if year is None or not years:
            return False
        return not min(years) <= year <= max(years)

    def misses_by_chance(self, years: Mapping[int, int]) -> bool:
        """Tell whether people drawn at random would leave so many rows out in one of twenty draws.

        Then they are like the rest as far as years show it, and the bound speaks for these rows.

        Args:
            years: in which accounts were made -> their rows.
        """
        inside = sum(rows for year, rows in years.items() if not self.leaves_out(year))
        people = (self.joined or self).right
        return bool(inside) and (inside / sum(years.values())) ** people >= 1.0 - CONFIDENCE


def _at_most(most: int, drawn: int, marked: int, total: int) -> float:
    """Give the chance of at most so many marked ones among those drawn."""
    first = max(0, drawn - (total - marked))
    return sum(_exactly(found, drawn, marked, total) for found in range(first, most + 1))


def _exactly(found: int, drawn: int, marked: int, total: int) -> float:
    if found > marked:
        return 0.0
    return exp(
        _log_choose(marked, found)
        + _log_choose(total - marked, drawn - found)
        - _log_choose(total, drawn)
    )


def _log_choose(many: int, few: int) -> float:
    return lgamma(many + 1) - lgamma(few + 1) - lgamma(many - few + 1)


class Coverage(Struct, frozen=True, kw_only=True):
    """Which rows the proof was taken from: those that stood there then."""

    proved_on: date | None = None  # the day of the proof; None where no day is known
    # the highest number that named a row then; None where keys are no numbers
    highest: int | None = None
    rows: int | None = None  # that there were; None where they were not counted

    def has_unexplained(self, covered_rows: int) -> bool:
        """Tell whether more rows count as old ones than there were."""
        allowed = max(2, round(MORE_ROWS * (self.rows or 0)))
        return self.rows is not None and covered_rows > self.rows + allowed

    def covers(self, key: object, created: date | None) -> bool:
        """Tell whether a row may have been there when its cohort was proven."""
        if self.highest is not None and isinstance(key, int) and key > self.highest:
            return False
        return self.proved_on is None or created is None or created <= self.proved_on


class RowFacts(Struct, frozen=True, kw_only=True):
    """What is known of a row beside its reading."""

    key: object  # names the row
    is_named: bool = True  # whether that is what the table calls it, and not a place in a file
    login: str | None = None  # the person's, where there is one
    created: date | None = None  # the day on which the account was made, as far as that can be read
    last_login: date | None = None  # the day of the last login, as far as that can be read
    # of administrators' roles and of origins, what the row's columns say
    marks: frozenset[Mark] = frozenset()


def _sum(counts: Sequence[Counts]) -> Counts:
    """Give the people of several tables as one count; nobody is in two of them."""
    return Counts(
        accepted=sum(each.right for each in counts),
        refused=sum(each.wrong for each in counts),
        years=frozenset().union(*(each.years for each in counts)),
        marks=frozenset().union(*(each.marks for each in counts)),
    )


def _nobody(_: str) -> bool:
    return False


class StoreEvidence(Struct, frozen=True, kw_only=True):
    """What is known beside the counts of one store."""

    # fingerprint of an alternative -> people who opened in another way
    ruled_out: Mapping[str, int] = field(default_factory=dict)
    # tells whether a login is one of those that speak against its cohort
    refused_itself: Callable[[str], bool] = _nobody
    # why counts of the store do not count any more, as a sentence; empty where they do
    lapsed: str = ""

    def is_ruled_out(self, alternative: str, main: str) -> bool:
        """Tell whether an alternative need not be reckoned with: people say so, none the other."""
        return bool(self.ruled_out.get(alternative)) and not self.ruled_out.get(main)


class Evidence(Struct, frozen=True):
    """All that is known, by cohort and by store."""

    counts: Mapping[CohortKey, Counts] = field(default_factory=dict)
    stores: Mapping[str, StoreEvidence] = field(default_factory=dict)

    def of(self, key: CohortKey) -> Counts:
        """Give a cohort's counts."""
        return self.counts.get(key, Counts())

    def store(self, name: str) -> StoreEvidence:
        """Give what is known beside the counts of a store."""
        return self.stores.get(name, StoreEvidence())

    def without(self, store: str, why: str) -> "Evidence":
        """Give the same without what is known of one store.

        Args:
            store: the policy's name of it.
            why: it does not count, as a sentence.
        """
        counts = {key: found for key, found in self.counts.items() if key.store != store}
        return Evidence(counts, {**self.stores, store: StoreEvidence(lapsed=why)})

    def with_sisters(self, store: str, sisters: Sequence[str], *, alike: bool) -> "Evidence":
        """Give the same with the people of equal tables beside those of one store's cohorts.

        Args:
            store: the policy's name of it.
            sisters: the names of the equal tables' stores.
            alike: whether somebody said that the same program wrote them.
        """
        others: dict[CohortKey, list[Counts]] = {}
        for key, found in self.counts.items():
            if key.store in sisters:
                others.setdefault(replace(key, store=store), []).append(found)
        together = {
            key: replace(self.of(key), elsewhere=_sum(found), alike=alike)
            for key, found in others.items()
        }
        return Evidence({**self.counts, **together}, self.stores)

    def proves_text(self, store: str, reading: Reading) -> bool:
        """Tell whether people opened texts of a row's structure by typing them.

        One person is enough, unless the column as a whole shows such texts to be digests.
        """
        key = CohortKey.of(store, reading)
        counts = self.of(key)
        if reading.suspected:
            return self.judged(key) is None
        return counts.right > 0 and counts.right > counts.wrong

    def judged(
        self, key: CohortKey, *, rows: int | None = None, most: float = MOST_OTHERWISE
    ) -> Reason | None:
        """Say why a cohort is not proven; None where it is.

        Args:
            key: whose.
            rows: of the cohort; None where they were not counted.
            most: the largest bound that is accepted.
        """
        counts = self.of(key)
        if (counts.joined or counts).right == 0:
            return Reason.CONTRADICTED if counts.wrong else Reason.UNPROVEN
        if counts.bound_among(rows) <= most:
            return None
        return Reason.CONTRADICTED if counts.wrong else Reason.TOO_FEW
