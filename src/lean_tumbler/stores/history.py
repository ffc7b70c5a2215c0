"""The history of a migration: one line of JSON for each time that progress was counted."""

import json
from collections.abc import Mapping, Sequence
from dataclasses import dataclass
from datetime import UTC, datetime
from pathlib import Path
from typing import Any

from lean_tumbler.stores.file_access import read_text, write_text
from lean_tumbler.stores.json_text import load_json

DOCUMENT = "lean-tumbler/progress-history/1"
_LIMIT_BYTES = 1 << 28


@dataclass(frozen=True, slots=True, kw_only=True)
class Entry:
    """One count.

    Attributes:
        taken_at: when.
        stores: by the policy's name, what was counted and forecast then.
    """

    taken_at: datetime
    stores: Mapping[str, Mapping[str, Any]]


@dataclass(frozen=True, slots=True, kw_only=True)
class History:
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
        document = load_json(line)
        if document["document"] != DOCUMENT:
            return None
        taken_at = datetime.fromisoformat(document["taken_at"]).astimezone(UTC)
        stores = {str(name): _checked(store) for name, store in document["stores"].items()}
    except (ValueError, TypeError, KeyError, AttributeError):
        return None
    return Entry(taken_at=taken_at, stores=stores)


def _checked(store: Mapping[str, Any]) -> dict[str, Any]:
    """Give a store's count; it raises what Python raises where something is of another kind."""
    forecast = store.get("forecast") or {}
    return {
        **store,
        "grades": _counts(store["grades"]),
        "below_floor": int(store["below_floor"]),
        "layered": int(store["layered"]),
        "needed": _counts(store.get("needed") or {}),
        "forecast": {int(day): tuple(map(float, interval)) for day, interval in forecast.items()},
    }


def _counts(counts: Mapping[str, Any]) -> dict[str, int]:
    return {str(name): int(rows) for name, rows in counts.items()}


def append_history(path: Path, entry: Entry) -> None:
    """Add a line; what stands there stays as it is, and the file is replaced in one step.

    Raises:
        SourceError: it cannot be read or written.
    """
    before = read_text(path, limit_bytes=_LIMIT_BYTES) if path.exists() else ""
    if before and not before.endswith("\n"):
        before += "\n"
    document = {
        "document": DOCUMENT,
        "taken_at": entry.taken_at.isoformat(timespec="seconds"),
        "stores": entry.stores,
    }
    write_text(path, before + json.dumps(document, ensure_ascii=False) + "\n", mode=None)
