"""Reducing stored values to shapes, a column at a time.

A shape is the layout, the text of the groups that decide the reading, and the lengths of the
others: two values of one shape get the same scheme, parameters and grade. So one representative
is parsed and all rows are counted. The patterns are the layouts' own. Values of layouts that look
at the whole text have no shape and are parsed one by one.
"""

import re
from collections.abc import Iterable, Iterator
from itertools import count

import polars as pl

from lean_tumbler.core.schemes.base import VALUE_CHARACTERS, Layout
from lean_tumbler.core.schemes.catalogue import LAYOUTS, TAGGED_LAYOUTS, TAGS
from lean_tumbler.core.schemes.obsolete.readable import CODED, HEX_RUN, PLAIN_CHARACTERS
from lean_tumbler.core.schemes.randomness import CLASS_RUN, RANDOM_CHANGES

_START_CHARACTERS = 3  # enough to tell which layouts are worth a pattern
_TEMPLATES = 8  # of one layout and frame; beyond them, the pattern's groups are taken apart
_ROW, _TEXT, _SHAPE = "row", "text", "shape"
_WORDS_LENGTHS = (13, PLAIN_CHARACTERS)
# Layouts and beginnings of values that are words by their characters alone.
_OF_SOME_LENGTHS = tuple(layout for layout in LAYOUTS if layout.by_value and layout.lengths)
_BEGINNING = (
    "^(?:"
    + "|".join(sorted({re.escape(start) for layout in LAYOUTS for start in layout.starts}))
    + ")"
)

_Shaped = tuple[pl.DataFrame, pl.Expr | int | None]


def with_shapes(frame: pl.DataFrame, *, column: str, shape: str) -> pl.DataFrame:
    """Add a column of shapes, numbered within this frame; null where a value is parsed by itself.

    Args:
        frame: rows, none of which is null in `column`.
        column: the name of the column of stored values, as text.
        shape: the name of the new column.
    """
    texts = frame.select(pl.int_range(pl.len()).alias(_ROW), pl.col(column).alias(_TEXT))
    numbers = count()
    # Dollars and braces begin half of all layouts and no bare digest: sorted apart, few patterns
    # are tried on each.
    tagged = texts[_TEXT].str.slice(0, 1).is_in(TAGS)
    words = texts.select(_are_words(pl.col(_TEXT)) & ~tagged)[_TEXT]
    parts = [
        rows.select(_ROW, _as_column(key).alias(_SHAPE))
        for subset, layouts in (
            (texts.filter(tagged), TAGGED_LAYOUTS),
            (texts.filter(~tagged & ~words), LAYOUTS),
        )
        for rows, key in _shaped(subset, layouts, numbers)
    ]
    if words.any():
        parts.append(texts.filter(words).select(_ROW, _as_column(next(numbers)).alias(_SHAPE)))
    if not parts:
        return frame.with_columns(pl.lit(None, pl.UInt64).alias(shape))
    return frame.with_columns(pl.concat(parts).sort(_ROW)[_SHAPE].alias(shape))


def _are_words(text: pl.Expr) -> pl.Expr:
    """Tell texts that are read as plain text without looking at each.

    They are of the characters that digests are written in, but change their class as words do; and
    they have no length or beginning of a layout that goes by more than that.
    """
    runs = text.str.count_matches(CLASS_RUN)
    changes_little = runs.cast(pl.Float64) - 1 < RANDOM_CHANGES * (text.str.len_bytes() - 1.0)
    may_be = pl.when(text.str.len_bytes().is_between(*_WORDS_LENGTHS)).then(text)
    of_digests = may_be.str.contains(f"^{CODED}+$") & ~may_be.str.contains(HEX_RUN)
    is_special = pl.any_horizontal(
        text.str.contains(_BEGINNING), *(_is_of(layout, text) for layout in _OF_SOME_LENGTHS)
    )
    return of_digests.fill_null(value=False) & changes_little & ~is_special


def _shaped(
    rows: pl.DataFrame, layouts: Iterable[Layout], numbers: Iterator[int]
) -> Iterator[_Shaped]:
    starts: frozenset[str] | None = None
    for layout in layouts:
        if rows.height == 0:
            return
        if layout.starts:
            starts = _starts(rows[_TEXT]) if starts is None else starts
            if not any(start[:_START_CHARACTERS] in starts for start in layout.starts):
                continue
        hit = rows.select(_is_of(layout, pl.col(_TEXT)))[_TEXT]
        if hit.any():
            yield from _with_shape(rows.filter(hit), layout, numbers)
            rows = rows.filter(~hit)
    if rows.height:
        yield rows, None


def _as_column(key: pl.Expr | int | None) -> pl.Expr:
    return key if isinstance(key, pl.Expr) else pl.lit(key, pl.UInt64)


def _starts(texts: pl.Series) -> frozenset[str]:
    """Give the first characters that occur: one, two and three of them."""
    found = texts.str.slice(0, _START_CHARACTERS).unique().to_list()
    return frozenset(text[:length] for text in found for length in range(1, _START_CHARACTERS + 1))


