"""How long logins take against what guesses cost, scheme by scheme, as a picture."""

from __future__ import annotations

import math
from itertools import cycle
from typing import TYPE_CHECKING

from matplotlib.style import context
from matplotlib.ticker import FuncFormatter, LogLocator, NullFormatter

from lean_tumbler.core.tuning.attacker import attack_cost
from lean_tumbler.jobs.tune.tune_report import costs_in_words, way_in_words
from lean_tumbler.reports.pictures import new_axes, saved
from lean_tumbler.reports.plots import STYLE

if TYPE_CHECKING:
    from collections.abc import Sequence

    from matplotlib.axes import Axes

    from lean_tumbler.core.tuning.choosing import Candidate
    from lean_tumbler.jobs.tune.tuning import Tuned

_GUESSES = 1e9
_TOP = 10  # times the permitted wait
_COLOURS = ("#1b7f5c", "#2e6f95", "#d1495b", "#b07d12", "#7b5ea7")


def tune_plot(tuned: Tuned, kind: str) -> bytes:
    """Draw it.

    Args:
        tuned: measurements and choice.
        kind: `png` or `svg`.
    """
    with context(STYLE):
        figure, axes = new_axes()
        axes.set_xscale("log")
        axes.set_yscale("log")
        for scheme, colour in zip(tuned.lines, cycle(_COLOURS), strict=False):
            own = [found for found in tuned.choice.candidates if found.scheme == scheme]
            _draw_scheme(axes, tuned, scheme, own, colour)
        _draw_limits(axes, tuned)
        _draw_choice(axes, tuned)
        return saved(figure, kind)


def _price(tuned: Tuned, found: Candidate) -> float:
    return attack_cost(_GUESSES, found.guesses_per_second, tuned.attacker.hardware).money


def _top(tuned: Tuned) -> float:
    """Give the longest wait that is drawn to scale; where nothing fits, the shortest is."""
    waits = [found.p99_milliseconds for found in tuned.choice.candidates]
    shortest = min((wait for wait in waits if math.isfinite(wait)), default=0.0)
    permitted = tuned.demand.within_milliseconds
    return _TOP * max(permitted, shortest if tuned.choice.chosen is None else 0.0)


def _draw_scheme(
    axes: Axes, tuned: Tuned, scheme: str, own: Sequence[Candidate], colour: str
) -> None:
    """Draw the candidates of a scheme, and the shortest wait at each price or more."""
    finite = sorted(
        (_price(tuned, found), found.p99_milliseconds, not found.against)
        for found in own
        if found.p99_milliseconds <= _top(tuned)
    )
    best = [
        (price, wait)
        for n, (price, wait, _) in enumerate(finite)
        if all(wait <= other for _, other, _ in finite[n + 1 :])
    ]
    axes.plot(*zip(*best, strict=True), color=colour, linewidth=1.4, zorder=2) if best else None
    for price, wait, fits in finite:
        face = colour if fits else "white"
        axes.plot(price, wait, "o", markersize=5, color=colour, markerfacecolor=face, zorder=3)
    for found in own:
        if found.p99_milliseconds > _top(tuned):
            axes.plot(
                _price(tuned, found), 1.0, "^", markersize=6, color=colour,
                markerfacecolor="white", zorder=3,
                transform=axes.get_xaxis_transform(), clip_on=False,
            )  # fmt: skip
    axes.plot([], [], "o-", color=colour, label=scheme)


def _draw_limits(axes: Axes, tuned: Tuned) -> None:
    demand = tuned.demand
    low = min(axes.get_ylim()[0], demand.within_milliseconds / 2)
    axes.set_ylim(low, _top(tuned))
    axes.axhspan(low, demand.within_milliseconds, color="#1b7f5c", alpha=0.08, zorder=0)
    axes.axhline(demand.within_milliseconds, color="#1b7f5c", linewidth=1, linestyle="--")
    axes.annotate(
        f"permitted: {demand.within_milliseconds:.0f} ms",
        (0.995, demand.within_milliseconds),
        xycoords=("axes fraction", "data"),
        xytext=(0, 4),
        textcoords="offset points",
        ha="right",
        color="#1b7f5c",
    )
    load = f"{demand.logins_per_second:g} logins a second" if demand.logins_per_second else (
        "every core busy"
    )  # fmt: skip
    axes.set_ylabel(f"99 in 100 logins answered within, at {load}")
    axes.set_xlabel(
        f"price of a billion guesses at one account, with {tuned.attacker.hardware.name}"
    )
    axes.yaxis.set_major_locator(LogLocator(subs=(1, 2, 5)))
    axes.yaxis.set_major_formatter(FuncFormatter(lambda value, _: f"{value:,.0f} ms"))
    axes.yaxis.set_minor_formatter(NullFormatter())
    axes.xaxis.set_major_locator(LogLocator(subs=(1, 2, 5)))
    axes.xaxis.set_major_formatter(FuncFormatter(lambda value, _: f"${value:,.5g}"))
    axes.xaxis.set_minor_formatter(NullFormatter())
    axes.legend(
        loc="upper left",
        bbox_to_anchor=(1.0, 1.0),
        frameon=False,
        title="hollow: does not qualify\nat the top edge: slower\nthan the scale, or never",
    )


def _draw_choice(axes: Axes, tuned: Tuned) -> None:
    chosen = tuned.choice.chosen
    if chosen is None:
        ways = [f"{way.scheme}: {way_in_words(way)}" for way in tuned.choice.requirements[:1]]
        would_do = f"\n{ways[0]}" if ways else ""
        axes.set_title(
            f"Nothing at or above the floor carries this load in time{would_do}", loc="left", pad=12
        )
        return
    words = f"{chosen.scheme}, {costs_in_words(chosen.scheme, chosen.parameters)}"
    place = (_price(tuned, chosen), chosen.p99_milliseconds)
    axes.plot(*place, "o", markersize=13, markerfacecolor="none", color="black", zorder=4)
    axes.set_title(f"Chosen: {words}", loc="left", fontweight="bold", pad=12)
