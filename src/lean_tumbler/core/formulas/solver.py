"""Recovering a formula from known accounts: the plausible first, within a budget of time.

One account leads; a candidate is abandoned at its first digest that does not match there. What
matches is run on all accounts by the notation's own evaluation, and counts only where it explains
every one of them.
"""

import hashlib
import hmac
from collections.abc import Callable, Sequence
from itertools import product

from lean_tumbler.core.formulas.candidate_trials import Matcher, OutOfTime
from lean_tumbler.core.formulas.loops import Final, LoopSearch
from lean_tumbler.core.formulas.search_space import (
    LONG_LOOP_COUNT,
    LOOP_COUNT,
    PBKDF2_MANY_ROUNDS,
    PBKDF2_ROUNDS,
    SHORT_LOOP_COUNT,
    SHORTEST_LOOP_COUNT,
    Form,
    Piece,
)
from lean_tumbler.core.formulas.solutions import NearMiss, Solution
from lean_tumbler.core.formulas.steps import DIGESTS

_FORMULAS_KEPT = 12
_NEAR_KEPT = 5
_SIMPLE_STARTS = 4


_Stage = tuple[str, list[Final], Callable[[list[Final]], None]]
_WIDE = ("utf-16le",)
_ODD_FIRST = 40  # of the odd joins: those without slices
# Stands for the finals of a stage that reads what is stored in ways of its own.
_ANY: list[Final] = [("", bytes, ())]


def _is_cut(piece: Piece) -> bool:
    return any(step.startswith("first ") for step in piece.steps)


