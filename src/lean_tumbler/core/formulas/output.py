"""What a formula's result looks like, and its canonical text.

Canonical text is what a legacy digest is compared as, and what a slow hash is laid over: digits of
hexadecimal in lower case, base64 padded, no blanks around. docs/FORMATS.md says so too.
"""

import re
from collections.abc import Iterable
from functools import cached_property

from msgspec import Struct
from msgspec.structs import replace

from lean_tumbler.core.formulas.steps import (
    DIGESTS,
    TEXT_STEPS,
    Cut,
    Digest,
    Encode,
    Flow,
    Formula,
    Hmac,
    Input,
    Join,
    Key,
    Loop,
    Operand,
    Part,
    Pbkdf2,
    Rewrite,
    Side,
    Step,
    Take,
    Write,
)

_HEX = frozenset({"hex", "hex-upper"})
_BASE64URL = frozenset({"base64url", "base64url-unpadded"})
_BASE64 = frozenset({"base64", "base64-unpadded", *_BASE64URL})
_ANY = "any"  # text that nothing is known of
_LITERAL = "literal"
_BASE64_CUT, _BASE64URL_CUT = "base64, cut", "base64url, cut"
_SIGNS, _URL_SIGNS = "[A-Za-z0-9+/]", "[A-Za-z0-9_-]"


class Segment(Struct, frozen=True):
    """A stretch of text: how it is written, how long it is, and what it says where it is fixed."""

    text_encoding: str = _ANY
    length: int | None = None
    text: str = ""
    padding: int = 0  # of the length, how many characters are base64's padding

    @property
    def signs(self) -> str:
        """Match a sign of its base64."""
        return _URL_SIGNS if self.text_encoding in {*_BASE64URL, _BASE64URL_CUT} else _SIGNS

    @property
    def pattern(self) -> str:
        """Match such a stretch."""
        count = "*" if self.length is None else f"{{{self.length}}}"
        if self.text_encoding in _HEX:
            return f"[0-9a-fA-F]{count}"
        if self.text_encoding in _BASE64:
            return f"{self.signs}+={{0,2}}"
        if self.text_encoding in {_BASE64_CUT, _BASE64URL_CUT}:
            return f"(?:{self.signs}|=){count}"
        return re.escape(self.text) if self.text_encoding == _LITERAL else "(?s:.*)"


class OutputShape(Struct, frozen=True, dict=True):
    """What flows at some place of a formula: stretches of text, or so many bytes."""

    segments: tuple[Segment, ...] = ()  # of text
    size_bytes: int | None = None  # of bytes, where it is known
    is_text: bool = True  # which of the two

    @cached_property
    def is_fixed(self) -> bool:
        """Whether every stretch of the text is known: only then may a bare shape be told by it."""
        return self.is_text and all(segment.text_encoding != _ANY for segment in self.segments)

    @property
    def length(self) -> int | None:
        """The text's length in characters, where it is fixed."""
        lengths = [segment.length for segment in self.segments]
        return None if None in lengths else sum(length or 0 for length in lengths)

    @cached_property
    def text_encoding(self) -> str:
        """How it is written, where it is one stretch; else empty."""
        return self.segments[0].text_encoding if len(self.segments) == 1 and self.is_fixed else ""

    @cached_property
    def _pattern(self) -> re.Pattern[str]:
        return re.compile("".join(f"({each.pattern})" for each in self.segments), re.ASCII)

    def canonical(self, stored: str) -> str | None:
        """Bring a stored text, or the result itself, into canonical form; None where it cannot fit.

        Blanks around it, the letter case of hexadecimal and the padding of base64 do not count.
        """
        text = stored.strip() if self.is_fixed else stored
        if self.text_encoding in _BASE64:
            body = text.rstrip("=")
            segment = self.segments[0]
            fits = re.fullmatch(f"{segment.signs}+", body, re.ASCII) and len(text) - len(body) <= 2
            padded = body + "=" * (-len(body) % 4)
            is_long = segment.length is None or len(body) == segment.length - segment.padding
            return padded if fits and is_long else None
        match = self._pattern.fullmatch(text)
        if match is not None and self.text_encoding in _HEX:
            return text.lower()
        if match is None or (not text and not self.is_fixed):
            return None
        return "".join(
            part.lower() if segment.text_encoding in _HEX else part
            for segment, part in zip(self.segments, match.groups(), strict=True)
        )


_UNKNOWN_TEXT = OutputShape((Segment(),))


def output_shape(formula: Formula) -> OutputShape:
    """Work out what the result looks like."""
    return _shape(formula.steps, _UNKNOWN_TEXT)


def _shape(steps: Iterable[Step], shape: OutputShape) -> OutputShape:
    for step in steps:
        shape = _shape_after(step, shape)
    return shape


def _bytes(size: int | None) -> OutputShape:
    return OutputShape(size_bytes=size, is_text=False)


