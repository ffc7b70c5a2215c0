"""What tells rows of one class apart: an empty salt, a column that names the make, or a date."""

import json
import re
from collections.abc import Iterator, Mapping, Sequence
from datetime import date
from itertools import pairwise

import polars as pl
from msgspec import Struct

from lean_tumbler.core.drafting.explanations import Explanation, KnownRow
from lean_tumbler.core.reading.conditions import day_of, is_plain_word
from lean_tumbler.core.reading.rows import bytes_of, text_of

MOST_VALUES = 12  # of a column that names the make; more are no generations
_NAMES_MAKE = re.compile(
    r"(^|_)(algo(rithm)?s?|scheme|method|hash(ing|er)?|encoder|enc|kind|generation|format|"
    r"version|ver|type|digest|pw|pwd|passw(or)?d|source|origin|system|imported|migrated|legacy)"
    r"(_(algo(rithm)?|scheme|method|type|kind|version|ver|format|alg|id|from))?$"
)
_CHANCE = 2e-3  # of a column that has nothing to do with it to separate the known accounts as well
_BY_NAME = 1e-2  # how much rarer such a chance is where the column's name says what it is for
_DATED_SHARE = 0.9  # of a column's values that are dates, where it is one of dates


def names_make(column: str) -> bool:
    """Tell whether a column, by its folded name, says how values were made."""
    return _NAMES_MAKE.search(column) is not None


def quoted_column(name: str) -> str:
    """Write a column's name as a condition does."""
    return name if is_plain_word(name) else json.dumps(name, ensure_ascii=False)


def is_one_of(column: str, values: Sequence[str | None]) -> str:
    """Write the condition that a column has one of some values; "" and None are the empty one."""
    texts = sorted({value for value in values if value})
    name = quoted_column(column)
    if not texts:
        return f"{name} empty"
    written = [json.dumps(text, ensure_ascii=False) for text in texts]
    return f"{name} = {written[0]}" if len(texts) == 1 else f"{name} in ({', '.join(written)})"


class Split(Struct, frozen=True, kw_only=True):
    """Rows told apart."""

    conditions: Mapping[Explanation, str]  # explanation -> the condition for its rows
    is_sure: bool  # whether it may stand in the policy
    because: str  # what it rests on, as a sentence


def content(known: KnownRow, column: str) -> str | None:
    """Give what stands in a further column of a known row, as frames have it."""
    raw = known.row.others.get(column)
    return None if raw is None else text_of(raw)


def find_split(
    rows: pl.DataFrame,  # of one class; the columns under the table's own names
    # explanation -> the accounts that it alone explains
    known: Mapping[Explanation, Sequence[KnownRow]],
    # the table's own names of columns that may tell -> their folded names
    columns: Mapping[str, str],
) -> Split | None:
    """Find what tells the rows of several explanations apart."""
    candidates = [split for name in columns if (split := _by_value(rows, known, name, columns))]
    sure = [split for split in candidates if split.is_sure]
    if sure:
        return sure[0]
    dated = [split for name in columns if (split := _by_date(rows, known, name))]
    return next(iter((*candidates, *dated)), None)


def _by_value(
    rows: pl.DataFrame,
    known: Mapping[Explanation, Sequence[KnownRow]],
    column: str,
    columns: Mapping[str, str],
) -> Split | None:
    """Try a column of few values, each of which stands with one explanation alone."""
    values = {value or "" for value in rows[column].unique().to_list()}
    if not 2 <= len(values) <= MOST_VALUES:
        return None
    told: dict[str, Explanation] = {}
    for explanation, accounts in known.items():
        for account in accounts:
            value = content(account, column) or ""
            if told.setdefault(value, explanation) is not explanation:
                return None
    if len(set(told.values())) < len(known):
        return None
    seen = sum(len(accounts) for accounts in known.values())
    commonest = max(len(accounts) for accounts in known.values()) / seen
    named = names_make(columns[column])
    chance = commonest ** (seen - len(told)) * (_BY_NAME if named else len(columns))
    is_whole = values <= told.keys()
    conditions = {
        each: is_one_of(column, [value for value, of in told.items() if of is each])
        for each in known
    }
    because = f"“{column}” tells them apart: {seen} known accounts, and none speaks against it"
    if not is_whole:
        because += "; of some of its values no account is known"
    return Split(conditions=conditions, is_sure=is_whole and chance <= _CHANCE, because=because)


def _by_date(
    rows: pl.DataFrame, known: Mapping[Explanation, Sequence[KnownRow]], column: str
) -> Split | None:
    """Try a column of dates: each explanation has its time."""
    days = {each: [_day(account, column) for account in accounts]
            for each, accounts in known.items()}  # fmt: skip
    if any(day is None for found in days.values() for day in found):
        return None
    spans = sorted(
        ((min(d for d in found if d), max(d for d in found if d), each)
         for each, found in days.items()),
        key=lambda span: span[0],
    )  # fmt: skip
    if any(one[1] >= two[0] for one, two in pairwise(spans)):
        return None
    name = quoted_column(column)
    conditions, notes = {}, []
    for number, (_, _, each) in enumerate(spans):
        tests = []
        if number:
            tests.append(f"{name} from {spans[number][0].isoformat()}")
        if number + 1 < len(spans):
            tests.append(f"{name} before {spans[number + 1][0].isoformat()}")
            last, first = spans[number][1], spans[number + 1][0]
            between = rows_between(rows, column, last, first)
            notes.append(
                f"{between:,} rows from {last.isoformat()} to {first.isoformat()} may be of either"
            )
        conditions[each] = " and ".join(tests)
    return Split(
        conditions=conditions,
        is_sure=False,
        because=f"“{column}” may tell them apart; {'; '.join(notes)}: an account of that time, "
        "set in the old system and added to the known accounts, narrows it",
    )


def _day(account: KnownRow, column: str) -> date | None:
    return day_of(account.row.others.get(column))


def days(rows: pl.DataFrame, column: str) -> Iterator[date]:
    """Give the days of a column, once each; nothing where it is no column of dates."""
    texts = [text for text in rows[column].unique().to_list() if text]
    found = [day for text in texts if (day := day_of(bytes_of(text)))]
    if texts and len(found) >= _DATED_SHARE * len(texts):
        yield from found


def rows_between(rows: pl.DataFrame, column: str, first: date, last: date) -> int:
    """Count the rows whose day lies between two."""
    texts = [
        text
        for text in rows[column].unique().to_list()
        if text and (day := day_of(bytes_of(text))) and first < day < last
    ]
    return rows.filter(pl.col(column).is_in(texts)).height


def dated_apart(one: pl.DataFrame, other: pl.DataFrame, columns: Sequence[str]) -> str:
    """Say by which date two sets of rows follow each other; empty where none does."""
    for column in columns:
        first, second = set(days(one, column)), set(days(other, column))
        if first and second:
            name = quoted_column(column)
            if max(first) < min(second):
                return f"all of them have {name} before {min(second).isoformat()}"
            if max(second) < min(first):
                return f"all of them have {name} from {min(first).isoformat()}"
    return ""
