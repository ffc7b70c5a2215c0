"""The forecast: how many remain on which date, strategy by strategy, and what to do."""

from __future__ import annotations

from datetime import timedelta
from math import isfinite
from typing import TYPE_CHECKING, Annotated

from rich.text import Text

from lean_tumbler.core.forecast.back_test import CHOICE_WEEKS
from lean_tumbler.core.forecast.strategies import WAIT, advice, strategies
from lean_tumbler.core.forecast.waiting import HORIZONS
from lean_tumbler.reports.documents import DocumentPart
from lean_tumbler.reports.terminal import new_table
from lean_tumbler.reports.wording import duration

if TYPE_CHECKING:
    from collections.abc import Iterator, Mapping, Sequence

    from rich.console import Console

    from lean_tumbler.core.forecast.back_test import BackTest
    from lean_tumbler.core.forecast.intervals import Interval
    from lean_tumbler.core.forecast.irregularities import Stretch
    from lean_tumbler.core.forecast.strategies import Advice, Strategy
    from lean_tumbler.core.forecast.waiting import Forecast
    from lean_tumbler.stores.scans.store_forecast import StoreForecast


_SHOWN_CUTS = (13, 26, 39, 52)


class Outlook:
    """A store's forecast with what can be done about it."""

    def __init__(
        self,
        found: StoreForecast,  # the forecast
        *,
        left: int,  # of the weak rows, how many a bulk run would leave
        seconds_each: float,  # of one core, for one derivation
        lock_after_days: int,  # when who has not returned could be locked
        shows_back_test: bool = False,  # whether forecasts of the past are printed one by one
    ) -> None:
        self.shows_back_test = shows_back_test
        self.found, self.today, self.lock_after_days = found, found.as_of, lock_after_days
        self.strategies: Sequence[Strategy] = strategies(
            found.weak, found.layered, left=left, seconds_each=seconds_each,
            lock_after_days=lock_after_days,
        )  # fmt: skip
        self.advice: Advice = advice(
            found.weak, found.layered, left=left, lock_after_days=lock_after_days
        )


class IntervalPart(DocumentPart):
    """A number of accounts, and between what it lies."""

    low: Annotated[int | None, "the lower end of the interval; null without one"]
    expected: Annotated[int, "the number that is expected"]
    high: Annotated[int | None, "the upper end of the interval; null without one"]


class ForecastPart(DocumentPart):
    """How many of some accounts have not come on which day."""

    accounts: Annotated[int, "accounts now"]
    method: Annotated[str, "the estimator"]
    no_interval: Annotated[str, "why there is no interval; empty where there is one"]
    withheld: Annotated[str, "why there is no forecast; empty where there is one"]
    days: Annotated[dict[str, IntervalPart], "by days ahead"]
    cohorts: Annotated[dict[str, dict[str, int]], "the same by cohort, and days ahead"]
    baseline: Annotated[dict[str, int], "the plain baseline, by days ahead"]


class StretchPart(DocumentPart):
    """Weeks that are unlike the others, and come again."""

    first_week: Annotated[int, "the first of them, from now"]
    last_week: Annotated[int, "the last of them"]
    times_as_many: Annotated[float, "how many logins they have, as a multiple of other weeks"]


class IrregularityPart(DocumentPart):
    """What in the dates breaks an assumption."""

    what: Annotated[str, "which irregularity"]
    sentence: Annotated[str, "what was seen"]
    withholds: Annotated[str, "what is not given because of it"]
    comes_again: Annotated[StretchPart | None, "when it is had again; null for never"]


class StrategyPart(DocumentPart):
    """A way to finish."""

    name: Annotated[str, "its name"]
    weak: Annotated[dict[str, IntervalPart], "accounts below the floor, by days ahead"]
    layered: Annotated[dict[str, IntervalPart], "layered accounts, by days ahead"]
    locked: Annotated[int, "accounts that it locks"]
    bulk_core_hours: Annotated[float, "core hours of hashing in bulk"]
    login_core_hours: Annotated[float, "core hours of hashing at logins"]


class AdvicePart(DocumentPart):
    """What is advised."""

    take: Annotated[str, "the strategy"]
    reasons: Annotated[list[str], "why"]


