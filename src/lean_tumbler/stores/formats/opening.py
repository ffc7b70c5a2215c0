"""From a path to the kind of export that stands there."""

from pathlib import Path

from lean_tumbler.errors import UsageError
from lean_tumbler.stores.files import file_errors
from lean_tumbler.stores.formats.account_lines import AccountLinesExport
from lean_tumbler.stores.formats.copying import Export
from lean_tumbler.stores.formats.delimited.copying import DelimitedExport
from lean_tumbler.stores.formats.delimited.table import DelimitedTable
from lean_tumbler.stores.formats.json_lines import JsonExport
from lean_tumbler.stores.formats.kinds import tables_of_file
from lean_tumbler.stores.formats.ldif import LdifExport
from lean_tumbler.stores.formats.records import RecordTable, account_rows, json_rows, ldif_rows
from lean_tumbler.stores.formats.streams import is_plain


def open_export(path: Path) -> Export:
    """Find out what kind of file it is.

    Raises:
        SourceError: it cannot be read.
        UsageError: it is of a kind that is read, but not written.
    """
    table = tables_of_file(path)[0]
    with file_errors(path), path.open("rb") as file:
        plain = is_plain(file.read(8))
    if not plain:
        raise UsageError(f"{path}: compressed, or UTF-16; make a plain UTF-8 file of it first")
    if isinstance(table, DelimitedTable):
        return DelimitedExport(path)
    if isinstance(table, RecordTable):
        if table.read is json_rows:
            return JsonExport(path)
        if table.read is account_rows:
            return AccountLinesExport(path)
        if table.read is ldif_rows:
            return LdifExport(path)
    raise UsageError(
        f"{path}: copies are written of CSV and its relatives, JSON Lines, LDIF and account "
        "files; bring this one into a database, or into one of these forms"
    )
