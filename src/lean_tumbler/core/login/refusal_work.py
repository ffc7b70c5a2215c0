"""What a refusal costs: of each kind of work that the rows of a store ask for, the most of any.

The row that was refused has done its own part of it; the rest is done before the answer. So the
time of a refusal says nothing of the row: neither what is stored, nor whether there is one.
"""

from collections.abc import Callable, Hashable, Iterable, Iterator, Mapping, Sequence
from dataclasses import dataclass, replace
from threading import Lock
from typing import Protocol

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
from lean_tumbler.errors import TumblerError

MOST_KINDS = 64  # of fast formulas beside each other; a policy declares each of them
# Values of one memory-hard scheme whose costs differ cannot stand in for each other.
MOST_COSTS_OF_A_SCHEME = 4


@dataclass(frozen=True, slots=True, kw_only=True)
class Item:
    """Work of one kind, for one form of a password."""

    scheme: str  # of which it is; for formulas, the fingerprint
    costs: Hashable  # what tells apart work that cannot stand in for other work of the scheme
    amount: int  # in steps that are alike
    spend: Callable[[int, str], None]  # (amount, password) does as much

    @property
    def kind(self) -> Hashable:
        """What other work it can be filled up to."""
        return self.scheme, self.costs


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
        return Item(scheme=fingerprint, costs=costs, amount=1, spend=spend)
    name = numbers[0]

    def rounds(amount: int, password: str) -> None:
        parts = {**way.parts, name: str(amount).encode("ascii")}
        replace(way, parts=parts).computed(password, bounds)

    amount = _number(way.parts.get(name))
    return Item(scheme=fingerprint, costs=(), amount=amount, spend=rounds)


def _number(raw: bytes | None) -> int:
    return int(raw) if raw and raw.isdigit() and len(raw) <= 10 else 1


def _before(before: Before, bounds: Bounds) -> Item:
    costs = tuple(before.parts.get(name) for name in sorted(before.formula.numbers))
    spend = _again(before.of, bounds)
    return Item(scheme=before.formula.fingerprint, costs=costs, amount=1, spend=spend)


def _setting(way: CryptWay) -> Item:
    found, value = CRYPT_SCHEMES[way.scheme], way.parsed
    parameters = value.parameters if value else {}
    settings = found.settings_of_rounds
    if settings is None or "rounds" not in parameters:

        def spend(amount: int, password: str) -> None:
            for _ in range(amount):
                found.compute(way.setting, password.encode("utf-8"))

        return Item(scheme=way.scheme, costs=_costs(parameters), amount=1, spend=spend)

    def rounds(amount: int, password: str) -> None:
        for setting in settings(amount):
            found.compute(setting, password.encode("utf-8"))

    return Item(scheme=way.scheme, costs=(), amount=parameters["rounds"], spend=rounds)


def _derivation(parsed: ParsedValue) -> Item:
    derivation = DERIVATIONS[parsed.scheme]
    blocks = derivation.blocks_of(len(parsed.digest))
    return derivation_work(derivation, parsed.parameters, blocks=blocks)


def derivation_work(derivation: Derivation, parameters: Parameters, *, blocks: int = 1) -> Item:
    """Give the work of one derivation, whose digest has some blocks, each for all the rounds."""
    salt, steps = bytes(derivation.salt_bytes), derivation.steps
    if steps is None:

        def spend(amount: int, password: str) -> None:
            for _ in range(amount):
                derivation.create(password.encode("utf-8"), salt, parameters)

        return Item(scheme=derivation.scheme, costs=_costs(parameters), amount=1, spend=spend)

    def fill(amount: int, password: str) -> None:
        for costs in steps.costs(amount):
            derivation.create(password.encode("utf-8"), salt, costs)

    amount = steps.number(parameters) * blocks
    return Item(scheme=derivation.scheme, costs=(), amount=amount, spend=fill)


def _costs(parameters: Parameters) -> Hashable:
    return tuple(sorted(parameters.items()))


class RefusalWork:
    """The most work of each kind that rows of one store were seen to ask for.

    Args:
        always: what every refusal takes at least: a derivation at the target.
    """

    def __init__(self, always: Item) -> None:
        self._most: Mapping[Hashable, Item] = {always.kind: always}
        self._later: Iterator[Sequence[Item]] = iter(())
        self._lock = Lock()

    def learn_of(self, rows: Iterator[Sequence[Item]], *, at_once: bool) -> None:
        """Take in what rows ask for: now, or at the first refusal."""
        self._later = rows
        if at_once:
            self._learn_the_rest()

    def _learn_the_rest(self) -> None:
        rows, self._later = self._later, iter(())
        for items in rows:
            self.learn(items)

    def learn(self, items: Sequence[Item]) -> None:
        """Take in what a row asks for."""
        if all(self._knows(item) for item in items):
            return
        with self._lock:
            most = dict(self._most)
            for item in items:
                if item.kind in most or _has_room(most.values(), item):
                    most[item.kind] = max(most.get(item.kind, item), item, key=_amount)
            self._most = most

    def _knows(self, item: Item) -> bool:
        known = self._most.get(item.kind)
        return known is not None and known.amount >= item.amount

    def fill_up(self, done: Sequence[Item], forms: Iterable[str]) -> None:
        """Do what is missing.

        Args:
            done: what the check has done for each form.
            forms: of the password.
        """
        self._learn_the_rest()
        spent = {item.kind: item.amount for item in done}
        missing = [
            (item, item.amount - spent.get(kind, 0))
            for kind, item in self._most.items()
            if item.amount > spent.get(kind, 0)
        ]
        for form in forms:
            for item, amount in missing:
                _spend(item, amount, form)


def _amount(item: Item) -> int:
    return item.amount


def _has_room(known: Iterable[Item], item: Item) -> bool:
    of_scheme = [each for each in known if each.scheme == item.scheme]
    return len(of_scheme) < MOST_COSTS_OF_A_SCHEME and len(list(known)) < MOST_KINDS


def _spend(item: Item, amount: int, password: str) -> None:
    """Do work of which nothing comes; that it fails is no reason to fail a refusal."""
    try:
        item.spend(amount, password)
    except (TumblerError, ValueError):
        return