class PastForecast(DocumentPart):
    """A forecast as it would have been made, and what came."""

    weeks_before_end: Annotated[int, "made so many weeks before the log's end"]
    weeks: Annotated[int, "for so many weeks ahead"]
    accounts: Annotated[int, "accounts that waited then"]
    forecast: Annotated[int, "how many were forecast to wait still"]
    baseline: Annotated[int, "the same by the plain baseline"]
    truth: Annotated[int, "how many did"]


class BackTestPart(DocumentPart):
    """How forecasts of the past came out."""

    forecasts: Annotated[int, "forecasts that were tried"]
    mean_error: Annotated[float | None, "mean error, as a share of the accounts"]
    mean_error_of_baseline: Annotated[float | None, "the same of the baseline"]
    tried: Annotated[list[PastForecast], "some of them"]


class OutlookPart(DocumentPart):
    """How the migration will finish."""

    made_for: Annotated[str, "the day that it starts from"]
    dated_accounts: Annotated[int, "accounts with a date"]
    notes: Annotated[list[str], "sentences for a reader"]
    irregularities: Annotated[list[IrregularityPart], "what in the dates breaks an assumption"]
    weak: Annotated[ForecastPart, "accounts below the floor"]
    layered: Annotated[ForecastPart, "layered accounts"]
    strategies: Annotated[list[StrategyPart], "ways to finish"]
    advice: Annotated[AdvicePart, "what is advised"]
    back_test: Annotated[
        BackTestPart | None, "forecasts of the past; null where the past is too short"
    ]


def interval_part(interval: Interval) -> IntervalPart:
    """Give an interval in whole accounts."""
    low, high = (None if end is None else round(end) for end in (interval.low, interval.high))
    return IntervalPart(low=low, expected=round(interval.expected), high=high)


def days_ahead(days: Mapping[int, Interval]) -> dict[str, IntervalPart]:
    """Give the days that are told."""
    return {str(day): interval_part(days[day]) for day in HORIZONS}


def forecast_part(found: Forecast) -> ForecastPart:
    """Give a forecast: the days that are told, with the baseline beside each."""
    return ForecastPart.of(
        found,
        days=days_ahead(found.days),
        cohorts={
            name: {str(day): round(part[day]) for day in HORIZONS}
            for name, part in found.parts.items()
        },
        baseline={
            str(day): round(found.baseline[day]) for day in HORIZONS if day in found.baseline
        },
    )


def outlook_part(outlook: Outlook) -> OutlookPart:
    """Give the outlook."""
    found = outlook.found
    return OutlookPart.of(
        found,
        made_for=outlook.today.isoformat(),
        dated_accounts=found.dated,
        irregularities=[
            IrregularityPart.of(
                each, what=each.name, comes_again=each.expected and _stretch_part(each.expected)
            )
            for each in found.irregularities
        ],
        weak=forecast_part(found.weak),
        layered=forecast_part(found.layered),
        strategies=[
            StrategyPart.of(
                strategy,
                weak=days_ahead(strategy.weak),
                layered=days_ahead(strategy.layered),
                bulk_core_hours=strategy.bulk_hours,
                login_core_hours=strategy.login_hours,
            )
            for strategy in outlook.strategies
        ],
        advice=AdvicePart.of(outlook.advice),
        back_test=None if found.tests is None else _back_test_part(*found.tests),
    )


def _stretch_part(stretch: Stretch) -> StretchPart:
    return StretchPart(
        first_week=stretch.begins + 1, last_week=stretch.ends, times_as_many=stretch.factor
    )


def _back_test_part(test: BackTest, baseline: BackTest) -> BackTestPart:
    return BackTestPart(
        forecasts=len(test.cuts),
        mean_error=test.error,
        mean_error_of_baseline=baseline.error,
        tried=[
            PastForecast(
                weeks_before_end=before,
                weeks=weeks,
                **{
                    name: round(number)
                    for name, number in zip(
                        ("accounts", "forecast", "baseline", "truth"), numbers, strict=True
                    )
                },
            )
            for before, weeks, *numbers in _tried(test, baseline)
        ],
    )


