"""What bulk layering does with one row: it follows the reading, and judges nothing itself."""

from collections.abc import Callable, Mapping, Sequence

from msgspec import Struct, field

from lean_tumbler.core.grades import Grade, grade
from lean_tumbler.core.login import written
from lean_tumbler.core.login.passwords import require_storable
from lean_tumbler.core.policy import StoragePolicy, Target
from lean_tumbler.core.reading.reader import RowReader
from lean_tumbler.core.reading.readings import Reading, State
from lean_tumbler.core.reading.ways import (
    Bounds,
    Certainty,
    CryptWay,
    DerivationWay,
    FormulaWay,
    LegacyWay,
    PasswordWay,
)
from lean_tumbler.core.reasons import Reason
from lean_tumbler.core.records import Hidden, MaskedRecord
from lean_tumbler.core.schemes import keyed, layered, phc
from lean_tumbler.core.schemes.base import Parameters
from lean_tumbler.core.schemes.catalogue import DERIVATIONS
from lean_tumbler.core.schemes.derivation import Derivation
from lean_tumbler.errors import PasswordRefused, WriteNotConfirmed

# Of states that no step reads on.
STATES: Mapping[State, Reason] = {
    State.NO_VALUE: Reason.NO_VALUE,
    State.EMPTY: Reason.NO_VALUE,
    State.LOCKED: Reason.LOCKED,
}


class RowPlan(MaskedRecord, Struct, frozen=True, kw_only=True):
    """One row's part in the bulk step.

    Exactly one is set: `leave`, `plain` (known password: written as current at once), `moves`, or
    `head` with the legacy digest. `cohort` names the row's ways, `costs` and `formula` say what a
    guess at it takes.
    """

    leave: Reason | None = None
    cohort: str = ""
    identity: str = ""  # what the ways rest on, for evidence: the origin of the head
    needs_proof: bool = False  # whether nothing but the policy or the shape says how it was made
    text_class: str = ""  # the structure of a text that only proof makes a password
    keyed_by: str = ""  # the key that the value is under; empty for none
    suspected: str = ""  # what the column shows the text to be a digest of
    # whether the value goes as it is to the column that takes the place of its own
    moves: bool = False
    costs: Parameters = field(default_factory=dict)
    formula: str = ""
    plain: Hidden[bytes | None] = None
    head: Hidden[layered.Head | None] = None
    legacy_digest: Hidden[str] = ""


# What a value's shape decides, and nothing else of its text.
_BY_SHAPE = frozenset({None, Reason.LAYERED, Reason.CURRENT, Reason.REWRITTEN})


def holds_for_alike(plan: RowPlan) -> bool:
    """Tell whether rows that are alike get the same plan; in doubt, each is looked at by itself."""
    return plan.leave in _BY_SHAPE and plan.plain is None


# What every program reads that knows what is written, so that it may stand in the new column.
_MOVED = frozenset({Reason.CURRENT, Reason.LAYERED, Reason.LOCKED})


def moved(plan: RowPlan) -> RowPlan:
    """Give the plan of a row whose value stands in a column that is to be left behind."""
    if plan.leave not in _MOVED:
        return plan
    return RowPlan(cohort=plan.cohort or str(plan.leave.name).lower(), moves=True)


def plan_row(reading: Reading, policy: StoragePolicy) -> RowPlan:
    """Decide what bulk layering does with one row.

    Args:
        reading: the row, as the store's reader gives it.
        policy: target, floor and limits.
    """
    leave = STATES.get(reading.state) or why_closed(reading) or reading.doubt
    if reading.state is State.LAYERED:
        weak = grade(reading.parsed, policy.floor, salted=True) is Grade.OUTDATED
        leave = Reason.LAYER_TOO_WEAK if weak else Reason.LAYERED
    ways = reading.ways
    if leave is None and not ways:
        leave = Reason.NOT_UNDERSTOOD
    if leave is None and _is_current(reading, policy):
        leave = Reason.CURRENT if policy.leaves(reading.parsed) else Reason.REWRITTEN
    if leave is None and any(getattr(way, "before", None) for way in ways):
        leave = Reason.PREPARED
    if leave is not None:
        return RowPlan(leave=leave, cohort=reading.label, suspected=reading.suspected)
    passwords = [way for way in ways if isinstance(way, PasswordWay)]
    if passwords:
        one = passwords[0] if len(ways) == 1 else None
        if one is None:
            return _left(reading, Reason.WAYS_DIFFER)
        return _plan_password(reading, one, policy)
    if policy.target.over_digests is None:
        bound = policy.target.derivation.on_top is not None
        return _left(reading, Reason.READERS_OF_TARGET if bound else Reason.AT_NEXT_LOGIN)
    return _plan_digest(reading, [way for way in ways if not isinstance(way, PasswordWay)])


