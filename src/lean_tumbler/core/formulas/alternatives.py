"""What an old program may have made of a typed text before it was hashed, where nothing tells yet.

Known accounts that are all in small letters say nothing of letter case: the program may have
folded what was typed. So a formula stands beside its alternatives, and a login tries each.
"""

from collections.abc import Collection, Iterator
from enum import StrEnum
from functools import lru_cache

from msgspec import Struct

from lean_tumbler.core.formulas.analysis import inputs_used
from lean_tumbler.core.formulas.named import NamedFormula
from lean_tumbler.core.formulas.steps import (
    Digest,
    Encode,
    Formula,
    Hmac,
    Input,
    Loop,
    Pbkdf2,
    Rewrite,
    Step,
)

_FOLD, _CUT = Rewrite("lower"), Rewrite("trim")
_CASE_STEPS = frozenset({"lower", "upper"})
_UNSAID = "utf-8"
# Old programs that wrote no UTF-8 wrote Windows-1252, of which Latin-1 is the printable part.
_OTHER_ENCODINGS = {
    "utf-8": ("windows-1252",),
    "latin-1": ("windows-1252", "utf-8"),
    "windows-1252": ("utf-8",),
}


class Untested(StrEnum):
    """What known accounts leave open, as the policy's `untested` says it."""

    CASE = "letter case"
    BLANKS = "blanks"
    ENCODING = "encoding"


class Spelling(Struct, frozen=True):
    """What becomes of a typed text before it is hashed."""

    folds_case: bool = False  # whether it is put into small letters
    cuts_blanks: bool = False  # whether blanks around it are cut off
    encoding: str = ""  # how it becomes bytes; empty where the formula has no such step of its own

    def of(self, text: str) -> tuple[str, str]:
        """Give what is hashed, so that equal results need one check; ASCII is alike in all."""
        text = text.lower() if self.folds_case else text
        text = text.strip() if self.cuts_blanks else text
        return text, ("" if text.isascii() else self.encoding)


class Alternative(Struct, frozen=True):
    """One of the formulas that a cohort may have been made by."""

    main: str  # the fingerprint of the formula that the policy declares
    spelling: Spelling  # what it makes of a typed text
    formula: NamedFormula  # it


@lru_cache(maxsize=512)
def alternatives(
    named: NamedFormula, untested: frozenset[Untested] = frozenset(Untested)
) -> tuple[Alternative, ...]:
    """Give a formula and what stands beside it until known accounts tell; itself first.

    Args:
        named: as the policy declares it.
        untested: what nothing tells yet; without it, all that there can be.
    """
    steps = named.formula.steps
    if Input.PASSWORD in inputs_used(named.formula) or not steps:
        return (Alternative(named.fingerprint, Spelling(), named),)
    encoded = next((step.name for step in steps if isinstance(step, Encode)), _UNSAID)
    found: dict[str, Alternative] = {}
    for folds, cuts, encoding in _deviations(steps, encoded, untested):
        changed = tuple(_with_encoding(steps, encoding))
        changed = (_FOLD, *changed) if folds else changed
        changed = (_CUT, *changed) if cuts else changed
        formula = NamedFormula(named.name, Formula(changed, named.formula.flow))
        spelling = Spelling(folds, cuts, encoding)
        found.setdefault(formula.fingerprint, Alternative(named.fingerprint, spelling, formula))
    return tuple(found.values())


def _deviations(
    steps: tuple[Step, ...], encoded: str, untested: Collection[Untested]
) -> Iterator[tuple[bool, bool, str]]:
    """Give what may have been: letter case with each encoding; blanks by themselves."""
    told = {step.name for step in steps if isinstance(step, Rewrite)}
    cases = (False, True) if Untested.CASE in untested and not told & _CASE_STEPS else (False,)
    others = _OTHER_ENCODINGS.get(encoded, ()) if Untested.ENCODING in untested else ()
    for encoding in (encoded, *others):
        for folds in cases:
            yield folds, False, encoding
    if Untested.BLANKS in untested and "trim" not in told:
        yield False, True, encoded


def _with_encoding(steps: tuple[Step, ...], encoding: str) -> Iterator[Step]:
    """Give the steps with another encoding; UTF-8 goes without saying before the first digest."""
    is_done = not encoding
    for step in steps:
        if not is_done and isinstance(step, Encode):
            yield Encode(encoding)
        elif not is_done and isinstance(step, Digest | Hmac | Pbkdf2 | Loop):
            yield from (() if encoding == _UNSAID else (Encode(encoding),))
            yield step
        else:
            yield step
            continue
        is_done = True
