"""Files of records that name their own fields, as one table."""

from collections.abc import Callable, Sequence
from contextlib import closing
from functools import cached_property
from itertools import islice
from pathlib import Path

from msgspec import Struct

from lean_tumbler.core.audit.discovery import SAMPLE_ROWS
from lean_tumbler.stores.files.base import (
    Frames,
    Rows,
    Schemaless,
    Unreadable,
    frames_of_rows,
)

RowReader = Callable[[Path, Sequence[str], Unreadable], Rows]


class RecordTable(Struct, Schemaless, frozen=True, dict=True):
    """A file of records that name their own fields, as one table."""

    path: Path
    read: RowReader

    @property
    def name(self) -> str:
        """The file's name."""
        return self.path.name

    @cached_property
    def columns(self) -> tuple[str, ...]:
        """The fields of the first records, in order of appearance."""
        names: dict[str, None] = {}
        with closing(self.read(self.path, (), Unreadable())) as rows:
            for _, row in islice(rows, SAMPLE_ROWS):
                names.update(dict.fromkeys(row))
        return tuple(names)

    def frames(self, wanted: Sequence[str], unreadable: Unreadable) -> Frames:
        """Read the wanted columns as text."""
        return frames_of_rows(self.read(self.path, wanted, unreadable), wanted, unreadable)
