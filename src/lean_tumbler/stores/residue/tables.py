"""Searching tables column by column: databases, directories, and files that hold tables."""

import re
from collections.abc import Callable, Iterator, Sequence
from functools import cache
from pathlib import Path

import polars as pl
import sqlalchemy as sa

from lean_tumbler.core.audit.discovery import names_digests, names_passwords, roles_beside
from lean_tumbler.core.policy import APPLICATION, Columns, StoragePolicy
from lean_tumbler.core.reading.rows import bytes_of
from lean_tumbler.core.residue.finds import Encoding, Find, Recognition
from lean_tumbler.core.residue.known_values import KnownValues
from lean_tumbler.core.residue.searching import finds_in
from lean_tumbler.core.schemes.base import Kind
from lean_tumbler.core.schemes.catalogue import read_value
from lean_tumbler.errors import SourceError, TumblerError
from lean_tumbler.stores.files.base import LINE, Table, Unreadable
from lean_tumbler.stores.files.kinds import tables_of_file
from lean_tumbler.stores.residue.places import SearchedPlace, Unread
from lean_tumbler.stores.residue.searching import Residue
from lean_tumbler.stores.scans.profiling import is_privileged, policy_table
from lean_tumbler.stores.sources import tables_at
from lean_tumbler.stores.sql.database import Database
from lean_tumbler.stores.sql.tables import DatabaseTable

_SHORTEST = 8  # characters of a value that is looked into
_HEX = re.compile(r"[0-9a-f]+|[0-9A-F]+")
_USUAL_LENGTHS = frozenset({32, 40, 64, 128})  # of MD5, SHA-1, SHA-256 and SHA-512 in digits
_DIGESTS = frozenset({Kind.FAST, Kind.ITERATED, Kind.DERIVATION, Kind.LAYERED})
OwnColumns = frozenset[tuple[str, str]]


def search_source(
    locator: str,
    *,
    base: Path,
    known: KnownValues,
    own: OwnColumns,
    residue: Residue,
    progress: Callable[[int], None],
) -> set[bytes]:
    """Search every table of a database or directory, and what a database keeps as text beside.

    Args:
        locator: a path or a URL.
        base: the folder that a relative path starts from.
        known: values to look for.
        own: table and column of stores: what they hold belongs there.
        residue: takes the finds.
        progress: told the number of rows after each frame.

    Returns:
        Fingerprints of all values that stand in some row.

    Raises:
        SourceError: it cannot be read.
    """
    name, tables = tables_at(locator, base=base)
    search = _TableSearch(SearchedPlace(name), known, own, residue, progress)
    for table in tables:
        try:
            search.add(table)
        except SourceError as error:
            residue.unread.append(search.unread(table.name, str(error)))
    databases = [table.database for table in tables if isinstance(table, DatabaseTable)]
    if databases:
        search.add_definitions(databases[0])
    return search.held


class _TableSearch:
    """Searches the tables of one place."""

    def __init__(
        self,
        place: SearchedPlace,
        known: KnownValues,
        own: OwnColumns,
        residue: Residue,
        progress: Callable[[int], None],
    ) -> None:
        self._place, self._known, self._own = place, known, own
        self._residue, self._progress = residue, progress
        self.held: set[bytes] = set()

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
        rows = frame.select(LINE, pl.col(column).alias("text")).filter(
            pl.col("text").str.len_bytes() >= _SHORTEST
        )
        lines, texts = rows[LINE].to_list(), rows["text"].to_list()
        is_own = (table, column) in self._own
        for line, find in self._finds(lines, texts, is_named=is_named):
            self.held.add(find.fingerprint)
            if not is_own:
                self._residue.add(
                    self._place,
                    find,
                    self._known,
                    first=f"row {line:,}",
                    column=f"{table}.{column}",
                    is_of_database=True,
                )
        self._residue.bytes += sum(map(len, texts))

    def _finds(
        self, lines: Sequence[int], texts: Sequence[str], *, is_named: bool
    ) -> Iterator[tuple[int, Find]]:
        whole = "\n".join(texts).encode("utf-8", "surrogateescape")
        found: set[int] = set()
        number, end = -1, -1
        for find in finds_in(whole, self._known):
            while find.offset > end:
                number += 1
                end += 1 + len(texts[number].encode("utf-8", "surrogateescape"))
            found.add(number)
            yield lines[number], find
        for place, text in enumerate(texts if is_named else ()):
            if place not in found and (bare := bare_digest(text, self._known)):
                yield lines[place], bare

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


def _scheme_of(text: str) -> str:
    """Read a digest; empty where it is none."""
    parsed = read_value(text)
    is_digest = parsed.kind in _DIGESTS and parsed.contents.password is None
    return parsed.scheme if is_digest else ""


@cache
def _scheme_of_digits(length: int) -> str:
    """Read hexadecimal digits that hold no text: those of one length are read alike."""
    return _scheme_of("9f" * (length // 2))


def _is_opaque(text: str) -> bool:
    """Tell the hexadecimal digits of a usual digest, of bytes that are no text."""
    if len(text) not in _USUAL_LENGTHS or not _HEX.fullmatch(text):
        return False
    return not bytes.fromhex(text).isascii()


def bare_digest(text: str, known: KnownValues) -> Find | None:
    """Read the digest that is a whole value of a column for passwords."""
    scheme = _scheme_of_digits(len(text)) if _is_opaque(text) else _scheme_of(text)
    if not scheme:
        return None
    return Find(
        offset=0,
        certainty=Recognition.NAMED,
        scheme=scheme,
        encoding=Encoding.PLAIN,
        fingerprint=known.mark(text.encode("utf-8", "surrogateescape")),
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
    found: set[bytes] = set()
    try:
        tables = tables_of_file(path)
    except TumblerError:
        return found  # of no kind that holds tables
    for table in tables:
        for column in sorted(_named_columns(table.columns)):
            for frame in table.frames([column], Unreadable()):
                for line, text in zip(frame[LINE], frame[column], strict=True):
                    find = bare_digest(text, known) if text and len(text) >= _SHORTEST else None
                    if find is not None and find.fingerprint not in known.stores:
                        found.add(find.fingerprint)
                        residue.add(
                            SearchedPlace(str(path)), find, known, first=f"line {line:,}",
                            column=f"{table.name}.{column}",
                        )  # fmt: skip
    return found


def add_live_values(known: KnownValues, policy: StoragePolicy, *, base: Path) -> OwnColumns:
    """Add what the policy's stores hold now; give the columns in which that belongs.

    Raises:
        SourceError: a store cannot be read.
    """
    own: set[tuple[str, str]] = set()
    for name, store in policy.stores.items():
        if store.locator == APPLICATION:
            continue
        table = policy_table(store, base=base)
        stored, columns = store.columns.stored or "", store.columns
        wanted = [stored, *filter(None, (columns.privileged,))]
        written = store.source.write_to
        own |= {(table.name, each) for each in (stored, written.column if written else stored)}
        for frame in table.frames(list(dict.fromkeys(wanted)), Unreadable()):
            text = pl.col(columns.privileged) if columns.privileged else pl.lit(None, pl.String)
            rows = frame.select(stored=pl.col(stored), is_privileged=is_privileged(text, columns))
            for (privileged,), part in rows.drop_nulls("stored").group_by("is_privileged"):
                values = map(bytes_of, part["stored"].to_list())
                known.add(values, name, live=True, privileged=bool(privileged))
    return frozenset(own)
