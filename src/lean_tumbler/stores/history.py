"""The history of a migration: one line of JSON for each time that progress was counted."""

from collections.abc import Sequence
from datetime import datetime
from pathlib import Path
from typing import Final, Literal

from msgspec import Struct, field, json

from lean_tumbler.core.schema import checked
from lean_tumbler.stores.file_access import read_text, write_text
from lean_tumbler.stores.json_text import load_json

DOCUMENT: Final = "lean-tumbler/progress-history/1"
_LIMIT_BYTES = 1 << 28


class StoreCount(Struct, frozen=True, kw_only=True):
    """What was counted of a store, and forecast."""

    table: str  # its table
    rows: int  # of the table
    grades: dict[str, int]  # rows by grade
    below_floor: int  # rows that are weak
    layered: int  # rows that wait for a login
    # accounts by what a check of their values needs
    needed: dict[str, int] = field(default_factory=dict)
    # days from then -> the lower end, the expected number and the upper end of those that still
    # wait
    forecast: dict[int, tuple[float | None, float, float | None]] | None = None

    @property
    def waiting(self) -> int:
        """How many are still to be upgraded."""
        return self.below_floor + self.layered


class Entry(Struct, frozen=True, kw_only=True):
    """One count."""

    document: Literal["lean-tumbler/progress-history/1"] = DOCUMENT
    taken_at: datetime  # when
    stores: dict[str, StoreCount]  # by the policy's name, what was counted and forecast then


class History(Struct, frozen=True, kw_only=True):
    """All counts, oldest first, and what could not be read."""

    entries: Sequence[Entry]
    notes: Sequence[str]


def read_history(path: Path | None) -> History:
    """Read a history; without a file, or where it is not there yet, it has no entries.

    A line that cannot be read, as a full disk leaves one at the end, is named and left out.

    Raises:
        SourceError: the file cannot be read.
    """
    if path is None or not path.exists():
        return History(entries=(), notes=())
    entries, notes = [], []
    for number, line in enumerate(read_text(path, limit_bytes=_LIMIT_BYTES).split("\n"), start=1):
        if not line.strip():
            continue
        entry = _entry(line)
        if entry is None:
            notes.append(f"{path}: line {number:,} cannot be read and is left out")
        else:
            entries.append(entry)
    return History(entries=sorted(entries, key=lambda entry: entry.taken_at), notes=notes)


def _entry(line: str) -> Entry | None:
    try:
        return checked(load_json(line), Entry)
    except ValueError:
        return None


def append_history(path: Path, entry: Entry) -> None:
    """Add a line; what stands there stays as it is, and the file is replaced in one step.

    Raises:
        SourceError: it cannot be read or written.
    """
    before = read_text(path, limit_bytes=_LIMIT_BYTES) if path.exists() else ""
    if before and not before.endswith("\n"):
        before += "\n"
    write_text(path, before + json.encode(entry).decode("utf-8") + "\n", mode=None)
