"""JSON that is not one object a line: arrays, pretty-printed objects, a list under one name."""

import codecs
import re
from collections.abc import Iterator, Sequence
from pathlib import Path

from lean_tumbler.stores.files.base import FileFormat, Rows, Unreadable
from lean_tumbler.stores.files.json_fields import as_row
from lean_tumbler.stores.files.records import RecordTable
from lean_tumbler.stores.files.streams import LINE_BYTES, encoding_of, pieces, sample
from lean_tumbler.stores.json_text import load_record

# RFC 8259: strings (section 7) may hold braces; a number or name (section 3) holds none.
# Possessive: what goes back over a long string takes memory for each character of it.
_STRING = r'"[^"\\]*+(?:\\.[^"\\]*+)*+"'
_TOKEN = re.compile(rf"{_STRING}|[{{}}\"]", re.DOTALL)
_WITHIN_STRING = re.compile(r'[^"\\]*+(?:\\.[^"\\]*+)*+', re.DOTALL)
_BRACKET = re.compile(rf"{_STRING}|[\[\]{{}}]", re.DOTALL)
_BETWEEN = re.compile(r"[\s\[\],}\x1e]*")  # what may stand between objects; 1E: RFC 7464
_UNDER_ONE_NAME = re.compile(rf"\s*\{{\s*{_STRING}\s*:\s*\[\s*(?=\{{)", re.DOTALL)
_ARRAY = re.compile(r"\s*\[\s*\{")
_HELD_CHARACTERS = 4 * LINE_BYTES
_TOO_LONG = " " * (LINE_BYTES + 1)
_MEMBER = re.compile(rf"\s*{_STRING}\s*:", re.DOTALL)


def _holds_documents(text: str) -> bool:
    """Tell a file of JSON objects that go over lines, or stand in an array, by its beginning."""
    if _ARRAY.match(text) or _is_under_one_name(text):
        return True
    first, _, rest = text.lstrip().partition("\n")
    return first.rstrip() == "{" and bool(_MEMBER.match(rest))


def _is_under_one_name(text: str) -> bool:
    """Tell a list of records under a name from a record that begins with a list of objects.

    The list is all that there is; or it is longer than the beginning of a file that is looked at.
    """
    begun = _UNDER_ONE_NAME.match(text)
    if begun is None:
        return False
    depth = 1
    for bracket in _BRACKET.finditer(text, begun.end()):
        depth += {"[": 1, "{": 1, "]": -1, "}": -1}.get(bracket[0], 0)
        if depth == 0:
            return text[bracket.end() :].strip() == "}"
    return True


def document_rows(path: Path, _: Sequence[str], unreadable: Unreadable) -> Rows:
    """Read the objects one after the other, numbered from 1."""
    for number, text in enumerate(_objects(path, unreadable), 1):
        if len(text) > LINE_BYTES:
            unreadable.add(number, f"an object of more than {LINE_BYTES:,} characters")
            continue
        try:
            document = load_record(text)
        except ValueError as error:
            unreadable.add(number, f"no JSON object: {error}")
            continue
        yield number, as_row(document)


def _objects(path: Path, unreadable: Unreadable) -> Iterator[str]:
    """Cut a text into its objects, in memory bounded by the longest that is read."""
    beginning = sample(path)
    encoding = encoding_of(beginning)
    decoder = codecs.getincrementaldecoder(encoding)("replace")
    text = beginning.decode(encoding, "replace").removeprefix("\ufeff")
    left_out = _UNDER_ONE_NAME if _is_under_one_name(text) else None
    held = _Held()
    for number, piece in enumerate(pieces(path, unreadable)):
        held.text += decoder.decode(piece)
        if number == 0:
            held.text = held.text.removeprefix("\ufeff")
            held.text = left_out.sub("", held.text, count=1) if left_out else held.text
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


FORMAT = FileFormat(
    recognises=lambda beginning: _holds_documents(beginning.text),
    tables=lambda path: [RecordTable(path, document_rows)],
)
