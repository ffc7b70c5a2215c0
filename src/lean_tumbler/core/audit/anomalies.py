"""What is odd about single values, whatever the others are."""

import hashlib
from collections.abc import Iterator

import polars as pl

from lean_tumbler.core.audit.frames import Group
from lean_tumbler.core.audit.own_salts import SHORT_SALT_BYTES
from lean_tumbler.core.audit.results import TRUNCATED
from lean_tumbler.core.schemes.base import Kind, ParsedValue
from lean_tumbler.core.schemes.catalogue import DERIVATIONS

_EMPTY_DIGESTS = tuple(
    text
    for name in ("md5", "sha1", "sha224", "sha256", "sha384", "sha512")
    for digest in [hashlib.new(name, b"", usedforsecurity=False).hexdigest()]
    for text in (digest, digest.upper())
)


_SHORTEST_CHOSEN = 16  # bytes of a PHC string's digest: nobody chooses fewer


def text_flags(
    rows: pl.DataFrame, salted: pl.DataFrame, groups: list[Group]
) -> Iterator[tuple[str, pl.DataFrame]]:
    """Note what the texts themselves show, whatever they are."""
    stored, salt = pl.col("stored"), pl.col("salt")
    wrapped = [number for number, group in enumerate(groups) if group.reading.wrappers]
    bare = rows.filter(pl.col("group").is_in(wrapped).not_()) if wrapped else rows
    yield "stray-blanks", bare.filter(_has_blanks_around(stored))
    yield "empty-password", rows.filter(stored.is_in(_EMPTY_DIGESTS))
    if salted.height:
        yield "salt-with-blanks", salted.filter(_has_blanks_around(salt))
        yield "short-salt", salted.filter(salt.str.len_bytes() < SHORT_SALT_BYTES)
        own = (salt == pl.col("login")) | (salt == pl.col("account"))
        yield "salt-is-login", salted.filter(own.fill_null(value=False))


def _has_blanks_around(text: pl.Expr) -> pl.Expr:
    return text.str.len_bytes() != text.str.strip_chars().str.len_bytes()


def _is_cut(scheme: str, digest_bytes: int) -> bool:
    """Tell a digest of a length that nobody chooses: of a PHC string that its column cut off."""
    multiple = DERIVATIONS[scheme].digest_multiple
    return bool(multiple) and (digest_bytes < _SHORTEST_CHOSEN or digest_bytes % multiple != 0)


def odd(parsed: ParsedValue) -> Iterator[str]:
    """Name the findings that a value's own reading gives rise to."""
    contents = parsed.contents
    if parsed.scheme == "empty":
        yield "empty-password"
    if contents.obsolete:
        yield "obsolete-variant"
    if parsed.kind is Kind.UNKNOWN and contents.also_possible:
        yield TRUNCATED
    if parsed.kind in {Kind.DERIVATION, Kind.LAYERED} and _is_cut(
        parsed.scheme, len(parsed.digest)
    ):
        yield TRUNCATED
    if parsed.layout == "hex, mixed case":
        yield "mixed-case-digest"
    if contents.salted_by_login:
        yield "salt-is-login"
    is_salted = parsed.salt is not None and parsed.kind is not Kind.LAYERED
    if is_salted and len(parsed.salt or b"") < SHORT_SALT_BYTES:
        yield "short-salt"
