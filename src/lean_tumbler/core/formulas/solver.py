"""Recovering a formula from known accounts: the plausible first, within a budget of time.

One account leads; a candidate is abandoned at its first digest that does not match there. What
matches is run on all accounts by the notation's own evaluation, and counts only where it explains
every one of them.
"""

import hashlib
import hmac
from collections.abc import Callable, Iterable, Iterator, Sequence
from itertools import product

from lean_tumbler.core.formulas import notation
from lean_tumbler.core.formulas.loops import Final, LoopSearch
from lean_tumbler.core.formulas.near_misses import fits
from lean_tumbler.core.formulas.search_space import (
    LONG_LOOP_COUNT,
    LOOP_COUNT,
    PBKDF2_MANY_ROUNDS,
    PBKDF2_ROUNDS,
    SHORT_LOOP_COUNT,
    USUAL_DIGESTS,
    WRITING_ORDER,
    Form,
    Piece,
    build_space,
)
from lean_tumbler.core.formulas.solutions import Narrowed, NearMiss, Solution, SolvedAccount
from lean_tumbler.core.formulas.steps import DIGESTS, TEXT_ENCODINGS
from lean_tumbler.core.formulas.stored_digests import SHORTEST_BYTES, read_digest
from lean_tumbler.errors import FormulaError

_WIDELY = Narrowed()
_CHECK_EVERY = 4096  # candidates between two looks at the clock
_FORMULAS_KEPT = 12
_NEAR_KEPT = 5
_SIMPLE_STARTS = 4


class _OutOfTime(Exception):
    """The budget is spent."""


_Stage = tuple[str, list[Final], Callable[[list[Final]], None]]
_WIDE = ("utf-16le",)


def _compute(name: str) -> Callable[[bytes], bytes]:
    """Give the quickest way to one digest."""
    constructor = getattr(hashlib, DIGESTS[name].hashlib_name or "-", None)
    if constructor is None:
        return DIGESTS[name].compute
    return lambda data: bytes(constructor(data).digest())


