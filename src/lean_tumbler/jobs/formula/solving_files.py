"""Recovering a formula from a file of known accounts: what is odd in it, and what fits."""

import re
from collections.abc import Callable, Iterator, Mapping, Sequence

from msgspec import Struct
from msgspec.structs import replace

from lean_tumbler.core.drafting.class_solving import (
    account_of,
    account_of_digest,
    groups_of,
    part_name,
)
from lean_tumbler.core.drafting.classes import ClassKind, class_of
from lean_tumbler.core.drafting.composites import layouts_of, without_unused
from lean_tumbler.core.drafting.explanations import KnownRow
from lean_tumbler.core.formulas import notation
from lean_tumbler.core.formulas.analysis import parts_used
from lean_tumbler.core.formulas.generations import Generations, solve_generations
from lean_tumbler.core.formulas.near_misses import fits
from lean_tumbler.core.formulas.search_space import DIGEST_ORDER, Constants
from lean_tumbler.core.formulas.solutions import Narrowed, NearMiss, Solution, SolvedAccount
from lean_tumbler.core.reading.layouts import ValueLayout
from lean_tumbler.core.reading.rows import Row
from lean_tumbler.core.schemes.base import Kind
from lean_tumbler.core.schemes.catalogue import read_value
from lean_tumbler.errors import KnownAccountsError, UsageError
from lean_tumbler.jobs.formula.advice import difference, leaves, lines_named, next_checks
from lean_tumbler.stores.known_accounts import KnownAccount

_FEWEST = 2
_SELF_DESCRIBING = frozenset({Kind.DERIVATION, Kind.ITERATED, Kind.LAYERED, Kind.LOCKED})
# Words of a hint that put a kind of formula first.
_KINDS = {
    "hmac": "HMAC", "pbkdf2": "PBKDF2", "loop": "loops", "loops": "loops", "times": "loops",
    "rounds": "loops", "iterations": "loops", "cut": "cut off", "truncated": "cut off",
    "nested": "two digests", "twice": "two digests", "double": "two digests", "two": "two digests",
    "three": "three digests",
}  # fmt: skip


class FoundGeneration(Struct, frozen=True, kw_only=True):
    """Formulas that explain the same accounts."""

    formulas: tuple[str, ...]  # canonical texts, the plausible first
    explained: tuple[int, ...]  # the accounts' places in the list
    # where digest and other parts stand in composite values; empty where the digest stands alone
    layout: str


class Solved(Struct, frozen=True, kw_only=True):
    """A search's result, and what a reader should know beside it."""

    solution: Solution  # what was found
    # where no formula explains all accounts, those that do so together; else empty
    generations: tuple[FoundGeneration, ...] = ()
    layout: str = ""  # of the values, where one formula explains them all
    parts: tuple[str, ...] = ()  # further inputs that it takes
    lines: tuple[int, ...]  # the accounts' lines in the file
    notes: tuple[str, ...] = ()  # what was odd about the file, and put right
    # for each near miss, what the accounts that it leaves have in common
    leaves: tuple[str, ...] = ()
    # for each formula, what would tell it from the first; empty for the first
    differences: tuple[str, ...] = ()
    next_checks: tuple[str, ...] = ()  # what is worth doing where nothing fits


class _Found(Struct, frozen=True):
    """What a search found for accounts of one make."""

    layout: ValueLayout | None
    generations: Generations


def read_hint(text: str) -> Narrowed:
    """Read a hint: names of digests, and words for a kind of formula.

    Raises:
        UsageError: no word of it says anything.
    """
    words = re.findall(r"[a-z0-9-]+", text.lower())
    digests = tuple(name for name in DIGEST_ORDER if name in words)
    first = next((_KINDS[word] for word in words if word in _KINDS), "")
    if not digests and not first:
        known = ", ".join((*DIGEST_ORDER, *_KINDS))
        raise UsageError(f"--hint: no word of it is known; known words: {known}")
    return Narrowed(digests=digests or DIGEST_ORDER, first=first)


