"""CSV for people: a spreadsheet runs none of its cells."""

import csv
import io
from collections.abc import Iterable

from lean_tumbler.core.printable import printable

# A spreadsheet runs a cell that begins with one of these.
_RUNS = ("=", "+", "-", "@", "\t", "\r")


def neutral_cell(text: str) -> str:
    """Give a CSV cell that no spreadsheet takes for a formula, and that steers no terminal."""
    shown = printable(text)
    return f"'{shown}" if text.startswith(_RUNS) else shown


def csv_line(cells: Iterable[str]) -> str:
    """Write one line."""
    buffer = io.StringIO()
    csv.writer(buffer, lineterminator="\n").writerow([neutral_cell(cell) for cell in cells])
    return buffer.getvalue()
