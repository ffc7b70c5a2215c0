"""JSON Lines: one object a line. In a copy one string is written anew, all else stays."""

import json
import re
from collections.abc import Iterator, Sequence
from functools import cached_property
from pathlib import Path

from msgspec import Struct

from lean_tumbler.stores.files.base import FileFormat, Rows, Unreadable
from lean_tumbler.stores.files.copying import Record, bad_record, decoded, raw_lines
from lean_tumbler.stores.files.json_fields import as_row, flattened
from lean_tumbler.stores.files.records import RecordTable
from lean_tumbler.stores.files.streams import lines
from lean_tumbler.stores.json_text import load_record

_BLANK = re.compile(r"[ \t\r\n]*")
_DECODER = json.JSONDecoder()


def json_rows(path: Path, _: Sequence[str], unreadable: Unreadable) -> Rows:
    """Read JSON Lines: one object a line."""
    for number, line in lines(path, unreadable):
        if not line.strip():
            continue
        try:
            document = load_record(line)
        except ValueError as error:
            unreadable.add(number, f"no JSON object: {error}")
            continue
        if not isinstance(document, dict):
            unreadable.add(number, "JSON, but not an object")
            continue
        yield number, as_row(document)


def _is_json(text: str) -> bool:
    first = text.split("\n", 1)[0].strip()
    if not first.startswith("{"):
        return False
    try:
        return isinstance(load_record(first), dict)
    except ValueError:
        return '":' in first  # the first line may be the broken one


class JsonExport(Struct, frozen=True, dict=True):
    """A file of one object a line."""

    path: Path
    checked_elsewhere = ""
    numbered_by_line = True

    @cached_property
    def columns(self) -> tuple[str, ...]:
        """The fields of the first records; nested ones with dots."""
        return RecordTable(self.path, json_rows).columns

    def records(self, stored: str) -> Iterator[Record]:
        """Read it from beginning to end."""
        for line, raw in raw_lines(self.path):
            text = decoded(self.path, line, raw, "utf-8")
            if not text.strip("\ufeff \t\r\n"):
                yield Record(line=line, raw=raw)
                continue
            try:
                document = load_record(text.removeprefix("\ufeff"))
            except ValueError:
                raise bad_record(self.path, line, "not a JSON object") from None
            if not isinstance(document, dict):
                raise bad_record(self.path, line, "JSON, but not an object")
            span = span_of(text, text.index("{"), stored)

            def replaced(
                new: Sequence[str | None],
                text: str = text,
                span: tuple[int, int] | None = span,
            ) -> bytes:
                if new[0] is None or span is None:
                    return text.encode("utf-8")
                whole = text[: span[0]] + json.dumps(new[0]) + text[span[1] :]
                return whole.encode("utf-8")

            # Without a place for the field there is nothing to replace, and so no value.
            fields = dict(flattened(document)) if span else {}
            yield Record(line=line, raw=raw, rows=(fields,), replaced=replaced)


def span_of(text: str, at: int, name: str) -> tuple[int, int] | None:
    """Find where a field's value begins and ends in the text of an object.

    Args:
        text: JSON that has been parsed once already.
        at: where the object's bracket stands.
        name: the field, as `flattened` names it.

    Returns:
        The last such field's place, since that is the one which counts; None where none is.
    """
    found = None
    closing = "}" if text[at] == "{" else "]"
    number = 0
    at = _skip(text, at + 1)
    while text[at] != closing:
        key = str(number)
        if closing == "}":
            key, at = _DECODER.raw_decode(text, at)
            at = _skip(text, _skip(text, at) + 1)
        _, end = _DECODER.raw_decode(text, at)
        if key == name:
            found = (at, end)
        elif name.startswith(f"{key}.") and text[at] in "{[":
            found = span_of(text, at, name.removeprefix(f"{key}.")) or found
        at = _skip(text, end)
        if text[at] == ",":
            at = _skip(text, at + 1)
        number += 1
    return found


def _skip(text: str, at: int) -> int:
    blank = _BLANK.match(text, at)
    return blank.end() if blank else at


FORMAT = FileFormat(
    recognises=lambda beginning: _is_json(beginning.text),
    tables=lambda path: [RecordTable(path, json_rows)],
    copied=JsonExport,
)
