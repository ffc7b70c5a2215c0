"""JSON documents inside a text column: their fields, as columns beside the table's own."""

from collections.abc import Iterator, Mapping, Sequence

import polars as pl
from msgspec import Struct

from lean_tumbler.core.schemes.wrappers import is_listed
from lean_tumbler.stores.definitions import Declared
from lean_tumbler.stores.files.base import LINE, Frames, Table, Unreadable
from lean_tumbler.stores.files.json_fields import flattened
from lean_tumbler.stores.json_text import load_record

_DOCUMENT_SHARE = 0.5  # of a sample's values
_FIELDS = 64


def document_columns(sample: Mapping[str, Sequence[str | None]]) -> dict[str, tuple[str, ...]]:
    """Find the columns that hold JSON objects, and the fields of these.

    Args:
        sample: for each column, its values in some rows.

    Returns:
        column -> its fields; nested ones with dots.
    """
    return {name: fields for name, values in sample.items() if (fields := _fields(name, values))}


def _fields(column: str, values: Sequence[str | None]) -> tuple[str, ...]:
    texts = [value for value in values if value]
    documents = [fields for text in texts if (fields := _document(column, text)) is not None]
    if not texts or len(documents) < _DOCUMENT_SHARE * len(texts):
        return ()
    return tuple(dict.fromkeys(name for fields in documents for name in fields))[:_FIELDS]


def _document(column: str, text: str | None) -> dict[str, str | None] | None:
    """Read one JSON object as fields named after the column; None where it is none."""
    if text is None or not text.lstrip().startswith("{") or is_listed(text):
        return None
    try:
        return dict(flattened(load_record(text), column))
    except ValueError:
        return None


class NestedTable(Struct, frozen=True):
    """A table with the fields of its JSON columns beside its own columns."""

    table: Table
    documents: Mapping[str, tuple[str, ...]]

    @property
    def name(self) -> str:
        """The table's name."""
        return self.table.name

    @property
    def columns(self) -> tuple[str, ...]:
        """The table's own columns, then the fields."""
        return (
            *self.table.columns,
            *(name for fields in self.documents.values() for name in fields),
        )

    @property
    def keys(self) -> tuple[str, ...]:
        """The table's own keys."""
        return self.table.keys

    @property
    def row_key(self) -> tuple[str, ...]:
        """The table's own."""
        return self.table.row_key

    def declared(self, column: str) -> Declared:
        """Say what the schema declares of a column; of a field, nothing."""
        return self.table.declared(column) if column in self.table.columns else Declared()

    def frames(self, wanted: Sequence[str], unreadable: Unreadable) -> Frames:
        """Read the wanted columns as text; a field that a row lacks is null."""
        own = set(self.table.columns)
        fields = {column: [n for n in wanted if n not in own and n in names]
                  for column, names in self.documents.items()}  # fmt: skip
        asked = [name for name in wanted if name in own]
        asked += [column for column, names in fields.items() if names and column not in asked]
        for frame in self.table.frames(asked, unreadable):
            yield frame.with_columns(self._taken_apart(frame, fields)).select(LINE, *wanted)

    def _taken_apart(
        self, frame: pl.DataFrame, fields: Mapping[str, Sequence[str]]
    ) -> Iterator[pl.Series]:
        for column, names in fields.items():
            if names:
                rows = [_document(column, text) or {} for text in frame[column]]
                for name in names:
                    yield pl.Series(name, [row.get(name) for row in rows], dtype=pl.String)
