"""A formula under a name, with what is asked of it again and again."""

from functools import cached_property, lru_cache

from msgspec import Struct

from lean_tumbler.core.formulas import notation
from lean_tumbler.core.formulas.analysis import inputs_used, lossy, number_parts, parts_used, work
from lean_tumbler.core.formulas.output import OutputShape, output_shape
from lean_tumbler.core.formulas.steps import Formula, Input


class NamedFormula(Struct, frozen=True, dict=True):
    """A formula under a name, with what is asked of it again and again."""

    name: str
    formula: Formula

    @cached_property
    def text(self) -> str:
        """The formula in the notation."""
        return notation.write(self.formula)

    @cached_property
    def fingerprint(self) -> str:
        """What layered values call it."""
        return notation.fingerprint(self.formula)

    @cached_property
    def output(self) -> OutputShape:
        """What its results look like."""
        return output_shape(self.formula)

    @cached_property
    def lossy(self) -> tuple[str, ...]:
        """The steps after which different passwords open one account."""
        return lossy(self.formula)

    @cached_property
    def work(self) -> int:
        """The steps and rounds that one evaluation runs; a number of the row counts as one."""
        return work(self.formula)

    @cached_property
    def takes_salt(self) -> bool:
        """Whether a row needs a salt."""
        return Input.SALT in inputs_used(self.formula)

    @cached_property
    def takes_login(self) -> bool:
        """Whether a row needs its login."""
        return Input.LOGIN in inputs_used(self.formula)

    @cached_property
    def parts(self) -> frozenset[str]:
        """The parts of a row that it takes."""
        return parts_used(self.formula)

    @cached_property
    def numbers(self) -> frozenset[str]:
        """Those of them that it takes as numbers."""
        return number_parts(self.formula)


@lru_cache(maxsize=256)
def named_by_itself(text: str) -> NamedFormula:
    """Give a formula that goes by its own text.

    Raises:
        FormulaError: with the position and what was expected.
    """
    return NamedFormula(text, notation.parse(text))
