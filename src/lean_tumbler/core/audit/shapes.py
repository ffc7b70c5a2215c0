"""Reducing stored values to shapes, a column at a time.

A shape is a text that decides how a value is read: two values of one shape get the same scheme,
layout, parameters and grade. So one representative is parsed and all rows are counted. Text
without a shape (words, markers, whatever is new) is parsed value by value.

The patterns are the parsers' own, written for Polars' regular expressions; a property test holds
the two against each other.
"""

import polars as pl

# Repetitions are unbounded here: bounded ones compile slowly, and lengths are part of a shape.
_BASE64 = r"[A-Za-z0-9+/]"
_PHC = (
    r"(\$[a-z0-9-]+(?:\$v=[0-9]+)?\$[a-z]+=[0-9]+(?:,[a-z]+=[0-9]+)*\$)"
    rf"({_BASE64}+)\$({_BASE64}+)"
)
_PHC_VALUE = rf"^{_PHC}$"
_LAYERED_VALUE = (
    rf"^(\$over\$from=[a-z0-9-]+)(?:,salt=({_BASE64}*))?(?:,login=({_BASE64}+))?{_PHC}$"
)
_BCRYPT_VALUE = r"^(\$2[abxy]?\$[0-3][0-9]\$)[./A-Za-z0-9]{53}$"

# Lengths of digests in hexadecimal, and in base64 with its padding.
_HEX_LENGTHS = (32, 40, 56, 64, 96, 128)
_PADDED_LENGTHS = (24, 28, 40, 44, 88)


def _lengths(groups: pl.Expr, *numbers: int) -> list[pl.Expr]:
    """Lengths of capture groups, as text; `-` for a group that is not there."""
    return [
        groups.struct.field(str(number)).str.len_bytes().cast(pl.String).fill_null("-")
        for number in numbers
    ]


def _key(*parts: pl.Expr) -> pl.Expr:
    return pl.concat_str(parts, separator="|")


def _dollar_shape(text: pl.Expr) -> pl.Expr:
    bcrypt = text.str.extract(_BCRYPT_VALUE, 1)
    phc = text.str.extract_groups(_PHC_VALUE)
    layered = text.str.extract_groups(_LAYERED_VALUE)
    return pl.coalesce(
        _key(bcrypt),
        _key(phc.struct.field("1"), *_lengths(phc, 2, 3)),
        _key(
            layered.struct.field("1"),
            *_lengths(layered, 2, 3),
            layered.struct.field("4"),
            *_lengths(layered, 5, 6),
        ),
    )


def _bare_shape(text: pl.Expr) -> pl.Expr:
    length = text.str.len_bytes()
    is_hex = length.is_in(_HEX_LENGTHS)
    return (
        pl.when(is_hex & text.str.contains(r"^[0-9a-f]+$"))
        .then(_key(pl.lit("hex"), length.cast(pl.String)))
        .when(is_hex & text.str.contains(r"^[0-9A-F]+$"))
        .then(_key(pl.lit("hex-upper"), length.cast(pl.String)))
        .when(is_hex & text.str.contains(r"^[0-9a-fA-F]+$"))
        .then(_key(pl.lit("hex-mixed"), length.cast(pl.String)))
        .when(length.is_in(_PADDED_LENGTHS) & text.str.contains(rf"^{_BASE64}+={{1,2}}$"))
        .then(_key(pl.lit("base64"), length.cast(pl.String), text.str.tail(2)))
        .otherwise(None)
    )


def with_shapes(frame: pl.DataFrame, *, column: str, shape: str) -> pl.DataFrame:
    """Add a column of shapes; null where the value is to be parsed by itself.

    Args:
        frame: rows, none of which is null in `column`.
        column: the name of the column of stored values, as text.
        shape: the name of the new column.
    """
    has_dollar = pl.col(column).str.starts_with("$")
    parts = [
        frame.filter(has_dollar).with_columns(_dollar_shape(pl.col(column)).alias(shape)),
        frame.filter(~has_dollar).with_columns(_bare_shape(pl.col(column)).alias(shape)),
    ]
    return pl.concat(parts)
