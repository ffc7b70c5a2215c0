"""Solving the known accounts of one class of stored values."""

import re
from collections.abc import Callable, Iterator, Mapping, Sequence

from msgspec import Struct
from msgspec.structs import replace

from lean_tumbler.core.drafting.classes import ClassKind
from lean_tumbler.core.drafting.composites import layouts_of, without_unused
from lean_tumbler.core.drafting.explanations import (
    Explanation,
    KnownRow,
    Trial,
    opens_by_itself,
)
from lean_tumbler.core.formulas import notation
from lean_tumbler.core.formulas.analysis import parts_used
from lean_tumbler.core.formulas.evaluation import Inputs
from lean_tumbler.core.formulas.generations import solve_generations
from lean_tumbler.core.formulas.search_space import Constants
from lean_tumbler.core.formulas.solutions import Narrowed, SolvedAccount
from lean_tumbler.core.formulas.tokens import is_part_name
from lean_tumbler.core.reading.fitting_ways import digest_and_salt
from lean_tumbler.core.reading.layouts import SALT, ValueLayout
from lean_tumbler.core.reading.reader import RowReader
from lean_tumbler.core.reading.slow_misses import SlowMisses
from lean_tumbler.core.reading.ways import Bounds
from lean_tumbler.core.schemes.catalogue import read_value

_FORMULAS_TRIED = 6  # of one generation, where several explain the same accounts
_PART_SIGNS = re.compile(r"[^a-z0-9]+")


class Search(Struct, frozen=True, kw_only=True):
    """What a search works with."""

    constants: Constants  # that may go into formulas
    narrowed: Narrowed  # what a hint leaves of the space
    seconds_left: Callable[[], float]  # says how long it may take
    clock: Callable[[], float]  # seconds that pass
    progress: Callable[[int], None]  # told how many candidates were tried since the last time


def part_name(column: str) -> str:
    """Give the name under which a column goes into a formula."""
    word = _PART_SIGNS.sub("_", column.lower()).strip("_")[:24] or "column"
    word = word if word[0].isalpha() else f"column_{word}"
    return word if is_part_name(word) else f"{word}_column"


def explain_class(
    known: Sequence[KnownRow],  # the accounts; all of one class
    *,
    texts: Sequence[str],  # some stored values of the class
    trial: Trial,  # tries what is found, as a login would
    parts: Mapping[str, str],  # further inputs of formulas -> the table's own names
    search: Search,  # constants, budget and clock
) -> dict[Explanation, frozenset[int]]:
    """Find what explains the known accounts of one class.

    Returns:
        Explanation -> the lines of the accounts that open by it, the plausible first.
    """
    kinds: dict[ClassKind, Callable[[], Iterator[Explanation]]] = {
        ClassKind.WRITTEN: lambda: iter(()),
        ClassKind.SAID: lambda: _before_slow(known),
        ClassKind.BARE: lambda: iter((Explanation(scheme=_scheme_of(known)),)),
        ClassKind.TEXT: lambda: _of_digests(known, None, parts, search),
        ClassKind.DIGEST: lambda: _placed(known, texts, parts, search),
        ClassKind.COMPOSITE: lambda: _of_composites(known, texts, parts, search),
        ClassKind.BLOB: lambda: _of_composites(known, texts, parts, search),
        ClassKind.CUT: lambda: _of_digests(known, None, parts, search),
    }
    found: dict[Explanation, frozenset[int]] = {}
    typed = [account for account in known if account.text == account.password]
    if typed:
        plain = Explanation(plain_text=True)
        found[plain] = trial.opened(plain, known)
        known = [account for account in known if account.text != account.password]
    for explanation in kinds[known[0].value_class.kind]() if known else ():
        opened = trial.opened(explanation, known)
        if opened:
            found.setdefault(explanation, opened)
    return {each: lines for each, lines in found.items() if lines}


