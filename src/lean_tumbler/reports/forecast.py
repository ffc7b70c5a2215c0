"""The forecast: how many remain on which date, strategy by strategy, and what to do."""

from __future__ import annotations

from dataclasses import asdict
from datetime import timedelta
from typing import TYPE_CHECKING, Any

from rich.text import Text

from lean_tumbler.core.forecast.forecasting import HORIZONS
from lean_tumbler.core.forecast.strategies import WAIT, advice, strategies
from lean_tumbler.reports.terminal import new_table
from lean_tumbler.reports.wording import duration

if TYPE_CHECKING:
    from collections.abc import Sequence

    from rich.console import Console

    from lean_tumbler.core.forecast.back_test import BackTest
    from lean_tumbler.core.forecast.forecasting import Forecast
    from lean_tumbler.core.forecast.intervals import Interval
    from lean_tumbler.core.forecast.strategies import Advice, Strategy
    from lean_tumbler.stores.scans.store_forecast import StoreForecast


class Outlook:
    """A store's forecast with what can be done about it.

    Args:
        found: the forecast.
        left: of the weak rows, how many a bulk run would leave.
        seconds_each: of one core, for one derivation.
        lock_after_days: when who has not returned could be locked.
    """

    def __init__(
        self,
        found: StoreForecast,
        *,
        left: int,
        seconds_each: float,
        lock_after_days: int,
    ) -> None:
        self.found, self.today, self.lock_after_days = found, found.as_of, lock_after_days
        self.strategies: Sequence[Strategy] = strategies(
            found.weak, found.layered, left=left, seconds_each=seconds_each,
            lock_after_days=lock_after_days,
        )  # fmt: skip
        self.advice: Advice = advice(
            found.weak, found.layered, left=left, lock_after_days=lock_after_days
        )


def interval_document(interval: Interval) -> dict[str, int]:
    """Give an interval in whole accounts."""
    return {part: round(number) for part, number in asdict(interval).items()}


def forecast_document(found: Forecast) -> dict[str, Any]:
    """Give a forecast: the days that are told, with the baseline beside each."""
    return {
        "accounts": found.accounts,
        "fitted": found.fitted,
        "because": found.because,
        "returns": found.returns,
        "never": found.never,
        "days": {str(day): interval_document(found.days[day]) for day in HORIZONS},
        "cohorts": {
            name: {str(day): round(part[day]) for day in HORIZONS}
            for name, part in found.parts.items()
        },
        "baseline": {str(day): round(found.baseline[day]) for day in HORIZONS},
    }


def outlook_document(outlook: Outlook) -> dict[str, Any]:
    """Give the outlook."""
    found = outlook.found
    return {
        "made_for": outlook.today.isoformat(),
        "dated_accounts": found.dated,
        "notes": list(found.notes),
        "weak": forecast_document(found.weak),
        "layered": forecast_document(found.layered),
        "strategies": [
            {
                "name": strategy.name,
                "weak": {str(day): interval_document(strategy.weak[day]) for day in HORIZONS},
                "layered": {str(day): interval_document(strategy.layered[day]) for day in HORIZONS},
                "locked": strategy.locked,
                "bulk_core_hours": round(strategy.bulk_hours, 2),
                "login_core_hours": round(strategy.login_hours, 2),
            }
            for strategy in outlook.strategies
        ],
        "advice": {"take": outlook.advice.take, "reasons": list(outlook.advice.reasons)},
        "back_test": None if found.back_test is None else back_test_document(found.back_test),
    }


def back_test_document(test: BackTest) -> dict[str, Any]:
    """Give a back-test."""
    return {
        "tried": [
            {
                "cut_days_before_end": each.cut,
                "days": each.days,
                "accounts": each.accounts,
                "forecast": interval_document(each.forecast),
                "baseline": round(each.baseline),
                "truth": each.truth,
            }
            for each in test.tried
        ],
        "left_out": list(test.left_out),
        "mean_error": round(test.error, 4) if test.tried else None,
        "mean_error_of_baseline": round(test.baseline_error, 4) if test.tried else None,
        "coverage": round(test.coverage, 3) if test.tried else None,
    }