class Solver(Matcher):
    """One search: the stages in order, until one of them explains the accounts."""

    def solve(self) -> Solution:
        """Search."""
        exhausted = True
        try:
            for pivot in self._pivots():
                if self._aim(pivot):
                    self._search(full=pivot == self._pivots()[0])
                if self._is_content:
                    break
        except OutOfTime:
            exhausted = False
        near = sorted(self._near.items(), key=lambda item: -len(item[1]))
        formulas = tuple(self._found)[:_FORMULAS_KEPT]
        return Solution(
            formulas=formulas,
            near_misses=tuple(NearMiss(*each) for each in near[:_NEAR_KEPT]),
            tried=self._tried,
            seconds=self._clock() - self._started,
            exhausted=exhausted,
            reached=self._reached,
            best=self._best(formulas, near),
            led_by=self._pivots()[0],
        )

    def _best(
        self, formulas: tuple[str, ...], near: Sequence[tuple[str, tuple[int, ...]]]
    ) -> tuple[tuple[str, ...], tuple[int, ...]] | None:
        if formulas:
            return formulas, tuple(range(len(self._accounts)))
        if not near:
            return None
        explained = near[0][1]
        alike = tuple(text for text, places in near if places == explained)
        return alike[:_FORMULAS_KEPT], explained

    def _search(self, *, full: bool) -> None:
        """Run the stages; after one that found something, no further."""
        for name, finals, stage in self._stages() if full else self._stages()[:2]:
            if finals:
                self._reached = name
                stage(finals)
            if self._is_content:
                return

    def _stages(self) -> list[_Stage]:
        stages = [*self._plausible_stages(), *self._further_stages()]
        first = self._narrowed.first
        return sorted(stages, key=lambda stage: not (first and first in stage[0]))

    def _plausible_stages(self) -> list[_Stage]:
        exact, cut, slow = self._exact, self._cut, self._slow
        return [
            ("one digest", exact, self._one_digest),
            ("two digests with one join", exact, self._two_digests),
            ("one rare digest", slow, self._one_rare_digest),
            ("HMAC", exact, self._hmacs),
            ("one digest with odd joins", [*exact, *slow], self._odd_joins),
            ("one digest, written otherwise", _ANY, self._written_otherwise),
            ("one digest with customary joins", exact, self._customary),
            (
                f"loops up to {SHORTEST_LOOP_COUNT:,} times, plain joins",
                exact,
                self._plain_shortest_loops,
            ),
            ("one digest, cut off", cut, self._one_digest),
            ("two digests with odd joins", exact, self._two_odd),
            ("two digests, written otherwise", _ANY, self._two_written_otherwise),
            ("HMAC with digests", exact, self._hmacs_of_digests),
            ("PBKDF2", exact or cut, self._pbkdf2),
            ("one digest with customary joins, cut off", cut, self._customary),
            ("two digests with one join, cut off", cut, self._two_digests),
            (
                f"loops up to {SHORT_LOOP_COUNT:,} times, plain joins",
                exact,
                self._plain_short_loops,
            ),
        ]

    def _further_stages(self) -> list[_Stage]:
        exact, cut, slow = self._exact, self._cut, self._slow
        return [
            ("three digests", exact, self._three_digests),
            ("three digests with plain joins", exact, self._three_digests_plain),
            ("two digests with joins in both", exact, self._two_joins),
            (f"plain loops up to {LOOP_COUNT:,} times", exact, self._plain_loops),
            (f"loops up to {SHORT_LOOP_COUNT:,} times", exact, self._short_loops),
            (f"loops up to {LOOP_COUNT:,} times", exact, self._loops),
            ("two digests with customary joins", exact, self._two_customary),
            ("PBKDF2 of many rounds", exact or cut, self._long_pbkdf2),
            ("two digests with any join", exact, self._two_digests_wide),
            ("rare digests", [*exact, *slow], self._rare_digests),
            ("three digests with joins", exact, self._three_digests_wide),
            (f"loops up to {LONG_LOOP_COUNT:,} times", exact, self._long_loops),
        ]

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

    def _customary(self, finals: list[Final]) -> None:
        whole = [start for start in self._space.starts if not _is_cut(start)]
        self._scan(whole, self._space.customary(), finals)

    def _odd_joins(self, finals: list[Final]) -> None:
        self._scan(self._space.starts, self._space.odd()[:_ODD_FIRST], finals)
        self._scan(self._simple(), self._space.odd(), finals)

    def _two_odd(self, finals: list[Final]) -> None:
        space, odd = self._space, self._space.odd()
        once = space.core[:1]
        self._scan(self._inner(self._simple(), once), odd, finals)
        self._scan(self._inner(self._simple(), odd), once, finals)
        self._scan(self._changed(self._inner(self._simple(), space.plain)), space.plain, finals)
        self._scan(self._changed(self._inner(self._simple(), once)), space.core, finals)

    def _written_otherwise(self, _: list[Final]) -> None:
        space = self._space
        for finals in self._aims_otherwise():
            self._scan(space.starts, space.core, finals)
            self._scan(self._simple(), space.forms, finals)
        self._scan_within(space.starts, space.core)

    def _two_written_otherwise(self, _: list[Final]) -> None:
        space = self._space
        once = space.core[:1]
        for finals in self._aims_otherwise():
            self._scan(self._inner(self._simple(), once), space.core, finals)
            self._scan(self._inner(self._simple(), space.core), once, finals)
        self._scan_within(self._inner(self._simple(), once), space.plain)
        self._scan_within(self._inner(self._simple(), space.plain), once)

    def _two_customary(self, finals: list[Final]) -> None:
        space = self._space
        self._scan(self._inner(self._simple(), space.core[:1]), space.customary(), finals)
        self._scan(self._inner(self._simple(), space.customary()), space.core[:1], finals)

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
        p = self._pivot
        password = Piece(("password",), self._simple()[0].values)
        flows = [
            *((start.steps, start.values[p]) for start in self._space.starts),
            *(((f"take {o.steps[0]}",), o.values[p]) for o in self._space.operands),
        ]
        self._keyed(flows, [*self._space.operands, password], self._space.core, finals)

    def _hmacs_of_digests(self, finals: list[Final]) -> None:
        """Try digests of the password as message and as key."""
        p, operands = self._pivot, self._space.operands
        digests = list(self._inner(self._simple(), self._space.plain))
        of_digests = [(each.steps, each.values[p]) for each in digests]
        as_keys = [Piece((f"({', '.join(each.steps)})",), each.values) for each in digests]
        self._keyed(of_digests, operands, self._space.plain[:1], finals)
        flows = [((f"take {o.steps[0]}",), o.values[p]) for o in operands]
        self._keyed(flows, as_keys, self._space.plain[:1], finals)

    def _keyed(
        self,
        flows: Sequence[tuple[tuple[str, ...], bytes]],
        keys: Sequence[Piece],
        forms: Sequence[Form],
        finals: list[Final],
    ) -> None:
        p, prefix = self._pivot, self._prefix
        for name, _, text_encoding in finals:
            for (steps, value), form in product(flows, forms):
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
        own = sorted(set(self._space.numbers[p].values()) - {1})
        for rounds, name in product(dict.fromkeys((*own, *all_rounds)), names):
            for start, salt in product(self._simple(), self._space.operands):
                self._count(rounds)
                found = hashlib.pbkdf2_hmac(
                    name, start.values[p], salt.values[p], rounds, len(prefix)
                )
                if found == prefix:
                    step = f"pbkdf2-{name} {rounds} {len(prefix)} {salt.steps[0]}"
                    self._hit((*start.steps, step, *text_encoding))
            if self._is_content:
                return

    def _plain_shortest_loops(self, finals: list[Final]) -> None:
        self._looped(self._simple(), self._space.plain, finals, SHORTEST_LOOP_COUNT)

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
            if self._is_content:
                return