def why_closed(reading: Reading) -> Reason | None:
    """Say why no step writes a keyed value that was not opened; None for any other."""
    if reading.closed is None:
        return None
    return Reason.KEY_MISSING if reading.closed.is_the_operators else Reason.MOVED


def _left(reading: Reading, leave: Reason) -> RowPlan:
    return RowPlan(leave=leave, cohort=reading.label)


def _is_current(reading: Reading, policy: StoragePolicy) -> bool:
    if not any(isinstance(way, DerivationWay) for way in reading.ways):
        return False
    return grade(reading.parsed, policy.floor, salted=True) is Grade.CURRENT


def _plan_password(reading: Reading, way: PasswordWay, policy: StoragePolicy) -> RowPlan:
    try:
        raw = require_storable(way.password, limits=policy.limits, target=policy.target)
    except PasswordRefused:
        return RowPlan(leave=Reason.NOT_STORABLE, cohort=way.name)
    return RowPlan(
        cohort=way.name,
        identity=reading.identity,
        needs_proof=reading.certainty is not Certainty.SAID,
        text_class=way.text_class,
        suspected=reading.suspected,
        plain=raw,
    )


def _plan_digest(reading: Reading, ways: Sequence[LegacyWay]) -> RowPlan:
    """Lay the slow hash over what all ways agree on."""
    head = _head_of(ways)
    if head is None or len({way.canonical for way in ways}) != 1:
        return _left(reading, Reason.WAYS_DIFFER)
    if not head.is_readable:
        return _left(reading, Reason.HEAD_TOO_LONG)
    formulas = [way.formula for way in ways if isinstance(way, FormulaWay)]
    return RowPlan(
        cohort=reading.label,
        identity=reading.identity,
        needs_proof=reading.certainty is not Certainty.SAID,
        suspected=reading.suspected,
        costs=_costs(reading, ways),
        formula=formulas[0].text if formulas else "",
        head=head,
        legacy_digest=ways[0].canonical,
    )


def _costs(reading: Reading, ways: Sequence[LegacyWay]) -> Parameters:
    if not isinstance(ways[0], FormulaWay):
        return reading.parsed.parameters
    parts = ways[0].parts
    return {name: int(parts[name]) for name in ways[0].formula.numbers}


def _head_of(ways: Sequence[LegacyWay]) -> layered.Head | None:
    """Give one head for all ways; None where their inputs contradict each other."""
    if len(ways) > 1 and not all(isinstance(way, FormulaWay) for way in ways):
        return None
    first = ways[0]
    if len(ways) == 1 and not isinstance(first, FormulaWay):
        return layered.Head(origin=first.origin, salt=first.salt)
    inputs: dict[str, bytes] = {}
    for way in ways:
        mine: dict[str, bytes | None] = {"salt": way.salt}
        if isinstance(way, FormulaWay):
            mine["login"] = way.login.encode("utf-8") if way.login is not None else None
            mine |= way.parts
        for name, raw in mine.items():
            if raw is not None and inputs.setdefault(name, raw) != raw:
                return None
    origins = sorted({way.origin for way in ways})
    return layered.Head(
        origin="+".join(origins),
        salt=inputs.pop("salt", None),
        login=inputs.pop("login", None),
        parts=inputs,
    )


class DerivationTask(MaskedRecord, Struct, frozen=True, kw_only=True):
    """What one derivation takes, by values alone, so that another machine can run it."""

    scheme: str
    parameters: dict[str, int]
    fresh_salt: Hidden[bytes]
    variant: str = ""
    plain: Hidden[bytes | None] = None
    head: Hidden[layered.Head | None] = None
    legacy_digest: Hidden[str] = ""


