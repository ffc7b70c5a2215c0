"""What operators share: where a call stands, and how steps, texts and numbers are made."""

from collections.abc import Callable
from typing import Protocol

from lean_tumbler.core.code.places import EventKind
from lean_tumbler.core.code.terms import (
    Constant,
    Either,
    Reference,
    SourceLine,
    Term,
    TermStep,
    either,
    options,
)
from lean_tumbler.core.formulas.steps import DIGESTS

_ALGORITHMS = {name.replace("-", ""): name for name in DIGESTS} | {
    "sha": "sha1", "rmd160": "ripemd160", "ripemd": "ripemd160", "blake2b512": "blake2b",
    "blake2s256": "blake2s", "sha512/224": "sha512-224", "sha512/256": "sha512-256",
    "sha512224": "sha512-224", "sha512256": "sha512-256", "sha3": "sha3-256",
}  # fmt: skip


class Site(Protocol):
    """Where a call stands, and what is told of it."""

    place: SourceLine

    def tell(self, kind: EventKind, *terms: Term, how: str = "", table: str = "") -> None:
        """Note what the line does."""

    def query(self, text: Term, given: tuple[Term, ...]) -> Term:
        """Read a query and what it is given."""

    def apply(self, routine: Term, *given: Term) -> Term:
        """Call a function that was given as a value."""

    def setting(self, name: str) -> Term:
        """Give a value of the configuration."""

    def loads(self, module: str) -> None:
        """Note that a module is loaded by its name."""


Operator = Callable[..., Term]


def step(site: Site, name: str, *of: Term, numbers: tuple[int, ...] = (), detail: str = "") -> Term:
    """Make a step; of several possible values, one each."""
    for place, term in enumerate(of):
        if isinstance(term, Either):
            return either(
                [
                    step(
                        site, name, *of[:place], option, *of[place + 1 :],
                        numbers=numbers, detail=detail,
                    )
                    for option in term.options
                ]
            )  # fmt: skip
    return TermStep(name, of, site.place, numbers, detail)


def number(term: Term) -> int | None:
    """Give a whole number that the source says; None where it does not."""
    if isinstance(term, Constant):
        if isinstance(term.value, str) and term.value.isdigit():
            return int(term.value)
        if isinstance(term.value, int):
            return int(term.value)
    return None


def text(term: Term) -> str | None:
    """Give a text that the source says."""
    if isinstance(term, Constant) and isinstance(term.value, str | bytes):
        value = term.value
        return value if isinstance(value, str) else value.decode("utf-8", "replace")
    if isinstance(term, Reference):
        return term.name.rpartition(".")[2]
    return None


def algorithm(term: Term) -> str | None:
    """Give the notation's name of a digest that the source names."""
    name = text(term)
    if name is None:
        return None
    folded = name.lower().replace("-", "").replace("_", "").removeprefix("hmac")
    folded = folded.removeprefix("pbkdf2withhmac")
    return _ALGORITHMS.get(folded.partition("(")[0])


def each_option(term: Term, make: Callable[[Term], Term]) -> Term:
    """Make a term of each value that a term may be."""
    return either([make(option) for option in options(term)])


def joined(site: Site, *parts: Term) -> Term:
    """Put terms together; constants that meet become one, as do joins."""
    for place, part in enumerate(parts):
        if isinstance(part, Either):
            return either(
                [joined(site, *parts[:place], option, *parts[place + 1 :]) for option in
                 part.options]
            )  # fmt: skip
    flat: list[Term] = []
    for part in parts:
        for each in part.of if isinstance(part, TermStep) and part.name == "join" else (part,):
            last = flat[-1] if flat else None
            one = constant_text(each)
            before = constant_text(last) if last is not None else None
            if one is None or before is None or not flat or not isinstance(last, Constant):
                flat.append(each)
            elif type(before) is type(one) and not last.name and not _name(each):
                flat[-1] = Constant(before + one, last.place)  # type: ignore[operator]
            else:
                flat.append(each)
    kept = [each for each in flat if constant_text(each) not in {"", b""}]
    if len(kept) == 1 and not isinstance(kept[0], Constant):
        return kept[0]
    if all(isinstance(each, Constant) for each in kept) and len(kept) <= 1:
        return kept[0] if kept else Constant("", site.place)
    return TermStep("join", tuple(kept), site.place)


def _name(term: Term) -> str:
    return term.name if isinstance(term, Constant) else ""


def constant_text(term: Term) -> str | bytes | None:
    """Give the text of a constant, numbers in digits; None where it has none."""
    if not isinstance(term, Constant):
        return None
    value = term.value
    if isinstance(value, bool) or value is None:
        return None
    return value if isinstance(value, str | bytes) else str(value)


def text_like(term: Term) -> bool:
    """Tell whether a term is text that the source mostly says."""
    if isinstance(term, Constant):
        return isinstance(term.value, str)
    if isinstance(term, TermStep) and term.name == "join":
        return any(isinstance(part, Constant) for part in term.of)
    return isinstance(term, Either) and any(map(text_like, term.options))
