"""Recovering a formula from a file of known accounts: what is odd in it, and what fits."""

import re
from collections.abc import Callable, Iterator, Mapping, Sequence
from dataclasses import dataclass, replace

from lean_tumbler.core.formulas.evaluation import Inputs
from lean_tumbler.core.formulas.search_space import DIGEST_ORDER
from lean_tumbler.core.formulas.solutions import Narrowed, NearMiss, Solution, SolvedAccount
from lean_tumbler.core.formulas.solver import Solver
from lean_tumbler.core.formulas.stored_digests import is_like_a_digest
from lean_tumbler.core.reading.candidates import digest_and_salt
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
        lines: the accounts' lines in the file.
        notes: what was odd about the file, and put right.
        leaves: for each near miss, what the accounts that it leaves have in common.
        differences: for each formula, what would tell it from the first; empty for the first.
        next_checks: what is worth doing where nothing fits.
    """

    solution: Solution
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
    literals: Sequence[str],
    narrowed: Narrowed,
    budget_seconds: float,
    clock: Callable[[], float],
    progress: Callable[[int], None],
) -> Solved:
    """Search for the formula of known accounts.

    Args:
        accounts: two or more, with password and stored value.
        literals: site-wide constants that may go in.
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
    rows = _put_right([_Row.of(account) for account in accounts], notes)
    prepared = [_prepared(row) for row in rows]
    _require_consistent(rows)
    solution = Solver(
        prepared,
        literals=literals,
        narrowed=narrowed,
        budget_seconds=budget_seconds,
        clock=clock,
        progress=progress,
    ).solve()
    lines = tuple(row.line for row in rows)
    return Solved(
        solution=solution,
        lines=lines,
        notes=tuple(notes),
        leaves=tuple(_leaves(near, prepared, lines) for near in solution.near_misses),
        differences=tuple(_difference(solution.formulas[0], other) for other in solution.formulas),
        next_checks=() if solution.formulas else tuple(_next_checks(prepared, literals, solution)),
    )


@dataclass(frozen=True, slots=True, kw_only=True)
class _Row:
    line: int
    login: str
    password: str
    stored: str
    salt: bytes | None

    @classmethod
    def of(cls, account: KnownAccount) -> "_Row":
        return cls(
            line=account.line,
            login=account.login,
            password=account.password.reveal(),
            stored=account.stored.reveal() if account.stored else "",
            salt=account.salt or None,
        )


def _put_right(rows: list[_Row], notes: list[str]) -> list[_Row]:
    """Swap columns that stand the wrong way round, and take blanks off stored values."""
    if all(_is_fast(row.password) and not _is_fast(row.stored.strip()) for row in rows):
        notes.append("the columns password and stored stand the wrong way round; they were swapped")
        rows = [replace(row, password=row.stored, stored=row.password) for row in rows]
    padded = [row.line for row in rows if row.stored != row.stored.strip()]
    if padded:
        notes.append(f"blanks or line ends around the stored value ({_at(padded)}) do not count")
    return [replace(row, stored=row.stored.strip()) for row in rows]


def _is_fast(text: str) -> bool:
    return read_value(text).kind is Kind.FAST


def _at(lines: Sequence[int]) -> str:
    named = ", ".join(str(line) for line in lines[:5])
    return f"line{'s' if len(lines) > 1 else ''} {named}{' …' if len(lines) > 5 else ''}"


def _prepared(row: _Row) -> SolvedAccount:
    parsed = read_value(row.stored)
    certain = parsed.contents.confidence == 1
    if parsed.kind in _SELF_DESCRIBING and certain:
        raise KnownAccountsError(
            f"line {row.line}: the column “stored” holds {parsed.scheme}, which describes itself; "
            "no formula is needed: run lean-tumbler verify"
        )
    printed, salt = digest_and_salt(parsed, row.stored, row.salt)
    inputs = Inputs(password=row.password, salt=salt, login=row.login)
    return SolvedAccount(inputs=inputs, stored=printed)


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


def _require_consistent(rows: Sequence[_Row]) -> None:
    seen: dict[tuple[str, str, bytes | None], _Row] = {}
    for row in rows:
        first = seen.setdefault((row.login, row.password, row.salt), row)
        if first.stored != row.stored and not read_value(row.stored).salted:
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
    accounts: Sequence[SolvedAccount], literals: Sequence[str], solution: Solution
) -> Iterator[str]:
    if not all(is_like_a_digest(account.stored) for account in accounts):
        yield "some stored values are no digest: is it the right column?"
    if all(account.inputs.salt is None for account in accounts):
        yield "is there a salt column? add it to the file as `salt`"
    if not literals:
        yield "is there a site-wide constant in the old source? give it with --literal TEXT"
    if len({account.inputs.password for account in accounts}) == 1:
        yield "all passwords are equal: add an account with another"
    if not solution.exhausted:
        where = f"within “{solution.reached}”" if solution.reached else "before its first stage"
        yield f"the search ended {where}: raise --budget, or narrow with --hint"
    yield "look at each password for blanks at its ends, and set one anew in the old system"
