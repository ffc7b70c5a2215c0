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


def with_shapes(frame: pl.DataFrame, *, column: str, shape: str) -> pl.DataFrame:
    """Add a column of shapes; null where the value is to be parsed by itself.

    Args:
        frame: rows, none of which is null in `column`.
        column: the name of the column of stored values, as text.
        shape: the name of the new column.
    """
    rest = frame.with_columns(_lead=pl.col(column).str.slice(0, 1))
    parts: list[pl.DataFrame] = []
    for (lead,), rows in (
        rest.with_columns(_lead=_lead_class())
        .partition_by("_lead", as_dict=True, maintain_order=True)
        .items()
    ):
        parts.extend(_shaped(rows.drop("_lead"), str(lead), column, shape))
    return pl.concat(parts) if parts else frame.with_columns(pl.lit(None, pl.String).alias(shape))


def _lead_class() -> pl.Expr:
    """Sort rows by how they begin, so that few patterns are tried on each."""
    lead = pl.col("_lead")
    return pl.when(lead.is_in(["$", "{"])).then(lead).otherwise(pl.lit(""))


def _shaped(rows: pl.DataFrame, lead: str, column: str, shape: str) -> Iterator[pl.DataFrame]:
    for index, layout in enumerate(LAYOUTS):
        if rows.height == 0:
            return
        if lead and layout.starts and not any(start.startswith(lead) for start in layout.starts):
            continue
        if not lead and layout.starts and all(start[0] in "${" for start in layout.starts):
            continue
        hit = rows.select(_is_of(layout, pl.col(column)).alias("hit"))["hit"]
        if hit.any():
            yield _with_shape(rows.filter(hit), index, layout, column, shape)
            rows = rows.filter(~hit)
    if rows.height:
        yield rows.with_columns(pl.lit(None, pl.String).alias(shape))


def _is_of(layout: Layout, text: pl.Expr) -> pl.Expr:
    tests: list[pl.Expr] = []
    if layout.longest < VALUE_CHARACTERS:
        tests.append(text.str.len_chars() <= layout.longest)
    if layout.starts:
        tests.append(pl.any_horizontal(*(text.str.starts_with(start) for start in layout.starts)))
    matches = text.str.contains(f"^(?:{layout.pattern})$")
    if not tests:
        return matches
    # The pattern runs only on rows that pass the cheap tests.
    return (
        pl.when(pl.all_horizontal(*tests))
        .then(text)
        .otherwise(None)
        .str.contains(f"^(?:{layout.pattern})$")
        .fill_null(value=False)
    )


def _with_shape(
    rows: pl.DataFrame, index: int, layout: Layout, column: str, shape: str
) -> pl.DataFrame:
    if layout.by_value:
        return rows.with_columns(pl.lit(None, pl.String).alias(shape))
    shaped = rows.with_columns(_key(index, layout, pl.col(column)).alias(shape))
    # Where the numbers in it are impossible, a value is not of this layout after all.
    firsts = shaped.group_by(shape).agg(pl.col(column).first())
    impossible = [found for found, value in firsts.iter_rows() if layout.read(value) is None]
    if not impossible:
        return shaped
    kept = pl.when(pl.col(shape).is_in(impossible)).then(None).otherwise(pl.col(shape))
    return shaped.with_columns(kept.alias(shape))


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
