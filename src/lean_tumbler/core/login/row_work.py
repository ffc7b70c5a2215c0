"""What work checking a row takes: kinds of it, and how much of each."""

from collections.abc import Callable, Hashable, Iterator, Mapping, Sequence
from typing import Protocol

from msgspec import Struct
from msgspec.structs import replace

from lean_tumbler.core.formulas import analysis
from lean_tumbler.core.formulas.named import NamedFormula
from lean_tumbler.core.limits import over_limits
from lean_tumbler.core.login.checking import distinct_for
from lean_tumbler.core.reading.readings import Reading, State
from lean_tumbler.core.reading.ways import (
    Before,
    Bounds,
    CryptWay,
    DerivationWay,
    FormulaWay,
)
from lean_tumbler.core.schemes.base import Parameters, ParsedValue
from lean_tumbler.core.schemes.catalogue import CRYPT_SCHEMES, DERIVATIONS
from lean_tumbler.core.schemes.derivation import Derivation
from lean_tumbler.core.tuning.work import work_of as guess_work_of

_FORMULA_STEP_SECONDS = 1e-6  # one digest or one round, as evaluated here


class Item(Struct, frozen=True, kw_only=True):
    """Work of one kind, for one form of a password."""

    scheme: str  # of which it is; for formulas, the fingerprint
    costs: Hashable  # what tells apart work that cannot stand in for other work of the scheme
    amount: int  # in steps that are alike
    spend: Callable[[int, str], None]  # (amount, password) does as much
    step_seconds: float  # about what a core takes for one

    @property
    def kind(self) -> Hashable:
        """What other work it can be filled up to."""
        return self.scheme, self.costs

    @property
    def seconds(self) -> float:
        """About how long a core takes for all of it."""
        return self.amount * self.step_seconds


def work_of(reading: Reading, bounds: Bounds) -> tuple[Item, ...]:
    """Give the work that checking one form of a password against a row takes.

    What is over the limits is not run, and so takes none.
    """
    if over_limits(reading.parsed, bounds.limits):
        return ()
    found: dict[Hashable, Item] = {}
    for item in _items(reading, bounds):
        amount = item.amount + (found[item.kind].amount if item.kind in found else 0)
        found[item.kind] = replace(item, amount=amount)
    return tuple(found.values())


def _items(reading: Reading, bounds: Bounds) -> Iterator[Item]:
    inner = reading.parsed.inner if reading.state is State.LAYERED else None
    beside: dict[tuple[str, str], list[FormulaWay]] = {}
    for way in reading.ways:
        if isinstance(way, FormulaWay) and way.alternative is not None:
            beside.setdefault((way.name, way.alternative.main), []).append(way)
            continue
        if isinstance(way, FormulaWay):
            yield _formula(way, bounds)
        elif isinstance(way, CryptWay | DerivationWay):
            if way.before is not None:
                yield _before(way.before, bounds)
            yield _setting(way) if isinstance(way, CryptWay) else _derivation(way.parsed)
        if inner is not None:
            yield _derivation(inner)
    for ways in beside.values():
        yield _for_each_distinct(ways, [_formula(way, bounds) for way in ways])
        if inner is not None:
            yield _for_each_distinct(ways, [_derivation(inner)] * len(ways))


def _for_each_distinct(ways: Sequence[FormulaWay], items: Sequence[Item]) -> Item:
    """Give work that is done once for each result that alternatives have of a typed text."""
    first = items[0]
    spellings = tuple(str(way.alternative and way.alternative.spelling) for way in ways)

    def spend(amount: int, password: str) -> None:
        for way in distinct_for(ways, password):
            item = next(item for own, item in zip(ways, items, strict=True) if own is way)
            item.spend(amount, password)

    return replace(first, costs=(first.costs, spellings), spend=spend)


class _Computed(Protocol):
    """What computes something of a password."""

    def __call__(self, password: str, bounds: Bounds) -> object: ...


def _again(compute: _Computed, bounds: Bounds) -> Callable[[int, str], None]:
    def spend(amount: int, password: str) -> None:
        for _ in range(amount):
            compute(password, bounds)

    return spend


