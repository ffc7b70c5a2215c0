"""What a search leaves to be said: what accounts have in common, and what would tell more."""

import re
from collections.abc import Callable, Iterator, Sequence

from lean_tumbler.core.formulas.evaluation import Inputs
from lean_tumbler.core.formulas.search_space import Constants
from lean_tumbler.core.formulas.solutions import NearMiss, Solution, SolvedAccount
from lean_tumbler.core.formulas.stored_digests import is_like_a_digest


def lines_named(lines: Sequence[int]) -> str:
    """Name some lines of a file, the first five of them."""
    named = ", ".join(str(line) for line in lines[:5])
    return f"line{'s' if len(lines) > 1 else ''} {named}{' …' if len(lines) > 5 else ''}"


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


def leaves(near: NearMiss, accounts: Sequence[SolvedAccount], lines: Sequence[int]) -> str:
    """Say which accounts a near miss leaves, and what they alone have in common."""
    left = [place for place in range(len(accounts)) if place not in near.explained]
    where = lines_named([lines[place] for place in left])
    for what, test in _ODDITIES.items():
        hits = {place for place, account in enumerate(accounts) if test(account.inputs)}
        if hits == set(left):
            return f"{where}: those with {what}"
    return where


_WESTERN = ("latin-1", "windows-1252")
_ENCODINGS = ("utf-8", "latin-1", "windows-1252", "utf-16le")


def difference(first: str, other: str) -> str:
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


def next_checks(
    accounts: Sequence[SolvedAccount], constants: Constants, solution: Solution
) -> Iterator[str]:
    """Say what is worth doing where nothing explains all accounts."""
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
