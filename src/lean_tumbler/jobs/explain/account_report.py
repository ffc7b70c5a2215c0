"""One account of a store, explained: what it is read as, why, and what comes next."""

from __future__ import annotations

from typing import TYPE_CHECKING, Annotated

from rich.text import Text

from lean_tumbler.core.formulas import notation
from lean_tumbler.core.reading.readings import State
from lean_tumbler.core.reading.ways import Certainty, FormulaWay, PasswordWay, Way
from lean_tumbler.core.warrant import Step
from lean_tumbler.reports.documents import (
    Because,
    Document,
    DocumentPart,
    Key,
    Layout,
    Scheme,
    StoreName,
    named,
)
from lean_tumbler.reports.terminal import new_table
from lean_tumbler.reports.wording import sentence

if TYPE_CHECKING:
    from rich.console import Console

    from lean_tumbler.core.reading.readings import Reading
    from lean_tumbler.jobs.explain.account_explaining import ExplainedAccount

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


class WayPart(DocumentPart):
    """A way in which the row may have been made."""

    name: Annotated[str, "its name"]
    how: Annotated[str, "how: a formula, or where it comes from"]
    because: Because


class ConditionTest(DocumentPart):
    """A test of a cohort's condition."""

    test: Annotated[str, "the test"]
    holds: Annotated[bool, "whether it holds for the row"]


class CohortAnswer(DocumentPart):
    """A cohort, and what it says of the row."""

    name: Annotated[str, "its name"]
    when: Annotated[str, "the condition; empty for every row"]
    tests: Annotated[list[ConditionTest], "the tests of its condition"]
    holds: Annotated[bool, "whether all of them hold"]
    fits: Annotated[bool, "whether the text can have been made so"]


class ExplainAccountDocument(Document, tag=named("explain-account")):
    """One account of a store, explained; the value is not in it."""

    store: StoreName
    account: Key
    headline: Annotated[str, "what it is, in words"]
    state: Annotated[State, "how the row was read"]
    scheme: Scheme
    layout: Layout
    grade: Annotated[str | None, "the grade; null without a value"]
    ways: Annotated[list[WayPart], "ways in which the row may have been made"]
    cohorts: Annotated[list[CohortAnswer], "each cohort, and what it says of the row"]
    keyed_by: Annotated[str | None, "the key that it is under; null for none"]
    doubt: Annotated[str | None, "why a bulk step leaves the row; null where it does not"]
    suspected: Annotated[str | None, "what such texts may be as a group; null for nothing"]
    also_possible: Annotated[list[str], "other schemes that write such a value"]
    layer: Annotated[str, "what a bulk step would do with it"]
    login: Annotated[str, "what a login would do with it"]
    left: Annotated[
        dict[str, str | None], "by step, why it leaves the row; null where it may write it"
    ]
    opens: Annotated[bool | None, "whether the password that was typed opens it; null for none"]
    near_miss: Annotated[str | None, "the change that would make it fit; null for none"]


def explain_account_document(found: ExplainedAccount) -> ExplainAccountDocument:
    """Give the account as a document."""
    reading, checked = found.reading, found.checked
    return ExplainAccountDocument.of(
        found,
        account=found.key,
        headline=_headline(found),
        state=reading.state,
        scheme=reading.parsed.scheme,
        layout=_layout(reading),
        grade=found.grade if reading.state is not State.NO_VALUE else None,
        ways=[
            WayPart(name=way.name, how=_how(way), because=_CERTAINTY[way.certainty])
            for way in reading.ways
        ],
        cohorts=[
            CohortAnswer.of(
                cohort,
                when=cohort.condition,
                tests=[ConditionTest(test=test, holds=holds) for test, holds in cohort.tests],
            )
            for cohort in found.cohorts
        ],
        keyed_by=_key(reading),
        doubt=reading.doubt,
        suspected=reading.suspected or None,
        also_possible=reading.parsed.contents.also_possible,
        layer=_layering(found),
        login=found.at_login,
        left={str(step): left for step, left in found.left.items()},
        opens=checked and checked.accepted,
        near_miss=checked and (checked.near_miss or None),
    )


def draw_explain_account(console: Console, found: ExplainAccountDocument) -> None:
    """Print why an account is read as it is, and what each step would do."""
    if found.opens is not None:
        no = f"The password does not open it: {sentence(found.near_miss or '')}"
        answer = "The password opens it." if found.opens else no
        console.print(Text(answer, "bold green" if found.opens else "bold red"))
    console.print(Text(f"Account {found.account!r} of {found.store}: {found.headline}", "bold"))
    if found.state in {State.VALUE, State.LAYERED}:
        console.print(f"  layout    {found.layout}")
    if found.keyed_by:
        console.print(f"  under     the key “{found.keyed_by}”", highlight=False)
    for way in found.ways:
        console.print(f"  may be    {way.name}: {way.how} ({way.because})")
    if found.doubt:
        console.print(f"  doubt     {found.doubt}")
    if found.suspected:
        console.print(f"  column    as a group, such texts are {found.suspected}")
    if found.also_possible and not found.ways:
        console.print(f"  also      by its shape alone: {', '.join(found.also_possible)}")
    console.print(f"  layer     {found.layer}")
    console.print(f"  login     {found.login}")
    _draw_refused(console, found)
    if found.cohorts:
        console.print()
        _draw_cohorts(console, found.cohorts)


def _draw_refused(console: Console, found: ExplainAccountDocument) -> None:
    for step in (Step.CHANGE, Step.SET_PASSWORD, Step.LOCK):
        left = found.left[str(step)]
        if left is not None:
            console.print(f"  refused   {step}: {left}", soft_wrap=True)


def _key(reading: Reading) -> str | None:
    if reading.keyed is not None:
        return reading.keyed.name
    return reading.parsed.contents.variant if reading.closed is not None else None


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


def _draw_cohorts(console: Console, cohorts: list[CohortAnswer]) -> None:
    table = new_table("cohort", "condition", "holds", "the text fits")
    for cohort in cohorts:
        tests = cohort.tests or [ConditionTest(test="none: every row", holds=True)]
        for place, each in enumerate(tests):
            fits = ("yes" if cohort.fits else "no") if cohort.holds else ""
            last = fits if place == 0 else ""
            table.add_row(cohort.name if place == 0 else "", each.test, _yes(each.holds), last)
    console.print(table)
    console.print()


def _layout(reading: Reading) -> str:
    """Name the layout: of a cohort that has its own, else of the value."""
    own = [way.layout for way in reading.ways if isinstance(way, FormulaWay) and way.layout]
    return own[0] if own else reading.parsed.layout


def _yes(holds: bool) -> str:
    return "yes" if holds else "no"
