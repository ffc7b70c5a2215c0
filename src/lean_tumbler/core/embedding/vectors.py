"""Invented rows with what opens them: the test of a written check, for the application's own CI."""

from collections.abc import Callable, Iterator

from msgspec import Struct

from lean_tumbler.core.embedding.check import CohortForm, StoreCheck
from lean_tumbler.core.formulas.analysis import keys_used
from lean_tumbler.core.formulas.evaluation import Inputs, evaluate
from lean_tumbler.core.formulas.named import NamedFormula
from lean_tumbler.core.login import written
from lean_tumbler.core.records import Hidden, MaskedRecord
from lean_tumbler.core.schemes import layered
from lean_tumbler.core.schemes.base import Parameters
from lean_tumbler.core.schemes.catalogue import DERIVATIONS

INVENTED_PASSWORD, INVENTED_LOGIN = "Invented gull 4711", "invented@tidepost.example"
_SALT, _NUMBER = b"invented", b"3"
_CHEAP: Parameters = {
    "memory_kib": 64, "passes": 1, "lanes": 1, "cost_log2": 4, "block_size": 8, "rounds": 100,
}  # fmt: skip


class Vector(MaskedRecord, Struct, frozen=True, kw_only=True):
    """One row, which `INVENTED_PASSWORD` opens."""

    what: str  # for people
    stored: Hidden[str]
    salt: Hidden[str | None] = None
    columns: Hidden[dict[str, str]]


def vectors(check: StoreCheck, randomness: Callable[[int], bytes]) -> Iterator[Vector]:
    """Invent rows of each make that a check reads and that can be made without a key.

    Args:
        check: of the store.
        randomness: number of bytes -> random bytes, for salts.
    """
    target = check.target
    costs = _costs(target.scheme)
    value = written.made(
        target.scheme, costs, INVENTED_PASSWORD.encode(), randomness(16), variant=target.variant
    )
    yield Vector(what=f"a value of {target.scheme}", stored=value, columns={})
    for form in check.formulas:
        if not keys_used(form.named.formula) and check.on_top:
            yield _layered(check, form.named, randomness)
    for cohort in check.cohorts:
        found = _bare(check, cohort)
        if found is not None:
            yield found


def _costs(scheme: str) -> Parameters:
    return {entry.name: _CHEAP[entry.name] for entry in DERIVATIONS[scheme].parameters}


def _inputs(named: NamedFormula) -> Inputs:
    parts = {name: _NUMBER if name in named.numbers else b"invented part" for name in named.parts}
    salt = _SALT if named.takes_salt else None
    return Inputs(password=INVENTED_PASSWORD, salt=salt, login=INVENTED_LOGIN, parts=parts)


def _layered(check: StoreCheck, named: NamedFormula, randomness: Callable[[int], bytes]) -> Vector:
    inputs, scheme = _inputs(named), check.on_top[0]
    head = layered.Head(
        origin=named.fingerprint,
        salt=inputs.salt,
        login=INVENTED_LOGIN.encode() if named.takes_login else None,
        parts=inputs.parts,
    )
    digest = named.output.canonical(evaluate(named.formula, inputs)) or ""
    value = layered.write(
        head, legacy_digest=digest, derivation=DERIVATIONS[scheme], parameters=_costs(scheme),
        fresh_salt=randomness(16),
    )  # fmt: skip
    return Vector(what=f"{scheme} over {named.name}", stored=value, columns={})


def _bare(check: StoreCheck, cohort: CohortForm) -> Vector | None:
    """Give a legacy row of a cohort that all rows are of, whose value is the digest alone."""
    if cohort.condition or cohort.layout or cohort.then or not cohort.formulas:
        return None
    named = next(form.named for form in check.formulas if form.key == cohort.formulas[0])
    if keys_used(named.formula):
        return None
    inputs = _inputs(named)
    columns = {check.parts[name]: raw.decode() for name, raw in inputs.parts.items()}
    salt = None if inputs.salt is None else inputs.salt.decode()
    return Vector(
        what=cohort.name, stored=evaluate(named.formula, inputs), salt=salt, columns=columns
    )
