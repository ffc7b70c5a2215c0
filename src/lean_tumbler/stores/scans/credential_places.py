"""Finding the columns of a source that hold credentials."""

from collections.abc import Iterator, Sequence
from contextlib import closing
from itertools import groupby

from msgspec import Struct, field
from msgspec.structs import replace

from lean_tumbler.core.audit.discovery import (
    SAMPLE_ROWS,
    Aside,
    credential_columns,
    password_attributes,
    roles_beside,
)
from lean_tumbler.core.audit.kinds import CredentialKind
from lean_tumbler.core.audit.opening import Opens
from lean_tumbler.core.policy import Columns
from lean_tumbler.core.reading.conditions import Condition, one_of
from lean_tumbler.errors import UsageError
from lean_tumbler.stores.files.base import Selective, Table, Unreadable
from lean_tumbler.stores.files.nested import NestedTable, document_columns
from lean_tumbler.stores.naming import require_column


class CredentialPlace(Struct, frozen=True):
    """A column that holds credentials, the roles beside it, and what its content opens."""

    table: Table
    columns: Columns
    opens: Opens | None = None
    exchanged_with: str = ""

    @property
    def only_rows(self) -> str:
        """Which rows are read, as a condition; empty for all."""
        return self.table.only_rows if isinstance(self.table, Selective) else ""

    @property
    def name(self) -> str:
        """The table's name and the column's."""
        return f"{self.table.name}.{self.columns.stored}"

    def only(self, condition: Condition) -> "CredentialPlace":
        """Give the rows alone of which a condition holds, where a database can."""
        if not isinstance(self.table, Selective):
            return self
        return replace(self, table=self.table.only(condition))


class OtherPlaces(Struct):
    """Columns of a source that hold something else than passwords."""

    digests: list[str] = field(default_factory=list)  # as table and column
    kinds: list[tuple[Table, str, CredentialKind]] = field(default_factory=list)

    def add(self, table: Table, found: Aside, columns: set[str]) -> None:
        """Add what was found in a table, as far as it is of some columns."""
        self.digests += [f"{table.name}.{name}" for name in found.digests if name in columns]
        self.kinds += [(table, name, kind) for name, kind in found.kinds.items() if name in columns]

    def others(self) -> Iterator[tuple[Table, dict[str, CredentialKind]]]:
        """Give what opens something, by its table and columns."""
        for table, group in groupby(self.kinds, key=lambda each: each[0]):
            kinds = {column: kind for _, column, kind in group if kind.opens_something}
            if kinds:
                yield table, kinds


def credential_places(
    tables: Sequence[Table],  # of the source
    wanted: Columns,  # columns that somebody named
    name: str,  # what messages call the source
    *,
    is_named: bool,  # whether the table was named
    aside: "OtherPlaces",  # takes the columns that hold something else, by table and name
) -> Iterator[CredentialPlace]:
    """Find the columns that hold credentials.

    Raises:
        UsageError: a named column is not there.
    """
    named = list(wanted.mapped.values())
    if named and not is_named:
        first = wanted.stored or named[0]
        tables = [table for table in tables if first in table.columns]
        if not tables:
            raise UsageError(f"{name}: no table has a column “{first}”")
    for table in tables:
        for column in named:
            require_column(column, table.columns, f"{name}, table {table.name}")
        if wanted.stored:
            yield CredentialPlace(table, roles_beside(table.columns, wanted))
            continue
        sample = _sample(table)
        documents = document_columns(sample)
        told = password_attributes(sample)
        if told is not None:
            found_place = CredentialPlace(
                table, replace(roles_beside(table.columns, wanted), stored=told.value)
            )
            yield found_place.only(one_of(told.attribute, told.texts))
            del sample[told.value]
        here = Aside()
        for found in credential_columns(table.name, sample, wanted, aside=here):
            if found.columns.stored not in documents:
                yield CredentialPlace(table, found.columns, found.opens, found.exchanged_with)
        aside.add(table, here, set(table.columns) - set(documents))
        if documents:
            yield from _in_documents(NestedTable(table, documents), aside)


def _in_documents(table: NestedTable, aside: "OtherPlaces") -> Iterator[CredentialPlace]:
    """Find credentials in JSON documents inside text columns."""
    fields = {name for names in table.documents.values() for name in names}
    here = Aside()
    for found in credential_columns(table.name, _sample(table), aside=here):
        if found.columns.stored in fields:
            yield CredentialPlace(table, found.columns, found.opens, found.exchanged_with)
    aside.add(table, here, fields)


def _sample(table: Table) -> dict[str, list[str | None]]:
    """Read some rows of all columns; what cannot be read is counted when all is read."""
    with closing(table.frames(table.columns, Unreadable())) as frames:
        first = next(frames, None)
    if first is None:
        return {}
    some = first.gather_every(max(1, first.height // SAMPLE_ROWS)).head(SAMPLE_ROWS)
    return {column: some[column].to_list() for column in table.columns}


def with_fields(table: Table, column: str) -> Table:
    """Take a JSON column apart where one of its fields is asked for."""
    if column in table.columns:
        return table
    documents = document_columns(_sample(table))
    return NestedTable(table, documents) if documents else table