def task_of(plan: RowPlan, target: Target, randomness: Callable[[int], bytes]) -> DerivationTask:
    """Say what is to be derived for a row, with a fresh salt."""
    if plan.head is None:
        return DerivationTask(
            scheme=target.scheme,
            parameters=dict(target.parameters),
            fresh_salt=randomness(target.derivation.salt_bytes),
            variant=target.variant,
            plain=plan.plain,
        )
    over = target.over_digests
    if over is None:
        raise ValueError("the target lies over no digest")
    return DerivationTask(
        scheme=over.scheme,
        parameters=dict(over.parameters),
        fresh_salt=randomness(DERIVATIONS[over.scheme].salt_bytes),
        head=plan.head,
        legacy_digest=plan.legacy_digest,
    )


def derived(task: DerivationTask) -> str:
    """Compute what a row is to hold: one derivation."""
    if task.head is None:
        plain = task.plain or b""
        return written.made(
            task.scheme, task.parameters, plain, task.fresh_salt, variant=task.variant
        )
    return layered.write(
        task.head,
        legacy_digest=task.legacy_digest,
        derivation=DERIVATIONS[task.scheme],
        parameters=task.parameters,
        fresh_salt=task.fresh_salt,
    )


def assembled(task: DerivationTask, digest: bytes) -> str:
    """Put together what a row is to hold, of a digest that was derived elsewhere.

    Raises:
        ValueError: the digest has another length than the scheme's.
    """
    if task.head is None:
        raise ValueError("a password is never derived elsewhere")
    return layered.assembled(
        task.head,
        derivation=DERIVATIONS[task.scheme],
        parameters=task.parameters,
        fresh_salt=task.fresh_salt,
        digest=digest,
    )


def require_confirmed(value: str, task: DerivationTask, reader: RowReader) -> None:
    """Refuse a value that would not be read again as what it was made from.

    Raises:
        WriteNotConfirmed: saying what is lost, never the value.
    """
    made = {"scheme": task.scheme, "parameters": task.parameters, "salt": task.fresh_salt}
    if task.head is None:
        written.require_direct(value, **made)  # type: ignore[arg-type] # by name, as above
    else:
        written.require_layered(value, head=task.head, reader=reader, **made)  # type: ignore[arg-type]


def require_opening(target: Target, randomness: Callable[[int], bytes], bounds: Bounds) -> None:
    """Lay the target over an invented value, and log in: before anybody's value depends on it.

    Raises:
        WriteNotConfirmed: the login fails.
    """
    from lean_tumbler.core.login.checking import check  # noqa: PLC0415 - it stands above this module

    way = CryptWay(name="md5-crypt", certainty=Certainty.SAID, scheme="md5-crypt", setting=_TRIAL)
    plan = RowPlan(
        head=layered.Head(origin=way.origin, salt=way.salt),
        legacy_digest=way.computed(_TRIAL, bounds) or "",
    )
    reader = RowReader()
    task = task_of(plan, target, randomness)
    value = derived(task)
    require_confirmed(value, task, reader)
    reading = reader.read_text(value)
    if not check(reading, _TRIAL, bounds=bounds).accepted:
        raise WriteNotConfirmed(
            f"a layered value made with {target.scheme} is not opened by its own password; "
            "nothing was written"
        )


_TRIAL = "$1$gannet$"  # a setting of md5-crypt, and the invented password as well


def characters_needed(target: Target, formulas: int = 1) -> tuple[int, int]:
    """Say how wide a column must be: for a new value, and for a layered one.

    The layered one is taken with a salt of 16 bytes in its head and no login.

    Args:
        target: what is written.
        formulas: that one head names at most.
    """
    direct = _characters(target.derivation, target.parameters)
    over = target.over_digests
    layer = direct
    if over is not None:
        origins = "+".join(["0" * 16] * max(1, formulas))
        head = f"{layered.TAG}from={origins},salt={phc.encode(bytes(16))}"
        layer = _characters(DERIVATIONS[over.scheme], over.parameters) + len(head)
    if target.keyed_by:
        direct, layer = (keyed.characters(each, target.keyed_by) for each in (direct, layer))
    return direct, layer


def _characters(derivation: Derivation, parameters: Parameters) -> int:
    lowest = {entry.name: entry.lowest for entry in derivation.parameters}
    least = len(derivation.create(b"", bytes(derivation.salt_bytes), lowest))
    if derivation.fixed_form is not None:  # of one length, whatever its cost
        return least
    # The costs stand in PHC strings as plain numbers; running the target itself would be slow.
    return least + sum(len(str(parameters[name])) - len(str(lowest[name])) for name in lowest)
