"""Trying candidates: one account leads, and what matches there is tried on all.

A candidate is abandoned at its first digest that does not match the leading account's. What matches
is run on all accounts by the notation's own evaluation.
"""

import base64
import hashlib
import re
from collections.abc import Callable, Iterable, Iterator, Sequence
from typing import NamedTuple, Protocol

from lean_tumbler.core.formulas import notation
from lean_tumbler.core.formulas.loops import Final
from lean_tumbler.core.formulas.near_misses import fits
from lean_tumbler.core.formulas.search_space import (
    USUAL_DIGESTS,
    WRITING_ORDER,
    Constants,
    Form,
    Piece,
    build_space,
)
from lean_tumbler.core.formulas.solutions import Narrowed, SolvedAccount
from lean_tumbler.core.formulas.steps import DIGESTS, TEXT_ENCODINGS
from lean_tumbler.core.formulas.stored_digests import SHORTEST_BYTES, read_digest
from lean_tumbler.errors import FormulaError

_WIDELY = Narrowed()
_NO_CONSTANTS = Constants()


def _from_base64(text: str) -> str:
    try:
        return base64.b64decode(text, validate=True).decode("ascii")
    except ValueError:
        return ""


# How digests were written beside the usual ways: the text back again, and the steps behind.
_WRITTEN_OTHERWISE: tuple[tuple[Callable[[str], str], tuple[str, ...]], ...] = (
    (lambda text: text[::-1], ("reverse",)),
    (_from_base64, ("utf-8", "base64")),
)
_HEXADECIMAL = re.compile("[0-9a-f]+|[0-9A-F]+", re.ASCII)
_LEAST_SLICE = 8  # digits, which are in one digest of some hundred millions by chance
# (where they begin, how many): of a digest's digits, in steps that people choose
_SLICES = tuple(
    (start, length)
    for start in (0, 1, 2, 3, 4, 5, 6, 7, 8, 10, 12, 16, 20, 24, 32)
    for length in (4, 5, 6, 8, 10, 12, 15, 16, 20, 24, 30, 32)
)
_CHECK_EVERY = 4096  # candidates between two looks at the clock


class OutOfTime(Exception):
    """The budget is spent."""


class _Computed(NamedTuple):
    """A digest that is there already, to be asked for as those of hashlib are."""

    value: bytes

    def digest(self) -> bytes:
        return self.value


class _Hash(Protocol):
    def digest(self) -> bytes: ...


def _hasher(name: str) -> Callable[[bytes], _Hash]:
    """Give the quickest way to one digest."""
    constructor = getattr(hashlib, DIGESTS[name].hashlib_name or "-", None)
    if constructor is None:
        compute = DIGESTS[name].compute
        return lambda data: _Computed(compute(data))
    return constructor  # type: ignore[no-any-return] # of hashlib


def _compute(hasher: Callable[[bytes], _Hash]) -> Callable[[bytes], bytes]:
    return lambda data: hasher(data).digest()


