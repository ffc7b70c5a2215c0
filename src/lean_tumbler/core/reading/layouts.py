"""A cohort's own layout: where digest, salt and other parts stand in a composite value.

    {salt:base64}/{rounds}/{digest:hex}

A part is `{NAME}` or `{NAME:ENCODING}`; everything else is literal, and a brace is written twice.
`digest` is what the formula prints; the other parts are inputs of it, `salt` among them.
"""

import re
from collections.abc import Callable, Iterator, Mapping
from dataclasses import dataclass, field
from types import MappingProxyType

from msgspec import Struct

from lean_tumbler.core.formulas.tokens import is_part_name
from lean_tumbler.core.records import Hidden, MaskedRecord
from lean_tumbler.core.schemes import phc
from lean_tumbler.errors import LayoutError

DIGEST, SALT = "digest", "salt"
TEXT_CHARACTERS = 1_000
_PIECE = re.compile(r"\{\{|\}\}|\{(?P<part>[^{}]*)\}|(?P<brace>[{}])|[^{}]+")


def _unhex(text: str) -> bytes | None:
    try:
        return bytes.fromhex(text)
    except ValueError:
        return None


def _as_it_stands(text: str) -> bytes | None:
    return text.encode("utf-8")


# Name -> what such a part looks like, and how its bytes are read; None where they cannot be.
ENCODINGS: Mapping[str, tuple[str, Callable[[str], bytes | None]]] = MappingProxyType(
    {
        "hex": ("(?:[0-9a-fA-F]{2})*", _unhex),
        "hex-upper": ("(?:[0-9A-F]{2})*", _unhex),
        "base64": (r"[A-Za-z0-9+/]*={0,2}", lambda text: phc.decode(text.rstrip("="))),
        "base64-unpadded": (r"[A-Za-z0-9+/]*", phc.decode),
        "base64url": (r"[A-Za-z0-9_-]*={0,2}", phc.decode_url),
        "base64url-unpadded": (r"[A-Za-z0-9_-]*", phc.decode_url),
        "number": (r"[0-9]{1,9}", _as_it_stands),
        "text": ("", _as_it_stands),  # anything but what comes next
    }
)


class Parts(MaskedRecord, Struct, frozen=True):
    """What a layout found in one value: the digest's text, and the other parts' bytes."""

    digest: Hidden[str]
    others: Hidden[Mapping[str, bytes]]


@dataclass(frozen=True, slots=True)
class ValueLayout:
    """A layout of the policy."""

    text: str  # as the policy has it
    encodings: Mapping[str, str] = field(compare=False)  # part -> how it is written
    _pattern: re.Pattern[str] = field(repr=False, compare=False)

    @property
    def pattern(self) -> str:
        """What such a value looks like, as a regular expression."""
        return self._pattern.pattern

    @property
    def parts(self) -> frozenset[str]:
        """The names of what it gives to a formula."""
        return frozenset(self.encodings) - {DIGEST}

    def read(self, stored: str) -> Parts | None:
        """Take a value apart; None where it is not of this layout."""
        match = self._pattern.fullmatch(stored)
        if match is None:
            return None
        others: dict[str, bytes] = {}
        for name, encoding in self.encodings.items():
            if name == DIGEST:
                continue
            raw = ENCODINGS[encoding][1](match[_group(name)])
            if raw is None:
                return None
            others[name] = raw
        return Parts(match[_group(DIGEST)], others)


def _group(name: str) -> str:
    return "part_" + name.replace("-", "_")


def _pieces(text: str) -> Iterator[tuple[int, str, str | None]]:
    """Give offset, literal text and part of each piece; one of the two is set."""
    for match in _PIECE.finditer(text):
        if match["brace"]:
            raise LayoutError(
                f"position {match.start() + 1}: a brace without its counterpart; write it "
                "twice if the value holds it"
            )
        if match["part"] is not None:
            yield match.start(), "", match["part"]
        else:
            yield match.start(), match.group().replace("{{", "{").replace("}}", "}"), None


def _part(offset: int, text: str) -> tuple[str, str]:
    name, colon, encoding = text.partition(":")
    if not is_part_name(name) and name != SALT:
        raise LayoutError(
            f"position {offset + 2}: expected the name of a part, like salt, rounds or digest"
        )
    if colon and encoding not in ENCODINGS:
        known = ", ".join(ENCODINGS)
        raise LayoutError(f"position {offset + len(name) + 3}: expected an encoding ({known})")
    return name, encoding or "text"


def parse_layout(text: str, *, digest_pattern: str, digest_is_fixed: bool) -> ValueLayout:
    """Read a layout.

    Args:
        text: as the policy has it.
        digest_pattern: what the formula prints, as a regular expression.
        digest_is_fixed: whether that is of one length, so that it may touch another part.

    Raises:
        LayoutError: with the position and what was expected.
    """
    if len(text) > TEXT_CHARACTERS:
        raise LayoutError(f"a layout has at most {TEXT_CHARACTERS:,} characters")
    pieces = list(_pieces(text))
    encodings: dict[str, str] = {}
    pattern = ""
    touching = ""
    for number, (offset, literal, part) in enumerate(pieces):
        if part is None:
            pattern += re.escape(literal)
            touching = ""
            continue
        name, encoding = _part(offset, part)
        if name in encodings:
            raise LayoutError(f"position {offset + 2}: “{name}” occurs twice")
        if touching and not (digest_is_fixed and DIGEST in {name, touching}):
            raise LayoutError(
                f"position {offset + 1}: nothing separates “{touching}” from “{name}”, so "
                "it cannot be told where the first ends"
            )
        encodings[name], touching = encoding, name
        follows = next(iter(pieces[number + 1 : number + 2]), (0, "", None))[1]
        pattern += f"(?P<{_group(name)}>{_matched(name, encoding, digest_pattern, follows)})"
    if DIGEST not in encodings:
        raise LayoutError(f"expected a part {{{DIGEST}}} somewhere: what the formula prints")
    return ValueLayout(text, MappingProxyType(encodings), re.compile(pattern, re.ASCII | re.DOTALL))


def _matched(name: str, encoding: str, digest_pattern: str, follows: str) -> str:
    """Give the pattern of a part; text ends where the next literal begins."""
    if name == DIGEST:
        return digest_pattern
    if encoding != "text":
        return ENCODINGS[encoding][0]
    return f"[^{re.escape(follows[0])}]*" if follows else ".*"