def _tried(
    test: BackTest, baseline: BackTest
) -> Iterator[tuple[int, int, float, float, float, float]]:
    """Give some forecasts of the past: made so many weeks before the end, for so many weeks."""
    for before in _SHOWN_CUTS:
        if test.weeks - before not in test.cuts:
            continue
        row = test.cuts.index(test.weeks - before)
        for weeks in CHOICE_WEEKS:
            if weeks <= before:
                yield (
                    before, weeks, test.accounts[row], test.forecast[row, weeks],
                    baseline.forecast[row, weeks], test.truth[row, weeks],
                )  # fmt: skip


def span(interval: Interval) -> str:
    """Write an interval: what is expected, and between what."""
    middle = f"{round(interval.expected):,}"
    if interval.low is None or interval.high is None:
        return middle
    low, high = f"{round(interval.low):,}", f"{round(interval.high):,}"
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
    if not found.weak.withheld:
        _draw_burn_down(console, outlook)
    for each in found.irregularities:
        if each.sentence in {found.weak.withheld, found.weak.no_interval}:
            continue  # it stands above, as the reason why there is none
        console.print(Text(f"  warning: {each.sentence}.", "yellow"))
    for note in found.notes:
        console.print(f"  note: {note}.", highlight=False)
    if outlook.shows_back_test and found.tests is not None:
        _draw_back_test(console, *found.tests)


def _draw_burn_down(console: Console, outlook: Outlook) -> None:
    found = outlook.found
    console.print()
    dates = [f"{outlook.today + timedelta(days=day):%Y-%m-%d}\nday {day}" for day in HORIZONS]
    table = new_table(
        "strategy", "", *dates, "of one core", right=tuple(range(2, 3 + len(HORIZONS)))
    )
    for strategy in outlook.strategies:
        hours = duration(3600 * (strategy.bulk_hours + strategy.login_hours))
        table.add_row(strategy.name, "weak", *_cells(strategy.weak), hours)
        if strategy.name == WAIT and len(found.weak.parts) > 1:
            for name, part in found.weak.parts.items():
                cohort = [Text(f"{round(part[day]):,}", "dim") for day in HORIZONS]
                table.add_row("", Text(f"  {name}", "dim"), *cohort, "")
        table.add_row("", "layered", *_cells(strategy.layered), "")
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
    draw_source(console, weak, found.tests)


def draw_source(
    console: Console, forecast: Forecast, tests: tuple[BackTest, BackTest] | None
) -> None:
    """Say what a forecast comes from, how wrong such forecasts were, and what has no interval."""
    text = f"The forecast comes from {forecast.method}."
    if tests is not None and isfinite(tests[0].error):
        test, baseline = tests
        text += (
            f" {len(test.cuts)} such forecasts of the past were off by {test.error:.1%} of the "
            f"accounts on average, the plain baseline by {baseline.error:.1%}."
        )
    if any(each.is_drawn for each in forecast.days.values()):
        text += " It is an 80 % interval, from the errors of those."
    console.print(text, highlight=False)
    if forecast.no_interval:
        console.print(Text(f"No interval: {forecast.no_interval}.", "yellow"))


def _cells(intervals: Mapping[int, Interval]) -> list[Text]:
    """Give a cell for each day: the number, and its interval beneath it."""
    written = (span(intervals[day]) for day in HORIZONS)
    return [Text("\n").join(Text(line) for line in _beneath(each)) for each in written]


def _beneath(written: str) -> list[str]:
    number, _, interval = written.partition(" (")
    return [number, interval.removesuffix(")")] if interval else [number]


def _draw_back_test(console: Console, test: BackTest, baseline: BackTest) -> None:
    console.print()
    tried = list(_tried(test, baseline))
    if not tried:
        console.print(Text("Back-test: the log does not go back far enough.", "yellow"))
        return
    table = new_table(
        "made", "weeks on", "not returned", "forecast", "baseline", right=(1, 2, 3, 4)
    )
    for before, weeks, _, forecast, plain, truth in tried:
        table.add_row(
            f"{before} weeks before the log's end", str(weeks), f"{truth:,.0f}",
            f"{forecast:,.0f}", f"{plain:,.0f}",
        )  # fmt: skip
    console.print(table)
