"""The history of a migration beside the policy: begun before the first change, then added to."""

from pathlib import Path
from typing import TYPE_CHECKING

from lean_tumbler.cli.option_types import CountOptions, PolicyOptions
from lean_tumbler.cli.options import policy_path
from lean_tumbler.cli.session import Session
from lean_tumbler.errors import SourceError

if TYPE_CHECKING:
    from collections.abc import Callable

    from lean_tumbler.stores.history import StoreCount


def history_path(options: PolicyOptions) -> Path:
    """Name the file of the history: the one that is named, or the one beside the policy."""
    named = options.history if isinstance(options, CountOptions) else None
    return named or policy_path(options).with_suffix(".history.jsonl")


def begin_history(
    options: PolicyOptions, session: Session, store: str, count: "Callable[[], StoreCount]"
) -> None:
    """Count a store that the history does not know yet, so that a report begins before changes.

    The command that does so has another purpose: where nothing can be written, it says so alone.
    """
    from lean_tumbler.stores.history import read_history

    path = history_path(options)
    try:
        if all(store not in entry.stores for entry in read_history(path).entries):
            add_to_history(path, session, {store: count()})
    except SourceError as error:
        session.message(f"{error}; `progress` begins the history later")


def add_to_history(path: Path, session: Session, stores: "dict[str, StoreCount]") -> None:
    """Add what was counted now."""
    from datetime import UTC

    from lean_tumbler.stores.history import Entry, append_history

    append_history(path, Entry(taken_at=session.clock().astimezone(UTC), stores=stores))
