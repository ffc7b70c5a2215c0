"""Which cohorts may hold for each row of a frame: conditions and patterns, a column at a time.

Rows of one shape and one mark are read alike, so one of them is read for all.
"""

from collections.abc import Iterator

import polars as pl

from lean_tumbler.core.reading.cohorts import Cohort
from lean_tumbler.core.reading.conditions import Condition, Test
from lean_tumbler.core.reading.reader import RowReader
from lean_tumbler.core.reading.rows import LOGIN, SALT, STORED, bytes_of

OTHER = "column:"  # before the table's own name of a further column, in a frame


def marks(frame: pl.DataFrame, reader: RowReader) -> pl.Series:
    """Give a number for each row; rows with the same one are alike to all cohorts.

    Args:
        frame: `stored`, `salt` and `login`, and further columns under `OTHER` and their names.
        reader: whose cohorts.
    """
    mark = pl.Series("mark", [0], pl.UInt64).new_from_index(0, frame.height)
    for number, cohort in enumerate(reader.cohorts):
        holds = _holds(frame, cohort)
        mark = mark + holds.cast(pl.UInt64) * (1 << number)
    return mark.alias("mark")


def _holds(frame: pl.DataFrame, cohort: Cohort) -> pl.Series:
    every = pl.Series([True]).new_from_index(0, frame.height)
    if cohort.condition is not None:
        every = holding(frame, cohort.condition)
    for pattern in _patterns(cohort):
        fits = frame["stored"].str.strip_chars().str.contains(f"^(?:{pattern})$")
        every = every & fits.fill_null(value=False)
    return every


def holding(frame: pl.DataFrame, condition: Condition | Test) -> pl.Series:
    """Tell for each row of a frame whether a condition holds.

    Args:
        frame: as `marks` takes it; of `stored`, `salt` and `login`, those that the condition names.
        condition: as the policy has it.
    """
    if isinstance(condition, Test):
        return _tested(frame, condition)
    first, *others = (holding(frame, part) for part in condition.parts)
    for other in others:
        first = (first | other) if condition.is_any else (first & other)
    return first


def _patterns(cohort: Cohort) -> Iterator[str]:
    """Give what the texts of a cohort look like, where its shape says less."""
    if cohort.layout is not None:
        yield f"(?s:{cohort.layout.pattern})"
    elif cohort.formula is not None and not cohort.then:
        yield "".join(segment.pattern for segment in cohort.formula.output.segments)


def _tested(frame: pl.DataFrame, test: Test) -> pl.Series:
    """Ask a test once for each content of its column."""
    if test.role == STORED and test.verb == "length":
        length = frame["stored"].str.len_chars() == int(test.operands[0])
        return length.fill_null(value=False)
    if test.role == STORED and test.verb == "begins":
        return frame["stored"].str.starts_with(test.operands[0]).fill_null(value=False)
    own = {STORED: "stored", SALT: "salt", LOGIN: "login"}.get(test.role, OTHER + test.name)
    column = frame[own]
    contents = column.unique()
    answers = [
        test.holds_for(None if content is None else bytes_of(content))
        for content in contents.to_list()
    ]
    known = pl.DataFrame({"content": contents, "holds": answers})
    asked = pl.DataFrame({"content": column})
    joined = asked.join(known, on="content", how="left", nulls_equal=True, maintain_order="left")
    return joined["holds"]
