"""What the functions that come with a language verify: by scheme, variant and version.

The facts and their sources stand in `stock_functions.toml`: what an application can check without a
package of others. docs/LANGUAGES.md prints them.
"""

import re
from collections.abc import Iterator, Mapping, Sequence
from functools import cache

from msgspec import Struct, field

from lean_tumbler.core.schemes.base import Parameters

Version = tuple[int, ...]

_PROGRAM = re.compile(r"(?P<language>[a-z]+) (?P<version>[0-9]+(?:\.[0-9]+){0,2})(?: core)?")


class StockFunction(Struct, frozen=True, kw_only=True):
    """One function of one language."""

    language: str
    name: str  # as its manual writes it
    schemes: Mapping[str, Version]  # what it verifies -> since which version
    until: Version = ()  # the first version that lacks it; empty where none does
    # whether it takes the stored text as it is; else it computes the hash from salt and costs, and
    # the program takes the text apart and compares
    takes_text: bool = False
    # parameter -> the most that every build of it takes
    most: Parameters = field(default_factory=dict)
    variants: tuple[str, ...] = ()  # of bcrypt, those that it takes
    note: str = ""  # what else it needs
    source: str  # where the language says so


def _version(text: str) -> Version:
    return tuple(map(int, text.split(".")))


@cache
def stock_functions() -> tuple[StockFunction, ...]:
    """Read the table; few commands need it."""
    return tuple(_read())


def _read() -> Iterator[StockFunction]:
    import tomllib  # noqa: PLC0415 - with the table
    from importlib.resources import files  # noqa: PLC0415

    text = files(__package__).joinpath("stock_functions.toml").read_text("utf-8")
    for entry in tomllib.loads(text)["function"]:
        schemes = {scheme: _version(since) for scheme, since in entry.pop("schemes").items()}
        until = _version(entry.pop("until")) if "until" in entry else ()
        variants = tuple(entry.pop("variants", ()))
        yield StockFunction(schemes=schemes, until=until, variants=variants, **entry)


def languages() -> tuple[str, ...]:
    """Name the languages of the table."""
    return tuple(dict.fromkeys(found.language for found in stock_functions()))


class Program(Struct, frozen=True):
    """A language and its version, as [target] verified_by names it: `php 7.4`, `node 18 core`."""

    language: str
    version: Version

    @classmethod
    def named(cls, text: str) -> "Program | None":
        """Read a name; None where it is none, or of a language that the table lacks."""
        match = _PROGRAM.fullmatch(text.strip().lower())
        if match is None or match["language"] not in languages():
            return None
        return cls(match["language"], _version(match["version"]))

    def __str__(self) -> str:
        return f"{self.language} {'.'.join(map(str, self.version))}"

    def functions(self) -> Iterator[StockFunction]:
        """Give the functions that this version has."""
        for found in stock_functions():
            is_gone = bool(found.until) and self.version >= found.until
            if found.language == self.language and not is_gone:
                yield found

    def verifies(self, scheme: str) -> StockFunction | None:
        """Give the function that verifies a scheme; None where this version has none."""
        for found in self.functions():
            since = found.schemes.get(scheme)
            if since is not None and self.version >= since:
                return found
        return None


def hindrance(program: Program, scheme: str, parameters: Parameters) -> str:
    """Say why a program's stock functions do not verify what would be written; or nothing."""
    found = program.verifies(scheme)
    if found is None:
        later = [
            f"{known.name} does since {'.'.join(map(str, known.schemes[scheme]))}"
            for known in stock_functions()
            if known.language == program.language and scheme in known.schemes and not known.until
        ]
        more = f" ({later[0]})" if later else ""
        return f"{program} has no stock function that verifies {scheme}{more}"
    for name, most in found.most.items():
        if parameters.get(name, 0) > most:
            return f"{found.name} of {program} verifies {scheme} with {name} up to {most}"
    return ""


def schemes_for(programs: Sequence[Program], schemes: Sequence[str]) -> tuple[str, ...]:
    """Give those schemes that all programs verify."""
    return tuple(
        scheme for scheme in schemes if all(program.verifies(scheme) for program in programs)
    )


def readers_of(scheme: str, variant: str = "") -> Iterator[tuple[StockFunction, Version]]:
    """Give the functions that verify a scheme, and since which version of their language.

    Args:
        scheme: of the stored value.
        variant: of a bcrypt value; a function that does not take it is left out.
    """
    for found in stock_functions():
        if scheme not in found.schemes:
            continue
        if scheme != "bcrypt" or not variant or variant in found.variants:
            yield found, found.schemes[scheme]


def variant_for(programs: Sequence[Program], variants: Sequence[str]) -> str | None:
    """Choose the first variant of bcrypt that all programs' manuals name; None where none is."""
    named = [
        set(found.variants)
        for program in programs
        if (found := program.verifies("bcrypt")) is not None and found.variants
    ]
    return next((v for v in variants if all(v in each for each in named)), None)
