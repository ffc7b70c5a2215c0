"""From the column of stored values to the one that takes its place: how far, and what to run."""

import sqlalchemy as sa
from msgspec import Struct

from lean_tumbler.errors import UsageError
from lean_tumbler.stores.sql.database import Database
from lean_tumbler.stores.sql.relation import Relation


class ColumnMove(Struct, frozen=True, kw_only=True):
    """How far values have moved from one column to another."""

    left_behind: str  # the column that they leave
    column: str  # the one that they go to
    is_there: bool  # whether the table has it
    moved: int  # rows whose value stands in the new column
    waiting: int  # rows whose value stands in the old one alone
    doubled: int  # of those that moved, rows where the old column still holds a value too
    add: str  # the statement that adds the new column
    drop_added: str  # what takes it back
    drop: str  # the statement that drops the old column, in the end
    locks: str  # what these lock


def column_move(database: Database, relation: Relation, *, characters: int) -> ColumnMove | None:
    """Say how far a store's values have moved; None where they stay in one column.

    Args:
        database: where it is.
        relation: its rows.
        characters: how wide a new column is to be.

    Raises:
        SourceError: the rows cannot be counted.
    """
    write_to = relation.source.write_to
    if write_to is None:
        return None
    moved, waiting, doubled = _counts(database, relation)
    table = f"ALTER TABLE {database.quoted(relation.name)}"
    column, left_behind = database.quoted(write_to.column), database.quoted(relation.stored)
    return ColumnMove(
        left_behind=relation.stored,
        column=write_to.column,
        is_there=relation.is_moving,
        moved=moved,
        waiting=waiting,
        doubled=doubled,
        add=f"{table} ADD COLUMN {column} varchar({characters});",
        drop_added=f"{table} DROP COLUMN {column};",
        drop=f"{table} DROP COLUMN {left_behind};",
        locks=database.server.column_locks,
    )


def _counts(database: Database, relation: Relation) -> tuple[int, int, int]:
    """Count rows: with a value in the new column, in the old one alone, and in both."""
    try:
        is_moved = relation.is_moved
    except UsageError:  # the new column is not there yet
        is_moved = sa.false()
    has_old = sa.func.coalesce(sa.func.length(relation.raw_alone(relation.stored)), 0) > 0
    parts = (is_moved, sa.and_(has_old, sa.not_(is_moved)), sa.and_(has_old, is_moved))
    query = relation.select(*(sa.func.sum(sa.case((part, 1), else_=0)) for part in parts))
    with database.connect() as connection:
        moved, waiting, doubled = connection.execute(query).one()
    return int(moved or 0), int(waiting or 0), int(doubled or 0)
