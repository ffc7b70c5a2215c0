"""docs/PROMISES.md: each number that commands print as a promise, beside what was measured."""

import json
import re
from collections.abc import Iterator
from dataclasses import dataclass
from pathlib import Path
from typing import Any, get_type_hints

from reference.documents import documents, types_in
from reference.tables import table

RESULTS = Path(__file__).parent.parent / "benchmarks" / "results.jsonl"
# Names of fields that tell how long, how much or how sure something is.
_TELLS = re.compile(
    r"p99|second|milli|bound|at_most|off_by|error|guesses_per|money|kilowatt|cracked|low$|high$|expected$"
    r"|days_of_logins|forecast|^weak$|^layered$"
)


@dataclass(frozen=True, slots=True, kw_only=True)
class Promised:
    """One kind of number that commands print as a promise."""

    what: str  # what is promised
    commands: tuple[str, ...]  # that print it
    fields: tuple[str, ...]  # of the documents, by struct and name
    benchmarks: tuple[str, ...]  # that hold it beside the truth; none where it cannot be
    says: str  # how sure it is, and where that ends


PROMISES = (
    Promised(
        what="99 of 100 logins are answered in time",
        commands=("tune", "serve"),
        fields=(
            "CandidatePart.p99_milliseconds",
            "ChosenPart.p99_milliseconds",
            "ChosenPart.simulated_p99_milliseconds",
            "RequirementPart.within_milliseconds",
            "RequirementPart.cores_and_milliseconds",
        ),
        benchmarks=("promise-simulated", "promise", "tune"),
        says="`serve` counts it as it goes (`tumbler_promise`), and says so where it is not kept.",
    ),
    Promised(
        what="How long a derivation takes at costs that were not measured",
        commands=("tune",),
        fields=(
            "MeasuredPart.milliseconds",
            "MeasuredPart.milliseconds_at_load",
            "MeasuredPart.milliseconds_at_once",
            "CandidatePart.milliseconds",
            "ChosenPart.milliseconds",
            "FitPart.held_back_error",
        ),
        benchmarks=("tune",),
        says="Each run holds some measurements back, and prints the error on these.",
    ),
    Promised(
        what="How long layering takes",
        commands=("plan", "layer"),
        fields=(
            "LayerDocument.expected",
            "SpreadPart.low",
            "SpreadPart.expected",
            "SpreadPart.high",
        ),
        benchmarks=("layering-time",),
        says="Between the best and the worst of some derivations, on the machine as it is loaded.",
    ),
    Promised(
        what="How many rows may use another formula, with 95 % confidence",
        commands=("plan", "layer"),
        fields=("ProofPart.at_most_made_otherwise",),
        benchmarks=("bound",),
        says="It holds if known accounts are like the rest (docs/COHORTS.md).",
    ),
    Promised(
        what="In how many days so many people log in",
        commands=("plan", "layer"),
        fields=("ProofPart.days_of_logins", "ProofPart.most_days_of_logins"),
        benchmarks=("observing-truth",),
        says="The second number is promised nine times in ten.",
    ),
    Promised(
        what="How many accounts still wait on a day, and the 80 % interval",
        commands=("plan", "progress", "report"),
        fields=(
            "IntervalPart.low",
            "IntervalPart.expected",
            "IntervalPart.high",
            "StrategyPart.weak",
            "StrategyPart.layered",
            "StoreProgress.forecast_of_start",
            "StoreProgress.forecast",
            "StoreProgress.waiting_forecast",
            "ReportedStore.forecast",
            "ReportedStore.waiting_forecast",
            "OutlookPart.weak",
            "OutlookPart.layered",
            "PastForecast.forecast",
            "BackTestPart.mean_error",
            "BackTestPart.mean_error_of_baseline",
            "BackTestPart.forecasts",
            "ReportedStore.forecast_of_start",
            "PlanDocument.forecast",
        ),
        benchmarks=("forecast-truth",),
        says="docs/FORECAST.md has the figures for each kind of store.",
    ),
    Promised(
        what="What an attacker pays",
        commands=("audit", "tune", "exposed", "explain", "plan", "formula show"),
        fields=(
            "AttackedGroup.guesses_per_second",
            "AttackedGroup.money_each",
            "AttackedGroup.share_cracked",
            "LikeliestPart.seconds_one_account",
            "LikeliestPart.money_one_account",
            "LikeliestPart.seconds_all_accounts",
            "LikeliestPart.money_all_accounts",
            "CandidatePart.guesses_per_second",
            "ChosenPart.guesses_per_second",
            "TuneDocument.guesses_off_by_factor",
            "SpentPart.seconds",
            "SpentPart.money",
            "SpentPart.kilowatt_hours",
            "SpentPart.share_cracked",
            "ExposedKind.guesses_per_second",
            "ExplainDocument.guesses_per_second",
            "ShowDocument.guesses_per_second",
            "PlanDocument.guesses_per_second_after",
            "PlannedCohort.guesses_per_second",
        ),
        benchmarks=(),
        says="Counted from the standards, not measured; for the error see docs/ATTACKER.md.",
    ),
)
# What tells of the run itself: it was measured, and promises nothing.
MEASURED = frozenset(
    {
        "CountedStore.layered",
        "LayerDocument.layered",
        "RehearseDocument.layered",
        "ConstraintsPart.within_milliseconds",
        "ConstraintsPart.peak_logins_per_second",
        "ExplainDocument.milliseconds_here",
        "LayerDocument.seconds",
        "LayerDocument.per_second",
        "RekeyDocument.seconds",
        "RekeyDocument.per_second",
        "LayerDocument.waited_seconds",
        "SolveDocument.seconds",
        "MeasuredPart.milliseconds",
    }
)


