"""One account of a store, explained: what it is read as, why, and what comes next."""

from __future__ import annotations

from typing import TYPE_CHECKING

from rich.text import Text

from lean_tumbler.core.formulas import notation
from lean_tumbler.core.reading.readings import State
from lean_tumbler.core.reading.ways import Certainty, FormulaWay, PasswordWay, Way
from lean_tumbler.core.warrant import Step
from lean_tumbler.reports.documents import Document, new_document
from lean_tumbler.reports.terminal import new_table
from lean_tumbler.reports.wording import sentence

if TYPE_CHECKING:
    from rich.console import Console

    from lean_tumbler.core.reading.readings import Reading
    from lean_tumbler.jobs.explain.explaining import ExplainedAccount

_CERTAINTY = {
    Certainty.SAID: "the value itself says so",
    Certainty.DECLARED: "declared by the policy",
    Certainty.POSSIBLE: "possible by its shape alone",
}


def _how(way: Way) -> str:
    if isinstance(way, FormulaWay):
        return notation.write(way.formula.formula)
    return "the password itself" if isinstance(way, PasswordWay) else way.origin


def _layering(found: ExplainedAccount) -> str:
    plan = found.plan
    left = plan.leave or found.left[Step.LAYER]
    if left is not None:
        of_cohort = f" (“{plan.cohort}”)" if plan.leave is None and plan.cohort else ""
        return f"leaves it: {left}{of_cohort}"
    if plan.plain is not None:
        return "replaces it: the password is known"
    several = f", for {plan.cohort}" if "+" in plan.cohort else ""
    return f"puts the slow hash over it{several}"


def explain_account_document(found: ExplainedAccount) -> Document:
    """Give the account as a document; the value is not in it."""
    reading = found.reading
    return new_document(
        "explain-account",
        store=found.store,
        account=found.key,
        state=str(reading.state),
        scheme=reading.parsed.scheme,
        layout=_layout(reading),
        grade=str(found.grade) if reading.state is not State.NO_VALUE else None,
        ways=[
            {"name": way.name, "how": _how(way), "because": _CERTAINTY[way.certainty]}
            for way in reading.ways
        ],
        cohorts=[
            {
                "name": cohort.name,
                "when": cohort.condition or None,
                "tests": [{"test": test, "holds": holds} for test, holds in cohort.tests],
                "holds": cohort.holds,
                "fits": cohort.fits,
            }
            for cohort in found.cohorts
        ],
        doubt=str(reading.doubt) if reading.doubt else None,
        suspected=reading.suspected or None,
        also_possible=list(reading.parsed.contents.also_possible),
        layer=_layering(found),
        login=found.at_login,
        left={str(step): None if left is None else str(left) for step, left in found.left.items()},
        opens=None if found.checked is None else found.checked.accepted,
        near_miss=(found.checked.near_miss or None) if found.checked else None,
    )


def draw_explain_account(console: Console, found: ExplainedAccount) -> None:
    """Print why an account is read as it is, and what each step would do."""
    reading = found.reading
    if found.checked is not None:
        accepted, near = found.checked.accepted, found.checked.near_miss
        no = f"The password does not open it: {sentence(near)}"
        answer = "The password opens it." if accepted else no
        console.print(Text(answer, "bold green" if accepted else "bold red"))
    console.print(Text(f"Account {found.key!r} of {found.store}: {_headline(found)}", "bold"))
    if reading.state in {State.VALUE, State.LAYERED}:
        console.print(f"  layout    {_layout(reading)}")
    for way in reading.ways:
        console.print(f"  may be    {way.name}: {_how(way)} ({_CERTAINTY[way.certainty]})")
    if reading.doubt:
        console.print(f"  doubt     {reading.doubt}")
    if reading.suspected:
        console.print(f"  column    as a group, such texts are {reading.suspected}")
    also = ", ".join(reading.parsed.contents.also_possible)
    if also and not reading.ways:
        console.print(f"  also      by its shape alone: {also}")
    console.print(f"  layer     {_layering(found)}")
    console.print(f"  login     {found.at_login}")
    for step in (Step.CHANGE, Step.SET_PASSWORD, Step.LOCK):
        left = found.left[step]
        if left is not None:
            console.print(f"  refused   {step}: {left}", soft_wrap=True)
    if found.cohorts:
        console.print()
        _draw_cohorts(console, found)


def _headline(found: ExplainedAccount) -> str:
    reading = found.reading
    if reading.state is State.LAYERED:
        return f"{reading.parsed.scheme} over {reading.label}"
    if reading.state is not State.VALUE:
        return str(reading.state)
    if any(isinstance(way, PasswordWay) for way in reading.ways):
        return f"the password itself, {found.grade}"
    declared = [way for way in reading.ways if way.certainty is Certainty.DECLARED]
    what = reading.label if declared else reading.parsed.scheme
    return f"{what}, {found.grade}"


def _draw_cohorts(console: Console, found: ExplainedAccount) -> None:
    table = new_table("cohort", "condition", "holds", "the text fits")
    for cohort in found.cohorts:
        tests = cohort.tests or [("none: every row", True)]
        for place, (test, holds) in enumerate(tests):
            fits = ("yes" if cohort.fits else "no") if cohort.holds else ""
            last = fits if place == 0 else ""
            table.add_row(cohort.name if place == 0 else "", test, _yes(holds), last)
    console.print(table)
    console.print()


def _layout(reading: Reading) -> str:
    """Name the layout: of a cohort that has its own, else of the value."""
    own = [way.layout for way in reading.ways if isinstance(way, FormulaWay) and way.layout]
    return own[0] if own else reading.parsed.layout


def _yes(holds: bool) -> str:
    return "yes" if holds else "no"
