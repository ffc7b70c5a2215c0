"""What the drawn reports share: tables, bars and the colours of the grades."""

from __future__ import annotations

from typing import IO, TYPE_CHECKING, Any

from rich import box
from rich.console import Console
from rich.segment import Segment
from rich.table import Table
from rich.text import Text

from lean_tumbler.core.grades import MEANING, Grade
from lean_tumbler.core.printable import printable

if TYPE_CHECKING:
    from collections.abc import Iterator

    from lean_tumbler.core.audit.results import Profile

GRADE_STYLES = {
    Grade.READABLE: "bold red",
    Grade.FAST_UNSALTED: "red",
    Grade.FAST_SALTED: "yellow",
    Grade.OUTDATED: "yellow",
    Grade.LAYERED: "cyan",
    Grade.CURRENT: "green",
    Grade.LOCKED: "dim",
    Grade.UNKNOWN: "magenta",
}
_BAR_CHARACTERS = 30


class _Result(Console):
    def render(self, *arguments: Any, **named: Any) -> Iterator[Segment]:
        """Render something; names that others chose steer no terminal."""
        for segment in super().render(*arguments, **named):
            yield segment if segment.control else Segment(printable(segment.text), segment.style)

    def on_broken_pipe(self) -> None:
        """Leave it to the program what to do when its reader has gone."""
        raise BrokenPipeError


def result_console(file: IO[str], *, columns: int) -> Console:
    """Give what draws a result; names are shown as they are, brackets and colons included."""
    return _Result(file=file, highlight=False, markup=False, emoji=False, width=columns)


def new_table(*headings: str, right: tuple[int, ...] = ()) -> Table:
    """Start a table; columns named in `right` hold numbers.

    However narrow the terminal, what stands in it is broken over lines, and never left out.
    """
    table = Table(
        box=box.SIMPLE_HEAD, pad_edge=False, show_edge=False, header_style="bold", expand=False
    )
    for index, heading in enumerate(headings):
        table.add_column(heading, justify="right" if index in right else "left", overflow="fold")
    return table


def _bar(rows: int, total: int, style: str) -> Text:
    length = round(_BAR_CHARACTERS * rows / total) if total else 0
    return Text("█" * max(length, 1 if rows else 0), style=style)


def grades_table(profile: Profile) -> Table:
    """Show the rows of each grade, worst first."""
    table = new_table("grade", "rows", "share", "", "meaning", right=(1, 2))
    for grade, rows in profile.grades.items():
        style = GRADE_STYLES[grade]
        share = f"{100 * rows / profile.rows:.1f} %"
        table.add_row(
            Text(grade, style=style),
            f"{rows:,}",
            share,
            _bar(rows, profile.rows, style),
            MEANING[grade],
        )
    if profile.without_value:
        rows = profile.without_value
        table.add_row(
            "(none)", f"{rows:,}", f"{100 * rows / profile.rows:.1f} %", "", "no stored value"
        )
    return table
