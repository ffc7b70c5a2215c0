"""Values under a directory's tag: `{SSHA}` and its relatives (RFC 2307 section 5.3)."""

import base64
import re
from collections.abc import Iterator
from functools import partial

from msgspec.structs import replace

from lean_tumbler.core.schemes.base import Contents, Kind, Layout, Says, read_first
from lean_tumbler.core.schemes.current import argon2, bcrypt
from lean_tumbler.core.schemes.derivation import Family
from lean_tumbler.core.schemes.obsolete import crypt_family

_SOURCE = "RFC 2307 section 5.3; directory servers' documentation"
_NAME = "directory tag"
# Tag without its braces: digest, its bytes, whether a salt follows.
_DIGESTS = (
    ("MD5", "md5", 16, False),
    ("SMD5", "md5", 16, True),
    ("SHA", "sha1", 20, False),
    ("SSHA", "sha1", 20, True),
    ("SHA256", "sha256", 32, False),
    ("SSHA256", "sha256", 32, True),
    ("SHA384", "sha384", 48, False),
    ("SSHA384", "sha384", 48, True),
    ("SHA512", "sha512", 64, False),
    ("SSHA512", "sha512", 64, True),
)


def _tag_pattern(tag: str) -> str:
    """Match a tag in any letter case, as directories do."""
    return "".join(f"[{c.upper()}{c.lower()}]" if c.isalpha() else re.escape(c) for c in tag)


def _starts(tag: str) -> tuple[str, ...]:
    return (f"{{{tag}}}", f"{{{tag.lower()}}}")


def _formula(name: str, *, salted: bool) -> str:
    return f"utf-8, {'append salt, ' if salted else ''}{name}, hex"


def _build_digest(name: str, size: int, salted: bool, match: re.Match[str]) -> Contents | None:
    text = match["data"]
    try:
        raw = base64.b64decode(text + "=" * (-len(text) % 4))
    except ValueError:
        return None
    if len(raw) < size or (len(raw) > size) != salted:
        return None
    return Contents(
        digest=raw[:size],
        salt=raw[size:] if salted else None,
        formulas=(_formula(name, salted=salted),),
    )


def _digest_layouts() -> Iterator[Layout]:
    for tag, name, size, salted in _DIGESTS:
        yield Layout(
            scheme=name,
            name=_NAME,
            structure=f"{{{tag}}} and base64 of digest{' and salt' if salted else ''}",
            source=_SOURCE,
            kind=Kind.FAST,
            says=Says.ALL,
            starts=_starts(tag),
            pattern=rf"\{{{_tag_pattern(tag)}\}}(?P<data>[A-Za-z0-9+/]+)(?P<padding>={{0,2}})",
            build=partial(_build_digest, name, size, salted),
        )


def _build_under(layouts: tuple[Layout, ...], match: re.Match[str]) -> Contents | None:
    found = read_first(layouts, match["value"])
    if found is None:
        return None
    return replace(found.contents, scheme=found.scheme)


def _under(tag: str, scheme: str, kind: Kind, layouts: tuple[Layout, ...]) -> Layout:
    return Layout(
        scheme=scheme,
        name=_NAME,
        structure=f"{{{tag}}} and the value in its own layout",
        source=_SOURCE,
        kind=kind,
        says=Says.ALL,
        starts=_starts(tag),
        pattern=rf"\{{{_tag_pattern(tag)}\}}(?P<value>[ -~]+)",
        build=partial(_build_under, layouts),
        by_value=True,
    )


LAYOUTS = (
    *_digest_layouts(),
    _under("ARGON2", "argon2id, argon2i, argon2d", Kind.DERIVATION, argon2.LAYOUTS),
    _under("CRYPT", "bcrypt", Kind.DERIVATION, bcrypt.LAYOUTS),
    _under("CRYPT", "the crypt(3) family", Kind.ITERATED, crypt_family.LAYOUTS),
    Layout(
        scheme="plain-text",
        name=_NAME,
        structure="{CLEARTEXT} and the password",
        source=_SOURCE,
        kind=Kind.READABLE,
        says=Says.ALL,
        starts=(*_starts("CLEARTEXT"), *_starts("CLEAR"), *_starts("PLAIN")),
        pattern=r"\{(?:CLEARTEXT|CLEAR|PLAIN|cleartext|clear|plain)\}(?P<value>(?s:.+))",
        lengths_count=False,
        build=lambda match: Contents(password=match["value"]),
    ),
)

FAMILY = Family(
    name="directory tags",
    layouts=LAYOUTS,
    formulas=tuple(_formula(name, salted=salted) for _, name, _, salted in _DIGESTS),
)
