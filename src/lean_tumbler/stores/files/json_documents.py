"""JSON that is not one object a line: arrays, pretty-printed objects, a list under one name."""

import re
from collections.abc import Iterator, Sequence
from pathlib import Path

from lean_tumbler.stores.files.base import FileFormat, Rows, Unreadable
from lean_tumbler.stores.files.json_cutting import STRING, objects, texts
from lean_tumbler.stores.files.json_fields import as_row
from lean_tumbler.stores.files.records import RecordTable
from lean_tumbler.stores.files.streams import LINE_BYTES, encoding_of, sample
from lean_tumbler.stores.json_text import load_record

_BRACKET = re.compile(rf"{STRING}|[\[\]{{}}]", re.DOTALL)
_UNDER_ONE_NAME = re.compile(rf"\s*\{{\s*{STRING}\s*:\s*\[\s*(?=\{{)", re.DOTALL)
_ARRAY = re.compile(r"\s*\[\s*\{")
_MEMBER = re.compile(rf"\s*{STRING}\s*:", re.DOTALL)


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
    text = beginning.decode(encoding_of(beginning), "replace").removeprefix("\ufeff")
    left_out = _UNDER_ONE_NAME if _is_under_one_name(text) else None
    yield from objects(texts(path, unreadable, left_out=left_out))


FORMAT = FileFormat(
    recognises=lambda beginning: _holds_documents(beginning.text),
    tables=lambda path: [RecordTable(path, document_rows)],
)
