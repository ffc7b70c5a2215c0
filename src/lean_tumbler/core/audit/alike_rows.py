"""Rows that any plan treats alike, a page at a time: one of them is read for all.

For counts alone: what is written rests on a reading of each row.
"""

from collections.abc import Sequence

import polars as pl

from lean_tumbler.core.audit.cohort_marks import OTHER, marks
from lean_tumbler.core.audit.shapes import with_shapes
from lean_tumbler.core.reading.reader import RowReader
from lean_tumbler.core.reading.rows import Row, text_of
from lean_tumbler.core.schemes import keyed

_KEY = ("shape", "mark", "salt_bytes", "login_bytes")


def alike(rows: Sequence[Row], reader: RowReader) -> list[int | None]:
    """Number groups of rows that are of one shape, and alike to all cohorts.

    Salts and logins of a group are equally long. A row that has to be read by itself has None: one
    without a value, bytes, and what has no shape.

    Args:
        rows: of one table.
        reader: of its store.
    """
    found: list[int | None] = [None] * len(rows)
    columns = dict.fromkeys(
        column
        for cohort in reader.cohorts
        if cohort.condition
        for column in cohort.condition.columns
    )
    frame = pl.DataFrame(
        {
            "row": pl.Series(range(len(rows)), dtype=pl.UInt32),
            "stored": pl.Series([row.text for row in rows], dtype=pl.String),
            "salt": _texts([row.salt for row in rows]),
            "login": pl.Series([row.login for row in rows], dtype=pl.String),
            **{OTHER + name: _texts([row.others.get(name) for row in rows]) for name in columns},
        }
    )
    text = pl.col("stored")
    by_itself = text.str.starts_with("\\x") | text.str.starts_with(keyed.TAG)
    valued = frame.filter(text.is_not_null() & ~by_itself)
    if valued.height == 0:
        return found
    shaped = with_shapes(valued, column="stored", shape="shape").with_columns(
        mark=marks(valued, reader),
        salt_bytes=pl.col("salt").str.len_bytes(),
        login_bytes=pl.col("login").str.len_bytes(),
    )
    groups = shaped.filter(pl.col("shape").is_not_null()).group_by(_KEY).agg("row")
    for number, members in enumerate(groups["row"].to_list()):
        for row in members:
            found[row] = number
    return found


def _texts(contents: Sequence[bytes | None]) -> pl.Series:
    texts = [None if raw is None else text_of(raw) for raw in contents]
    return pl.Series(texts, dtype=pl.String)
