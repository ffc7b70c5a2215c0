"""Lines of `login:value`, as in passwd(5), shadow(5) and the web servers' files."""

from collections.abc import Iterator, Sequence
from dataclasses import dataclass
from functools import cached_property
from pathlib import Path

from lean_tumbler.errors import SourceError
from lean_tumbler.stores.formats.copying import (
    Record,
    bad_record,
    decoded,
    encoding_of_file,
    raw_lines,
    without_end,
)
from lean_tumbler.stores.formats.records import RecordTable, account_fields, account_rows


@dataclass(frozen=True)
class AccountLinesExport:
    """A file of account lines."""

    path: Path
    checked_elsewhere = "a system's or a web server's own logins check"
    numbered_by_line = True

    @cached_property
    def columns(self) -> tuple[str, ...]:
        """The names of the fields."""
        return RecordTable(self.path, account_rows).columns

    def records(self, stored: str) -> Iterator[Record]:
        """Read it from beginning to end."""
        encoding = encoding_of_file(self.path)
        for line, raw in raw_lines(self.path):
            text = decoded(self.path, line, raw, encoding)
            body, end = without_end(text)
            if not body.strip() or body.startswith("#"):
                yield Record(line=line, raw=raw)
                continue
            names, fields = account_fields(body)
            if len(fields) < 2:
                raise bad_record(self.path, line, "no colon between login and value")
            position = names.index(stored)

            def replaced(
                new: Sequence[str | None],
                fields: list[str] = fields,
                end: str = end,
                position: int = position,
            ) -> bytes:
                written = list(fields)
                if new[0] is not None:
                    if ":" in new[0]:
                        message = f"{self.path}: a new value holds a colon, which ends fields here"
                        raise SourceError(message)
                    written[position] = new[0]
                return (":".join(written) + end).encode(encoding)

            row = {name: text or None for name, text in zip(names, fields, strict=True) if name}
            yield Record(line=line, raw=raw, rows=(row,), replaced=replaced)
