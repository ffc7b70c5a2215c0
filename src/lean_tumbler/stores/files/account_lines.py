"""Lines of `login:value`, as in passwd(5), shadow(5) and the web servers' files."""

import re
from collections.abc import Iterator, Sequence
from functools import cached_property
from pathlib import Path

from msgspec import Struct

from lean_tumbler.errors import SourceError
from lean_tumbler.stores.files.base import FileFormat, Rows, Unreadable
from lean_tumbler.stores.files.copying import (
    MARK,
    Record,
    bad_record,
    decoded,
    encoding_of_file,
    raw_lines,
    without_end,
)
from lean_tumbler.stores.files.records import RecordTable
from lean_tumbler.stores.files.streams import lines

_ACCOUNT_LINE = re.compile(r"[^:\s,;\t|]{1,128}:[^:\s]*(?::[^:]*){0,7}")
# passwd(5) and shadow(5); the web servers' files have login and value, and maybe more.
_PASSWD = ("login", "value", "uid", "gid", "comment", "home", "shell")
_SHADOW = ("login", "value", "changed", "minimum", "maximum", "warning", "inactive", "expires", "")


def _account_fields(line: str) -> tuple[Sequence[str], list[str]]:
    """Split an account's line: the names of its fields, and the fields."""
    fields = line.split(":")
    names = {7: _PASSWD, 9: _SHADOW}.get(len(fields))
    if names is None:  # a value may hold colons itself: all after the login is the value
        return _PASSWD[:2], line.split(":", 1)
    return names, fields


def _as_row(names: Sequence[str], fields: Sequence[str]) -> dict[str, str | None]:
    """Name the fields; an empty one is no value."""
    return {name: text or None for name, text in zip(names, fields, strict=True) if name}


def _account_rows(path: Path, _: Sequence[str], unreadable: Unreadable) -> Rows:
    """Read lines of `login:value` with whatever colon fields follow."""
    for number, line in lines(path, unreadable):
        if not line.strip() or line.startswith("#"):
            continue
        names, fields = _account_fields(line)
        if len(fields) < 2:
            unreadable.add(number, "no colon between login and value")
            continue
        yield number, _as_row(names, fields)


def _is_account_file(text: str) -> bool:
    lines = [line for line in text.split("\n")[:50] if line.strip() and line[0] != "#"]
    whole = lines[:-1] if len(lines) > 1 and not text.endswith("\n") else lines
    return bool(whole) and all(_ACCOUNT_LINE.fullmatch(line.rstrip("\r")) for line in whole)


class AccountLinesExport(Struct, frozen=True, dict=True):
    """A file of account lines."""

    path: Path
    checked_elsewhere = "a system's or a web server's own logins check"
    numbered_by_line = True

    @cached_property
    def columns(self) -> tuple[str, ...]:
        """The names of the fields."""
        return RecordTable(self.path, _account_rows).columns

    def records(self, stored: str) -> Iterator[Record]:
        """Read it from beginning to end."""
        encoding = encoding_of_file(self.path)
        for line, raw in raw_lines(self.path):
            text = decoded(self.path, line, raw, encoding)
            mark = MARK if line == 1 and text.startswith(MARK) else ""
            body, end = without_end(text.removeprefix(mark))
            if not body.strip() or body.startswith("#"):
                yield Record(line=line, raw=raw)
                continue
            names, fields = _account_fields(body)
            if len(fields) < 2:
                raise bad_record(self.path, line, "no colon between login and value")
            position = names.index(stored)

            def replaced(
                new: Sequence[str | None],
                fields: list[str] = fields,
                end: str = end,
                position: int = position,
                mark: str = mark,
            ) -> bytes:
                written = list(fields)
                if new[0] is not None:
                    if ":" in new[0]:
                        message = f"{self.path}: a new value holds a colon, which ends fields here"
                        raise SourceError(message)
                    written[position] = new[0]
                return (mark + ":".join(written) + end).encode(encoding)

            row = _as_row(names, fields)
            yield Record(line=line, raw=raw, rows=(row,), replaced=replaced)


FORMAT = FileFormat(
    recognises=lambda beginning: _is_account_file(beginning.text),
    tables=lambda path: [RecordTable(path, _account_rows)],
    copied=AccountLinesExport,
)
