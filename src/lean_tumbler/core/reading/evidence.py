"""What is known of a cohort before it is written to: counts of logins, and the bound they give."""

from collections.abc import Mapping
from dataclasses import dataclass, field
from enum import StrEnum

from lean_tumbler.core.reading.readings import Reading

CONFIDENCE = 0.95


@dataclass(frozen=True, slots=True)
class CohortKey:
    """Whose counts they are: a store, the row's ways by name, and what these rest on."""

    store: str
    cohort: str
    identity: str

    @classmethod
    def of(cls, store: str, reading: Reading) -> "CohortKey":
        """Give the key of a row."""
        return cls(store, reading.label, reading.identity)


@dataclass(frozen=True, slots=True, kw_only=True)
class Counts:
    """Logins of one cohort.

    Attributes:
        accepted: accounts whose known password opened the row, at the last try of all.
        refused: those whose known password did not.
        agreed: people who logged in, each counted once.
        differed: logins that another program judged otherwise.
    """

    accepted: int = 0
    refused: int = 0
    agreed: int = 0
    differed: int = 0

    @property
    def right(self) -> int:
        """Accounts that the cohort's ways opened."""
        return self.accepted + self.agreed

    @property
    def wrong(self) -> int:
        """Accounts that speak against them."""
        return self.refused + self.differed

    @property
    def bound(self) -> float:
        """The largest share of rows that can be made otherwise, at 95 %; 1 where nothing is known.

        With n right and none wrong, 1 − 0.05^(1/n): Hanley and Lippman-Hand, JAMA 1983.
        """
        if self.right == 0 or self.wrong:
            return 1.0
        return 1.0 - float((1.0 - CONFIDENCE) ** (1.0 / self.right))


class Proof(StrEnum):
    """What evidence says of a cohort."""

    PROVEN = "proven"
    NONE = "no account of it is known to open"
    TOO_LITTLE = "too few accounts of it are known to open"
    AGAINST = "accounts of it were refused"


@dataclass(frozen=True, slots=True)
class Evidence:
    """All counts, by cohort."""

    counts: Mapping[CohortKey, Counts] = field(default_factory=dict)

    def of(self, key: CohortKey) -> Counts:
        """Give a cohort's counts."""
        return self.counts.get(key, Counts())

    def judged(self, key: CohortKey, *, most: float = 1.0) -> Proof:
        """Say whether a cohort is proven.

        Args:
            key: whose.
            most: the largest bound that is accepted.
        """
        counts = self.of(key)
        if counts.wrong:
            return Proof.AGAINST
        if counts.right == 0:
            return Proof.NONE
        return Proof.PROVEN if counts.bound <= most else Proof.TOO_LITTLE
