"""Cutting a text of JSON into its objects, in memory bounded by the longest that is read."""

import codecs
import re
from collections.abc import Iterable, Iterator
from pathlib import Path

from lean_tumbler.stores.files.base import Unreadable
from lean_tumbler.stores.files.streams import LINE_BYTES, encoding_of, pieces, sample

# RFC 8259: strings (section 7) may hold braces; a number or name (section 3) holds none.
# Possessive: what goes back over a long string takes memory for each character of it.
STRING = r'"[^"\\]*+(?:\\.[^"\\]*+)*+"'
_TOKEN = re.compile(rf"{STRING}|[{{}}\"]", re.DOTALL)
_WITHIN_STRING = re.compile(r'[^"\\]*+(?:\\.[^"\\]*+)*+', re.DOTALL)
_BETWEEN = re.compile(r"[\s\[\],}\x1e]*")  # what may stand between objects; 1E: RFC 7464
_HELD_CHARACTERS = 4 * LINE_BYTES
_TOO_LONG = " " * (LINE_BYTES + 1)


def texts(path: Path, unreadable: Unreadable, *, left_out: re.Pattern[str] | None) -> Iterator[str]:
    """Read a file as text, piece by piece.

    Args:
        path: of the file.
        unreadable: counts what cannot be read.
        left_out: what is left out at its beginning.
    """
    decoder = codecs.getincrementaldecoder(encoding_of(sample(path)))("replace")
    for number, piece in enumerate(pieces(path, unreadable)):
        text = decoder.decode(piece)
        if number == 0:
            text = text.removeprefix("\ufeff")
            text = left_out.sub("", text, count=1) if left_out else text
        yield text


def objects(parts: Iterable[str]) -> Iterator[str]:
    """Cut a text into its objects; one that is too long is blanks of more than a line."""
    held = _Held()
    for text in parts:
        held.text += text
        yield from held.take()
    yield from held.rest()


class _Held:
    """What was read and not yet given: the beginning of an object, and how deep it goes.

    Each character is looked at once: where the text ends within a string, the next piece goes on
    there.
    """

    def __init__(self) -> None:
        self.text = ""
        self._depth = 0
        self._looked = 0
        self._in_string = False
        self._is_too_long = False

    def take(self) -> Iterator[str]:
        """Give every object that is whole."""
        begin = 0
        if self._in_string:
            self._go_through_string()
        elif not self._depth:
            begin = self._looked = _BETWEEN.match(self.text).end()  # type: ignore[union-attr] # fits nothing too
        for token in () if self._in_string else _TOKEN.finditer(self.text, self._looked):
            if token.start() < self._looked:
                continue
            self._looked = token.end()
            if token[0] == '"':  # of a string that is not whole
                self._go_through_string()
                break
            self._depth += {"{": 1, "}": -1}.get(token[0], 0)
            if token[0] == "}" and self._depth <= 0:
                self._depth = 0
                yield _TOO_LONG if self._is_too_long else self.text[begin : self._looked]
                self._is_too_long = False
                begin = self._looked = _BETWEEN.match(self.text, self._looked).end()  # type: ignore[union-attr] # likewise
        if not self._in_string:
            self._looked = len(self.text)
        self.text = self.text[begin:]
        self._looked -= begin
        if self._is_too_long or len(self.text) > _HELD_CHARACTERS:  # only the depth counts then
            self.text, self._is_too_long = self.text[self._looked :], True
            self._looked = 0

    def _go_through_string(self) -> None:
        """Go on to a string's end, or as far as the text goes."""
        marks = (self.text.find(mark, self._looked) for mark in '"\\')
        plain = min((mark for mark in marks if mark >= 0), default=len(self.text))
        end = _WITHIN_STRING.match(self.text, plain).end()  # type: ignore[union-attr] # likewise
        self._in_string = not self.text.startswith('"', end)
        self._looked = end if self._in_string else end + 1

    def rest(self) -> Iterator[str]:
        """Give what stands behind the last whole object."""
        if self._is_too_long:
            yield _TOO_LONG
        elif self.text.strip():
            yield self.text
