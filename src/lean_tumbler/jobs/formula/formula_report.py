"""Formulas: what a search found, and one formula read aloud with a worked example."""

from __future__ import annotations

from typing import TYPE_CHECKING, Annotated

from msgspec import Struct
from rich.text import Text

from lean_tumbler.core.formulas import notation
from lean_tumbler.core.formulas.analysis import digests_used, inputs_used, keys_used, lossy, work
from lean_tumbler.reports.documents import Document, DocumentPart, Layout, named
from lean_tumbler.reports.terminal import new_table
from lean_tumbler.reports.wording import count, sentence

if TYPE_CHECKING:
    from collections.abc import Sequence

    from rich.console import Console

    from lean_tumbler.core.formulas.evaluation import Inputs
    from lean_tumbler.core.formulas.steps import Formula
    from lean_tumbler.core.formulas.tracing import TracedStep
    from lean_tumbler.jobs.formula.solving_files import Solved

_VALUE_CHARACTERS = 72
_LINES_SHOWN = 8


Fingerprint = Annotated[str, "the formula's fingerprint, as layered values keep it"]


class FittingFormula(DocumentPart):
    """A formula that fits all accounts."""

    formula: Annotated[str, "the formula"]
    fingerprint: Fingerprint
    difference: Annotated[str, "what sets it apart from the first; empty for the first"]


class GenerationPart(DocumentPart):
    """A formula that explains some of the accounts, where several together explain all."""

    formula: Annotated[str, "the formula"]
    fingerprint: Fingerprint
    layout: Layout
    lines: Annotated[list[int], "lines of the file that it explains"]


class NearMissPart(DocumentPart):
    """A formula that explains some accounts."""

    formula: Annotated[str, "the formula"]
    accounts_explained: Annotated[int, "accounts that it explains"]
    leaves: Annotated[str, "what it leaves unexplained"]


class SolveDocument(Document, tag=named("formula-solve")):
    """What a search for a formula found."""

    solved: Annotated[bool, "whether a formula was found"]
    formula: Annotated[str | None, "the formula; null where none was found"]
    fingerprint: Annotated[str | None, "its fingerprint; null where none was found"]
    formulas: Annotated[list[FittingFormula], "formulas that fit all accounts"]
    layout: Layout
    generations: Annotated[list[GenerationPart], "formulas that together explain the accounts"]
    accounts: Annotated[int, "accounts of the file"]
    accounts_explained: Annotated[int, "accounts that the best formula explains"]
    candidates_tried: Annotated[int, "formulas that were tried"]
    near_misses: Annotated[list[NearMissPart], "formulas that explain some accounts"]
    notes: Annotated[list[str], "sentences for a reader"]
    next_checks: Annotated[list[str], "what would help"]
    whole_space_searched: Annotated[bool, "whether nothing was left to try"]
    reached: Annotated[str, "how far the search came"]
    seconds: Annotated[float, "how long it took"]


def solve_document(solved: Solved) -> SolveDocument:
    """Give a search's result as a document."""
    solution = solved.solution
    formulas = [
        FittingFormula(formula=text, fingerprint=_fingerprint(text), difference=difference)
        for text, difference in zip(solution.formulas, solved.differences, strict=True)
    ]
    first = formulas[0] if formulas else None
    return SolveDocument.of(
        solved,
        solved=bool(formulas),
        formula=first and first.formula,
        fingerprint=first and first.fingerprint,
        formulas=formulas,
        layout=solved.layout or None,
        generations=[
            GenerationPart(
                formula=each.formulas[0],
                fingerprint=_fingerprint(each.formulas[0]),
                layout=each.layout or None,
                lines=[solved.lines[place] for place in each.explained],
            )
            for each in solved.generations
        ],
        accounts=len(solved.lines),
        accounts_explained=_explained(solved),
        candidates_tried=solution.tried,
        near_misses=[
            NearMissPart(
                formula=miss.formula, accounts_explained=len(miss.explained), leaves=leaves
            )
            for miss, leaves in zip(solution.near_misses, solved.leaves, strict=True)
        ],
        whole_space_searched=solution.exhausted,
        reached=solution.reached,
        seconds=solution.seconds,
    )


def _explained(solved: Solved) -> int:
    if solved.solution.formulas:
        return len(solved.lines)
    return max((len(miss.explained) for miss in solved.solution.near_misses), default=0)


def _fingerprint(text: str) -> str:
    return notation.fingerprint(notation.parse(text))


