"""The burn-down as a picture: what remains weak under each strategy, with its interval."""

from __future__ import annotations

from datetime import timedelta
from textwrap import fill
from typing import TYPE_CHECKING

import numpy as np
from matplotlib.dates import ConciseDateFormatter, MonthLocator, date2num
from matplotlib.style import context
from matplotlib.ticker import FuncFormatter

from lean_tumbler.reports.pictures import new_axes, saved
from lean_tumbler.reports.plots import STYLE

if TYPE_CHECKING:
    from collections.abc import Iterable, Mapping, Sequence
    from datetime import date

    from matplotlib.axes import Axes

    from lean_tumbler.core.forecast.intervals import Interval
    from lean_tumbler.reports.forecast import Outlook
    from lean_tumbler.stores.scans.migration_progress import MigrationProgress

_WEAK = "#d1495b"
_LAYERED = "#2e6f95"
_MIRROR = "#888888"
_SEEN = "#1b7f5c"


def burn_down_plot(outlook: Outlook, kind: str) -> bytes:
    """Draw it.

    Args:
        outlook: the forecast and its strategies.
        kind: `png` or `svg`.
    """
    wait, layer, lock = outlook.strategies
    weak = outlook.found.weak
    with context(STYLE):
        figure, axes = new_axes()
        if weak.withheld:
            figure.set_figheight(2)  # inches: room for a few lines
            _draw_nothing(axes, weak.accounts, weak.withheld)
            return saved(figure, kind)
        draw_interval(
            axes, outlook.today, weak.accounts, wait.weak, _WEAK, "weak, waiting for logins"
        )
        draw_line(
            axes,
            outlook.today,
            weak.accounts,
            weak.baseline,
            _MIRROR,
            "the same by the plain baseline",
        )
        tonight = {1: layer.weak[min(layer.weak)].expected}
        later = {day: interval.expected for day, interval in layer.weak.items()}
        draw_line(axes, outlook.today, weak.accounts, tonight | later, _SEEN, "weak, layered now")
        if lock.locked:
            day = _numbers(outlook.today, [outlook.lock_after_days])[1]
            axes.axvline(day, color=_LAYERED, linewidth=1, linestyle=":")
            axes.annotate(
                f"{lock.locked:,} dormant ones could be locked", (day, 0.97),
                xycoords=("data", "axes fraction"), xytext=(5, 0), textcoords="offset points",
                color=_LAYERED, va="top",
            )  # fmt: skip
        finish_axes(axes, outlook.advice.take, no_interval=weak.no_interval)
        return saved(figure, kind)


def _draw_nothing(axes: Axes, accounts: int, reason: str) -> None:
    """Say in the place of a picture why there is none."""
    axes.set_axis_off()
    axes.set_title(
        f"No forecast of {accounts:,} weak accounts", loc="left", fontweight="bold", pad=12
    )
    axes.text(0.0, 0.9, fill(f"{reason[0].upper()}{reason[1:]}.", 80),
              transform=axes.transAxes, va="top", linespacing=1.6)  # fmt: skip


def progress_plot(migrations: Sequence[MigrationProgress], kind: str) -> bytes:
    """Draw what was counted beside what was forecast at the start, and what is forecast now.

    Args:
        migrations: of each store; the one with most accounts that wait is drawn.
        kind: `png` or `svg`.
    """
    migration = max(migrations, key=lambda each: each.counted[0][1])
    with context(STYLE):
        figure, axes = new_axes()
        first, begun = migration.counted[0]
        if migration.started is not None and migration.promised:
            draw_interval(axes, first, begun, migration.promised, _MIRROR, "forecast at the start")
        if migration.ahead is not None:
            today, now = migration.ahead_from, migration.waiting
            name = "forecast now, from what has happened" if migration.from_history else (
                "forecast now, from last logins"
            )  # fmt: skip
            draw_interval(axes, today, now, migration.ahead.days, _WEAK, name)
        draw_points(axes, migration.counted, "counted")
        finish_axes(
            axes, f"{migration.name}: {migration.verdict}, {migration.waiting:,} still wait"
        )
        return saved(figure, kind)


def draw_interval(
    axes: Axes, start: date, now: float, intervals: Mapping[int, Interval], colour: str, name: str
) -> None:
    """Draw a line with its interval, from now on."""
    days = _numbers(start, intervals)
    low, middle, high = (
        np.array([now, *(getattr(each, part) for each in intervals.values())], dtype=np.float64)
        for part in ("low", "expected", "high")
    )
    known = np.isfinite(low)
    if known[1:].any():
        axes.fill_between(
            days, low, high, where=known.tolist(), color=colour, alpha=0.18, linewidth=0
        )
    axes.plot(days, middle, color=colour, linewidth=2, label=name)


def _numbers(start: date, days: Iterable[int]) -> list[float]:
    """Give days from a start on as the plotting library numbers them."""
    dates = [start, *(start + timedelta(days=day) for day in days)]
    return [float(date2num(day)) for day in dates]  # type: ignore[no-untyped-call]


def draw_line(
    axes: Axes, start: date, now: float, values: Mapping[int, float], colour: str, name: str
) -> None:
    """Draw a thin line, from now on."""
    days = _numbers(start, values)
    axes.plot(
        days, [now, *values.values()], color=colour, linewidth=1.2, linestyle="--", label=name
    )


def draw_points(axes: Axes, points: Sequence[tuple[date, int]], name: str) -> None:
    """Draw what was counted."""
    days = [float(date2num(day)) for day, _ in points]  # type: ignore[no-untyped-call]
    numbers = [number for _, number in points]
    axes.plot(days, numbers, "o-", color=_SEEN, linewidth=1.6, markersize=5, label=name)


def finish_axes(axes: Axes, title: str, *, no_interval: str = "") -> None:
    """Write what the axes say, and why nothing is shaded where nothing is."""
    axes.set_title(title[0].upper() + title[1:], loc="left", fontweight="bold", pad=12)
    axes.set_ylabel("accounts that have not returned")
    axes.set_ylim(bottom=0)
    axes.yaxis.set_major_formatter(FuncFormatter(lambda value, _: f"{value:,.0f}"))
    locator = MonthLocator()  # type: ignore[no-untyped-call]
    axes.xaxis.set_major_locator(locator)
    axes.xaxis.set_major_formatter(ConciseDateFormatter(locator))  # type: ignore[no-untyped-call]
    said = fill(f"no interval: {no_interval}", 34) if no_interval else None
    if axes.collections:
        said = "shaded: 80 % interval"
    axes.legend(loc="upper left", bbox_to_anchor=(1.0, 1.0), frameon=False, title=said)
