"""Fast values that say by themselves how they were made, as far as a written check reads them."""

import re
from collections.abc import Iterator, Mapping
from types import MappingProxyType

from msgspec import Struct

from lean_tumbler.core.schemes.base import Kind, Layout, ParsedValue, Says
from lean_tumbler.core.schemes.obsolete import (
    crypt_family,
    digests_and_salts,
    directory_tags,
    server_verifiers,
)
from lean_tumbler.core.schemes.obsolete.digests_and_salts import SIZES

COLON, NAMED = "digest:salt", "name$salt$digest"
_COLON_LAYOUT, _NAMED_LAYOUT = "digest, colon, salt", "dollar fields, salt first"
_GROUP = re.compile(r"\(\?P<\w+>\[[^\]]+\]\{(\d+)\}\)")
_DIGEST_BYTES = {size.scheme: length for length, size in SIZES.items()}


class OwnLayout(Struct, frozen=True, kw_only=True):
    """One of them."""

    name: str  # what the head of a file calls it
    layout: Layout
    scheme: str = ""  # the digest; empty where each value says it
    tag: str = ""  # in braces; empty for fields
    is_salted: bool = True
    # of fields in hexadecimal, which say all: the formula that made the digest; else empty
    formula: str = ""

    @property
    def says_all(self) -> bool:
        """Whether no cohort is asked of its values."""
        return bool(self.tag or self.formula)

    @property
    def digest_bytes(self) -> int:
        """How long its digest is."""
        return _DIGEST_BYTES[self.scheme]


def _tags() -> Iterator[OwnLayout]:
    for layout in directory_tags.LAYOUTS:
        found = re.match(r"\{(\w+)\} and base64 of digest( and salt)?$", layout.structure)
        if found and layout.kind is Kind.FAST:
            yield OwnLayout(
                name=f"{{{found[1]}}}",
                layout=layout,
                scheme=layout.scheme,
                tag=found[1],
                is_salted=bool(found[2]),
            )


def _fields() -> Iterator[OwnLayout]:
    """Give the layouts of digest and salt in hexadecimal, whose formula follows from the layout."""
    for layout in (*server_verifiers.LAYOUTS, *crypt_family.LAYOUTS):
        is_plain = layout.kind is Kind.FAST and layout.says is not Says.NOTHING
        if not is_plain or not set(layout.groups) <= {"digest", "salt"}:
            continue
        sample = _GROUP.sub(lambda match: "0" * int(match[1]), layout.pattern)
        parsed = layout.read(sample.replace("\\", ""))
        if parsed is not None and len(parsed.contents.formulas) == 1:
            yield OwnLayout(
                name=re.sub(r"\W+", "-", f"{layout.scheme} {layout.name}").strip("-"),
                layout=layout,
                scheme=layout.scheme,
                is_salted="salt" in layout.groups,
                formula=parsed.contents.formulas[0],
            )


def _all() -> Iterator[OwnLayout]:
    yield from _tags()
    yield from _fields()
    for layout in digests_and_salts.LAYOUTS:
        if layout.name == _COLON_LAYOUT:
            yield OwnLayout(name=COLON, layout=layout)
        if layout.name == _NAMED_LAYOUT:
            yield OwnLayout(name=NAMED, layout=layout)


OWN_LAYOUTS: Mapping[str, OwnLayout] = MappingProxyType({each.name: each for each in _all()})


def own_layout_of(parsed: ParsedValue, text: str) -> OwnLayout | None:
    """Give the layout of a value; None where it is of none of these."""
    if parsed.kind is not Kind.FAST or parsed.says is Says.NOTHING:
        return None
    for each in OWN_LAYOUTS.values():
        if each.layout.name == parsed.layout and each.layout.match(text):
            return each
    return None


def formulas_of(each: OwnLayout) -> tuple[str, ...]:
    """Give the texts of the formulas that may have made its values, the likeliest first."""
    if each.formula:
        return (each.formula,)
    if each.tag:
        return (f"utf-8, {'append salt, ' if each.is_salted else ''}{each.scheme}, hex",)
    sides = ("append", "prepend") if each.name == COLON else ("prepend", "append")
    return tuple(f"{side} salt, {name}, hex" for name in _DIGEST_BYTES for side in sides)
