"""What a refusal costs: of each kind of work that usual rows of a store ask for, the most of any.

The row that was refused has done its own part of it; the rest is done before the answer. So the
time of a refusal says nothing of the row: neither what is stored, nor whether there is one. All of
it together has a ceiling, so that rows which somebody planted do not make every refusal dear.
"""

from collections import Counter
from collections.abc import Hashable, Iterable, Iterator, Mapping, Sequence
from threading import Lock

from lean_tumbler.core.login.row_work import Item
from lean_tumbler.core.reading.rows import Row
from lean_tumbler.core.tuning.ceiling import ceiling_seconds, is_unusual
from lean_tumbler.errors import TumblerError

MOST_KINDS = 64  # of fast formulas beside each other; a policy declares each of them
# Values of one memory-hard scheme whose costs differ cannot stand in for each other.
MOST_COSTS_OF_A_SCHEME = 4
_MOST_ROWS = 10_000  # remembered; the oldest is forgotten first
_RECKONED_AFTER = 100  # rows, where none of them asks for something new

Signature = frozenset[tuple[Hashable, int]]  # the kinds that a row asks for, and how much


class RefusalWork:
    """The most work of each kind that usual rows of one store were seen to ask for.

    Args:
        always: what every refusal takes at least: a derivation at the target.
    """

    def __init__(self, always: Item) -> None:
        self._always = always
        self._most: Mapping[Hashable, Item] = {always.kind: always}
        self._ceiling = ceiling_seconds((), target_seconds=always.seconds)
        self._rows: dict[int, Signature] = {}
        self._items: dict[Signature, Sequence[Item]] = {}
        self._since = 0  # rows that are not in the reckoning yet
        self._later: Iterator[tuple[Row, Sequence[Item]]] = iter(())
        self._lock = Lock()

    def learn_of(self, rows: Iterator[tuple[Row, Sequence[Item]]], *, at_once: bool) -> None:
        """Take in what rows ask for, and nothing else: now, or at the first refusal."""
        self._later = rows
        if at_once:
            self._learn_the_rest()

    def _learn_the_rest(self) -> None:
        with self._lock:
            later, self._later = self._later, iter(())
        rows = {_number_of(row): items for row, items in later}  # meanwhile refusals go on
        if not rows:
            return
        with self._lock:
            self._rows, self._items = {}, {}
            for number, items in rows.items():
                self._remember(number, items)
            self._reckon()

    def learn(self, row: Row, items: Sequence[Item]) -> None:
        """Take in what a row asks for, once."""
        number = _number_of(row)
        if not items or number in self._rows:
            return
        with self._lock:
            is_new = self._remember(number, items)
            self._since += 1
            if is_new or self._since >= _RECKONED_AFTER:
                self._reckon()

    def _remember(self, row: int, items: Sequence[Item]) -> bool:
        """Tell whether nobody has asked for that before."""
        if len(self._rows) >= _MOST_ROWS:
            self._rows.pop(next(iter(self._rows)))
        signature = frozenset((item.kind, item.amount) for item in items)
        self._rows[row] = signature
        is_new = signature not in self._items
        self._items[signature] = items
        return is_new

    def _reckon(self) -> None:
        """Take the work of rows, the most usual first, as far as all of it is under the ceiling."""
        self._since = 0
        rows = Counter(self._rows.values())
        self._items = {signature: self._items[signature] for signature in rows}
        seconds = {signature: _together(items) for signature, items in self._items.items()}
        self._ceiling = ceiling_seconds(
            ((seconds[each], number) for each, number in rows.items()),
            target_seconds=self._always.seconds,
        )
        most: dict[Hashable, Item] = {self._always.kind: self._always}
        for signature in sorted(rows, key=lambda each: (-rows[each], seconds[each])):
            with_it = _with(most, self._items[signature])
            if _together(with_it.values()) <= self._ceiling:
                most = with_it
        self._most = most

    def is_dear(self, items: Sequence[Item]) -> bool:
        """Tell whether a row asks for far more than any refusal may take."""
        if is_unusual(_together(items), self._ceiling):
            self._learn_the_rest()  # others may ask for as much
        return is_unusual(_together(items), self._ceiling)

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


def _number_of(row: Row) -> int:
    return hash((row.stored, row.salt))


def _together(items: Iterable[Item]) -> float:
    return sum(item.seconds for item in items)


def _with(most: Mapping[Hashable, Item], items: Sequence[Item]) -> dict[Hashable, Item]:
    found = dict(most)
    for item in items:
        if item.kind in found or _has_room(found.values(), item):
            found[item.kind] = max(found.get(item.kind, item), item, key=_amount)
    return found


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
