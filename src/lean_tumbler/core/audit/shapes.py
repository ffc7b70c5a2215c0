"""Reducing stored values to shapes, a column at a time.

A shape is the layout, the text of the groups that decide the reading, and the lengths of the
others: two values of one shape get the same scheme, parameters and grade. So one representative
is parsed and all rows are counted. The patterns are the layouts' own. Values of layouts that look
at the whole text have no shape and are parsed one by one.
"""

from collections.abc import Iterator

import polars as pl

from lean_tumbler.core.schemes.base import VALUE_CHARACTERS, Layout
from lean_tumbler.core.schemes.catalogue import LAYOUTS

_START_CHARACTERS = 3  # enough to tell which layouts are worth a pattern
_ROW, _TEXT, _SHAPE = "row", "text", "shape"


def with_shapes(frame: pl.DataFrame, *, column: str, shape: str) -> pl.DataFrame:
    """Add a column of shapes; null where the value is to be parsed by itself.

    Args:
        frame: rows, none of which is null in `column`.
        column: the name of the column of stored values, as text.
        shape: the name of the new column.
    """
    texts = frame.select(pl.int_range(pl.len()).alias(_ROW), pl.col(column).alias(_TEXT))
    # Dollars and braces begin half of all layouts and no bare digest: sorted apart, few patterns
    # are tried on each.
    tagged = texts[_TEXT].str.contains(r"^[${]")
    parts = [
        part for rows in (texts.filter(tagged), texts.filter(~tagged)) for part in _shaped(rows)
    ]
    if not parts:
        return frame.with_columns(pl.lit(None, pl.String).alias(shape))
    return frame.with_columns(pl.concat(parts).sort(_ROW)[_SHAPE].alias(shape))


def _shaped(rows: pl.DataFrame) -> Iterator[pl.DataFrame]:
    starts = _starts(rows[_TEXT])
    for index, layout in enumerate(LAYOUTS):
        if rows.height == 0:
            return
        if layout.starts and not any(s[:_START_CHARACTERS] in starts for s in layout.starts):
            continue
        hit = rows.select(_is_of(layout, pl.col(_TEXT)))[_TEXT]
        if hit.any():
            yield _with_shape(rows.filter(hit), index, layout)
            rows = rows.filter(~hit)
    if rows.height:
        yield rows.select(_ROW, pl.lit(None, pl.String).alias(_SHAPE))


def _starts(texts: pl.Series) -> frozenset[str]:
    """Give the first characters that occur: one, two and three of them."""
    found = texts.str.slice(0, _START_CHARACTERS).unique().to_list()
    return frozenset(text[:length] for text in found for length in range(1, _START_CHARACTERS + 1))


def _is_of(layout: Layout, text: pl.Expr) -> pl.Expr:
    tests: list[pl.Expr] = []
    if layout.lengths:
        tests.append(text.str.len_chars().is_in(layout.lengths))
    elif layout.longest < VALUE_CHARACTERS:
        tests.append(text.str.len_chars() <= layout.longest)
    if layout.starts:
        tests.append(pl.any_horizontal(*(text.str.starts_with(start) for start in layout.starts)))
    whole = f"^(?:{layout.pattern})$"
    if not tests:
        return text.str.contains(whole)
    # The pattern runs only on rows that pass the cheap tests.
    passed = pl.when(pl.all_horizontal(*tests)).then(text)
    return passed.str.contains(whole).fill_null(value=False).alias(_TEXT)


def _with_shape(rows: pl.DataFrame, index: int, layout: Layout) -> pl.DataFrame:
    if layout.by_value:
        return rows.select(_ROW, pl.lit(None, pl.String).alias(_SHAPE))
    shaped = rows.with_columns(_key(index, layout, pl.col(_TEXT)).alias(_SHAPE))
    # Where the numbers in it are impossible, a value is not of this layout after all.
    firsts = shaped.group_by(_SHAPE).agg(pl.col(_TEXT).first())
    impossible = [found for found, value in firsts.iter_rows() if layout.read(value) is None]
    if impossible:
        kept = pl.when(pl.col(_SHAPE).is_in(impossible)).then(None).otherwise(pl.col(_SHAPE))
        shaped = shaped.with_columns(kept.alias(_SHAPE))
    return shaped.select(_ROW, _SHAPE)


def _key(index: int, layout: Layout, text: pl.Expr) -> pl.Expr:
    """Write a shape as text: the layout's number, deciding texts, and lengths."""
    parts: list[pl.Expr] = [pl.lit(str(index))]
    others = [name for name in layout.groups if name not in layout.shaped_by]
    by_total = layout.lengths_count and len(others) <= 1
    if by_total:  # one length left: the whole value's says the same
        parts.append(text.str.len_bytes().cast(pl.String))
    if layout.shaped_by or (layout.lengths_count and not by_total):
        groups = text.str.extract_groups(f"^(?:{layout.pattern})$")
        parts += [groups.struct.field(name).fill_null("-") for name in layout.shaped_by]
        if layout.lengths_count and not by_total:
            parts += [
                groups.struct.field(name).str.len_bytes().cast(pl.String).fill_null("-")
                for name in others
            ]
    return pl.concat_str(parts, separator="|")
