"""What is joined to what flows: sequences of operands, the plausible first; `P` is what flows."""

import json
from collections.abc import Iterator, Sequence

from lean_tumbler.core.formulas.evaluation import Inputs

_SEPARATORS = (":", "-", "_", "|", "$", ".", "#", "@", "/", "+", ",", ";", "*", "&", "=", " ",
               "\n", "\r\n", "\r", "\t", "\0")  # fmt: skip
# Two and three of a kind, and pairs that people write; they go in with one digest only.
_LONG_SEPARATORS = (
    *(mark * times for mark in ":-_|$.#@/+,;*&=~!%^" for times in (2, 3)),
    "~", "!", "%", "^", "?", "\\", ", ", ": ", "; ", " - ", " : ", " | ", "->", "=>", "<>", "()",
)  # fmt: skip
_MAIL_FILTERS = (":local-part", ":lower:local-part")  # of a login that is a mail address
_LONGEST_SLICED = 16  # characters of a salt
_ODD_BESIDE = 6  # of them, the first: without slices


def literal(text: str) -> str:
    """Write a constant as the notation does."""
    return json.dumps(text, ensure_ascii=False)


def plain_joins(operands: Sequence[str], literals: Sequence[str]) -> Iterator[tuple[str, ...]]:
    """Give the sequences with at most one operand, which no filter changes."""
    yield ("P",)
    for name in operands:
        if name in {"salt", "login", *map(literal, literals)}:
            yield from (("P", name), (name, "P"))


def core_joins(operands: Sequence[str]) -> tuple[tuple[str, ...], ...]:
    """Give the commonest sequences; `P` is what flows."""
    joined = [sequence for name in operands for sequence in ((("P", name)), (name, "P"))]
    around = [(name, "P", name) for name in operands]
    return (("P",), *joined, *around, ("P", "password"), ("password", "P"))


def all_joins(operands: Sequence[str], literals: Sequence[str]) -> Iterator[tuple[str, ...]]:
    """Give the other sequences: with separators, with two operands, with digests of the salt."""
    quoted = [literal(text) for text in _SEPARATORS]
    for mark in quoted:
        yield ("P", mark)
        yield (mark, "P")
        for name in operands:
            yield from _orders(name, mark)
    constants = {literal(text) for text in literals}
    for first in operands:
        for second in operands:
            if first.partition(":")[0] != second.partition(":")[0] or first in constants:
                yield from ((first, second, "P"), (first, "P", second), ("P", first, second))
                for mark in quoted[:8]:
                    yield (first, mark, second, mark, "P")
                    yield (first, mark, "P", mark, second)
                    yield ("P", mark, first, mark, second)
    for name in operands:
        for digest in ("md5", "sha1", "sha256"):
            yield (f"(take {name}, {digest}, hex)", "P")
            yield ("P", f"(take {name}, {digest}, hex)")
        yield ("P", "password", name)
        yield (name, "P", "password")


def _orders(name: str, mark: str) -> Iterator[tuple[str, ...]]:
    yield (name, mark, "P")
    yield ("P", mark, name)
    yield ("P", name, mark)
    yield (mark, "P", name)
    yield (name, "P", mark)
    yield (mark, name, "P")


def customary_joins(
    accounts: Sequence[Inputs], operands: Sequence[str], names: Sequence[str]
) -> Iterator[tuple[str, ...]]:
    """Give sequences with other columns, names and longer separators, which are rarer."""
    known = list(operands)
    shared = set.intersection(*(set(inputs.parts) for inputs in accounts))
    others = [*sorted(shared), *map(literal, names)]
    if all(inputs.login and "@" in inputs.login for inputs in accounts):
        others += [f"login{name}" for name in _MAIL_FILTERS]
    short, long = map(literal, _SEPARATORS), [literal(text) for text in _LONG_SEPARATORS]
    marks = [*short, *long]
    for name in others:
        yield from (("P", name), (name, "P"), (name, "P", name))
        for other in (*known, *others):
            if other != name:
                yield from _between(name, other)
                yield from _between(other, name)
        for mark in marks:
            yield from _orders(name, mark)
    for mark in long:
        yield from (("P", mark), (mark, "P"), (mark, "P", mark))
        for name in known:
            yield from _orders(name, mark)
    for mark in marks:
        for name in (*known, *others):
            yield (name, mark, "P", mark)
            yield (mark, "P", mark, name)
            yield (mark, name, mark, "P")
            yield ("P", mark, name, mark)
            yield (mark, name, mark, "P", mark)
            yield (mark, "P", mark, name, mark)


def odd_joins(accounts: Sequence[Inputs], operands: Sequence[str]) -> Iterator[tuple[str, ...]]:
    """Give sequences with something that old code did to an operand, alone and beside another."""
    inputs = [name for name in ("salt", "login") if name in operands]
    names = ["password:length", "password:reverse"]
    names += [f"{name}:{change}" for name in inputs for change in ("reverse", "length")]
    if "salt" in inputs:
        shortest = min(len(each.salt or b"") for each in accounts)
        most = min(shortest, _LONGEST_SLICED)
        names += [
            f"salt:slice {start} {end}"
            for start in range(most)
            for end in range(start + 1, most + 1)
            if (start, end) != (0, shortest)
        ]
    for name in names:
        yield from (("P", name), (name, "P"), (name, "P", name))
    for name in names[:_ODD_BESIDE]:
        for other in inputs:
            yield from _between(name, other)
            yield from _between(other, name)


def _between(first: str, second: str) -> Iterator[tuple[str, ...]]:
    yield from ((first, second, "P"), (first, "P", second), ("P", first, second))
