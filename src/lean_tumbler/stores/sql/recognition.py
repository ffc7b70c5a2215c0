"""What is a SQL database: told by a locator, or a file's first bytes, before any is opened."""

from pathlib import Path

SQLITE = "sqlite:///"
SQLITE_HEADER = b"SQLite format 3\x00"  # sqlite.org/fileformat.html section 1.3


def is_url(locator: str) -> bool:
    """Tell a URL from a path."""
    return "://" in locator


def is_sqlite(path: Path) -> bool:
    """Tell an SQLite file by its first bytes; a file that cannot be read is none."""
    try:
        with path.open("rb") as file:
            return file.read(len(SQLITE_HEADER)) == SQLITE_HEADER
    except OSError:
        return False


def is_database(locator: str, *, base: Path) -> bool:
    """Tell a database from a file of records; a relative path starts from `base`."""
    return is_url(locator) or is_sqlite(base / locator)
