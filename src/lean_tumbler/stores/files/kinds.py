"""What kind of file is this? Told by its content; a new format is a module and its name here."""

from importlib import import_module
from pathlib import Path

from lean_tumbler.errors import SourceError, UsageError
from lean_tumbler.stores.file_access import file_errors
from lean_tumbler.stores.files.base import Beginning, FileFormat, Table
from lean_tumbler.stores.files.copying import Export
from lean_tumbler.stores.files.streams import encoding_of, is_plain, sample

# In this order they are asked.
_MODULES = (
    "parquet",
    "json_members",
    "json_documents",
    "json_lines",
    "ldif",
    "sql_dump.dump",
    "account_lines",
    "delimited.format",
)
FORMATS: tuple[FileFormat, ...] = tuple(
    import_module(f"{__package__}.{name}").FORMAT for name in _MODULES
)


def tables_of_file(path: Path) -> list[Table]:
    """Find the tables of a file.

    Raises:
        SourceError: it cannot be read, or is of no kind that is known.
    """
    return _format_of(path).tables(path)


def open_export(path: Path) -> Export:
    """Open a file of which a copy is to be written.

    Raises:
        SourceError: it cannot be read.
        UsageError: it is of a kind that is read, but not written.
    """
    found = _format_of(path)
    with file_errors(path), path.open("rb") as file:
        plain = is_plain(file.read(8))
    if not plain:
        raise UsageError(f"{path}: compressed, or UTF-16; make a plain UTF-8 file of it first")
    if found.copied is None:
        raise UsageError(
            f"{path}: copies are written of CSV and its relatives, JSON Lines, LDIF and account "
            "files; bring this one into a database, or into one of these forms"
        )
    return found.copied(path)


def _format_of(path: Path) -> FileFormat:
    raw = sample(path)
    if not raw.strip():
        raise SourceError(f"{path}: holds no data")
    text = raw.decode(encoding_of(raw), "replace").removeprefix("\ufeff")
    beginning = Beginning(raw, text)
    found = next((each for each in FORMATS if each.recognises(beginning)), None)
    if found is None:
        raise SourceError(f"{path}: neither a database nor text of a kind that is read")
    return found
