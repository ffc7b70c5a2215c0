"""Recovering a formula from a file of known accounts: what is odd in it, and what fits."""

import re
from collections.abc import Callable, Iterator, Mapping, Sequence
from dataclasses import dataclass, replace

from lean_tumbler.core.drafting.classes import ClassKind, class_of
from lean_tumbler.core.drafting.composites import layouts_of, without_unused
from lean_tumbler.core.drafting.explanations import KnownRow
from lean_tumbler.core.drafting.solving import account_of, part_name
from lean_tumbler.core.formulas import notation
from lean_tumbler.core.formulas.analysis import parts_used
from lean_tumbler.core.formulas.evaluation import Inputs
from lean_tumbler.core.formulas.generations import Generation, Generations, solve_generations
from lean_tumbler.core.formulas.search_space import DIGEST_ORDER, Constants
from lean_tumbler.core.formulas.solutions import Narrowed, NearMiss, Solution, SolvedAccount
from lean_tumbler.core.formulas.stored_digests import is_like_a_digest
from lean_tumbler.core.reading.candidates import digest_and_salt
from lean_tumbler.core.reading.layouts import ValueLayout
from lean_tumbler.core.reading.rows import Row
from lean_tumbler.core.schemes.base import Kind
from lean_tumbler.core.schemes.catalogue import read_value
from lean_tumbler.errors import KnownAccountsError, UsageError
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


