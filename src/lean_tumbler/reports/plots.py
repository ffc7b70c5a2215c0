"""Plots as SVG text that stands inside a page; no display, no files, the same at every run."""

from __future__ import annotations

from collections import Counter
from typing import TYPE_CHECKING

from matplotlib.backends.backend_svg import FigureCanvasSVG
from matplotlib.figure import Figure
from matplotlib.style import context

from lean_tumbler.core.grades import Grade
from lean_tumbler.reports.pictures import embedded, saved
from lean_tumbler.reports.wording import costs

if TYPE_CHECKING:
    from collections.abc import Iterable, Mapping, Sequence

    from matplotlib.axes import Axes

    from lean_tumbler.core.audit.results import Profile

# From dark red to green, told apart by lightness too; grey for what is outside the order.
GRADE_COLOURS = {
    Grade.READABLE: "#7f1d1d",
    Grade.FAST_UNSALTED: "#d1495b",
    Grade.FAST_SALTED: "#ee964b",
    Grade.OUTDATED: "#f4d35e",
    Grade.LAYERED: "#74b3ce",
    Grade.CURRENT: "#1b7f5c",
    Grade.KEYED: "#2f4b7c",
    Grade.LOCKED: "#b0b0b0",
    Grade.UNKNOWN: "#7b5ea7",
}
_COSTS_SHOWN = 10
_MONTHS_SHOWN = 24
_EARLIER = "earlier"
_CLUSTER_SIZES = ((2, 2), (3, 3), (4, 4), (5, 9), (10, 99), (100, 999), (1000, 10**9))
STYLE = {
    "font.size": 9.5,
    "font.family": "sans-serif",
    "svg.fonttype": "none",  # text stays text: sharp, selectable, in the page's own font
    "svg.hashsalt": "lean-tumbler",
    "axes.spines.top": False,
    "axes.spines.right": False,
    "axes.axisbelow": True,
    "axes.grid": True,
    "grid.color": "#e5e5e5",
}


def _svg(figure: Figure, label: str) -> str:
    return embedded(saved(figure, "svg"), label)


def _axes(width: float, height: float) -> tuple[Figure, Axes]:
    figure = Figure(figsize=(width, height))
    FigureCanvasSVG(figure)
    return figure, figure.add_subplot()


def grades_plot(columns: Sequence[tuple[str, Mapping[Grade, int]]]) -> str:
    """Draw the grades of each column as one stacked bar, in shares.

    Args:
        columns: the name of each, and its rows by grade.
    """
    with context(STYLE):
        figure, axes = _axes(11.8, 0.55 + 0.36 * len(columns))
        names = [name for name, _ in columns]
        left = [0.0] * len(columns)
        for grade in Grade:
            shares = [
                100 * grades.get(grade, 0) / (sum(grades.values()) or 1) for _, grades in columns
            ]
            if any(shares):
                colour = GRADE_COLOURS[grade]
                axes.barh(names, shares, left=left, color=colour, label=grade, height=0.72)
            left = [start + share for start, share in zip(left, shares, strict=True)]
        axes.invert_yaxis()
        axes.set_xlim(0, 100)
        axes.set_xlabel("% of stored values")
        axes.grid(visible=False)
        axes.legend(
            ncols=8, loc="lower left", bbox_to_anchor=(0, 1), frameon=False, handlelength=1,
            columnspacing=1,
        )  # fmt: skip
        return _svg(figure, "stored values by grade")


def costs_plot(profile: Profile) -> str | None:
    """Draw how many rows stand at which cost; None where no scheme has one."""
    rows: Counter[tuple[str, Grade]] = Counter()
    for reading, affected in profile.groups.items():
        if reading.parameters:
            over = "layered, " if reading.grade is Grade.LAYERED else ""
            name = f"{over}{reading.scheme}: {costs(reading.parameters)}"
            rows[name, reading.grade] += affected.rows
    if not rows:
        return None
    shown = rows.most_common(_COSTS_SHOWN)
    with context(STYLE):
        figure, axes = _axes(4.3, 0.3 + 0.42 * len(shown))
        colours = [GRADE_COLOURS[grade] for (_, grade), _ in shown]
        bars = axes.barh(
            range(len(shown)), [count for _, count in shown], color=colours, height=0.42
        )
        axes.bar_label(bars, fmt="{:,.0f}", padding=3)
        for place, ((name, _), _) in enumerate(shown):
            axes.text(0, place - 0.27, name, va="bottom")
        axes.invert_yaxis()
        axes.margins(x=0.15, y=0.1)
        axes.set_axis_off()
        left_out = len(rows) - len(shown)
        if left_out > 0:
            axes.set_title(f"the commonest; {left_out} more are not shown", loc="left", fontsize=9)
        return _svg(figure, "cost of slow schemes, in accounts")


def clusters_plot(profile: Profile) -> str | None:
    """Draw how many equal digests there are by how often each stands; None where there are none."""
    found = _binned(profile.digests.sizes.items())
    if not found:
        return None
    with context(STYLE):
        figure, axes = _axes(4.3, 2.3)
        bars = axes.bar(list(found), list(found.values()), color=GRADE_COLOURS[Grade.FAST_UNSALTED])
        axes.bar_label(bars, fmt="{:,.0f}", padding=2)
        axes.set_xlabel("accounts that share one digest")
        axes.set_yscale("symlog", linthresh=10)
        axes.yaxis.set_visible(False)
        axes.spines["left"].set_visible(False)
        axes.grid(visible=False)
        return _svg(figure, "equal digests, by how often they occur")


def _binned(sizes: Iterable[tuple[int, int]]) -> dict[str, int]:
    found: dict[str, int] = {}
    for size, number in sorted(sizes):
        low, high = next(span for span in _CLUSTER_SIZES if span[0] <= size <= span[1])
        name = str(low) if low == high else f"{low:,}–{high:,}" if high < 10**6 else f"{low:,}+"
        found[name] = found.get(name, 0) + number
    return found


def _months(last: str) -> list[str]:
    """Give the months that are shown, up to the last one."""
    end = 12 * int(last[:4]) + int(last[5:]) - 1
    return [f"{n // 12:04}-{n % 12 + 1:02}" for n in range(end - _MONTHS_SHOWN + 1, end + 1)]


def ages_plot(profile: Profile) -> str | None:
    """Draw rows by the month of their last login and by grade; None where no column says it."""
    if not profile.ages:
        return None
    months = _months(max(month for month, _ in profile.ages))
    rows: Counter[tuple[str, Grade]] = Counter()
    for (month, grade), count in profile.ages.items():
        rows[month if month >= months[0] else _EARLIER, grade] += count
    times = [*([_EARLIER] if any(time == _EARLIER for time, _ in rows) else []), *months]
    with context(STYLE):
        figure, axes = _axes(4.3, 2.3)
        bottom = [0] * len(times)
        for grade in Grade:
            heights = [rows[time, grade] for time in times]
            if any(heights):
                axes.bar(times, heights, bottom=bottom, color=GRADE_COLOURS[grade], width=0.9)
            bottom = [low + height for low, height in zip(bottom, heights, strict=True)]
        axes.set_ylabel("accounts")
        axes.grid(visible=False, axis="x")
        shown = [*range(len(times) - 1, 5, -6), 0][::-1]
        axes.set_xticks(shown, [times[place] for place in shown])
        return _svg(figure, "last logins, by month")
