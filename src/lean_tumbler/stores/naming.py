"""Saying which name was probably meant."""

import difflib
from collections.abc import Sequence

from lean_tumbler.core.policy import RowSource
from lean_tumbler.errors import UsageError


def nearest(name: str, known: Sequence[str]) -> str:
    """Give a hint: the nearest known name, or all of them."""
    near = difflib.get_close_matches(name, known, n=1, cutoff=0.5)
    return f"did you mean “{near[0]}”?" if near else f"it has: {', '.join(known)}"


def require_column(name: str, columns: Sequence[str], place: str) -> None:
    """Refuse a column that a table lacks, naming the nearest.

    Raises:
        UsageError: it is not there.
    """
    if name not in columns:
        raise UsageError(f"{place} has no column “{name}”; {nearest(name, columns)}")


def require_plain(source: RowSource, locator: str) -> None:
    """Refuse what only an SQL database has.

    Raises:
        UsageError: rows are made up of more than one table's own columns.
    """
    if not source.is_plain:
        raise UsageError(
            f"{locator} is not a SQL database; only such a database can have “join”, “only” and "
            "“write_to”"
        )
