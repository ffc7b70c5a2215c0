"""What an audit found in one column, before anybody judges it."""

from collections import Counter
from collections.abc import Mapping, Sequence

import polars as pl
from msgspec import Struct, field

from lean_tumbler.core.audit.digest_lengths import DigestLength
from lean_tumbler.core.grades import BELOW_FLOOR, Grade
from lean_tumbler.core.reading.survey import Column

ACCOUNTS_SHOWN = 10
TRUNCATED, FOLDED = "truncated-value", "folded-value"
MOVED_VALUE = "moved-or-damaged"
DAMAGES = (TRUNCATED, FOLDED, MOVED_VALUE)


class GroupReading(Struct, frozen=True):
    """What all rows of one group have in common; its own key when counting."""

    scheme: str
    layout: str
    salted: bool
    grade: Grade
    parameters: tuple[tuple[str, int], ...]
    confidence: float
    also_possible: tuple[str, ...]
    because: str = ""  # why it is taken for that, where the whole column or a formula says so
    twice: bool = False  # whether it is a digest of a digest
    formula: str = ""  # what makes it, in the notation, where the policy says so
    wrappers: tuple[str, ...] = ()  # what stands around the values
    keyed_by: str = ""  # the key that they are under; empty for none


class Affected(Struct):
    """Rows counted, with a few account references, the privileged ones apart."""

    rows: int = 0
    privileged_rows: int = 0
    privileged: list[str] = field(default_factory=list)
    others: list[str] = field(default_factory=list)

    def add(
        self, rows: int, privileged_rows: int, privileged: Sequence[str], others: Sequence[str]
    ) -> None:
        """Count more rows; references beyond the number shown are dropped."""
        self.rows += rows
        self.privileged_rows += privileged_rows
        self.privileged = [*self.privileged, *privileged][:ACCOUNTS_SHOWN]
        self.others = [*self.others, *others][:ACCOUNTS_SHOWN]

    def take(self, more: "Affected") -> None:
        """Add what was counted elsewhere."""
        self.add(more.rows, more.privileged_rows, more.privileged, more.others)

    @property
    def accounts(self) -> list[str]:
        """Up to ten references, administrators first."""
        return [*self.privileged, *self.others][:ACCOUNTS_SHOWN]


class Clusters(Struct, frozen=True):
    """Texts that stand more than once; `sizes` counts them by how often each stands."""

    number: int = 0
    largest: int = 0
    affected: Affected = field(default_factory=Affected)
    sizes: Mapping[int, int] = field(default_factory=dict)


class Span(Struct, frozen=True):
    """The first and the last of some rows, counted from 0 in the order in which they were read."""

    first: int
    last: int
    account: str | None  # of the first

    def after(self, rows: int) -> "Span":
        """Give the same span where so many rows stand before."""
        return Span(self.first + rows, self.last + rows, self.account)

    def joined(self, other: "Span | None") -> "Span":
        """Give the span of both."""
        if other is None:
            return self
        first = min(self, other, key=lambda span: span.first)
        return Span(first.first, max(self.last, other.last), first.account)


