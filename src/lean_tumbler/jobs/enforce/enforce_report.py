"""The guard of a column, and the gate: for people, for CI servers and for code scanning."""

from __future__ import annotations

from typing import TYPE_CHECKING, Annotated, Any
from xml.etree import ElementTree as ET

from msgspec import field
from rich.text import Text

from lean_tumbler.reports.documents import Document, DocumentPart, Key, StoreName, named
from lean_tumbler.reports.sarif import sarif_log
from lean_tumbler.reports.wording import count

if TYPE_CHECKING:
    from rich.console import Console

RULE = "below-floor-appeared"
_MEANING = "A value below the floor, or one that nobody understands, has appeared."


class GuardDocument(Document, tag=named("enforce-constraint")):
    """How a store's column is guarded."""

    store: StoreName
    stands: Annotated[bool | None, "whether the guard is there; null where that cannot be seen"]
    admitted: Annotated[list[str], "what the guard admits, in words"]
    violations: Annotated[int, "rows that the guard would refuse"]
    accounts: Annotated[list[Key], "the first rows that the guard would refuse"]
    apply: Annotated[list[str], "statements that set the guard"]
    remove: Annotated[list[str], "statements that take it away"]
    locks: Annotated[str, "what the statements lock, and for how long"]


def draw_guard(console: Console, state: GuardDocument, *, statements: bool, listed: str) -> None:
    """Print whether the column is guarded, what stands against it, and the next step.

    Args:
        console: where to.
        state: of the guard.
        statements: whether to print these, which are long.
        listed: the file that names all rows which would not be admitted; empty without one.
    """
    store, rows = state.store, count(state.violations, "row")
    if state.stands:
        console.print(Text(f"{store}: the column is guarded.", "bold green"))
    elif state.stands is None:
        console.print(Text(f"{store}: whether it is guarded cannot be seen.", "bold yellow"))
        console.print("This account has no right on the table beside SELECT; use one that owns it.")
    elif state.violations:
        console.print(Text(f"{store}: not guarded; {rows} would not be admitted.", "bold yellow"))
    else:
        console.print(Text(f"{store}: not guarded; every row would be admitted.", "bold"))
    if state.violations:
        _draw_violations(console, state, listed)
    console.print()
    console.print("Admitted, beside NULL:")
    for words in state.admitted:
        console.print(f"  {words}", highlight=False)
    if state.violations and not statements:
        return
    console.print()
    if statements:
        for statement in state.remove if state.stands else state.apply:
            console.print(statement, highlight=False, soft_wrap=True)
    console.print(f"Locks: {state.locks}")
    if state.violations:
        return
    verb = "--remove takes it away" if state.stands else "--apply puts it there"
    console.print(f"Next: {verb}; --print shows the statements.")


def _draw_violations(console: Console, state: GuardDocument, listed: str) -> None:
    for key in state.accounts:
        console.print(f"  account {key!r}", highlight=False)
    others = state.violations - len(state.accounts)
    if others:
        where = f"all stand in {listed}" if listed else "--list FILE writes all of them"
        console.print(f"  and {others:,} more; {where}", highlight=False)
    console.print("Bring them up first: `lean-tumbler layer`, or `lean-tumbler lock-dormant`.")


class Appeared(DocumentPart):
    """An account that is weak, and was not."""

    account: Annotated[str, "its key, or line"]
    grade: Annotated[str, "the grade of its value now"]
    wrapped: Annotated[bool, "whether something stands around the value"]
    backwards: Annotated[bool, "whether its value was better before; else the row is new"]
    created: Annotated[str, "when the row was made; may be empty"]
    updated: Annotated[str, "when the row was changed; may be empty"]
    administrator: Annotated[bool, "whether it is an administrator's"]


class GatedStore(DocumentPart):
    """What the gate saw of one store."""

    store: StoreName
    accounts: Annotated[int, "accounts that were looked at"]
    below_floor: Annotated[int, "accounts below the floor, or not understood"]
    accepted: Annotated[int, "accounts of these that were accepted"]
    regressions: Annotated[int, "accounts of these that were not"]
    first_run: Annotated[bool, "whether there was no earlier state to compare with"]
    listed: Annotated[list[Appeared], "the first of those that were not accepted"]
    embedded_behind: Annotated[
        list[str], "files of `embed` that are not what would be written now"
    ] = field(default_factory=list)

    @property
    def has_failed(self) -> bool:
        """Whether it keeps the gate shut."""
        return bool(self.regressions or self.embedded_behind)


class GateDocument(Document, tag=named("enforce-gate")):
    """What the gate saw."""

    passed: Annotated[bool, "whether nothing weak appeared"]
    stores: Annotated[list[GatedStore], "one entry for each store"]


def _words(each: Appeared) -> str:
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


_BEHIND = "not what `embed` would write now; write it again and deploy it"


def draw_gate(console: Console, gate: GateDocument) -> None:
    """Print what the gate saw."""
    for store in gate.stores:
        if store.first_run:
            below = count(store.below_floor, "account")
            text = (
                f"{store.store}: accepted {below} that are weak or not understood; "
                "the next run compares with this state."
            )
            console.print(Text(text, "bold"))
        elif store.regressions:
            regressions = count(store.regressions, "account")
            text = (
                f"{store.store}: {regressions} weak or not understood appeared since "
                "the accepted state."
            )
            console.print(Text(text, "bold red"))
        else:
            console.print(Text(f"{store.store}: nothing weak appeared.", "bold green"))
        for each in store.listed:
            console.print(f"  {_words(each)}", highlight=False)
        if store.regressions:
            console.print("Find what wrote them; then mend them, or accept them with --accept.")
        for name in store.embedded_behind:
            console.print(Text(f"  {name}: {_BEHIND}", "bold red"))


def gate_sarif(gate: GateDocument) -> dict[str, Any]:
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
            "message": {"text": f"{store.store}: {_words(each)}"},
            "locations": [
                {"logicalLocations": [{"fullyQualifiedName": store.store, "kind": "member"}]}
            ],
        }
        for store in gate.stores
        for each in store.listed
    ]
    return sarif_log([rule], results)


def gate_junit(gate: GateDocument) -> str:
    """Give it as JUnit XML, as CI servers read it: a test case for each store."""
    failed = [store for store in gate.stores if store.has_failed]
    suite = ET.Element(
        "testsuite",
        name="lean-tumbler enforce gate",
        tests=str(len(gate.stores)),
        failures=str(len(failed)),
        errors="0",
    )
    for store in gate.stores:
        case = ET.SubElement(suite, "testcase", classname="gate", name=store.store)
        if store.has_failed:
            message = f"{count(store.regressions, 'account')} weak or not understood appeared"
            failure = ET.SubElement(case, "failure", message=message)
            behind = [f"{name}: {_BEHIND}" for name in store.embedded_behind]
            failure.text = "\n".join([*map(_words, store.listed), *behind])
    ET.indent(suite)
    return ET.tostring(suite, encoding="unicode", xml_declaration=True) + "\n"
