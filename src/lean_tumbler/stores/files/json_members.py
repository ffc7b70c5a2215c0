"""One JSON object whose members are the records: `{"ada": {…}, "bob": {…}}`, or under one name.

A member's name becomes a field of its record: its login, mostly.
"""

import json
import re
from collections.abc import Iterator, Sequence
from itertools import islice
from pathlib import Path
from typing import Any

from lean_tumbler.core.schemes.base import HASHED
from lean_tumbler.core.schemes.catalogue import read_value
from lean_tumbler.stores.files.base import FileFormat, Rows, Unreadable
from lean_tumbler.stores.files.json_cutting import STRING, objects, texts
from lean_tumbler.stores.files.json_fields import as_row
from lean_tumbler.stores.files.records import RecordTable
from lean_tumbler.stores.files.streams import LINE_BYTES, encoding_of, sample
from lean_tumbler.stores.json_text import load_record

_FEWEST = 5  # members that are alike; a record of its own rarely has so many
_SHARED = 0.5  # of their fields
_NAME = rf"\s*+{STRING}\s*+:\s*+"
# What stands before the first member: a brace, or another name too.
_HEADS = (re.compile(r"\s*+\{"), re.compile(rf"\s*+\{{{_NAME}\{{", re.DOTALL))
_OF_OBJECTS = re.compile(rf"{_NAME}\{{", re.DOTALL)
_PAIR = re.compile(rf"\s*+(?:,\s*+)?+(?P<name>{STRING})\s*+:\s*+(?P<value>{STRING})", re.DOTALL)
KEY, VALUE = "login", "value"


def _head(text: str) -> re.Pattern[str] | None:
    """Find what stands before the members, by a file's beginning; None where it holds none."""
    matched = ((head, head.match(text)) for head in _HEADS)
    return next(
        (head for head, found in matched if found and _are_members(text, found.end())), None
    )


def _are_members(text: str, start: int) -> bool:
    """Tell such members: they have the same fields, or hold stored values."""
    if _OF_OBJECTS.match(text, start):
        found = [record for _, record in islice(_members(iter([text[start:]])), _FEWEST)]
        if len(found) < _FEWEST:
            return False
        shared = set.intersection(*(set(each) for each in found))
        return len(shared) >= _SHARED * max(map(len, found)) > 0
    if not _PAIR.match(text, start):
        return False
    pairs = list(islice(_PAIR.finditer(text, start), _FEWEST))
    kinds = [read_value(_text(pair["value"])).kind for pair in pairs]
    return len(pairs) == _FEWEST and all(kind in HASHED for kind in kinds)


def _members(texts: Iterator[str]) -> Iterator[tuple[str, dict[str, Any]]]:
    """Give names and objects; what is no such member ends it."""
    for text in objects(texts):
        found = _member(text)
        if found is None:
            return
        yield found


def _member(text: str) -> tuple[str, dict[str, Any]] | None:
    """Read `"name": {…}`; None where it is something else."""
    try:
        ((name, record),) = load_record(f"{{{text}}}").items()
    except ValueError:
        return None
    return (name, record) if isinstance(record, dict) else None


def member_rows(path: Path, _: Sequence[str], unreadable: Unreadable) -> Rows:
    """Read the members one after the other, numbered from 1."""
    raw = sample(path)
    head = _head(raw.decode(encoding_of(raw), "replace").removeprefix("\ufeff"))
    for number, text in enumerate(objects(texts(path, unreadable, left_out=head)), 1):
        if pairs := list(_PAIR.finditer(text)) if _PAIR.match(text) else []:
            for place, pair in enumerate(pairs, number):
                yield place, as_row({KEY: _text(pair["name"]), VALUE: _text(pair["value"])})
        elif len(text) > LINE_BYTES:
            unreadable.add(number, f"an object of more than {LINE_BYTES:,} characters")
        elif (found := _member(text)) is None:
            unreadable.add(number, "no member of the JSON object")
        else:
            name, record = found
            yield number, {KEY: name, **as_row(record)}


def _text(quoted: str) -> str:
    return str(json.loads(quoted, strict=False))


FORMAT = FileFormat(
    recognises=lambda beginning: _head(beginning.text) is not None,
    tables=lambda path: [RecordTable(path, member_rows)],
)
