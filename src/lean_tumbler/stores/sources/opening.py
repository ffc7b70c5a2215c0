"""From a locator to the tables that stand there."""

from pathlib import Path

from lean_tumbler.stores.directories import is_directory_url
from lean_tumbler.stores.locators import SQLITE, is_url, open_engine
from lean_tumbler.stores.sources.base import Table
from lean_tumbler.stores.sources.database import tables_of_database
from lean_tumbler.stores.sources.directory import tables_of_directory
from lean_tumbler.stores.sources.kinds import tables_of_file
from lean_tumbler.stores.sql import is_sqlite


def tables_at(locator: str, *, base: Path) -> tuple[str, list[Table]]:
    """Find the tables at a locator.

    Args:
        locator: a path or a URL.
        base: the folder that a relative path starts from.

    Returns:
        What messages call the source, and its tables.

    Raises:
        UsageError: a locator of a kind that is not read.
        SourceError: it cannot be read.
    """
    if is_directory_url(locator):
        name, directory = tables_of_directory(locator)
        return name, list(directory)
    path = base / locator.removeprefix(SQLITE)
    if is_url(locator) or is_sqlite(path):
        engine, name = open_engine(locator, base=base)
        return name, list(tables_of_database(engine, name))
    return locator, tables_of_file(path)
