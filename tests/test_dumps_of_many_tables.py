"""A dump of many tables is taken apart once, and each table's own lines once more."""

import random
from collections import Counter
from collections.abc import Iterator, Mapping
from pathlib import Path

import polars as pl
import pytest

from lean_tumbler.stores.files.base import ROWS_LISTED, Row, Unreadable
from lean_tumbler.stores.files.sql_dump import dump as sql_dump
from lean_tumbler.stores.files.sql_dump.dump import (
    STATEMENT_BYTES,
    Dump,
    DumpReading,
    take_end,
    take_line,
)
from lean_tumbler.stores.files.streams import lines

NAMES = ("crew", "guests", '"Kiosk"', "`agents`", "public.staff")


def values(chance: random.Random) -> str:
    odd = chance.choice(("gull", "a;b", "it''s", "a\\'b", "two\nlines", ");", "-- no", "x" * 30))
    return f"({chance.randrange(100)}, '{odd}', {chance.choice(('NULL', '0x6162', '5'))})"


def several(chance: random.Random) -> str:
    return ", ".join(values(chance) for _ in range(chance.randrange(1, 4)))


# Statements, whole or odd, as dump programs and people write them: of a table, another, and values.
BLOCKS = (
    "CREATE TABLE {0} (\n  id integer,\n  pw varchar(40),\n  salt text\n);",
    "CREATE TABLE IF NOT EXISTS {0} (id int, pw text, salt text);",
    "COPY {0} (id, pw, salt) FROM stdin;\n1\tgull\t\\N\n2\ta\\tb\tx\n3\ttoo few\n\\.",
    "INSERT INTO {0} VALUES {2}; INSERT INTO {1} VALUES {2};",
    "INSERT INTO {0} (id, pw, salt) VALUES\n  {2},\n  {2};",
    "UPDATE {0} SET pw = 'x';",
    "CREATE FUNCTION f() RETURNS void AS $$\nINSERT INTO crew VALUES (1);\n$$;",
    "INSERT INTO {0} SELECT * FROM {1};",
    "-- INSERT INTO crew VALUES (1, 'no', NULL);\n\n/* nothing */",
    "INSERT INTO {0} VALUES (1, 'a\0b', NULL);",
    "INSERT INTO {0} VALUES (1, 'unfinished",
    *(3 * ("INSERT INTO {0} VALUES {2};",)),
)


def block(chance: random.Random) -> str:
    made = chance.choice(BLOCKS)
    return made.format(chance.choice(NAMES), chance.choice(NAMES), several(chance))


def key(table: str, line: int, row: Mapping[str, str | None]) -> tuple[object, ...]:
    return table, line, *sorted((name, text) for name, text in row.items() if text is not None)


def one_after_the_other(path: Path) -> tuple[Counter[tuple[object, ...]], Unreadable]:
    """Read all rows in one pass, as if there were no tables."""
    reading, unreadable = DumpReading(), Unreadable()
    rows: Counter[tuple[object, ...]] = Counter()

    def count(found: Iterator[tuple[str, Row]]) -> None:
        for table, (line, row) in found:
            rows[key(table, line, row)] += 1

    for number, line in lines(path, unreadable, limit_bytes=STATEMENT_BYTES):
        count(take_line(reading, number, line, unreadable))
    count(take_end(reading, unreadable))
    return rows, unreadable


def test_each_table_gives_what_one_pass_gives(tmp_path: Path) -> None:
    """Invented dumps, whole and odd: the same rows, and the same lines that were not read."""
    chance, read = random.Random(4), 0
    path = tmp_path / "all.sql"
    for _ in range(400):
        path.write_text("\n".join(block(chance) for _ in range(chance.randrange(1, 12))) + "\n")
        expected, unread = one_after_the_other(path)
        found: Counter[tuple[object, ...]] = Counter()
        for table in Dump(path).tables:
            unreadable = Unreadable()
            for frame in table.frames(table.columns, unreadable):
                for line, *texts in frame.rows():
                    found[key(table.name, line, dict(zip(table.columns, texts, strict=True)))] += 1
            assert (unreadable.rows, unreadable.cut_off) == (unread.rows, unread.cut_off)
            assert unread.rows > ROWS_LISTED or sorted(unreadable.listed) == sorted(unread.listed)
        assert found == expected
        read += expected.total()
    assert read > 2000


@pytest.mark.parametrize("tables", [41])
def test_no_line_is_taken_apart_more_than_twice(
    tmp_path: Path, monkeypatch: pytest.MonkeyPatch, tables: int
) -> None:
    """However many tables there are: once to find them, once for the table that it belongs to."""
    taken, real = Counter[int](), take_line

    def counted(reading: DumpReading, number: int, *more: object) -> object:
        taken[number] += 1
        return real(reading, number, *more)  # type: ignore[arg-type]

    monkeypatch.setattr(sql_dump, "take_line", counted)
    path = tmp_path / "all.sql"
    path.write_text("".join(f"INSERT INTO t{n} VALUES (1, '{n:032x}');\n" for n in range(tables)))
    frames = [
        frame for table in Dump(path).tables for frame in table.frames(table.columns, Unreadable())
    ]
    assert pl.concat(frames).height == tables
    assert taken.most_common(1)[0][1] == 2
