"""Cohorts: rows of one store that came about in one way, as the policy declares them."""

from dataclasses import dataclass
from enum import StrEnum

from lean_tumbler.core.formulas.named import NamedFormula
from lean_tumbler.core.reading.conditions import Condition
from lean_tumbler.core.reading.layouts import ValueLayout
from lean_tumbler.core.reading.rows import Row


class PlainText(StrEnum):
    """Which texts of a cohort are passwords."""

    NONE = "none"
    UNEXPLAINED = "true"  # those that nothing else explains
    ALL = "all"  # every text that comes here


@dataclass(frozen=True, slots=True, kw_only=True)
class Cohort:
    """Rows that came about in one way: by a formula, by a bare scheme, or as plain text.

    Attributes:
        name: for people, and for evidence.
        formula: that made the digest; None where it is no formula.
        scheme: of values that are bare shapes, like des-crypt; empty where it is none.
        then: the slow scheme that the formula's result went into; empty where the formula is all.
        plain_text: whether the texts are passwords.
        layout: where digest and inputs stand in a composite value; None where the text is the
            digest.
        condition: which rows; None for all.
    """

    name: str
    formula: NamedFormula | None = None
    scheme: str = ""
    then: str = ""
    plain_text: PlainText = PlainText.NONE
    layout: ValueLayout | None = None
    condition: Condition | None = None

    def holds(self, row: Row) -> bool:
        """Tell whether a row is of the cohort, as far as its condition says."""
        return self.condition is None or self.condition.holds(row)

    @property
    def identity(self) -> str:
        """Say what it rests on, for evidence: a fingerprint, a scheme or plain text."""
        if self.formula is not None:
            return self.formula.fingerprint
        return self.scheme or "plain-text"
