"""What languages, and packages for one primitive, verify: by scheme, variant and version.

The facts and their sources stand in `stock_functions.toml`. docs/LANGUAGES.md prints them.
"""

import re
from collections.abc import Iterator, Mapping, Sequence
from functools import cache
from types import MappingProxyType

from msgspec import Struct, field

from lean_tumbler.core.schemes.base import Parameters

Version = tuple[int, ...]

_VERSION = r"[0-9]+(?:\.[0-9]+){0,2}"
_PROGRAM = re.compile(
    rf"(?P<language>[a-z]+)(?: (?P<version>{_VERSION}))?(?: core"
    rf"|(?: (?P<package>[a-z][a-z0-9/-]*)(?: (?P<package_version>{_VERSION}))?))?"
)
_SCHEME = re.compile(r"(?P<scheme>[a-z0-9-]+)(?: (?P<variant>2[aby]))?")


class StockFunction(Struct, frozen=True, kw_only=True):
    """One function of one language."""

    language: str
    name: str  # as its manual writes it
    # what it verifies -> since which version, of the package where it is of one
    schemes: Mapping[str, Version]
    package: str = ""  # of which it is; empty for what comes with the language
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


def packages(language: str) -> tuple[str, ...]:
    """Name the packages of a language in the table."""
    found = (each.package for each in stock_functions() if each.language == language)
    return tuple(dict.fromkeys(package for package in found if package))


class Program(Struct, frozen=True):
    """What checks passwords, as [target] verified_by names it.

    It is a language and its version (`php 8.2`), a package of one (`node 20 bcryptjs 2`, `go
    x/crypto`), or whatever reads a scheme (`bcrypt`, `bcrypt 2y`).
    """

    language: str
    version: Version = ()  # of the language, or of the package; empty where none is named
    package: str = ""
    scheme: str = ""  # of what is named by its scheme
    variant: str = ""  # of that, where it is named
    language_version: Version = ()  # beside a package's

    @classmethod
    def named(cls, text: str) -> "Program | None":
        """Read a name; None where it is none, or of what the table lacks."""
        told = " ".join(text.lower().split())
        match = _PROGRAM.fullmatch(told)
        if match is not None and match["language"] in languages():
            return cls._of_language(match)
        found = _SCHEME.fullmatch(told)
        schemes = {scheme for each in stock_functions() for scheme in each.schemes}
        if found is None or found["scheme"] not in schemes:
            return None
        if found["variant"] and found["scheme"] != "bcrypt":
            return None
        return cls("", scheme=found["scheme"], variant=found["variant"] or "")

    @classmethod
    def _of_language(cls, match: re.Match[str]) -> "Program | None":
        version = _version(match["version"]) if match["version"] else ()
        if not match["package"]:
            return cls(match["language"], version) if version else None
        if match["package"] not in packages(match["language"]):
            return None
        own = _version(match["package_version"]) if match["package_version"] else ()
        return cls(match["language"], own, match["package"], language_version=version)

    def __str__(self) -> str:
        if self.scheme:
            return f"{self.scheme} {self.variant}".rstrip()
        version, own = (".".join(map(str, each)) for each in (self.version, self.language_version))
        parts = (self.language, own, self.package, version)
        return " ".join(part for part in parts if part)

    def functions(self) -> Iterator[StockFunction]:
        """Give the functions that this version has; of a package, its own alone."""
        if self.scheme:
            variants = (self.variant,) if self.variant else _WRITTEN_AS.get(self.scheme, ())
            yield StockFunction(
                language="", name=str(self), schemes={self.scheme: ()}, takes_text=True,
                variants=variants, source="",
            )  # fmt: skip
        for found in stock_functions():
            is_gone = bool(found.until) and self.version >= found.until
            is_own = (found.language, found.package) == (self.language, self.package)
            if is_own and not is_gone:
                yield found

    def verifies(self, scheme: str) -> StockFunction | None:
        """Give the function that verifies a scheme; None where this version has none."""
        for found in self.functions():
            since = found.schemes.get(scheme)
            if since is not None and (not self.version or self.version >= since):
                return found
        return None


# What a reader of a scheme takes of whom nothing else is said.
_WRITTEN_AS: Mapping[str, tuple[str, ...]] = MappingProxyType({"bcrypt": ("2b", "2a", "2y")})


def hindrance(program: Program, scheme: str, parameters: Parameters) -> str:
    """Say why a program's stock functions do not verify what would be written; or nothing."""
    found = program.verifies(scheme)
    if found is None and (program.package or program.scheme):
        return f"{program} does not verify {scheme}"
    if found is None:
        later = [
            f"{known.name} does since {'.'.join(map(str, known.schemes[scheme]))}"
            for known in stock_functions()
            if known.language == program.language
            and not known.package
            and scheme in known.schemes
            and not known.until
        ]
        more = f" ({later[0]})" if later else ""
        return f"{program} has no stock function that verifies {scheme}{more}"
    for name, most in found.most.items():
        if parameters.get(name, 0) > most:
            return f"{found.name} of {program} verifies {scheme} with {name} up to {most}"
    return ""


# What most applications check with, as `verified_by` names it; the likeliest first.
_USUAL = (
    "php 8.2", "node 20 bcryptjs 3", "python bcrypt 4", "ruby bcrypt 3.1", "java bouncycastle",
    "go x/crypto", "node 20", "node 20 argon2", "java 17",
)  # fmt: skip


def usual_readers(scheme: str, most: int) -> tuple[str, ...]:
    """Name the likeliest programs that verify a scheme, as `verified_by` takes them."""
    named = ((text, Program.named(text)) for text in _USUAL)
    able = (text for text, program in named if program is not None and program.verifies(scheme))
    return tuple(able)[:most]


def schemes_for(programs: Sequence[Program], schemes: Sequence[str]) -> tuple[str, ...]:
    """Give those schemes that all programs verify."""
    return tuple(
        scheme for scheme in schemes if all(program.verifies(scheme) for program in programs)
    )


def readers_of(scheme: str, variant: str = "") -> Iterator[tuple[StockFunction, Version]]:
    """Give what languages bring that verifies a scheme, and since which version.

    Args:
        scheme: of the stored value.
        variant: of a bcrypt value; a function that does not take it is left out.
    """
    for found in stock_functions():
        if scheme not in found.schemes or found.package:
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
