"""Runs of signs in bytes, found by tables and searches that are quicker than patterns."""

from collections.abc import Iterator

LETTERS_AND_DIGITS = b"0123456789ABCDEFGHIJKLMNOPQRSTUVWXYZabcdefghijklmnopqrstuvwxyz"


def table_of(signs: bytes) -> bytes:
    """Give a table for `bytes.translate` by which these signs are “1”, and all others NUL."""
    wanted = frozenset(signs)
    return bytes(49 if code in wanted else 0 for code in range(256))


def runs(data: bytes, table: bytes, shortest: int) -> Iterator[tuple[int, int]]:
    """Give where each run of a table's signs begins and ends, of those that are long enough."""
    marks, run = data.translate(table), b"1" * shortest
    start = marks.find(run)
    while start >= 0:
        end = marks.find(b"\0", start)
        end = len(data) if end < 0 else end
        yield start, end
        start = marks.find(run, end)