@dataclass(frozen=True, slots=True, kw_only=True)
class Solved:
    """A search's result, and what a reader should know beside it.

    Attributes:
        solution: what was found.
        generations: where no formula explains all accounts, those that do so together; else empty.
        layout: where digest and other parts stand in composite values; empty where the digest
            stands alone.
        parts: further inputs that the formulas take.
        lines: the accounts' lines in the file.
        notes: what was odd about the file, and put right.
        leaves: for each near miss, what the accounts that it leaves have in common.
        differences: for each formula, what would tell it from the first; empty for the first.
        next_checks: what is worth doing where nothing fits.
    """

    solution: Solution
    generations: tuple[Generation, ...] = ()
    layout: str = ""
    parts: tuple[str, ...] = ()
    lines: tuple[int, ...]
    notes: tuple[str, ...] = ()
    leaves: tuple[str, ...] = ()
    differences: tuple[str, ...] = ()
    next_checks: tuple[str, ...] = ()


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
    accounts: Sequence[KnownAccount],
    *,
    constants: Constants,
    narrowed: Narrowed,
    budget_seconds: float,
    clock: Callable[[], float],
    progress: Callable[[int], None],
) -> Solved:
    """Search for the formula of known accounts.

    Args:
        accounts: two or more, with password and stored value.
        constants: that may go in.
        narrowed: what a hint leaves of the space.
        budget_seconds: after so long the search ends.
        clock: seconds that pass.
        progress: told how many candidates were tried since the last time.

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
    layout, prepared, found = _searched(
        rows,
        lambda accounts, seconds: solve_generations(
            accounts,
            constants=constants,
            narrowed=narrowed,
            budget_seconds=seconds,
            clock=clock,
            progress=progress,
        ),
        budget_seconds,
    )
    solution = found.solution
    every = [text for generation in found.found for text in generation.formulas[:1]]
    used = frozenset().union(*(parts_used(notation.parse(text)) for text in every))
    written = without_unused(layout, used, [row.text for row in rows]) if layout else ""
    lines = tuple(row.line for row in rows)
    whole = not found.unexplained and not solution.formulas
    return Solved(
        solution=solution,
        generations=found.found if whole else (),
        layout=written,
        parts=tuple(sorted(used - (layout.parts if layout else frozenset()))),
        lines=lines,
        notes=tuple(notes),
        leaves=tuple(_leaves(near, prepared, lines) for near in solution.near_misses),
        differences=tuple(_difference(solution.formulas[0], other) for other in solution.formulas),
        next_checks=()
        if solution.formulas or whole
        else tuple(_next_checks(prepared, constants, solution)),
    )


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


def _searched(
    rows: Sequence[KnownRow],
    search: Callable[[Sequence[SolvedAccount], float], Generations],
    budget_seconds: float,
) -> tuple[ValueLayout | None, list[SolvedAccount], Generations]:
    """Search the values as digests, or taken apart in each way that their signs allow."""
    parts = {part_name(name): name for row in rows for name in row.row.others}
    kinds = {row.value_class.kind for row in rows}
    layouts: list[ValueLayout | None] = []
    if kinds <= {ClassKind.COMPOSITE, ClassKind.BLOB}:
        layouts += layouts_of([row.text for row in rows])
    for layout in (*layouts, None):
        made = [account_of(row, layout, parts) for row in rows]
        accounts = [account for account in made if account is not None]
        if len(accounts) < len(rows):
            continue
        found = search(accounts, budget_seconds / (len(layouts) + 1))
        if found.found:
            break
    return layout, accounts, found


def _put_right(rows: list[KnownRow], notes: list[str]) -> list[KnownRow]:
    """Swap columns that stand the wrong way round, and take blanks off stored values."""
    if all(_is_fast(row.password) and not _is_fast(row.text.strip()) for row in rows):
        notes.append("the columns password and stored stand the wrong way round; they were swapped")
        rows = [_with_stored(replace(row, password=row.text), row.password) for row in rows]
    padded = [row.line for row in rows if row.text != row.text.strip()]
    if padded:
        notes.append(f"blanks or line ends around the stored value ({_at(padded)}) do not count")
    return [_with_stored(row, row.text.strip()) for row in rows]


def _is_fast(text: str) -> bool:
    return read_value(text).kind is Kind.FAST


def _at(lines: Sequence[int]) -> str:
    named = ", ".join(str(line) for line in lines[:5])
    return f"line{'s' if len(lines) > 1 else ''} {named}{' …' if len(lines) > 5 else ''}"


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
    stored = account.stored.reveal() if account.stored else ""
    parsed = read_value(stored)
    printed, salt = digest_and_salt(parsed, parsed.inner_text or stored, account.salt)
    parts = {name: text.encode("utf-8") for name, text in account.others.items()}
    inputs = Inputs(
        password=account.password.reveal(),
        salt=salt,
        login=account.login,
        keys=keys,
        parts=parts,
    )
    return SolvedAccount(inputs=inputs, stored=printed)


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


_ODDITIES: dict[str, Callable[[Inputs], bool]] = {
    "a letter beyond ASCII in the password": lambda i: not i.password.isascii(),
    "blanks around the password": lambda i: i.password != i.password.strip(),
    "a capital letter in the password": lambda i: i.password != i.password.lower(),
    "a quote, bracket or ampersand in the password": lambda i: bool(
        re.search(r"[\"'<>&\\]", i.password)
    ),
    "a password of more than 8 characters": lambda i: len(i.password) > 8,
    "blanks around the salt": lambda i: bool(i.salt) and i.salt != (i.salt or b"").strip(),
    "a capital letter in the login": lambda i: bool(i.login) and i.login != (i.login or "").lower(),
}


def _leaves(near: NearMiss, accounts: Sequence[SolvedAccount], lines: Sequence[int]) -> str:
    """Say which accounts a near miss leaves, and what they alone have in common."""
    left = [place for place in range(len(accounts)) if place not in near.explained]
    where = _at([lines[place] for place in left])
    for what, test in _ODDITIES.items():
        hits = {place for place, account in enumerate(accounts) if test(account.inputs)}
        if hits == set(left):
            return f"{where}: those with {what}"
    return where


_WESTERN = ("latin-1", "windows-1252")
_ENCODINGS = ("utf-8", "latin-1", "windows-1252", "utf-16le")


def _difference(first: str, other: str) -> str:
    """Say what kind of account would tell two formulas apart."""
    if first == other:
        return ""
    steps, others = first.split(", "), other.split(", ")
    if len(steps) == len(others):
        pairs = [pair for pair in zip(steps, others, strict=True) if pair[0] != pair[1]]
        if all(pair in (_WESTERN, _WESTERN[::-1]) for pair in pairs):
            return "an account whose password has € or a typographic quote tells them apart"
        if all(one in _ENCODINGS and two in _ENCODINGS for one, two in pairs):
            return "an account whose password has a letter beyond ASCII tells them apart"
    for name in ("login", "salt", "password"):
        if (name in first) != (name in other):
            return f"an account with another {name} tells them apart"
    return "an account that is unlike these tells them apart"


def _next_checks(
    accounts: Sequence[SolvedAccount], constants: Constants, solution: Solution
) -> Iterator[str]:
    if not all(is_like_a_digest(account.stored) for account in accounts):
        yield "some stored values are no digest: is it the right column?"
    if all(account.inputs.salt is None for account in accounts):
        yield "is there a salt column? add it to the file as `salt`"
    if not constants.literals:
        yield "is there a site-wide constant in the old source? give it with --literal TEXT"
    if len({account.inputs.password for account in accounts}) == 1:
        yield "all passwords are equal: add an account with another"
    if not solution.exhausted:
        where = f"within “{solution.reached}”" if solution.reached else "before its first stage"
        yield f"the search ended {where}: raise --budget, or narrow with --hint"
    yield "look at each password for blanks at its ends, and set one anew in the old system"