def telling_fields() -> Iterator[str]:
    """Give the fields of all documents whose names tell how long, how much or how sure."""
    seen = {each for kind in documents().values() for each in types_in(kind)}
    for each in sorted(seen, key=lambda kind: kind.__name__):
        for name, hint in get_type_hints(each, include_extras=True).items():
            if _TELLS.search(name) and any(kind in str(hint) for kind in ("int", "float", "Part")):
                yield f"{each.__name__}.{name}"


def promises_page() -> str:
    """Write the page from the table above and the benchmarks' last results."""
    results = _results()
    return "".join((_HEAD, *(_section(promise, results) for promise in PROMISES)))


def _results() -> dict[str, list[dict[str, Any]]]:
    found: dict[str, list[dict[str, Any]]] = {}
    for line in RESULTS.read_text("utf-8").splitlines():
        row = json.loads(line)
        found.setdefault(row.pop("of"), []).append(row)
    return found


def _section(promise: Promised, results: dict[str, list[dict[str, Any]]]) -> str:
    commands = ", ".join(f"`{name}`" for name in promise.commands)
    lines = [f"\n## {promise.what}\n\nPrinted by {commands}. {promise.says}\n"]
    for name in promise.benchmarks:
        rows = results.get(name, [])
        lines.append(_measured(name, rows) if rows else f"\n`{name}` was not run lately.\n")
    return "".join(lines)


def _measured(name: str, rows: list[dict[str, Any]]) -> str:
    on = rows[0]["on"]
    told = [
        (
            str(row["benchmark"]),
            ", ".join(
                f"{key.replace('_', ' ')} {value}"
                for key, value in row.items()
                if key not in {"benchmark", "on", "cores"}
            ),
        )
        for row in rows
    ]
    head = f"\n`{name}`, on {on['day']}, {on['cores']} cores of a shared machine:\n\n"
    return head + table(("case", "promise and truth"), told)


_HEAD = """# Promises

Each number that a command prints as a promise, and what a benchmark measured beside it. This page
is generated: `python benchmarks/run.py NAME` writes benchmarks/results.jsonl, then
`python -m reference docs` writes this. A test fails where a document has such a number that is not
listed here.
"""