def draw_solve(console: Console, solved: Solved) -> None:
    """Print what was found: the formula first, then what could be it too, or what is near."""
    solution = solved.solution
    _draw_answer(console, solved)
    for note in solved.notes:
        console.print(f"Note: {sentence(note)}")
    rate = solution.tried / max(solution.seconds, 1e-9)
    reached = f", to “{solution.reached}”" if solution.reached else ""
    console.print(
        f"{solution.tried:,} candidates in {solution.seconds:.1f} s ({rate:,.0f} a second)"
        f"{reached}."
    )
    console.print()
    if len(solution.formulas) > 1:
        table = new_table("these formulas fit all of them too", "what would distinguish them")
        for text, difference in zip(solution.formulas[1:], solved.differences[1:], strict=True):
            table.add_row(text, difference)
        console.print(table)
        console.print()
    if solution.near_misses and not solution.formulas and not solved.generations:
        table = new_table("near miss", "explains", "leaves")
        for miss, leaves in zip(solution.near_misses, solved.leaves, strict=True):
            table.add_row(miss.formula, f"{len(miss.explained)} of {len(solved.lines)}", leaves)
        console.print(table)
        console.print()
    if solution.formulas:
        console.print("Next: confirm it on more accounts with `lean-tumbler verify`; read it aloud")
        console.print("with `lean-tumbler formula show`; write it down with --save NAME.")
    if solved.generations:
        console.print(
            "Next: `lean-tumbler draft` writes a cohort for each, and looks for the column"
        )
        console.print("that tells their rows apart.")
    for check in solved.next_checks:
        console.print(f"Next: {sentence(check)}")


def _draw_answer(console: Console, solved: Solved) -> None:
    """Print the answer: one formula, several together, or none."""
    formulas = solved.solution.formulas
    if formulas:
        console.print(Text(f"Solved: {formulas[0]}", "bold green"), soft_wrap=True)
        explained = f"It explains all {count(len(solved.lines), 'account')}"
        console.print(f"{explained}; fingerprint {_fingerprint(formulas[0])}.")
    elif solved.generations:
        _draw_generations(console, solved)
    else:
        console.print(Text("No formula explains all accounts.", "bold red"))
    if solved.layout:
        console.print(Text(f"Layout of the stored values: {solved.layout}"), soft_wrap=True)


def _draw_generations(console: Console, solved: Solved) -> None:
    """Print the formulas that explain the accounts together, each with its own."""
    number = len(solved.generations)
    console.print(Text(f"Not one formula: {number} together explain all accounts.", "bold yellow"))
    console.print()
    table = new_table("formula", "explains", "lines of the file")
    for each in solved.generations:
        lines = [str(solved.lines[place]) for place in each.explained]
        more = ", …" if len(lines) > _LINES_SHOWN else ""
        table.add_row(
            each.formulas[0] + (f"\n  layout {each.layout}" if each.layout else ""),
            f"{len(lines)} of {len(solved.lines)}",
            ", ".join(lines[:_LINES_SHOWN]) + more,
        )
    console.print(table)
    console.print()


class ShownFormula(Struct, frozen=True, kw_only=True):
    """One formula to be read aloud."""

    name: str
    formula: Formula
    example: Inputs  # the account that is worked through
    traced: Sequence[TracedStep]  # its values step by step
    seconds_each: float  # how long one guess takes on one core of this machine
    # the login of a known account that is worked through; empty for an invented one
    known: str = ""
    fits: bool = False  # whether it gives what is stored for the known account
    show_values: bool = True  # whether the values of a known account are shown

    def shown(self, value: str) -> str:
        """Give a value as it is to be shown."""
        return _shortened(value) if self.show_values else "…"


class ExampleStep(DocumentPart):
    """A step of a worked example."""

    step: Annotated[str, "the step"]
    value: Annotated[str, "what flows out of it"]
    text: Annotated[bool, "whether that is text"]


class ExamplePart(DocumentPart):
    """The formula, worked through for one password."""

    known: Annotated[str | None, "the known account; null for an invented one"]
    fits: Annotated[bool | None, "whether it gives what is stored; null for an invented one"]
    password: Annotated[str, "an invented password, or a known one with --show-values"]
    login: Annotated[str | None, "the account's login"]
    salt: Annotated[str, "its salt; may be empty"]
    steps: Annotated[list[ExampleStep], "its steps"]