def _formula(way: FormulaWay, bounds: Bounds) -> Item:
    numbers = sorted(way.formula.numbers)
    fingerprint = way.formula.fingerprint
    if len(numbers) != 1:
        costs = tuple(way.parts.get(name) for name in numbers)
        spend = _again(way.computed, bounds)
        return Item(
            scheme=fingerprint, costs=costs, amount=1, spend=spend,
            step_seconds=_formula_seconds(way.formula, way.parts),
        )  # fmt: skip
    name = numbers[0]

    def rounds(amount: int, password: str) -> None:
        parts = {**way.parts, name: str(amount).encode("ascii")}
        replace(way, parts=parts).computed(password, bounds)

    amount = _number(way.parts.get(name))
    step_seconds = _formula_seconds(way.formula, way.parts) / max(amount, 1)
    return Item(
        scheme=fingerprint, costs=(), amount=amount, spend=rounds, step_seconds=step_seconds
    )


def _formula_seconds(formula: NamedFormula, parts: Mapping[str, bytes | None]) -> float:
    numbers = {name: _number(parts.get(name)) for name in formula.numbers}
    return _FORMULA_STEP_SECONDS * analysis.work(formula.formula, numbers)


def _number(raw: bytes | None) -> int:
    return int(raw) if raw and raw.isdigit() and len(raw) <= 10 else 1


def _before(before: Before, bounds: Bounds) -> Item:
    costs = tuple(before.parts.get(name) for name in sorted(before.formula.numbers))
    spend = _again(before.of, bounds)
    return Item(
        scheme=before.formula.fingerprint, costs=costs, amount=1, spend=spend,
        step_seconds=_formula_seconds(before.formula, before.parts),
    )  # fmt: skip


def _setting(way: CryptWay) -> Item:
    found, value = CRYPT_SCHEMES[way.scheme], way.parsed
    parameters = value.parameters if value else {}
    settings = found.settings_of_rounds
    seconds = _seconds(way.scheme, parameters)
    if settings is None or "rounds" not in parameters:

        def spend(amount: int, password: str) -> None:
            for _ in range(amount):
                found.compute(way.setting, password.encode("utf-8"))

        return Item(
            scheme=way.scheme, costs=_costs(parameters), amount=1, spend=spend, step_seconds=seconds
        )

    def rounds(amount: int, password: str) -> None:
        for setting in settings(amount):
            found.compute(setting, password.encode("utf-8"))

    amount = parameters["rounds"]
    return Item(
        scheme=way.scheme, costs=(), amount=amount, spend=rounds, step_seconds=seconds / amount
    )


def _seconds(scheme: str, parameters: Parameters) -> float:
    work = guess_work_of(scheme, parameters)
    return work.seconds_of_a_core if work else 0.0


def _derivation(parsed: ParsedValue) -> Item:
    derivation = DERIVATIONS[parsed.scheme]
    blocks = derivation.blocks_of(len(parsed.digest))
    return derivation_work(derivation, parsed.parameters, blocks=blocks)


def derivation_work(derivation: Derivation, parameters: Parameters, *, blocks: int = 1) -> Item:
    """Give the work of one derivation, whose digest has some blocks, each for all the rounds."""
    salt, steps = bytes(derivation.salt_bytes), derivation.steps
    seconds = _seconds(derivation.scheme, parameters)
    if steps is None:

        def spend(amount: int, password: str) -> None:
            for _ in range(amount):
                derivation.create(password.encode("utf-8"), salt, parameters)

        return Item(
            scheme=derivation.scheme, costs=_costs(parameters), amount=1, spend=spend,
            step_seconds=seconds,
        )  # fmt: skip

    def fill(amount: int, password: str) -> None:
        for costs in steps.costs(amount):
            derivation.create(password.encode("utf-8"), salt, costs)

    number = steps.number(parameters)
    return Item(
        scheme=derivation.scheme, costs=(), amount=number * blocks, spend=fill,
        step_seconds=seconds / max(number, 1),
    )  # fmt: skip


def _costs(parameters: Parameters) -> Hashable:
    return tuple(sorted(parameters.items()))
