"""What an audit found in one column, before anybody judges it."""

from collections.abc import Sequence
from dataclasses import dataclass, field

from lean_tumbler.core.grades import BELOW_FLOOR, Grade

ACCOUNTS_SHOWN = 10


@dataclass(frozen=True, slots=True)
class Reading:
    """What all rows of one group have in common; its own key when counting."""

    scheme: str
    layout: str
    salted: bool
    grade: Grade
    parameters: tuple[tuple[str, int], ...]
    confidence: float
    also_possible: tuple[str, ...]


@dataclass(slots=True)
class Affected:
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

    @property
    def accounts(self) -> list[str]:
        """Up to ten references, administrators first."""
        return [*self.privileged, *self.others][:ACCOUNTS_SHOWN]


@dataclass(frozen=True, slots=True)
class Clusters:
    """Texts that stand more than once."""

    number: int = 0
    largest: int = 0
    affected: Affected = field(default_factory=Affected)


@dataclass(slots=True)
class Profile:
    """What a column holds.

    Attributes:
        rows: all rows that were read.
        without_value: rows whose value is NULL.
        groups: rows by what they are.
        flagged: rows by what is odd about them, whatever they are; by the code of the finding.
        digests: equal digests.
        salts: equal salts in the salt column.
        first_blocks: equal beginnings of base64 values, a cipher block long.
        salted_rows: rows with a salt in the salt column.
    """

    rows: int = 0
    without_value: int = 0
    groups: dict[Reading, Affected] = field(default_factory=dict)
    flagged: dict[str, Affected] = field(default_factory=dict)
    digests: Clusters = field(default_factory=Clusters)
    salts: Clusters = field(default_factory=Clusters)
    first_blocks: Clusters = field(default_factory=Clusters)
    salted_rows: int = 0

    @property
    def grades(self) -> dict[Grade, int]:
        """Rows by grade; only those that occur, worst first."""
        counts = dict.fromkeys(Grade, 0)
        for reading, affected in self.groups.items():
            counts[reading.grade] += affected.rows
        return {name: rows for name, rows in counts.items() if rows}

    @property
    def below_floor(self) -> int:
        """Rows that are weaker than the floor."""
        return sum(rows for grade, rows in self.grades.items() if grade in BELOW_FLOOR)
