"""CSV for people: a spreadsheet runs none of its cells."""

import csv
import io
from collections.abc import Iterable

# A spreadsheet runs a cell that begins with one of these.
_RUNS = ("=", "+", "-", "@", "\t", "\r")


def neutral_cell(text: str) -> str:
    """Give a CSV cell that no spreadsheet takes for a formula."""
    return f"'{text}" if text.startswith(_RUNS) else text


def csv_line(cells: Iterable[str]) -> str:
    """Write one line."""
    buffer = io.StringIO()
    csv.writer(buffer, lineterminator="\n").writerow([neutral_cell(cell) for cell in cells])
    return buffer.getvalue()