def span(interval: Interval) -> str:
    """Write an interval: what is expected, and between what."""
    low, middle, high = (
        f"{round(getattr(interval, part)):,}" for part in ("low", "expected", "high")
    )
    return middle if low == high else f"{middle} ({low} to {high})"


def draw_outlook(console: Console, outlook: Outlook) -> None:
    """Print what to do, then why: the burn-down, its source, and what to know of the data."""
    found = outlook.found
    console.print()
    console.print(Text(f"How it will finish: {outlook.advice.take}.", "bold"))
    for reason in outlook.advice.reasons:
        console.print(f"  · {reason}", highlight=False)
    if not found.weak.accounts + found.layered.accounts:
        return
    console.print()
    dates = [f"{outlook.today + timedelta(days=day):%Y-%m-%d}\nday {day}" for day in HORIZONS]
    table = new_table(
        "strategy", "", *dates, "of one core", right=tuple(range(2, 3 + len(HORIZONS)))
    )
    for strategy in outlook.strategies:
        hours = duration(3600 * (strategy.bulk_hours + strategy.login_hours))
        table.add_row(strategy.name, "weak", *_spans(strategy.weak), hours)
        if strategy.name == WAIT and len(found.weak.parts) > 1:
            for name, part in found.weak.parts.items():
                cohort = [Text(f"{round(part[day]):,}", "dim") for day in HORIZONS]
                table.add_row("", Text(f"  {name}", "dim"), *cohort, "")
        table.add_row("", "layered", *_spans(strategy.layered), "")
    console.print(table)
    console.print()
    weak = found.weak
    baseline = ", ".join(f"{round(weak.baseline[day]):,} at day {day}" for day in HORIZONS)
    console.print(f"Plain baseline, for comparison: {baseline}.", highlight=False)
    dormant = outlook.strategies[-1].locked
    if dormant:
        console.print(
            f"Locking at day {outlook.lock_after_days} would close about {dormant:,} accounts.",
            highlight=False,
        )
    _draw_source(console, weak)
    for note in found.notes:
        console.print(f"  note: {note}.", highlight=False)
    if found.back_test is not None:
        _draw_back_test(console, found.back_test)


def _draw_source(console: Console, weak: Forecast) -> None:
    if not weak.fitted:
        text = f"This is the plain baseline and no fit: {weak.because}. It has no interval."
        console.print(Text(text, "yellow"))
        return
    never = "" if weak.never is None else f"; {weak.never:.0%} of all never return, by the fit"
    console.print(
        f"In brackets: four times out of five. Fitted to {weak.returns:,} returns{never}.",
        highlight=False,
    )


def _spans(intervals: Any) -> list[str]:
    return [span(intervals[day]) for day in HORIZONS]


def _draw_back_test(console: Console, test: BackTest) -> None:
    console.print()
    if not test.tried:
        console.print(Text("Back-test: the log does not go back far enough for any cut.", "yellow"))
        return
    better = test.error < test.baseline_error
    verdict = "beats the baseline" if better else "does not beat the baseline"
    console.print(
        Text(
            f"Back-test: off by {test.error:.1%} of accounts on average, the baseline by "
            f"{test.baseline_error:.1%}: it {verdict}. The truth lay in the interval "
            f"{test.coverage:.0%} of the time; it should be 80%.",
            "bold" if better else "bold yellow",
        )
    )
    table = new_table("made", "days on", "not returned", "forecast", "baseline", right=(1, 2, 3, 4))
    for each in test.tried:
        inside = "" if each.covered else "  outside"
        table.add_row(
            f"{each.cut} days before the log's end",
            str(each.days),
            f"{each.truth:,}",
            Text(span(each.forecast) + inside, "" if each.covered else "yellow"),
            f"{round(each.baseline):,}",
        )
    console.print(table)
    if test.left_out:
        cuts = ", ".join(str(cut) for cut in test.left_out)
        console.print(f"Left out: {cuts} days before the end; the log begins too late, or too few.")