class Profile(Struct):
    """What a column holds."""

    rows: int = 0  # all rows that were read
    without_value: int = 0  # rows whose value is NULL
    groups: dict[GroupReading, Affected] = field(default_factory=dict)  # rows by what they are
    # rows by what is odd about them, whatever they are; by the code of the finding
    flagged: dict[str, Affected] = field(default_factory=dict)
    digests: Clusters = field(default_factory=Clusters)  # equal digests
    salts: Clusters = field(default_factory=Clusters)  # equal salts, beside values or in them
    copies: Clusters = field(default_factory=Clusters)  # equal values that hold their own salt
    spans: dict[GroupReading, Span] = field(default_factory=dict)  # where rows of groups stand
    # equal beginnings of base64 values, a cipher block long
    first_blocks: Clusters = field(default_factory=Clusters)
    salted_rows: int = 0  # rows with a salt, beside the value or in it
    # for groups of unsalted digests, rows by the formula that makes them from a likely password
    matches: dict[GroupReading, Counter[str]] = field(default_factory=dict)
    # for groups of bare digests, rows of a sample by the formula that makes them from the row's own
    # login, or from nothing
    own: dict[GroupReading, Counter[str]] = field(default_factory=dict)
    # for groups of bare digests, how often each byte occurs in a sample
    spread: dict[GroupReading, Counter[int]] = field(default_factory=dict)
    # rows by the month of the last login, by grade; only where such a column is mapped
    ages: Counter[tuple[str, Grade]] = field(default_factory=Counter)
    # what groups were read as -> what the whole column says they are
    readings: dict[GroupReading, GroupReading] = field(default_factory=dict)
    # equal logins, letter case and blanks around aside
    logins: Clusters = field(default_factory=Clusters)
    # `text`, the hashes of digests that stand more than once
    repeated_digests: pl.DataFrame = field(default_factory=pl.DataFrame)
    repeated_salts: pl.DataFrame = field(default_factory=pl.DataFrame)  # the same of salts
    repeated_copies: pl.DataFrame = field(default_factory=pl.DataFrame)  # of self-salted values
    repeated_logins: pl.DataFrame = field(default_factory=pl.DataFrame)  # the same of logins
    # salted rows that a likely password opens
    opened: pl.DataFrame = field(default_factory=pl.DataFrame)
    # for slow schemes with digests of any length, the rows of each
    lengths: dict[DigestLength, Affected] = field(default_factory=dict)
    cut: frozenset[DigestLength] = frozenset()  # those of them that are too short beside the others
    # what the column as a whole shows of texts that nothing explains one by one
    column: Column = field(default_factory=Column)
    coverage: str = ""  # how many of these were tried, in words; empty where none was

    @property
    def grades(self) -> dict[Grade, int]:
        """Rows by grade; only those that occur, worst first."""
        counts = dict.fromkeys(Grade, 0)
        for reading, affected in self.groups.items():
            counts[reading.grade] += affected.rows
        return {name: rows for name, rows in counts.items() if rows}

    @property
    def keys(self) -> dict[str, int]:
        """Rows by the key that they are under, of those that are under one."""
        counted: Counter[str] = Counter()
        for reading, affected in self.groups.items():
            if reading.keyed_by:
                counted[reading.keyed_by] += affected.rows
        return dict(counted)

    @property
    def below_floor(self) -> int:
        """Rows that are weaker than the floor."""
        return sum(rows for grade, rows in self.grades.items() if grade in BELOW_FLOOR)

    @property
    def privileged_below_floor(self) -> int:
        """Administrators' rows among them."""
        return sum(
            affected.privileged_rows
            for reading, affected in self.groups.items()
            if reading.grade in BELOW_FLOOR
        )

    @property
    def not_understood(self) -> int:
        """Rows of which nobody knows whether a login works, remnants of failed writes included."""
        return self.grades.get(Grade.UNKNOWN, 0)

    @property
    def damaged(self) -> int:
        """Rows whose values are not whole, or had their letters folded: nobody can log in."""
        return sum(self.flagged[code].rows for code in DAMAGES if code in self.flagged)

    def note_opened(self, rows: pl.DataFrame) -> None:
        """Note salted rows that a likely password opens, beside the unsalted ones."""
        self.opened = rows
        if rows.height:
            affected = affected_by(rows)
            self.flagged.setdefault("common-password", Affected()).take(affected)


def affected_by(rows: pl.DataFrame) -> Affected:
    """Count rows with `account` and `privileged`, and name the first of them."""
    privileged = rows.filter("privileged")["account"]
    others = rows.filter(~pl.col("privileged"))["account"].head(ACCOUNTS_SHOWN).to_list()
    affected = Affected()
    affected.add(rows.height, len(privileged), privileged.head(ACCOUNTS_SHOWN).to_list(), others)
    return affected