def _shape_after(step: Step, shape: OutputShape) -> OutputShape:
    if isinstance(step, Digest | Hmac):
        return _bytes(DIGESTS[step.name if isinstance(step, Digest) else step.digest].size_bytes)
    if isinstance(step, Pbkdf2):
        return _bytes(None if isinstance(step.length_bytes, Part) else step.length_bytes)
    if isinstance(step, Write):
        return OutputShape((_written(step.name, shape.size_bytes),))
    if isinstance(step, Encode):
        width = 2 if step.name == "utf-16le" else 1
        known = shape.length if shape.is_fixed else None
        return _bytes(None if known is None else width * known)
    if isinstance(step, Cut):
        return _cut(step, shape)
    if isinstance(step, Loop):
        once = _shape(step.body, shape)
        settled = _shape(step.body, once) == once
        return once if settled else (_UNKNOWN_TEXT if once.is_text else _bytes(None))
    if isinstance(step, Take):
        return _operand_shape(step.operand)
    if isinstance(step, Join):
        return _joined(step, shape)
    return _rewritten(step, shape)


def _written(text_encoding: str, size: int | None) -> Segment:
    """So many bytes as text."""
    if size is None:
        return Segment(text_encoding)
    if text_encoding in _HEX:
        return Segment(text_encoding, 2 * size)
    padding = 0 if text_encoding.endswith("-unpadded") else -size % 3
    return Segment(text_encoding, -(-4 * size // 3) + padding, padding=padding)


def _cut(step: Cut, shape: OutputShape) -> OutputShape:
    if isinstance(step.length, Part):
        return _UNKNOWN_TEXT if shape.is_text else _bytes(None)
    if not shape.is_text:
        size = shape.size_bytes
        return _bytes(None if size is None else max(0, min(size - step.start, step.length)))
    kept: list[Segment] = []
    skipped, left = step.start, step.length
    for segment in shape.segments:
        if segment.length is None:
            return _UNKNOWN_TEXT
        if left <= 0:
            break
        begin = min(skipped, segment.length)
        skipped -= begin
        taken = min(left, segment.length - begin)
        left -= taken
        if taken == segment.length:
            kept.append(segment)
        elif taken:
            kept.append(_part_of(segment, begin, taken))
    return OutputShape(tuple(kept))


def _part_of(segment: Segment, begin: int, length: int) -> Segment:
    text_encoding = segment.text_encoding
    if text_encoding in _BASE64:
        text_encoding = _BASE64URL_CUT if text_encoding in _BASE64URL else _BASE64_CUT
    return replace(
        segment, text_encoding=text_encoding, length=length,
        text=segment.text[begin : begin + length], padding=0,
    )  # fmt: skip


def _operand_shape(operand: Operand) -> OutputShape:
    source = operand.source
    if operand.filters or isinstance(source, Input | Key | Part):
        return _UNKNOWN_TEXT if operand.flow is Flow.TEXT else _bytes(None)
    if isinstance(source, Formula):
        return output_shape(source)
    if isinstance(source, bytes):
        return _bytes(len(source))
    return OutputShape((Segment(_LITERAL, len(source), source),))


def _joined(step: Join, shape: OutputShape) -> OutputShape:
    other = _operand_shape(step.operand)
    before = other if step.side is not Side.APPEND else None
    after = other if step.side is not Side.PREPEND else None
    parts = [part for part in (before, shape, after) if part is not None]
    if shape.is_text and other.is_text:
        return OutputShape(_merged(segment for part in parts for segment in part.segments))
    sizes = [part.size_bytes if not part.is_text else _utf8_bytes(part) for part in parts]
    return _bytes(None if None in sizes else sum(size or 0 for size in sizes))


def _utf8_bytes(shape: OutputShape) -> int | None:
    """Bytes of a text in UTF-8, where every character of it is known to be ASCII."""
    plain = all(segment.text.isascii() for segment in shape.segments)
    return shape.length if shape.is_fixed and plain else None


def _merged(segments: Iterable[Segment]) -> tuple[Segment, ...]:
    """Join what nothing is known of with its like."""
    merged: list[Segment] = []
    for segment in segments:
        if not (merged and segment.text_encoding == merged[-1].text_encoding == _ANY):
            merged.append(segment)
    return tuple(merged)


def _rewritten(step: Rewrite, shape: OutputShape) -> OutputShape:
    """Follow a rewrite: hexadecimal stays hexadecimal, in whichever letter case."""
    if step.name == "length":
        return _UNKNOWN_TEXT
    rewrite = TEXT_STEPS[step.name]
    changes_more = step.name in {"upper", "lower", "reverse"}
    parts = []
    for segment in shape.segments:
        if segment.text_encoding == _LITERAL:
            text = rewrite(segment.text)
            parts.append(Segment(_LITERAL, len(text), text))
        elif segment.text_encoding in _HEX or (segment.text_encoding != _ANY and not changes_more):
            parts.append(segment)
        else:
            return _UNKNOWN_TEXT
    return OutputShape(tuple(parts[::-1] if step.name == "reverse" else parts))
