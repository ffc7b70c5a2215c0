"""How well a row protects its password, by the ways in which it may have been made."""

from collections.abc import Sequence

from lean_tumbler.core.grades import Floor, Grade, grade
from lean_tumbler.core.reading.readings import Reading, State
from lean_tumbler.core.reading.ways import FormulaWay, PasswordWay


def grade_of(reading: Reading, floor: Floor, *, salt: bytes | None = None) -> Grade:
    """Grade a row by its ways; one that nobody understands is graded by its text.

    A salt of no bytes is none, whatever the formula takes.

    Args:
        reading: of the row.
        floor: the least that counts as current.
        salt: what the salt column holds, for a row of which no formula is declared.
    """
    if any(isinstance(way, PasswordWay) for way in reading.ways):
        return Grade.READABLE
    formulas = [way for way in reading.ways if isinstance(way, FormulaWay)]
    if formulas and reading.state is State.VALUE and reading.doubt is None:
        return grade_of_formulas(formulas)
    return grade(reading.parsed, floor, salted=reading.parsed.salted or bool(salt))


def grade_of_formulas(ways: Sequence[FormulaWay]) -> Grade:
    """Grade a value that one of some formulas makes."""
    salted = all(way.salt or way.formula.takes_login for way in ways)
    return Grade.FAST_SALTED if salted else Grade.FAST_UNSALTED
