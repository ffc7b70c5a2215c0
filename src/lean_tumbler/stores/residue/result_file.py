"""What `residue --format json --output FILE` wrote, read again for a report."""

from dataclasses import dataclass
from datetime import datetime
from pathlib import Path

from lean_tumbler.core.schema import Mismatch, checked
from lean_tumbler.errors import UsageError
from lean_tumbler.stores.file_access import read_text
from lean_tumbler.stores.json_text import load_json

DOCUMENT = "lean-tumbler/residue/1"
_LONGEST_BYTES = 1 << 26


@dataclass(frozen=True, slots=True, kw_only=True)
class FoundElsewhere:
    """One line of a result: where, how many, how sure, and what can be done."""

    place: str
    values: int
    certainty: str
    remedy: str
    still_held: int = 0
    column: str | None = None


@dataclass(frozen=True, slots=True, kw_only=True)
class ResidueResult:
    """What one search found.

    Attributes:
        path: of the file.
        searched_at: when the search began.
        places: how many were searched.
        values: how many were found in all.
        finds: by place.
        unread: how many places could not be searched.
    """

    path: Path
    searched_at: datetime
    places: int
    values: int
    finds: tuple[FoundElsewhere, ...]
    unread: int


def read_result(path: Path) -> ResidueResult:
    """Read a result.

    Raises:
        UsageError: the file is no such result.
        SourceError: it cannot be read.
    """
    wrong = UsageError(f"{path}: not a result of `lean-tumbler residue --format json`")
    try:
        document = load_json(read_text(path, limit_bytes=_LONGEST_BYTES))
        if document["document"] != DOCUMENT:
            raise wrong
        names = tuple(FoundElsewhere.__dataclass_fields__)
        finds = tuple(
            checked({name: find[name] for name in names}, FoundElsewhere)
            for find in document["finds"]
        )
        return ResidueResult(
            path=path,
            searched_at=datetime.fromisoformat(document["searched_at"]),
            places=int(document["places"]),
            values=int(document["values"]),
            finds=finds,
            unread=len(document["unread"]),
        )
    except (KeyError, TypeError, ValueError, Mismatch):
        raise wrong from None
