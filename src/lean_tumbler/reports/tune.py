"""Measurements, and the parameters that they lead to."""

from __future__ import annotations

from typing import TYPE_CHECKING

from rich.text import Text

from lean_tumbler.core.tuning.choosing import Choice, guesses_per_second
from lean_tumbler.reports.documents import Document, new_document
from lean_tumbler.reports.terminal import new_table
from lean_tumbler.reports.wording import costs

if TYPE_CHECKING:
    from rich.console import Console

    from lean_tumbler.core.tuning.measuring import Measurement


def tune_document(
    *, host: Document, constraints: Document, points: list[Measurement], choice: Choice | None
) -> Document:
    """Give measurements and the choice as a document."""
    fields = ("scheme", "parameters", "p99_milliseconds", "guesses_per_second")
    measured = [_point(point) for point in points]
    chosen = None
    if choice is not None:
        point = _point(choice.measurement)
        chosen = {**{name: point[name] for name in fields}, "why": choice.why}
    return new_document(
        "tune",
        host=host,
        constraints=constraints,
        measured=[
            {name: entry[name] for name in entry if name not in fields[2:]} for entry in measured
        ],
        candidates=[{name: entry[name] for name in fields} for entry in measured],
        chosen=chosen,
    )


def _point(point: Measurement) -> Document:
    return {
        "scheme": point.scheme,
        "parameters": dict(point.parameters),
        "milliseconds": round(point.milliseconds, 2),
        "milliseconds_at_load": round(point.milliseconds_at_load, 2),
        "p99_milliseconds": round(point.p99_milliseconds, 2),
        "guesses_per_second": round(guesses_per_second(point.parameters), 1),
    }


def draw_tune(
    console: Console, *, points: list[Measurement], choice: Choice | None, within: float
) -> None:
    """Print the choice and the table that it comes from."""
    if choice is None:
        fastest = min(points, key=lambda point: point.p99_milliseconds)
        console.print(
            Text(f"Nothing at or above the floor answers within {within:.0f} ms.", "bold red")
        )
        console.print(
            f"The cheapest allowed ({costs(fastest.parameters.items())}) takes "
            f"{fastest.p99_milliseconds:.0f} ms with every core busy: "
            f"allow --within {fastest.p99_milliseconds * 1.1:.0f}, or use a faster machine."
        )
    else:
        chosen = choice.measurement
        console.print(
            Text(f"{chosen.scheme}: {costs(chosen.parameters.items())}", style="bold green")
        )
        console.print(f"Chosen as {choice.why}.")
    table = new_table(
        "",
        "memory",
        "passes",
        "alone",
        "all cores busy",
        "99th percentile",
        "attacker's guesses/s",
        right=(1, 2, 3, 4, 5, 6),
    )
    for point in points:
        is_chosen = choice is not None and point is choice.measurement
        late = point.p99_milliseconds > within
        table.add_row(
            "→" if is_chosen else "",
            f"{point.parameters['memory_kib'] / 1024:.0f} MiB",
            f"{point.parameters['passes']}",
            f"{point.milliseconds:.1f} ms",
            f"{point.milliseconds_at_load:.1f} ms",
            f"{point.p99_milliseconds:.1f} ms",
            f"{guesses_per_second(point.parameters):,.0f}",
            style="bold green" if is_chosen else "dim" if late else "",
        )
    console.print()
    console.print(table)
    console.print()
    console.print(
        "Guesses: one 450 W consumer GPU of 2022, bounded by its memory bandwidth of 1,008 GB/s.",
        style="dim",
    )
