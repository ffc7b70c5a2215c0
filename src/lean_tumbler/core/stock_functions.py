"""What the functions that come with a language verify: by scheme, variant and version.

A table of facts with their sources. It says what an application can check without a package of
others; docs/LANGUAGES.md prints it.
"""

import re
from collections.abc import Iterator, Mapping, Sequence
from dataclasses import dataclass, field
from types import MappingProxyType

from lean_tumbler.core.schemes.base import Parameters

Version = tuple[int, ...]

_PROGRAM = re.compile(r"(?P<language>[a-z]+) (?P<version>[0-9]+(?:\.[0-9]+){0,2})(?: core)?")


@dataclass(frozen=True, slots=True, kw_only=True)
class StockFunction:
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


_CRYPT = "as far as the system's crypt(3) knows the scheme"
_ALL_PBKDF2 = ("pbkdf2-sha1", "pbkdf2-sha256", "pbkdf2-sha512")


def _since(version: Version, *schemes: str) -> Mapping[str, Version]:
    return MappingProxyType(dict.fromkeys(schemes, version))


STOCK_FUNCTIONS: tuple[StockFunction, ...] = (
    StockFunction(
        language="php",
        name="password_verify",
        schemes=MappingProxyType(
            {
                "bcrypt": (5, 5),
                "md5-crypt": (5, 5),
                "sha256-crypt": (5, 5),
                "sha512-crypt": (5, 5),
                "argon2i": (7, 2),
                "argon2id": (7, 3),
            }
        ),
        takes_text=True,
        most={"lanes": 1},
        variants=("2y", "2a"),
        note="Argon2 where PHP was built with it; with libsodium alone, of one lane",
        source="PHP manual: password_hash, password_verify, crypt",
    ),
    StockFunction(
        language="php",
        name="password_verify",
        schemes=_since((8, 2), "bcrypt"),
        takes_text=True,
        variants=("2b",),
        note="its manual does not name this variant",
        source="seen with PHP 8.2",
    ),
    StockFunction(
        language="php",
        name="hash_pbkdf2",
        schemes=_since((5, 5), *_ALL_PBKDF2),
        source="PHP manual: hash_pbkdf2",
    ),
    StockFunction(
        language="node",
        name="crypto.pbkdf2",
        schemes=_since((0, 12), *_ALL_PBKDF2),
        source="Node.js documentation: crypto.pbkdf2",
    ),
    StockFunction(
        language="node",
        name="crypto.scrypt",
        schemes=_since((10, 5), "scrypt"),
        note="the option maxmem must be raised above its 32 MiB",
        source="Node.js documentation: crypto.scrypt",
    ),
    StockFunction(
        language="node",
        name="crypto.argon2",
        schemes=_since((24, 7), "argon2i", "argon2id"),
        source="Node.js documentation: crypto.argon2",
    ),
    StockFunction(
        language="python",
        name="hashlib.pbkdf2_hmac",
        schemes=_since((3, 4), *_ALL_PBKDF2),
        source="Python documentation: hashlib",
    ),
    StockFunction(
        language="python",
        name="hashlib.scrypt",
        schemes=_since((3, 6), "scrypt"),
        note="the argument maxmem must be raised above its 32 MiB",
        source="Python documentation: hashlib",
    ),
    StockFunction(
        language="python",
        name="crypt.crypt",
        schemes=_since((3, 3), "md5-crypt", "sha256-crypt", "sha512-crypt"),
        until=(3, 13),
        takes_text=True,
        note=_CRYPT,
        source="Python documentation: crypt; What's New In Python 3.13",
    ),
    StockFunction(
        language="ruby",
        name="OpenSSL::KDF.pbkdf2_hmac",
        schemes=_since((2, 5), *_ALL_PBKDF2),
        source="Ruby documentation: OpenSSL::KDF",
    ),
    StockFunction(
        language="ruby",
        name="OpenSSL::KDF.scrypt",
        schemes=_since((2, 5), "scrypt"),
        source="Ruby documentation: OpenSSL::KDF",
    ),
    StockFunction(
        language="ruby",
        name="String#crypt",
        schemes=_since((1, 8), "md5-crypt", "sha256-crypt", "sha512-crypt"),
        takes_text=True,
        note=_CRYPT,
        source="Ruby documentation: String#crypt",
    ),
    StockFunction(
        language="java",
        name="SecretKeyFactory",
        schemes=MappingProxyType(
            {"pbkdf2-sha1": (6,), "pbkdf2-sha256": (8,), "pbkdf2-sha512": (8,)}
        ),
        source="Java Security Standard Algorithm Names: PBKDF2With<prf>",
    ),
    StockFunction(
        language="dotnet",
        name="Rfc2898DeriveBytes",
        schemes=MappingProxyType(
            {"pbkdf2-sha1": (1,), "pbkdf2-sha256": (2,), "pbkdf2-sha512": (2,)}
        ),
        source=".NET API: System.Security.Cryptography.Rfc2898DeriveBytes (.NET Core and later)",
    ),
    StockFunction(
        language="go",
        name="crypto/pbkdf2",
        schemes=_since((1, 24), *_ALL_PBKDF2),
        source="Go 1.24 release notes; the standard library alone",
    ),
    StockFunction(
        language="erlang",
        name="crypto:pbkdf2_hmac",
        schemes=_since((24, 2), *_ALL_PBKDF2),
        source="Erlang/OTP reference: crypto (versions of OTP)",
    ),
    StockFunction(
        language="perl",
        name="crypt",
        schemes=_since((5,), "md5-crypt", "sha256-crypt", "sha512-crypt"),
        takes_text=True,
        note=_CRYPT,
        source="perlfunc: crypt",
    ),
    StockFunction(
        language="postgresql",
        name="crypt",
        schemes=MappingProxyType(
            {"bcrypt": (8, 4), "md5-crypt": (8, 4), "sha256-crypt": (18,), "sha512-crypt": (18,)}
        ),
        takes_text=True,
        variants=("2a",),
        source="PostgreSQL manual: pgcrypto",
    ),
)
LANGUAGES = tuple(dict.fromkeys(found.language for found in STOCK_FUNCTIONS))


@dataclass(frozen=True, slots=True)
class Program:
    """A language and its version, as [target] verified_by names it: `php 7.4`, `node 18 core`."""

    language: str
    version: Version

    @classmethod
    def named(cls, text: str) -> "Program | None":
        """Read a name; None where it is none, or of a language that the table lacks."""
        match = _PROGRAM.fullmatch(text.strip().lower())
        if match is None or match["language"] not in LANGUAGES:
            return None
        return cls(match["language"], tuple(map(int, match["version"].split("."))))

    def __str__(self) -> str:
        return f"{self.language} {'.'.join(map(str, self.version))}"

    def functions(self) -> Iterator[StockFunction]:
        """Give the functions that this version has."""
        for found in STOCK_FUNCTIONS:
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
            for known in STOCK_FUNCTIONS
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
    for found in STOCK_FUNCTIONS:
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
