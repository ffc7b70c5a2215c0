"""The guard of a column, and the gate: for people, for CI servers and for code scanning."""

from __future__ import annotations

from typing import TYPE_CHECKING, Any
from xml.etree import ElementTree as ET

from rich.text import Text

from lean_tumbler.reports.documents import Document, new_document
from lean_tumbler.reports.sarif import sarif_log
from lean_tumbler.reports.wording import count

if TYPE_CHECKING:
    from collections.abc import Sequence

    from rich.console import Console

    from lean_tumbler.jobs.enforce.gate import GateResult, Regression
    from lean_tumbler.stores.sql.guard import GuardState, Violations

RULE = "below-floor-appeared"
_MEANING = "A value below the floor, or one that nobody understands, has appeared."


def guard_document(state: GuardState) -> Document:
    """Give the guard as a document."""
    return new_document(
        "enforce-constraint",
        store=state.store,
        stands=state.stands,
        admitted=list(state.admitted),
        violations=state.violations.rows,
        accounts=list(state.violations.keys),
        apply=list(state.guard.apply),
        remove=list(state.guard.remove),
        locks=state.guard.locks,
    )


def draw_guard(console: Console, state: GuardState, *, statements: bool, listed: str) -> None:
    """Print whether the column is guarded, what stands against it, and the next step.

    Args:
        console: where to.
        state: of the guard.
        statements: whether to print these, which are long.
        listed: the file that names all rows which would not be admitted; empty without one.
    """
    store, violations = state.store, state.violations
    if state.stands:
        console.print(Text(f"{store}: the column is guarded.", "bold green"))
    elif state.stands is None:
        console.print(Text(f"{store}: whether it is guarded cannot be seen.", "bold yellow"))
        console.print("This account has no right on the table beside SELECT; use one that owns it.")
    elif violations.rows:
        rows = count(violations.rows, "row")
        console.print(Text(f"{store}: not guarded; {rows} would not be admitted.", "bold yellow"))
    else:
        console.print(Text(f"{store}: not guarded; every row would be admitted.", "bold"))
    if violations.rows:
        _draw_violations(console, violations, listed)
    console.print()
    console.print("Admitted, beside NULL:")
    for words in state.admitted:
        console.print(f"  {words}", highlight=False)
    if violations.rows and not statements:
        return
    console.print()
    if statements:
        for statement in state.guard.remove if state.stands else state.guard.apply:
            console.print(statement, highlight=False, soft_wrap=True)
    console.print(f"Locks: {state.guard.locks}")
    if violations.rows:
        return
    verb = "--remove takes it away" if state.stands else "--apply puts it there"
    console.print(f"Next: {verb}; --print shows the statements.")


def _draw_violations(console: Console, violations: Violations, listed: str) -> None:
    for key in violations.keys:
        console.print(f"  account {key!r}", highlight=False)
    others = violations.rows - len(violations.keys)
    if others:
        where = f"all stand in {listed}" if listed else "--list FILE writes all of them"
        console.print(f"  and {others:,} more; {where}", highlight=False)
    console.print("Bring them up first: `lean-tumbler layer`, or `lean-tumbler lock-dormant`.")


def gate_document(gate_results: Sequence[GateResult]) -> Document:
    """Give what the gate saw as a document."""
    return new_document(
        "enforce-gate",
        passed=not any(gate_result.regression_rows for gate_result in gate_results),
        stores=[
            {
                "store": gate_result.store,
                "accounts": gate_result.accounts,
                "below_floor": gate_result.weak,
                "accepted": gate_result.known,
                "regressions": gate_result.regression_rows,
                "first_run": gate_result.first,
                "listed": [_listed(each) for each in gate_result.regressions],
            }
            for gate_result in gate_results
        ],
    )


def _listed(each: Regression) -> dict[str, Any]:
    return {
        "account": each.account,
        "grade": each.grade,
        "how": "went backwards" if each.backwards else "new row",
        "created": each.created or None,
        "updated": each.updated or None,
        "administrator": each.administrator,
    }


def _words(each: Regression) -> str:
    times = ", ".join(
        f"{name} {text}"
        for name, text in (("created", each.created), ("updated", each.updated))
        if text
    )
    how = "went backwards" if each.backwards else "is new"
    around = ", inside other text" if each.wrapped else ""
    rights = ", an administrator" if each.administrator else ""
    dated = f"; {times}" if times else ""
    return f"account {each.account}{rights}: {each.grade}{around}, {how}{dated}"


def draw_gate(console: Console, gate_results: Sequence[GateResult]) -> None:
    """Print what the gate saw."""
    for gate_result in gate_results:
        if gate_result.first:
            below = count(gate_result.weak, "account")
            text = (
                f"{gate_result.store}: accepted {below} that are weak or not understood; "
                "the next run compares with this state."
            )
            console.print(Text(text, "bold"))
        elif gate_result.regression_rows:
            regressions = count(gate_result.regression_rows, "account")
            text = (
                f"{gate_result.store}: {regressions} weak or not understood appeared since "
                "the accepted state."
            )
            console.print(Text(text, "bold red"))
        else:
            console.print(Text(f"{gate_result.store}: nothing weak appeared.", "bold green"))
        for each in gate_result.regressions:
            console.print(f"  {_words(each)}", highlight=False)
        if gate_result.regression_rows:
            console.print("Find what wrote them; then mend them, or accept them with --accept.")


def gate_sarif(gate_results: Sequence[GateResult]) -> Document:
    """Give what appeared as SARIF 2.1.0, a result for each account that is named."""
    rule = {
        "id": RULE,
        "shortDescription": {"text": _MEANING},
        "defaultConfiguration": {"level": "error"},
    }
    results = [
        {
            "ruleId": RULE,
            "ruleIndex": 0,
            "level": "error",
            "message": {"text": f"{gate_result.store}: {_words(each)}"},
            "locations": [
                {"logicalLocations": [{"fullyQualifiedName": gate_result.store, "kind": "member"}]}
            ],
        }
        for gate_result in gate_results
        for each in gate_result.regressions
    ]
    return sarif_log([rule], results)


def gate_junit(gate_results: Sequence[GateResult]) -> str:
    """Give it as JUnit XML, as CI servers read it: a test case for each store."""
    failed = [gate_result for gate_result in gate_results if gate_result.regression_rows]
    suite = ET.Element(
        "testsuite",
        name="lean-tumbler enforce gate",
        tests=str(len(gate_results)),
        failures=str(len(failed)),
        errors="0",
    )
    for gate_result in gate_results:
        case = ET.SubElement(suite, "testcase", classname="gate", name=gate_result.store)
        if gate_result.regression_rows:
            message = (
                f"{count(gate_result.regression_rows, 'account')} weak or not understood appeared"
            )
            failure = ET.SubElement(case, "failure", message=message)
            failure.text = "\n".join(_words(each) for each in gate_result.regressions)
    ET.indent(suite)
    return ET.tostring(suite, encoding="unicode", xml_declaration=True) + "\n"
