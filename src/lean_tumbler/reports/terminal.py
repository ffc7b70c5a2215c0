"""What the drawn reports share: tables, bars and the colours of the grades."""

from __future__ import annotations

from typing import IO, TYPE_CHECKING, Any

from rich import box
from rich.console import Console, ConsoleOptions, RenderResult
from rich.segment import Segment
from rich.table import Table
from rich.text import Text

from lean_tumbler.core.grades import MEANING, Grade
from lean_tumbler.core.printable import printable

if TYPE_CHECKING:
    from collections.abc import Iterator, Sequence

    from lean_tumbler.core.audit.results import Profile

GRADE_STYLES = {
    Grade.READABLE: "bold red",
    Grade.FAST_UNSALTED: "red",
    Grade.FAST_SALTED: "yellow",
    Grade.OUTDATED: "yellow",
    Grade.LAYERED: "cyan",
    Grade.CURRENT: "green",
    Grade.KEYED: "blue",
    Grade.LOCKED: "dim",
    Grade.UNKNOWN: "magenta",
}
_BAR_CHARACTERS = 30
_BETWEEN = 3  # blanks from column to column


# What stands for signs of ours that a terminal without UTF-8 has not; each is as wide.
_ASCII = str.maketrans("█─·×−–…→“”‘’│", "#--x--.>\"\"''|")


class _Result(Console):
    def render(self, *arguments: Any, **named: Any) -> Iterator[Segment]:
        """Render something; names that others chose steer no terminal."""
        is_plain = not self.encoding.lower().startswith("utf")
        for segment in super().render(*arguments, **named):
            text = segment.text.translate(_ASCII) if is_plain else segment.text
            yield segment if segment.control else Segment(printable(text), segment.style)

    def on_broken_pipe(self) -> None:
        """Leave it to the program what to do when its reader has gone."""
        raise BrokenPipeError


def result_console(file: IO[str], *, columns: int) -> Console:
    """Give what draws a result; names are shown as they are, brackets and colons included."""
    return _Result(file=file, highlight=False, markup=False, emoji=False, width=columns)


class _Table(Table):
    def __rich_console__(self, console: Console, options: ConsoleOptions) -> RenderResult:
        """Draw it; where there is room for the longest words, no word is broken over lines."""
        texts = [[str(text) for text in (c.header, *c.cells)] for c in self.columns]
        whole = [max(len(line) for text in own for line in text.split("\n")) for own in texts]
        words = [max((len(w) for text in own for w in text.split()), default=0) for own in texts]
        room = options.max_width - _BETWEEN * (len(whole) - 1)
        if sum(words) > room:
            self.padding = (0, 0)  # one blank between columns is left
            room = options.max_width - (len(whole) - 1)
        if sum(whole) > room >= sum(words):
            for column, width in zip(self.columns, _shared(room, words, whole), strict=True):
                column.width = width
        yield from super().__rich_console__(console, options)


def _shared(room: int, least: Sequence[int], most: Sequence[int]) -> list[int]:
    """Share characters among columns: the least for each, and then one after the other."""
    widths = list(least)
    left = room - sum(widths)
    while left and (short := [n for n, width in enumerate(widths) if width < most[n]]):
        for place in short[:left]:
            widths[place] += 1
        left -= min(left, len(short))
    return widths


def new_table(*headings: str, right: tuple[int, ...] = ()) -> Table:
    """Start a table; columns named in `right` hold numbers.

    However narrow the terminal, what stands in it is broken over lines, and never left out.
    """
    table = _Table(
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
