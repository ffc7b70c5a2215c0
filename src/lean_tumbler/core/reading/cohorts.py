"""Cohorts: rows of one store that came about in one way, as the policy declares them."""

import hashlib
from enum import StrEnum
from functools import cached_property

from msgspec import Struct

from lean_tumbler.core.formulas.alternatives import Alternative, Untested, alternatives
from lean_tumbler.core.formulas.named import NamedFormula
from lean_tumbler.core.reading.conditions import Condition
from lean_tumbler.core.reading.layouts import ValueLayout
from lean_tumbler.core.reading.rows import Row


class PlainText(StrEnum):
    """Which texts of a cohort are passwords."""

    NONE = "none"
    UNEXPLAINED = "true"  # those that nothing else explains
    ALL = "all"  # every text that comes here


class Cohort(Struct, frozen=True, kw_only=True, dict=True):
    """Rows that came about in one way: by a formula, by a bare scheme, or as plain text."""

    name: str  # for people, and for evidence
    formula: NamedFormula | None = None  # that made the digest; None where it is no formula
    scheme: str = ""  # of values that are bare shapes, like des-crypt; empty where it is none
    # the slow scheme that the formula's result went into; empty where the formula is all
    then: str = ""
    # what known accounts leave open of a formula: a login tries each alternative
    untested: frozenset[Untested] = frozenset()
    plain_text: PlainText = PlainText.NONE  # whether the texts are passwords
    # structures of texts that are passwords too, as somebody insists
    text_classes: frozenset[str] = frozenset()
    # where digest and inputs stand in a composite value; None where the text is the digest
    layout: ValueLayout | None = None
    condition: Condition | None = None  # which rows; None for all

    def holds(self, row: Row) -> bool:
        """Tell whether a row is of the cohort, as far as its condition says."""
        return self.condition is None or self.condition.holds(row)

    @cached_property
    def alternatives(self) -> tuple[Alternative, ...]:
        """The formulas that its values may have been made by; none where it has no formula."""
        return () if self.formula is None else alternatives(self.formula, self.untested)

    @cached_property
    def identity(self) -> str:
        """Name for evidence how its values were made and which rows they are: 64 bits of a hash."""
        made = self.formula.fingerprint if self.formula else self.scheme or "plain-text"
        layout = "" if self.layout is None else self.layout.text
        said = (made, self.then, self.plain_text, layout, str(self.condition or ""))
        return hashlib.sha256("\0".join(said).encode("utf-8")).hexdigest()[:16]
