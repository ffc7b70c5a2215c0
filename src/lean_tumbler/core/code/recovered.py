"""From a followed value to a formula of the notation: complete, or with the gaps that are left."""

from collections.abc import Iterable, Mapping

from msgspec import Struct

from lean_tumbler.core.code.formula_steps import (
    KeyConstant,
    Lost,
    Missing,
    StepWriter,
    flow_of,
    is_salt,
)
from lean_tumbler.core.code.terms import (
    Constant,
    Fields,
    Role,
    SourceLine,
    Term,
    TermStep,
    hashing_steps,
    inputs,
    inside,
)
from lean_tumbler.core.formulas import steps as notation
from lean_tumbler.core.formulas.notation import parse, write
from lean_tumbler.core.formulas.steps import Flow
from lean_tumbler.errors import FormulaError


class Recovered(Struct, frozen=True, kw_only=True):
    """A formula that source code computes."""

    text: str  # canonical; with `unknown(…)` where something is missing
    place: SourceLine  # of the step that is computed last
    function: str
    steps: notation.Formula | None = None  # None where something is missing
    missing: tuple[Missing, ...] = ()
    keys: tuple[KeyConstant, ...] = ()
    columns: Mapping[str, str] = {}  # an input -> the column that it is kept in
    layout: str = ""  # of the stored text, where salt and digest stand in one
    is_raw: bool = False  # whether bytes are stored
    is_stored: bool = False  # whether it was seen to be written to a column, or compared with one
    terms: tuple[Term, ...] = ()


def hashes_password(term: Term) -> bool:
    """Tell whether a term holds a digest of a password."""
    return any(
        isinstance(found, TermStep)
        and found.name in {"digest", "hmac", "pbkdf2"}
        and inputs(found, Role.PASSWORD, Role.FIELD)
        for found in inside(term)
    )


def outermost(term: Term) -> TermStep | None:
    """Give the step that hashes last."""
    return next((step for step in hashing_steps(term) if hashes_password(step)), None)


def recover(
    term: Term, function: str, salts: Iterable[Term] = (), *, is_stored: bool = False
) -> Recovered | None:
    """Write what a program stores for a password as a formula.

    Args:
        term: what it stores, returns or compares with what is stored.
        function: around the line.
        salts: what the same program writes to columns of salts.
        is_stored: whether the term was seen to be stored or compared with what is.
    """
    last = outermost(term)
    if last is None or last.place is None or isinstance(term, Fields):
        return None
    if any(isinstance(found, TermStep) and found.name == "scheme" for found in inside(term)):
        return None
    body, layout = _laid_out(term)
    writer = StepWriter(body, tuple(salts))
    try:
        made = writer.steps(body)
    except Lost as lost:
        return _incomplete(lost.missing, last.place, function, term, is_stored=is_stored)
    is_raw = flow_of(made) is Flow.BYTES
    if is_raw:
        made.append(notation.Write("hex"))
    try:
        formula = parse(write(notation.Formula(tuple(made))))
    except FormulaError:
        missing = Missing("a value whose type does not fit", last.place)
        return _incomplete(missing, last.place, function, term, is_stored=is_stored)
    return Recovered(
        text=write(formula), place=last.place, function=function, steps=formula,
        keys=tuple(writer.keys.values()), columns=dict(writer.columns), layout=layout,
        is_raw=is_raw, is_stored=is_stored, terms=(term,),
    )  # fmt: skip


def _incomplete(
    missing: Missing, place: SourceLine, function: str, term: Term, *, is_stored: bool
) -> Recovered:
    line = f"line {missing.place.line}: " if missing.place else ""
    return Recovered(
        text=f"unknown({line}{missing.why})", place=place, function=function, missing=(missing,),
        is_stored=is_stored, terms=(term,),
    )  # fmt: skip


def _laid_out(term: Term) -> tuple[Term, str]:
    """Take a stored text apart where salt and digest stand in one."""
    if not isinstance(term, TermStep) or term.name != "join":
        return term, ""
    hashed = [place for place, part in enumerate(term.of) if hashes_password(part)]
    if len(hashed) != 1:
        return term, ""
    body = term.of[hashed[0]]
    others = [part for part in term.of if part is not body]
    if not all(isinstance(part, Constant) or is_salt(part) for part in others):
        return term, ""
    if not any(is_salt(part) for part in others):
        return term, ""  # a constant before the digest is a step of the formula
    pieces = []
    for part in term.of:
        if part is body:
            pieces.append("{digest}")
        elif isinstance(part, Constant):
            pieces.append(str(part.value).replace("{", "{{").replace("}", "}}"))
        else:
            pieces.append("{salt}")
    return body, "".join(pieces)
