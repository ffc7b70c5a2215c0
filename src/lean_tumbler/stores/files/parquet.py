"""Parquet (parquet.apache.org): a column store, read whole or not at all."""

from collections.abc import Iterator, Sequence
from contextlib import contextmanager
from functools import cached_property
from pathlib import Path
from typing import Any

import polars as pl
from msgspec import Struct

from lean_tumbler.core.reading.rows import text_of
from lean_tumbler.errors import SourceError
from lean_tumbler.stores.files.base import (
    LINE,
    ROWS_PER_FRAME,
    FileFormat,
    Frames,
    Schemaless,
    Unreadable,
)
from lean_tumbler.stores.files.json_fields import DEPTH

_MAGIC = b"PAR1"  # parquet.apache.org, File Format


@contextmanager
def _parquet_errors(path: Path) -> Iterator[None]:
    """Turn Polars' errors into one line: a Parquet file is read whole or not at all."""
    try:
        yield
    except (pl.exceptions.PolarsError, OSError):
        raise SourceError(f"{path}: not a whole Parquet file; copy it again") from None


class ParquetTable(Struct, Schemaless, frozen=True, dict=True):
    """A Parquet file as one table."""

    path: Path

    @property
    def name(self) -> str:
        """The file's name."""
        return self.path.name

    @cached_property
    def _schema(self) -> dict[str, pl.Expr]:
        """Columns and nested fields of text, with the expression that reads each."""
        found: dict[str, pl.Expr] = {}

        def add(name: str, kind: Any, expression: pl.Expr, depth: int) -> None:
            if isinstance(kind, pl.Struct) and depth < DEPTH:
                for inner in kind.fields:
                    field = expression.struct.field(inner.name)
                    add(f"{name}.{inner.name}", inner.dtype, field, depth + 1)
            elif not kind.is_nested():
                found[name] = expression.alias(name)

        with _parquet_errors(self.path):
            schema = pl.read_parquet_schema(self.path)
        for name, kind in schema.items():
            add(name, kind, pl.col(name), 0)
        return found

    @property
    def columns(self) -> tuple[str, ...]:
        """The names of its columns; nested fields with dots."""
        return tuple(self._schema)

    def frames(self, wanted: Sequence[str], unreadable: Unreadable) -> Frames:
        """Read the wanted columns as text."""
        del unreadable  # Parquet is read whole or not at all
        scan = pl.scan_parquet(self.path).select(self._schema[name] for name in wanted)
        with _parquet_errors(self.path):
            rows = pl.scan_parquet(self.path).select(pl.len()).collect().item()
            for start in range(0, rows, ROWS_PER_FRAME):
                part = scan.slice(start, ROWS_PER_FRAME).collect()
                texts = pl.col(pl.Binary).map_elements(text_of, return_dtype=pl.String)
                lines = pl.int_range(start + 1, start + 1 + part.height, dtype=pl.Int64, eager=True)
                yield part.with_columns(texts).cast(pl.String).insert_column(0, lines.alias(LINE))


FORMAT = FileFormat(
    recognises=lambda beginning: beginning.raw.startswith(_MAGIC),
    tables=lambda path: [ParquetTable(path)],
)
