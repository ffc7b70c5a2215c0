"""From a locator to the tables that stand there."""

from pathlib import Path

from lean_tumbler.core.policy import PLAIN_ROWS, RowSource
from lean_tumbler.stores.directory.connection import is_directory_url
from lean_tumbler.stores.directory.tables import tables_of_directory
from lean_tumbler.stores.files.base import Table
from lean_tumbler.stores.files.kinds import tables_of_file
from lean_tumbler.stores.naming import require_plain
from lean_tumbler.stores.sql.recognition import is_database


def tables_at(
    locator: str, *, base: Path, table: str = "", source: RowSource = PLAIN_ROWS, stored: str = ""
) -> tuple[str, list[Table]]:
    """Find the tables at a locator.

    Args:
        locator: a path or a URL.
        base: the folder that a relative path starts from.
        table: the one that is wanted, where it is known: of a database, no other is looked at.
        source: what makes up a row of that table.
        stored: the column that `source.write_to` takes the place of.

    Returns:
        What messages call the source, and its tables.

    Raises:
        UsageError: a locator of a kind that is not read, or that has no such rows.
        SourceError: it cannot be read.
    """
    if is_directory_url(locator):
        require_plain(source, locator)
        name, directory = tables_of_directory(locator)
        return name, list(directory)
    if is_database(locator, base=base):
        # Files do without what servers are reached by, which takes long to import.
        from lean_tumbler.stores.sql.opening import open_database  # noqa: PLC0415
        from lean_tumbler.stores.sql.tables import tables_of_database  # noqa: PLC0415

        database = open_database(locator, base=base)
        return database.locator, list(
            tables_of_database(database, table, source=source, stored=stored)
        )
    require_plain(source, locator)
    return locator, tables_of_file(base / locator)
