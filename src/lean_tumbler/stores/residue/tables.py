"""Searching tables column by column: databases, directories, and files that hold tables."""

from collections.abc import Callable, Sequence
from pathlib import Path

import polars as pl
import sqlalchemy as sa
from msgspec import Struct

from lean_tumbler.core.audit.discovery import names_digests, names_passwords, roles_beside
from lean_tumbler.core.policy import APPLICATION, Columns, StoragePolicy
from lean_tumbler.core.reading.rows import bytes_of
from lean_tumbler.core.residue.finds import Recognition
from lean_tumbler.core.residue.known_values import KnownValues
from lean_tumbler.core.residue.searching import finds_in
from lean_tumbler.errors import SourceError, TumblerError
from lean_tumbler.stores.files.base import Table, Unreadable
from lean_tumbler.stores.files.kinds import tables_of_file
from lean_tumbler.stores.kinds import tables_at
from lean_tumbler.stores.residue.columns import ColumnSearch
from lean_tumbler.stores.residue.piecewise import Residue
from lean_tumbler.stores.residue.places import SearchedPlace, Unread
from lean_tumbler.stores.scans.profiling import is_privileged, policy_table
from lean_tumbler.stores.sql.database import Database
from lean_tumbler.stores.sql.tables import DatabaseTable


class OwnPlaces(Struct, frozen=True):
    """Where what stores hold now belongs; a copy of it anywhere else is a find."""

    columns: frozenset[tuple[str, str, str]] = frozenset()  # place, table and column
    folders: tuple[str, ...] = ()  # of the servers' own files


def search_source(
    locator: str,  # a path or a URL
    *,
    base: Path,  # the folder that a relative path starts from
    known: KnownValues,  # values to look for
    own: OwnPlaces,  # where what stores hold belongs
    residue: Residue,  # takes the finds
    progress: Callable[[int], None],  # told the number of rows after each frame
    keeps_marks: bool = False,  # whether what is returned is wanted
) -> set[bytes]:
    """Search every table of a database or directory, and what a database keeps as text beside.

    Returns:
        Fingerprints of all values that stand in some row.

    Raises:
        SourceError: it cannot be read.
    """
    name, tables = tables_at(locator, base=base)
    columns = ColumnSearch(known, keeps_marks=keeps_marks)
    of = place_of(name, tables)
    here = {(table, column) for place, table, column in own.columns if place == of}
    search = _TableSearch(SearchedPlace(name), known, here, residue, progress, columns)
    for table in tables:
        try:
            search.add(table)
        except SourceError as error:
            residue.unread.append(search.unread(table.name, str(error)))
    databases = [table.database for table in tables if isinstance(table, DatabaseTable)]
    if databases:
        search.add_definitions(databases[0])
    return columns.held


def place_of(name: str, tables: Sequence[Table]) -> str:
    """Give what tells a source from a copy of it: of a database more than what it is called by."""
    databases = (table.database for table in tables if isinstance(table, DatabaseTable))
    database = next(databases, None)
    return name if database is None else database.place()


class _TableSearch:
    """Searches the tables of one place."""

    def __init__(
        self,
        place: SearchedPlace,
        known: KnownValues,
        own: set[tuple[str, str]],
        residue: Residue,
        progress: Callable[[int], None],
        columns: ColumnSearch,
    ) -> None:
        self._place, self._known, self._own = place, known, own
        self._residue, self._progress, self._columns = residue, progress, columns

    def unread(self, table: str, reason: str) -> Unread:
        """Name a table that could not be searched."""
        return Unread(SearchedPlace(self._place.path, (table,)), reason)

    def add(self, table: Table) -> None:
        """Search one table."""
        named = _named_columns(table.columns)
        for frame in table.frames(table.columns, Unreadable()):
            for column in table.columns:
                self._add_column(table.name, column, frame, is_named=column in named)
            self._progress(frame.height)

    def _add_column(self, table: str, column: str, frame: pl.DataFrame, *, is_named: bool) -> None:
        is_own = (table, column) in self._own
        for alike in self._columns.values(frame, column, is_named=is_named):
            if not is_own:
                self._residue.add(
                    self._place,
                    alike.find,
                    self._known,
                    count=alike.count,
                    first=f"row {alike.line:,}",
                    column=f"{table}.{column}",
                    is_of_database=True,
                )
        self._residue.bytes += int(frame[column].str.len_bytes().sum())

    def add_definitions(self, database: Database) -> None:
        """Search what a database keeps as text: definitions of views, triggers and routines."""
        if not database.server.definitions:
            return
        with database.connect() as connection:
            rows = connection.execute(
                sa.text(database.server.definitions.replace(":", "\\:"))
            ).all()
        for name, text in rows:
            for find in finds_in(str(text).encode("utf-8"), self._known):
                self._residue.add(
                    self._place, find, self._known, first="", column=str(name), is_of_database=True
                )


def _named_columns(names: Sequence[str]) -> set[str]:
    """Name the columns whose bare digests are taken for passwords'."""
    has_login = roles_beside(tuple(names), Columns()).login is not None
    return {n for n in names if names_passwords(n) and (has_login or not names_digests(n))}


def search_file_tables(path: Path, known: KnownValues, residue: Residue) -> set[bytes]:
    """Search the columns for passwords of a file that holds tables, for bare digests alone.

    What says itself what it is, and what is known, is found among the file's bytes.

    Returns:
        Fingerprints of what was found.
    """
    search = ColumnSearch(known, keeps_marks=True)
    try:
        tables = tables_of_file(path)
    except TumblerError:
        return search.held  # of no kind that holds tables
    for table in tables:
        for column in sorted(_named_columns(table.columns)):
            for frame in table.frames([column], Unreadable()):
                for alike in search.bare(frame, column):
                    if alike.find.certainty is Recognition.NAMED:
                        residue.add(
                            SearchedPlace(str(path)), alike.find, known, count=alike.count,
                            first=f"line {alike.line:,}", column=f"{table.name}.{column}",
                        )  # fmt: skip
    return search.held


def add_live_values(known: KnownValues, policy: StoragePolicy, *, base: Path) -> OwnPlaces:
    """Add what the policy's stores hold now; give the columns in which that belongs.

    Raises:
        SourceError: a store cannot be read.
    """
    own: set[tuple[str, str, str]] = set()
    folders: set[str] = set()
    for name, store in policy.stores.items():
        if store.locator == APPLICATION:
            continue
        table = policy_table(store, base=base)
        stored, columns = store.columns.stored or "", store.columns
        wanted = [stored, *filter(None, (columns.privileged,))]
        written = store.source.write_to
        place = place_of(store.locator, [table])
        held_in = (stored, written.column if written else stored)
        own |= {(place, table.name, column) for column in held_in}
        if isinstance(table, DatabaseTable):
            folders.add(table.database.data_folder())
        for frame in table.frames(list(dict.fromkeys(wanted)), Unreadable()):
            text = pl.col(columns.privileged) if columns.privileged else pl.lit(None, pl.String)
            rows = frame.select(stored=pl.col(stored), is_privileged=is_privileged(text, columns))
            for (privileged,), part in rows.drop_nulls("stored").group_by("is_privileged"):
                values = map(bytes_of, part["stored"].to_list())
                known.add(values, name, live=True, privileged=bool(privileged))
    return OwnPlaces(frozenset(own), tuple(filter(None, folders)))