def _is_of(layout: Layout, text: pl.Expr) -> pl.Expr:
    tests: list[pl.Expr] = []
    if layout.lengths:
        tests.append(text.str.len_bytes().is_in(layout.lengths))  # such layouts are all ASCII
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


def _with_shape(rows: pl.DataFrame, layout: Layout, numbers: Iterator[int]) -> Iterator[_Shaped]:
    """Number the shapes of rows that the layout's pattern fits."""
    others = [name for name in layout.groups if name not in layout.key_groups]
    if layout.by_value:
        if layout is not LAYOUTS[-1]:
            yield rows, None
            return
        plain = rows.select(_are_surely_plain(pl.col(_TEXT)))[_TEXT]
        yield rows.filter(~plain), None
        yield rows.filter(plain), next(numbers)
    elif layout.key_groups or (layout.lengths_count and len(others) > 1):
        yield from _by_groups(rows, layout, others, numbers)
    else:  # one length alone: the whole value's says the same
        lengths = rows[_TEXT].str.len_bytes() if layout.lengths_count else pl.Series([0])
        for length in lengths.unique(maintain_order=True).to_list():
            same = rows.filter(pl.col(_TEXT).str.len_bytes() == length)
            same = same if layout.lengths_count else rows
            yield same, _number(layout, same[_TEXT][0], numbers)


# What no wrapper, list or tag has, between a first and a last sign that are no blanks.
_PLAIN_SIGNS = r"[\p{L}\p{N}+/._=!#*,:;?@^|~() -]"
_PLAIN_ENDS = r"[\p{L}\p{N}+/._=!#*,:;?@^|~()-]"
_A_GAP = r"[^A-Za-z0-9+/._=-]"  # what no digest is written with
# A stretch of thirteen signs that looks drawn at random changes its class five times or more.
_MOST_RUNS = 5


def _are_surely_plain(text: pl.Expr) -> pl.Expr:
    """Tell texts that the last layout of plain text takes, whatever they are: none is parsed.

    They have reached it, so no other layout is theirs.
    """
    is_short = text.str.len_chars() <= PLAIN_CHARACTERS
    words = text.str.contains(rf"^{_PLAIN_ENDS}(?:{_PLAIN_SIGNS}*{_PLAIN_ENDS})?$")
    has_gap = text.str.contains(_A_GAP)
    changes_little = text.str.count_matches(CLASS_RUN) <= _MOST_RUNS
    no_digits = ~text.str.contains(HEX_RUN)
    return (is_short & words & has_gap & changes_little & no_digits).alias(_TEXT)


def _number(layout: Layout, representative: str, numbers: Iterator[int]) -> int | None:
    """Number one shape; where the numbers in it are impossible, it is not of this layout."""
    return next(numbers) if layout.read(representative) else None


def _by_groups(
    rows: pl.DataFrame, layout: Layout, others: list[str], numbers: Iterator[int]
) -> Iterator[_Shaped]:
    """Number shapes by what stands between the free groups of a few representatives."""
    for _ in range(_TEMPLATES):
        if rows.height == 0:
            return
        representative = rows[_TEXT][0]
        match = layout.match(representative)
        if match is None or not representative.isascii():
            break
        alike = rows.select(_is_alike(match, others).alias(_TEXT))[_TEXT]
        yield rows.filter(alike), _number(layout, representative, numbers)
        rows = rows.filter(~alike)
    keys = rows.with_columns(_key(layout, others, pl.col(_TEXT)).alias("key"))
    firsts = keys.group_by("key").agg(pl.col(_TEXT).first())
    known = [_number(layout, text, numbers) for text in firsts[_TEXT]]
    numbered = firsts.select("key", pl.Series("number", known, pl.UInt64))
    yield keys.join(numbered, on="key", how="left"), pl.col("number")


def _is_alike(match: re.Match[str], free: list[str]) -> pl.Expr:
    """Test for the same text everywhere but in the free groups, at the same places."""
    text, whole = pl.col(_TEXT), match.string
    tests = [text.str.len_bytes() == len(whole), text.str.len_chars() == len(whole)]
    if "padding" in free:  # it follows another free group at once, and says where that one ends
        unpadded = text.str.strip_chars_end("=").str.len_bytes()
        tests.append(unpadded == len(whole) - len(match["padding"]))
    end = 0
    for start, stop in [*sorted(match.span(name) for name in free), (len(whole), len(whole))]:
        if start > end:
            piece = whole[end:start]
            at_start = text.str.starts_with(piece)
            tests.append(at_start if end == 0 else text.str.slice(end, len(piece)) == piece)
        end = max(end, stop)
    return pl.all_horizontal(*tests)


def _key(layout: Layout, free: list[str], text: pl.Expr) -> pl.Expr:
    """Write a shape as text: deciding texts, and lengths."""
    groups = text.str.extract_groups(f"^(?:{layout.pattern})$")
    parts = [groups.struct.field(name).fill_null("-") for name in layout.key_groups]
    if layout.lengths_count:
        parts += [
            groups.struct.field(name).str.len_bytes().cast(pl.String).fill_null("-")
            for name in free
        ]
    return pl.concat_str(parts, separator="|")