class Matcher:
    """Candidates, and what of the accounts they explain."""

    def __init__(
        self,
        accounts: Sequence[SolvedAccount],  # two or more; all of one formula
        *,
        constants: Constants = _NO_CONSTANTS,  # that may go in
        narrowed: Narrowed = _WIDELY,  # what a hint leaves
        budget_seconds: float,  # after so long the search ends
        clock: Callable[[], float],  # seconds that pass
        progress: Callable[[int], None],  # told how many candidates were tried since the last time
        # whether a formula that explains some of the accounts ends the search
        several: bool = False,
    ) -> None:
        self._accounts = accounts
        self._several = several
        self._space = build_space([account.inputs for account in accounts], constants)
        self._narrowed = narrowed
        self._hashers = {name: _hasher(name) for name in narrowed.digests}
        self._digests = {name: _compute(hasher) for name, hasher in self._hashers.items()}
        self._clock, self._progress = clock, progress
        self._started = clock()
        self._deadline = self._started + budget_seconds
        self._tried = self._unreported = 0
        self._reached = ""
        self._found: dict[str, None] = {}
        self._near: dict[str, tuple[int, ...]] = {}
        self._pivot = 0
        self._prefix = b""
        self._exact, self._cut, self._slow = list[Final](), list[Final](), list[Final]()

    def _pivots(self) -> list[int]:
        """Order the accounts: the plainest password leads."""

        def oddity(place: int) -> tuple[bool, int, int]:
            password = self._accounts[place].inputs.password
            return not password.isascii(), sum(not c.isalnum() for c in password), place

        return sorted(range(len(self._accounts)), key=oddity)

    @property
    def _is_content(self) -> bool:
        """Whether enough was found to end the search."""
        return bool(self._found or (self._several and self._near))

    def _aim(self, pivot: int) -> bool:
        """Read what the leading account's digest looks like; tell whether it can be a digest."""
        self._pivot = pivot
        text = self._accounts[pivot].stored
        read = read_digest(text)
        if read is None or len(read[0]) < SHORTEST_BYTES:
            return False
        self._prefix, text_encoding, whole = read
        size = len(self._prefix)
        exact = [name for name in self._digests if whole and DIGESTS[name].size_bytes == size]
        longer = [name for name in self._digests if DIGESTS[name].size_bytes > size]
        cut = (text_encoding, f"first {len(text)}")
        self._exact = self._finals_of(exact, (text_encoding,), quick=True)
        self._slow = self._finals_of(exact, (text_encoding,), quick=False)
        self._cut = self._finals_of(longer, cut, quick=True)
        return True

    def _aims_otherwise(self) -> Iterator[list[Final]]:
        """Read what is stored as old code wrote digests, one way after the other; give the finals.

        The digest's text was reversed, or written in base64 once more.
        """
        text, before = self._accounts[self._pivot].stored, self._prefix
        for written, behind in _WRITTEN_OTHERWISE:
            read = read_digest(written(text))
            if read is None or not read[2]:
                continue
            self._prefix, text_encoding, _ = read
            names = [name for name in self._digests if DIGESTS[name].size_bytes == len(read[0])]
            yield [(n, self._digests[n], (text_encoding, *behind)) for n in names]
        self._prefix = before

    def _finals_of(
        self, names: Iterable[str], text_encoding: tuple[str, ...], *, quick: bool
    ) -> list[Final]:
        return [
            (name, self._digests[name], text_encoding)
            for name in names
            if bool(DIGESTS[name].hashlib_name) is quick
        ]

    def _inner(
        self,
        pieces: Iterable[Piece],
        forms: Sequence[Form],
        *,
        after: tuple[str, ...] = (),
        digests: Sequence[str] = USUAL_DIGESTS,
    ) -> Iterator[Piece]:
        """Digest what flows, written in each way that can stand between two digests."""
        p = self._pivot
        computed = [(name, self._digests[name]) for name in digests if name in self._digests]
        for piece in pieces:
            for form in forms:
                data = form.before[p] + piece.values[p] + form.after[p]
                lead = (*piece.steps, *form.steps, *after)
                for name, compute in computed:
                    digest = compute(data)
                    for text_encoding in WRITING_ORDER:
                        value = (
                            TEXT_ENCODINGS[text_encoding](digest).encode("ascii")
                            if text_encoding
                            else digest
                        )
                        steps = (*lead, name, text_encoding) if text_encoding else (*lead, name)
                        # Only the leading account's value is looked at; the others follow a match.
                        yield Piece(steps, (b"",) * p + (value,))
                self._count(len(computed))

    def _scan(
        self,
        pieces: Iterable[Piece],
        forms: Sequence[Form],
        finals: list[Final],
        *,
        after: tuple[str, ...] = (),
    ) -> None:
        """Digest each piece within each form, and compare."""
        p, prefix = self._pivot, self._prefix
        joins = [(form.before[p], form.after[p], form.steps) for form in forms]
        hashed = [(self._hashers[name], name, text_encoding) for name, _, text_encoding in finals]
        each = len(joins) * len(finals)
        for piece in pieces:
            value = piece.values[p]
            for hasher, name, text_encoding in hashed:
                # Most of the search's time goes by in this line.
                hits = [
                    steps
                    for before, behind, steps in joins
                    if hasher(before + value + behind).digest().startswith(prefix)
                ]
                for steps in hits:
                    self._hit((*piece.steps, *steps, *after, name, *text_encoding))
            self._count(each)

    def _scan_within(self, pieces: Iterable[Piece], forms: Sequence[Form]) -> None:
        """Digest each piece within each form, and look for what is stored inside of its digits."""
        p, text = self._pivot, self._accounts[self._pivot].stored
        joins = [(form.before[p], form.after[p], form.steps) for form in forms]
        names = [n for n in self._hashers if 2 * DIGESTS[n].size_bytes > len(text)]
        if len(text) < _LEAST_SLICE or not _HEXADECIMAL.fullmatch(text):
            return
        written, text = ("hex-upper" if text.upper() == text else "hex"), text.lower()
        for piece in pieces:
            value = piece.values[p]
            for name in names:
                for before, behind, steps in joins:
                    place = self._digests[name](before + value + behind).hex().find(text)
                    if place > 0:
                        cut = f"slice {place} {place + len(text)}"
                        self._hit((*piece.steps, *steps, name, written, cut))
            self._count(len(joins) * len(names))

    def _changed(self, pieces: Iterable[Piece]) -> Iterator[Piece]:
        """Give digests as old code changed their text on the way: reversed, sliced, coded."""
        p = self._pivot
        for piece in pieces:
            if piece.steps[-1] not in {"hex", "hex-upper"}:
                continue
            digits = piece.values[p]
            yield Piece((*piece.steps, "reverse"), (b"",) * p + (digits[::-1],))
            again = base64.b64encode(digits)
            yield Piece((*piece.steps, "utf-8", "base64"), (b"",) * p + (again,))
            for start, length in _SLICES:
                part = digits[start : start + length]
                if start + length < len(digits):
                    step = f"slice {start} {start + length}" if start else f"first {length}"
                    yield Piece((*piece.steps, step), (b"",) * p + (part,))

    def _count(self, tried: int) -> None:
        self._tried += tried
        self._unreported += tried
        if self._unreported >= _CHECK_EVERY:
            self._progress(self._unreported)
            self._unreported = 0
            if self._clock() > self._deadline:
                raise OutOfTime

    def _hit(self, steps: tuple[str, ...]) -> None:
        """The leading account matches: what of the others?"""
        plain = _text(steps)
        # First the number that stands in each row: as a number of its own it fits these rows alone.
        by_row = {self._by_row(steps, name) for name in self._space.numbers[self._pivot]} - {plain}
        for text in (*sorted(by_row), plain, *map(_text, self._alternatives(steps))):
            try:
                formula = notation.parse(text)
            except FormulaError:
                continue
            explained = tuple(
                place
                for place, account in enumerate(self._accounts)
                if fits(formula, account.stored, account.inputs)
            )
            canonical = notation.write(formula)
            if len(explained) == len(self._accounts):
                self._found.setdefault(canonical)
            elif explained:
                self._near.setdefault(canonical, explained)

    def _by_row(self, steps: tuple[str, ...], name: str) -> str:
        """Write a number of rounds as the part of the row that says it, where it is the same."""
        number = self._space.numbers[self._pivot][name]
        text = _text(steps)
        if f" {number} " in text or f"{number} times" in text:
            text = re.sub(rf"(pbkdf2-\S+) {number} ", rf"\1 {name} ", text)
            return re.sub(rf"\b{number} times \(", f"{name} times (", text)
        # A digest and then the same one less often are as many rounds as the row says.
        return re.sub(rf"\b(\w+), {number - 1} times \(\1\)", rf"{name} times (\1)", text)

    def _alternatives(self, steps: tuple[str, ...]) -> Iterator[tuple[str, ...]]:
        """Give what reads alike for these accounts: the twins of the parts."""
        for part, others in self._space.twins.items():
            for start in range(len(steps) - len(part) + 1):
                if part and steps[start : start + len(part)] == part:
                    for other in others:
                        yield (*steps[:start], *other, *steps[start + len(part) :])


def _text(steps: tuple[str, ...]) -> str:
    return ", ".join(steps)
