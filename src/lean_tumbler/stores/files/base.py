"""Tables as frames of text, and the rows that could not be read."""

import re
from collections.abc import Callable, Generator, Iterable, Mapping, Sequence
from contextlib import closing
from typing import TYPE_CHECKING, Protocol, runtime_checkable

import polars as pl
from msgspec import Struct, field

from lean_tumbler.core.reading.conditions import Condition
from lean_tumbler.core.records import Hidden, MaskedRecord
from lean_tumbler.stores.definitions import Declared

if TYPE_CHECKING:
    from pathlib import Path

    from lean_tumbler.stores.files.copying import Export

LINE = "#line"  # beside the wanted columns, where each row stood; no real column begins with #
ROWS_PER_FRAME = 100_000
ROWS_LISTED = 20
VALUE_CHARACTERS = 131_072  # a longer value is no credential; Python's csv stops there too
_ODD_CHARACTERS = re.compile("[\x00-\x08\ufffd]")  # in no text, or not decoded

Row = tuple[int, Mapping[str, str | None]]
Rows = Generator[Row, None, None]
Frames = Generator[pl.DataFrame, None, None]


class Unreadable(Struct):
    """Rows that were not read: counted all, and the first of them listed by line and reason."""

    rows: int = 0
    listed: list[tuple[int, str]] = field(default_factory=list)
    cut_off: bool = False

    def add(self, line: int, reason: str) -> None:
        """Count one row."""
        self.rows += 1
        if len(self.listed) < ROWS_LISTED:
            self.listed.append((line, reason))

    def take_in(self, other: "Unreadable") -> None:
        """Count what another look at the same source found, in the order of lines."""
        self.rows += other.rows
        self.listed = sorted([*self.listed, *other.listed])[:ROWS_LISTED]
        self.cut_off |= other.cut_off


class Table(Protocol):
    """One table of a source."""

    @property
    def name(self) -> str:
        """Its name; for a file with one table, the file's."""

    @property
    def columns(self) -> tuple[str, ...]:
        """The names of its columns; nested fields with dots."""

    @property
    def keys(self) -> tuple[str, ...]:
        """The columns that the schema says name a row alone; files have none."""

    @property
    def row_key(self) -> tuple[str, ...]:
        """The columns that together name a row; files have none."""

    def declared(self, column: str) -> Declared:
        """Say what the schema declares of a column; files have none."""

    def frames(self, wanted: Sequence[str], unreadable: Unreadable) -> Frames:
        """Read the wanted columns as text, and LINE; null where there is no value.

        Who does not read to the end closes it, so that a connection is let go of at once.
        """


@runtime_checkable
class Selective(Protocol):
    """A table of which some rows alone can be read."""

    @property
    def only_rows(self) -> str:
        """Which rows are read, as a condition; empty for all."""

    def only(self, condition: Condition) -> Table:
        """Give the rows alone of which a condition holds."""


class Beginning(MaskedRecord, Struct, frozen=True):
    """The first bytes of a file, and the text that they are in its encoding."""

    raw: Hidden[bytes]
    text: Hidden[str]

    @property
    def looks_binary(self) -> bool:
        """Whether it is hardly text."""
        text = self.text[:4096]
        return len(_ODD_CHARACTERS.findall(text)) > len(text) / 20


class FileFormat(Struct, frozen=True, kw_only=True):
    """One format of files."""

    recognises: Callable[[Beginning], bool]  # whether a file is of it, by its beginning
    tables: "Callable[[Path], list[Table]]"  # gives the tables of a file
    # takes a file apart, so that a copy of it can be written; None where none is
    copied: "Callable[[Path], Export] | None" = None


class Schemaless:
    """What files have in common."""

    @property
    def keys(self) -> tuple[str, ...]:
        """Name no keys."""
        return ()

    @property
    def row_key(self) -> tuple[str, ...]:
        """Name none."""
        return ()

    def declared(self, _: str) -> Declared:
        """Declare nothing."""
        return Declared()


def frames_of_rows(rows: Rows, wanted: Sequence[str], unreadable: Unreadable) -> Frames:
    """Gather rows into frames; a row with an endless value is counted as unreadable."""
    with closing(rows):
        yield from _gathered(rows, wanted, unreadable)


def _gathered(rows: Iterable[Row], wanted: Sequence[str], unreadable: Unreadable) -> Frames:
    columns: dict[str, list[str | None]] = {name: [] for name in wanted}
    lines: list[int] = []
    for line, row in rows:
        values = [row.get(name) for name in wanted]
        if any(value is not None and len(value) > VALUE_CHARACTERS for value in values):
            unreadable.add(line, f"a value of more than {VALUE_CHARACTERS:,} characters")
            continue
        lines.append(line)
        for name, value in zip(wanted, values, strict=True):
            columns[name].append(value)
        if len(lines) == ROWS_PER_FRAME:
            yield _frame(columns, lines)
            columns, lines = {name: [] for name in wanted}, []
    if lines:
        yield _frame(columns, lines)


def _frame(columns: Mapping[str, list[str | None]], lines: list[int]) -> pl.DataFrame:
    return pl.DataFrame(
        {
            LINE: pl.Series(lines, dtype=pl.Int64),
            **{name: pl.Series(values, dtype=pl.String) for name, values in columns.items()},
        }
    )


def entry_rows(line: int, entry: Mapping[str, Sequence[str]]) -> Rows:
    """Give a directory entry as rows: one for each value of userPassword."""
    if not entry:
        return
    single = {name: values[0] for name, values in entry.items()}
    passwords = next((name for name in entry if name.lower() == "userpassword"), next(iter(entry)))
    for value in entry[passwords]:
        yield line, {**single, passwords: value}