def _placed(
    known: Sequence[KnownRow],
    texts: Sequence[str],
    parts: Mapping[str, str],
    search: Search,
) -> Iterator[Explanation]:
    """Explain digests; where salt and digest stand at their places, by a layout that says so.

    Without it, the cohort would take a bare digest for one of its own too.
    """
    several = [*(account.text for account in known), *texts]
    has_own_salt = any(read_value(account.text).salt is not None for account in known)
    layouts = list(layouts_of(several)) if has_own_salt else []
    for explanation in _of_digests(known, None, parts, search):
        for layout in layouts:
            used = parts_used(notation.parse(explanation.formula))
            yield replace(explanation, layout=without_unused(layout, used, several))
        yield explanation


def _scheme_of(known: Sequence[KnownRow]) -> str:
    return known[0].value_class.scheme


def _before_slow(known: Sequence[KnownRow]) -> Iterator[Explanation]:
    """Find what a password went through before a slow scheme took it."""
    misses = SlowMisses(Bounds())
    for account in known:
        if not opens_by_itself(account):
            miss = misses.find(RowReader().read(account.row), account.password)
            if miss is not None:
                yield Explanation(formula=miss.formula)


def _of_composites(
    known: Sequence[KnownRow],
    texts: Sequence[str],
    parts: Mapping[str, str],
    search: Search,
) -> Iterator[Explanation]:
    """Take values apart in each way that their signs allow, until one is explained."""
    for layout in layouts_of([*(account.text for account in known), *texts]):
        found = list(_of_digests(known, layout, parts, search))
        for explanation in found:
            used = parts_used(notation.parse(explanation.formula))
            written = without_unused(layout, used, [*(a.text for a in known), *texts])
            yield replace(explanation, layout=written)
        if found:
            return
    yield from _of_digests(known, None, parts, search)


def _of_digests(
    known: Sequence[KnownRow],
    layout: ValueLayout | None,
    parts: Mapping[str, str],
    search: Search,
) -> Iterator[Explanation]:
    """Solve accounts that have the same inputs together: with salt or without, and so on."""
    for group in groups_of(known, layout, parts):
        solved = solve_generations(
            [account for _, account in group],
            constants=search.constants,
            narrowed=search.narrowed,
            budget_seconds=search.seconds_left(),
            clock=search.clock,
            progress=search.progress,
        )
        for generation in solved.found:
            for text in generation.formulas[:_FORMULAS_TRIED]:
                yield Explanation(formula=text)


def groups_of(
    known: Sequence[KnownRow], layout: ValueLayout | None, parts: Mapping[str, str]
) -> list[list[tuple[KnownRow, SolvedAccount]]]:
    """Group accounts that one formula can explain: those with the same inputs.

    An empty salt counts for none. Accounts of another layout are left out.
    """
    groups: dict[tuple[bool, frozenset[str]], list[tuple[KnownRow, SolvedAccount]]] = {}
    for row in known:
        made = account_of(row, layout, parts)
        if made is not None:
            inputs = replace(made.inputs, salt=made.inputs.salt or None)
            alike = (bool(inputs.salt), frozenset(inputs.parts))
            groups.setdefault(alike, []).append((row, replace(made, inputs=inputs)))
    return list(groups.values())


def account_of(
    known: KnownRow, layout: ValueLayout | None, parts: Mapping[str, str]
) -> SolvedAccount | None:
    """Give what a formula takes of an account, and what it must print; None for another layout."""
    whole = account_of_digest(known, parts)
    if layout is None:
        return whole
    found = layout.read(known.text)
    if found is None:
        return None
    inputs = {**whole.inputs.parts, **found.others}
    salt = inputs.pop(SALT, known.row.salt)
    return SolvedAccount(inputs=replace(whole.inputs, salt=salt, parts=inputs), stored=found.digest)


def account_of_digest(known: KnownRow, parts: Mapping[str, str]) -> SolvedAccount:
    """Give what a formula takes of an account whose value is nothing but its digest."""
    row, parsed = known.row, read_value(known.text)
    printed, salt = digest_and_salt(parsed, parsed.inner_text or known.text, row.salt)
    inputs = {name: raw for name, column in parts.items() if (raw := row.others.get(column))}
    return SolvedAccount(
        inputs=Inputs(password=known.password, salt=salt, login=known.login, parts=inputs),
        stored=printed,
    )