class Solver:
    """One search.

    Args:
        accounts: two or more; all of one formula.
        literals: site-wide constants that may go in.
        narrowed: what a hint leaves.
        budget_seconds: after so long the search ends.
        clock: seconds that pass.
        progress: told how many candidates were tried since the last time.
    """

    def __init__(
        self,
        accounts: Sequence[SolvedAccount],
        *,
        literals: Sequence[str] = (),
        narrowed: Narrowed = _WIDELY,
        budget_seconds: float,
        clock: Callable[[], float],
        progress: Callable[[int], None],
    ) -> None:
        self._accounts = accounts
        self._space = build_space([account.inputs for account in accounts], literals)
        self._narrowed = narrowed
        self._digests = {name: _compute(name) for name in narrowed.digests}
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

    def solve(self) -> Solution:
        """Search."""
        exhausted = True
        try:
            for pivot in self._pivots():
                if self._aim(pivot):
                    self._search(full=pivot == self._pivots()[0])
                if self._found:
                    break
        except _OutOfTime:
            exhausted = False
        near = sorted(self._near.items(), key=lambda item: -len(item[1]))[:_NEAR_KEPT]
        return Solution(
            formulas=tuple(self._found)[:_FORMULAS_KEPT],
            near_misses=tuple(NearMiss(text, explained) for text, explained in near),
            tried=self._tried,
            seconds=self._clock() - self._started,
            exhausted=exhausted,
            reached=self._reached,
        )

    def _pivots(self) -> list[int]:
        """Order the accounts: the plainest password leads."""

        def oddity(place: int) -> tuple[bool, int, int]:
            password = self._accounts[place].inputs.password
            return not password.isascii(), sum(not c.isalnum() for c in password), place

        return sorted(range(len(self._accounts)), key=oddity)

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

    def _finals_of(
        self, names: Iterable[str], text_encoding: tuple[str, ...], *, quick: bool
    ) -> list[Final]:
        return [
            (name, self._digests[name], text_encoding)
            for name in names
            if bool(DIGESTS[name].hashlib_name) is quick
        ]

    def _search(self, *, full: bool) -> None:
        """Run the stages; after one that found something, no further."""
        for name, finals, stage in self._stages() if full else self._stages()[:2]:
            if finals:
                self._reached = name
                stage(finals)
            if self._found:
                return

    def _stages(self) -> list[_Stage]:
        exact, cut, slow = self._exact, self._cut, self._slow
        stages: list[_Stage] = [
            ("one digest", exact, self._one_digest),
            ("two digests with one join", exact, self._two_digests),
            ("one rare digest", slow, self._one_rare_digest),
            ("HMAC", exact, self._hmacs),
            ("one digest, cut off", cut, self._one_digest),
            ("PBKDF2", exact or cut, self._pbkdf2),
            ("two digests with one join, cut off", cut, self._two_digests),
            ("three digests", exact, self._three_digests),
            ("three digests with plain joins", exact, self._three_digests_plain),
            (
                f"loops up to {SHORT_LOOP_COUNT:,} times, plain joins",
                exact,
                self._plain_short_loops,
            ),
            ("two digests with joins in both", exact, self._two_joins),
            (f"plain loops up to {LOOP_COUNT:,} times", exact, self._plain_loops),
            (f"loops up to {SHORT_LOOP_COUNT:,} times", exact, self._short_loops),
            (f"loops up to {LOOP_COUNT:,} times", exact, self._loops),
            ("PBKDF2 of many rounds", exact or cut, self._long_pbkdf2),
            ("two digests with any join", exact, self._two_digests_wide),
            ("rare digests", [*exact, *slow], self._rare_digests),
            ("three digests with joins", exact, self._three_digests_wide),
            (f"loops up to {LONG_LOOP_COUNT:,} times", exact, self._long_loops),
        ]
        first = self._narrowed.first
        return sorted(stages, key=lambda stage: not (first and first in stage[0]))

    # Stages

    def _simple(self) -> list[Piece]:
        """The passwords without text steps, in their encodings."""
        return [start for start in self._space.starts if len(start.steps) == 1][:_SIMPLE_STARTS]

    def _one_digest(self, finals: list[Final]) -> None:
        self._scan(self._space.starts, self._space.forms, finals)
        self._scan(self._space.wide_starts, self._space.wide_forms, finals, after=_WIDE)

    def _one_rare_digest(self, finals: list[Final]) -> None:
        self._scan(self._space.starts, self._space.core, finals)
        self._scan(self._space.wide_starts, self._space.wide_forms, finals, after=_WIDE)

    def _two_digests(self, finals: list[Final]) -> None:
        space = self._space
        self._scan(self._inner(self._simple(), space.core[:1]), space.forms, finals)
        self._scan(self._inner(space.starts, space.core[:1]), space.core, finals)
        self._scan(self._inner(space.starts, space.core), space.core[:1], finals)
        self._scan(self._inner(self._simple(), space.forms), space.core[:1], finals)
        wide = self._inner(space.wide_starts, space.wide_forms, after=_WIDE)
        self._scan(wide, space.core[:1], finals)

    def _two_joins(self, finals: list[Final]) -> None:
        space = self._space
        self._scan(self._inner(self._simple(), space.forms), space.plain, finals)
        self._scan(self._inner(self._simple(), space.plain), space.forms, finals)
        self._scan(self._inner(self._simple(), space.core), space.core, finals)

    def _two_digests_wide(self, finals: list[Final]) -> None:
        space = self._space
        self._scan(self._inner(space.starts, space.core), space.core, finals)
        self._scan(self._inner(space.starts, space.core[:1]), space.forms, finals)
        self._scan(self._inner(space.starts, space.forms), space.core[:1], finals)
        self._scan(self._inner(self._simple(), space.core), space.forms, finals)

    def _rare_digests(self, finals: list[Final]) -> None:
        core, every = self._space.core, tuple(self._digests)
        self._scan(self._inner(self._simple(), core[:1], digests=every), core, finals)
        self._scan(self._inner(self._simple(), core, digests=every), core[:1], finals)

    def _three_digests(self, finals: list[Final]) -> None:
        empty, core = self._space.core[:1], self._space.core
        for places in ((empty, empty, core), (core, empty, empty), (empty, core, empty)):
            once = self._inner(self._simple(), places[0])
            self._scan(self._inner(once, places[1]), places[2], finals)

    def _three_digests_plain(self, finals: list[Final]) -> None:
        plain = self._space.plain
        once = self._inner(self._simple(), plain)
        self._scan(self._inner(once, plain), plain, finals)

    def _three_digests_wide(self, finals: list[Final]) -> None:
        once = self._inner(self._space.starts, self._space.core)
        self._scan(self._inner(once, self._space.core), self._space.core, finals)

    def _hmacs(self, finals: list[Final]) -> None:
        p, prefix = self._pivot, self._prefix
        password = Piece(("password",), self._simple()[0].values)
        keys = [*self._space.operands, password]
        flows = [
            *((start.steps, start.values[p]) for start in self._space.starts),
            *(((f"take {o.steps[0]}",), o.values[p]) for o in self._space.operands),
        ]
        for name, _, text_encoding in finals:
            for (steps, value), form in product(flows, self._space.core):
                data = form.before[p] + value + form.after[p]
                for key in keys:
                    digest = hmac.digest(key.values[p], data, DIGESTS[name].hashlib_name)
                    if digest.startswith(prefix):
                        step = f"hmac-{name} {key.steps[0]}"
                        self._hit((*steps, *form.steps, step, *text_encoding))
                self._count(len(keys))

    def _pbkdf2(self, _: list[Final]) -> None:
        self._derived(PBKDF2_ROUNDS)

    def _long_pbkdf2(self, _: list[Final]) -> None:
        self._derived(PBKDF2_MANY_ROUNDS)

    def _derived(self, all_rounds: Sequence[int]) -> None:
        p, prefix = self._pivot, self._prefix
        text_encoding = (self._exact or self._cut)[0][2][:1]
        names = [name for name in ("sha1", "sha256", "sha512", "md5") if name in self._digests]
        for rounds, name in product(all_rounds, names):
            for start, salt in product(self._simple(), self._space.operands):
                self._count(rounds)
                found = hashlib.pbkdf2_hmac(
                    name, start.values[p], salt.values[p], rounds, len(prefix)
                )
                if found == prefix:
                    step = f"pbkdf2-{name} {rounds} {len(prefix)} {salt.steps[0]}"
                    self._hit((*start.steps, step, *text_encoding))
            if self._found:
                return

    def _plain_short_loops(self, finals: list[Final]) -> None:
        self._looped(self._simple(), self._space.plain, finals, SHORT_LOOP_COUNT)

    def _plain_loops(self, finals: list[Final]) -> None:
        self._looped(self._simple(), self._space.plain, finals, LOOP_COUNT)

    def _short_loops(self, finals: list[Final]) -> None:
        self._looped(self._simple(), self._space.core, finals, SHORT_LOOP_COUNT)

    def _loops(self, finals: list[Final]) -> None:
        self._looped(self._simple(), self._space.core, finals, LOOP_COUNT)

    def _long_loops(self, finals: list[Final]) -> None:
        self._looped(self._space.starts, self._space.core, finals, LONG_LOOP_COUNT)

    def _looped(
        self, starts: Sequence[Piece], forms: Sequence[Form], finals: list[Final], most: int
    ) -> None:
        search = LoopSearch(
            pivot=self._pivot, prefix=self._prefix, most=most, hit=self._hit, count=self._count
        )
        bodies = [form for form in forms if len(form.steps) < 2]
        for start, first in product(starts, forms):
            for final, body in product(finals, bodies):
                search.of(start, first, final, body)
            if self._found:
                return

    # The inner workings

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
        each = len(joins) * len(finals)
        for piece in pieces:
            value = piece.values[p]
            for name, compute, text_encoding in finals:
                for before, behind, steps in joins:
                    if compute(before + value + behind).startswith(prefix):
                        self._hit((*piece.steps, *steps, *after, name, *text_encoding))
            self._count(each)

    def _count(self, tried: int) -> None:
        self._tried += tried
        self._unreported += tried
        if self._unreported >= _CHECK_EVERY:
            self._progress(self._unreported)
            self._unreported = 0
            if self._clock() > self._deadline:
                raise _OutOfTime

    def _hit(self, steps: tuple[str, ...]) -> None:
        """The leading account matches: what of the others?"""
        for text in (_text(steps), *map(_text, self._alternatives(steps))):
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

    def _alternatives(self, steps: tuple[str, ...]) -> Iterator[tuple[str, ...]]:
        """Give what reads alike for these accounts: the twins of the parts."""
        for part, others in self._space.twins.items():
            for start in range(len(steps) - len(part) + 1):
                if part and steps[start : start + len(part)] == part:
                    for other in others:
                        yield (*steps[:start], *other, *steps[start + len(part) :])


def _text(steps: tuple[str, ...]) -> str:
    return ", ".join(steps)
