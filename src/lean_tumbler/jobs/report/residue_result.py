"""What `residue --format json --output FILE` wrote, read again for a report."""

from pathlib import Path
from typing import Annotated

from lean_tumbler.core.schema import Mismatch, checked
from lean_tumbler.errors import UsageError
from lean_tumbler.reports.documents import DocumentPart
from lean_tumbler.reports.residue import ResidueDocument
from lean_tumbler.stores.file_access import read_text
from lean_tumbler.stores.json_text import load_json

_LONGEST_BYTES = 1 << 26


class ResidueResult(DocumentPart):
    """A search for old values."""

    file: Annotated[str, "the file with its result"]
    result: Annotated[ResidueDocument, "what was found"]


def read_result(path: Path) -> ResidueResult:
    """Read a result.

    Raises:
        UsageError: the file is no such result.
        SourceError: it cannot be read.
    """
    try:
        found = checked(load_json(read_text(path, limit_bytes=_LONGEST_BYTES)), ResidueDocument)
    except (ValueError, Mismatch):
        raise UsageError(f"{path}: not a result of `lean-tumbler residue --format json`") from None
    return ResidueResult(file=str(path), result=found)