class ShowDocument(Document, tag=named("formula-show")):
    """One formula, read aloud."""

    policy_name: Annotated[str | None, "its name in the policy; null without one"]
    formula: Annotated[str, "the formula"]
    fingerprint: Fingerprint
    takes: Annotated[list[str], "inputs beside the password"]
    keys: Annotated[list[str], "keys that it needs"]
    digests: Annotated[list[str], "digests that it computes"]
    work: Annotated[int, "steps and rounds for one password"]
    guesses_per_second: Annotated[float, "guesses a second on one core of this machine"]
    lossy: Annotated[list[str], "what of a password it loses"]
    example: Annotated[ExamplePart, "the formula, step by step, for one password"]


def show_document(shown: ShownFormula) -> ShowDocument:
    """Give a formula as a document; a known account's values only where they are to be shown."""
    formula, example = shown.formula, shown.example
    hidden = None if shown.show_values else "hidden"
    return ShowDocument(
        policy_name=shown.name or None,
        formula=notation.write(formula),
        fingerprint=notation.fingerprint(formula),
        takes=sorted(inputs_used(formula)),
        keys=sorted(keys_used(formula)),
        digests=list(digests_used(formula)),
        work=work(formula),
        guesses_per_second=round(1 / shown.seconds_each),
        lossy=list(lossy(formula)),
        example=ExamplePart.of(
            example,
            known=shown.known or None,
            fits=shown.fits if shown.known else None,
            password=hidden or example.password,
            salt=hidden or (example.salt or b"").decode("utf-8", "backslashreplace"),
            steps=[
                ExampleStep(step=line.step, value=hidden or line.value, text=line.is_text)
                for line in shown.traced
            ],
        ),
    )


def draw_show(console: Console, shown: ShownFormula) -> None:
    """Print a formula, what it costs, and an example line by line."""
    formula = shown.formula
    if shown.known:
        fits = "gives what is stored" if shown.fits else "gives something else than what is stored"
        style = "bold green" if shown.fits else "bold red"
        console.print(Text(f"For the known account {shown.known} it {fits}.", style))
    console.print(Text(notation.write(formula), "bold"), soft_wrap=True)
    named = f"{shown.name}, " if shown.name else ""
    console.print(f"{named}fingerprint {notation.fingerprint(formula)}")
    console.print()
    _draw_lossy(console, formula)
    rate = 1 / shown.seconds_each
    console.print(
        f"A guess costs {count(work(formula), 'step')}: one core of this machine tries "
        f"{rate:,.0f} a second; dedicated hardware tries thousands of times as many."
    )
    console.print()
    _draw_example(console, shown)


def _draw_lossy(console: Console, formula: Formula) -> None:
    """Say whether a login tells which password the other logins will type."""
    narrowing = lossy(formula)
    if narrowing:
        console.print(
            Text(
                f"Lossy: {', '.join(narrowing)}. Different passwords open one account, so a login "
                "does not say which one the other logins will type.",
                "yellow",
            )
        )
        console.print(
            "Such values stay layered, unless the store's policy says replace_lossy = true."
        )
    else:
        console.print("Not lossy: one password opens an account, so a login can rewrite its value.")


def _draw_example(console: Console, shown: ShownFormula) -> None:
    """Print an example step by step."""
    formula, example = shown.formula, shown.example
    table = new_table("step", "gives", "as")
    of = f"(the password of {shown.known})" if shown.known else "(an invented password)"
    table.add_row(of, shown.shown(example.password), _form(example.password, is_text=True))
    for line in shown.traced:
        table.add_row(line.step, shown.shown(line.value), _form(line.value, is_text=line.is_text))
    console.print(table)
    inputs = inputs_used(formula)
    used = [
        f"{name} = {value}"
        for name, value in (
            ("salt", shown.shown((example.salt or b"").decode("utf-8", "backslashreplace"))),
            ("login", example.login or ""),
        )
        if name in inputs
    ]
    whose = "from the file" if shown.known else "all of it invented"
    if used:
        console.print()
        console.print(f"Worked with {', '.join(used)}; {whose}.")
    if not shown.show_values:
        console.print()
        console.print("The values are hidden; --show-values shows them.")


def _form(value: str, *, is_text: bool) -> str:
    return f"{len(value)} characters" if is_text else f"{len(value) // 2} bytes"


def _shortened(value: str) -> str:
    return value if len(value) <= _VALUE_CHARACTERS else value[: _VALUE_CHARACTERS - 1] + "…"