def solve_accounts(
    accounts: Sequence[KnownAccount],  # two or more, with password and stored value
    *,
    constants: Constants,  # that may go in
    narrowed: Narrowed,  # what a hint leaves of the space
    budget_seconds: float,  # after so long the search ends
    clock: Callable[[], float],  # seconds that pass
    progress: Callable[[int], None],  # told how many candidates were tried since the last time
) -> Solved:
    """Search for the formula of known accounts.

    Raises:
        KnownAccountsError: too few accounts, ones that contradict each other, or values that
            describe themselves.
    """
    if len(accounts) < _FEWEST:
        raise KnownAccountsError(
            f"line {accounts[0].line}: one account is not enough to tell formulas apart; "
            "add a second or third, with another password"
        )
    notes: list[str] = []
    rows = _put_right([_row_of(account) for account in accounts], notes)
    _require_formulas(rows)
    _require_consistent(rows)
    parts = {part_name(name): name for row in rows for name in row.row.others}
    groups = _groups(rows, parts)
    found = [
        _searched(
            group,
            parts,
            lambda accounts, seconds: solve_generations(
                accounts,
                constants=constants,
                narrowed=narrowed,
                budget_seconds=seconds,
                clock=clock,
                progress=progress,
            ),
            budget_seconds / len(groups),
        )
        for group in groups
    ]
    return _solved(rows, parts, found, constants, tuple(notes))


def _solved(
    rows: Sequence[KnownRow],
    parts: Mapping[str, str],
    found: Sequence[_Found],
    constants: Constants,
    notes: tuple[str, ...],
) -> Solved:
    """Give what was found of all groups as one result."""
    generations = tuple(_together(rows, parts, found))
    searches = [each.generations for each in found]
    lines = tuple(row.line for row in rows)
    explained = {place for each in generations for place in each.explained}
    one = len(generations) == 1 and len(explained) == len(rows)
    is_whole = len(explained) == len(rows)
    solution = Solution(
        formulas=generations[0].formulas if one else (),
        near_misses=()
        if one
        else tuple(NearMiss(each.formulas[0], each.explained) for each in generations),
        tried=sum(each.tried for each in searches),
        seconds=sum(each.seconds for each in searches),
        exhausted=all(each.exhausted for each in searches),
        reached=searches[0].reached,
    )
    prepared = [made for row in rows if (made := account_of(row, None, parts))]
    used = {part for each in generations for part in parts_used(notation.parse(each.formulas[0]))}
    return Solved(
        solution=solution,
        generations=generations if is_whole and not one else (),
        layout=generations[0].layout if one else "",
        parts=tuple(sorted(used & parts.keys())) if one else (),
        lines=lines,
        notes=notes,
        leaves=tuple(leaves(near, prepared, lines) for near in solution.near_misses),
        differences=tuple(difference(solution.formulas[0], other) for other in solution.formulas),
        next_checks=() if is_whole else tuple(next_checks(prepared, constants, solution)),
    )


def _together(
    rows: Sequence[KnownRow], parts: Mapping[str, str], found: Sequence[_Found]
) -> Iterator[FoundGeneration]:
    """Give the fewest formulas for all groups: one may explain the accounts of another too."""
    left = set(range(len(rows)))
    candidates = {
        (text, each.layout): _explained(text, each.layout, rows, parts)
        for each in found
        for generation in each.generations.found
        for text in generation.formulas
    }
    while left and candidates:
        (text, layout), places = max(candidates.items(), key=lambda item: len(item[1] & left))
        if not places & left:
            return
        alike = [other for (other, its), same in candidates.items()
                 if its == layout and same == places]  # fmt: skip
        used = parts_used(notation.parse(text))
        texts = [row.text for row in rows]
        yield FoundGeneration(
            formulas=tuple(alike),
            explained=tuple(sorted(places)),
            layout=without_unused(layout, used, texts) if layout else "",
        )
        left -= places


def _explained(
    text: str, layout: ValueLayout | None, rows: Sequence[KnownRow], parts: Mapping[str, str]
) -> frozenset[int]:
    formula = notation.parse(text)
    places = []
    for place, row in enumerate(rows):
        account = account_of(row, layout, parts)
        if account is not None:
            inputs = replace(account.inputs, salt=account.inputs.salt or b"")
            if fits(formula, account.stored, inputs):
                places.append(place)
    return frozenset(places)


