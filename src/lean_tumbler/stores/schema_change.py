"""The schema change that a column needs for new values, as statements for a person to review."""

import re
from dataclasses import dataclass

import sqlalchemy as sa

from lean_tumbler.stores.schema import Declared, declared_in_database

ROOMY_CHARACTERS = 255  # a width that holds every value this tool writes today, with room
_TYPE = re.compile(r"(?P<kind>(?:var)?char)\s*\(\d+\)", re.IGNORECASE)
_ONE_LENGTH_BYTE = 255  # InnoDB: beyond it the length takes two bytes, and the table is rebuilt


@dataclass(frozen=True, slots=True, kw_only=True)
class SchemaChange:
    """A change of one column.

    Attributes:
        statements: what to run before layering.
        reverse: what takes it back, once no long value stands there any more.
        locks: what the server locks meanwhile, and for how long.
    """

    statements: tuple[str, ...]
    reverse: tuple[str, ...]
    locks: str


def schema_change(
    engine: sa.Engine, table: str, column: str, *, needed: int
) -> SchemaChange | None:
    """Say what a column needs; None where it has room already.

    Args:
        engine: the database.
        table: the table's name.
        column: the column of stored values.
        needed: the characters of the longest value.
    """
    declared = declared_in_database(engine, table, column)
    if declared.characters is None or declared.characters >= needed:
        return None
    width = max(ROOMY_CHARACTERS, needed)
    if engine.dialect.name == "postgresql":
        return _postgresql(engine, table, column, width)
    return _mysql(engine, table, column, declared, width)


def _postgresql(engine: sa.Engine, table: str, column: str, width: int) -> SchemaChange:
    quote = engine.dialect.identifier_preparer.quote
    query = sa.text(
        "SELECT format_type(atttypid, atttypmod) FROM pg_attribute"
        " WHERE attrelid = CAST(:table AS regclass) AND attname = :column"
    )
    with engine.connect() as connection:
        names = {"table": quote(table), "column": column}
        kind = str(connection.execute(query, names).scalar_one())
    change = f"ALTER TABLE {quote(table)} ALTER COLUMN {quote(column)} TYPE"
    widens = kind.startswith("character varying")
    locks = (
        "ACCESS EXCLUSIVE for a moment: a wider varchar changes the catalogue alone "
        "(PostgreSQL's manual, ALTER TABLE, notes). Set lock_timeout, so that it does not queue."
        if widens
        else "ACCESS EXCLUSIVE while the whole table is written anew: char(n) pads its values."
    )
    return SchemaChange(
        statements=("SET lock_timeout = '5s';", f"{change} varchar({width});"),
        reverse=(f"{change} {kind};",),
        locks=locks,
    )


def _mysql(
    engine: sa.Engine, table: str, column: str, declared: Declared, width: int
) -> SchemaChange:
    quote = engine.dialect.identifier_preparer.quote
    with engine.connect() as connection:
        created = connection.execute(sa.text(f"SHOW CREATE TABLE {quote(table)}")).one()[1]
        bytes_each = connection.execute(
            sa.text(
                "SELECT s.maxlen FROM information_schema.columns c"
                " JOIN information_schema.character_sets s"
                " ON s.character_set_name = c.character_set_name"
                " WHERE c.table_schema = DATABASE() AND c.table_name = :table"
                " AND c.column_name = :column"
            ),
            {"table": table, "column": column},
        ).scalar()
    lines = (line.strip().rstrip(",") for line in str(created).splitlines())
    old = next(line for line in lines if line.startswith(f"`{column.replace('`', '``')}` "))
    new = _TYPE.sub(f"varchar({width})", old, count=1)
    in_place = "varchar" in old.lower() and (
        ((declared.characters or 0) * int(bytes_each or 1) > _ONE_LENGTH_BYTE)
        == (width * int(bytes_each or 1) > _ONE_LENGTH_BYTE)
    )
    change = f"ALTER TABLE {quote(table)} MODIFY COLUMN"
    algorithm = "ALGORITHM=INPLACE, LOCK=NONE" if in_place else "ALGORITHM=COPY, LOCK=SHARED"
    locks = (
        "none: the column is widened in place, while others read and write."
        if in_place
        else "SHARED while the table is copied: others read, but do not write. Logins that upgrade "
        "are deferred meanwhile."
    )
    return SchemaChange(
        statements=(f"{change} {new}, {algorithm};",),
        reverse=(f"{change} {old}, ALGORITHM=COPY, LOCK=SHARED;",),
        locks=locks,
    )
