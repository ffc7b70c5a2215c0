"""What the generated pages have in common: their notice, and tables in Markdown."""

from collections.abc import Iterable, Sequence

GENERATED = "This page is generated from the code: `python -m reference docs`."


def cell(text: str) -> str:
    """Write a text as a cell of a table."""
    return " ".join(text.split()).replace("|", "\\|")


def table(columns: Sequence[str], rows: Iterable[Sequence[str]]) -> str:
    """Write a table."""
    lines = [columns, ["---"] * len(columns), *rows]
    return "".join(f"| {' | '.join(map(cell, line))} |\n" for line in lines)