def _row_of(account: KnownAccount) -> KnownRow:
    text = account.stored.reveal() if account.stored else ""
    return _with_stored(
        KnownRow(
            line=account.line,
            login=account.login,
            password=account.password.reveal(),
            row=Row(
                stored=None,
                salt=account.salt or None,
                login=account.login,
                others={name: text.encode("utf-8") for name, text in account.others.items()},
            ),
            value_class=class_of(read_value(""), ""),
        ),
        text,
    )


def _with_stored(row: KnownRow, text: str) -> KnownRow:
    stored = text.encode("utf-8")
    value_class = class_of(read_value(text), text)
    return replace(row, row=replace(row.row, stored=stored), value_class=value_class)


def _groups(rows: Sequence[KnownRow], parts: Mapping[str, str]) -> list[list[KnownRow]]:
    """Group accounts that one formula can explain: by inputs, composite values by their make."""
    makes: dict[object, list[KnownRow]] = {}
    for row in rows:
        is_composite = row.value_class.kind is ClassKind.COMPOSITE
        makes.setdefault(row.value_class if is_composite else None, []).append(row)
    return [
        [row for row, _ in group]
        for make in makes.values()
        for group in groups_of(make, None, parts)
    ]


def _searched(
    rows: Sequence[KnownRow],
    parts: Mapping[str, str],
    search: Callable[[Sequence[SolvedAccount], float], Generations],
    budget_seconds: float,
) -> _Found:
    """Search the values as digests, or taken apart in each way that their signs allow."""
    kinds = {row.value_class.kind for row in rows}
    layouts: list[ValueLayout | None] = []
    if kinds <= {ClassKind.COMPOSITE, ClassKind.BLOB}:
        layouts += layouts_of([row.text for row in rows])
    for layout in (*layouts, None):
        groups = groups_of(rows, layout, parts)
        accounts = [account for group in groups for _, account in group]
        if len(accounts) < len(rows):
            continue
        found = search(accounts, budget_seconds / (len(layouts) + 1))
        if found.found:
            break
    return _Found(layout, found)


def _put_right(rows: list[KnownRow], notes: list[str]) -> list[KnownRow]:
    """Swap columns that stand the wrong way round, and take blanks off stored values."""
    if all(_is_fast(row.password) and not _is_fast(row.text.strip()) for row in rows):
        notes.append("the columns password and stored are the wrong way round; they were swapped")
        rows = [_with_stored(replace(row, password=row.text), row.password) for row in rows]
    padded = [row.line for row in rows if row.text != row.text.strip()]
    if padded:
        notes.append(
            f"blanks or line ends around the stored value ({lines_named(padded)}) do not count"
        )
    return [_with_stored(row, row.text.strip()) for row in rows]


def _is_fast(text: str) -> bool:
    return read_value(text).kind is Kind.FAST


def _require_formulas(rows: Sequence[KnownRow]) -> None:
    for row in rows:
        parsed = read_value(row.text)
        if parsed.kind in _SELF_DESCRIBING and parsed.contents.confidence == 1:
            raise KnownAccountsError(
                f"line {row.line}: the column “stored” holds {parsed.scheme}, which describes "
                "itself; no formula is needed: run lean-tumbler verify"
            )


def inputs_of(account: KnownAccount, keys: Mapping[str, bytes]) -> SolvedAccount:
    """Give what a formula takes of a known account, and what it must print."""
    row = _row_of(account)
    made = account_of_digest(row, {part_name(name): name for name in row.row.others})
    return replace(made, inputs=replace(made.inputs, keys=keys))


def _require_consistent(rows: Sequence[KnownRow]) -> None:
    seen: dict[tuple[str, str, bytes | None], KnownRow] = {}
    for row in rows:
        is_alone = row.value_class.kind is ClassKind.DIGEST
        first = seen.setdefault((row.login, row.password, row.row.salt), row)
        if first.text != row.text and is_alone and not read_value(row.text).salted:
            raise KnownAccountsError(
                f"lines {first.line} and {row.line} contradict each other: login, password and "
                "salt are equal, the stored values are not"
            )
