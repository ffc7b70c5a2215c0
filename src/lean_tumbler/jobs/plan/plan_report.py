"""The plan: cohorts first, then what must be done before, and what would be touched."""

from __future__ import annotations

from typing import TYPE_CHECKING, Annotated

from msgspec.structs import asdict
from rich.text import Text

from lean_tumbler.core.reasons import Reason
from lean_tumbler.migration.bulk.deriving import NO_TIME
from lean_tumbler.reports.documents import (
    Document,
    DocumentPart,
    ListedRow,
    Rows,
    SpreadPart,
    StoreName,
    key_told,
    named,
)
from lean_tumbler.reports.forecast import OutlookPart, draw_outlook, outlook_part
from lean_tumbler.reports.progress import MovePart, moved_so_far
from lean_tumbler.reports.proofs import ProofPart, draw_proofs, proof_part
from lean_tumbler.reports.skipped import draw_left
from lean_tumbler.reports.terminal import new_table
from lean_tumbler.reports.wording import count, guess_count, spread

if TYPE_CHECKING:
    from collections.abc import Iterator

    from rich.console import Console

    from lean_tumbler.jobs.plan.planning import Plan
    from lean_tumbler.reports.forecast import Outlook
    from lean_tumbler.stores.sql.column_move import ColumnMove

_LAYER = "layered now; replaced at the next login"
_REPLACE = "replaced now: the password is known"
_MOVE = "moved as it is to the new column"
# What becomes of rows that a bulk run leaves, where that is not the next login or a proof.
_LEFT = {Reason.NO_VALUE: "nothing to protect", Reason.LOCKED: "left", Reason.CURRENT: "left"}
_UNTIL_PROVEN = frozenset(
    {
        *(Reason.UNPROVEN, Reason.TOO_FEW, Reason.CONTRADICTED, Reason.STRUCTURED_TEXT),
        *(Reason.CAME_LATER, Reason.STRATUM_UNKNOWN),
    }
)
# A login with the right password replaces them.
_AT_LOGIN = frozenset(
    {
        *(Reason.LAYERED, Reason.REWRITTEN, Reason.READERS_OF_TARGET, Reason.WAYS_DIFFER),
        *(Reason.ONLY_SHAPE, Reason.AT_NEXT_LOGIN, Reason.PREPARED, Reason.LAYER_TOO_WEAK),
        *(Reason.HEAD_TOO_LONG,),
    }
)
_PERSON = "needs a person"
_UNPROVEN = "left until it is proven"
_TOUCHED = {
    "triggers": "triggers run at every row",
    "views": "views read the table",
    "generated": "generated columns may be computed from it",
    "updated_by_itself": "columns that the server dates at every row; kept, where this user may",
    "relatives": "tables that may hold older values (`lean-tumbler residue` searches them)",
    "copies": "copies get every change, and keep the old values",
}
# Who reads the column, as the server knows it: readers_ready is said of all of them.
_READERS_TITLE = (
    "Who reads the column, as the server knows it; readers_ready is said of all of them:"
)
_READERS = {
    "readers": "accounts that may read it",
    "routines": "functions and procedures that name the table",
    "statements": "statements that named it lately",
    "clients": "programs that are connected now",
}

_NEXT = "`lean-tumbler rehearse`, then `lean-tumbler layer --share 1% --backup FILE --to PUBLICKEY`"
_NEXT_WHILE_READERS_ARE_NOT = (
    "`lean-tumbler rehearse`; give every program that checks passwords the new check; then set "
    "mode and readers_ready in the policy"
)
_NEXT_WHILE_UNPROVEN = "prove the cohorts with `lean-tumbler verify KNOWN --store {store}`"
_NEXT_WHEN_LAYERED = (
    "`lean-tumbler progress` as logins come, `lean-tumbler enforce` once none waits"
)


def _parts(plan: Plan) -> Iterator[tuple[str, int, str]]:
    for cohort, rows in plan.summary.cohorts.most_common():
        example = plan.summary.examples[cohort]
        gets = _MOVE if example.moves else _REPLACE if example.plain is not None else _LAYER
        yield cohort, rows, gets
    for leave, rows in plan.summary.left.most_common():
        if leave in _UNTIL_PROVEN:
            for cohort, number in plan.summary.left_of[leave].most_common():
                yield cohort, number, f"{_UNPROVEN}: {leave}"
        else:
            yield (
                leave.value,
                rows,
                _LEFT.get(leave) or ("replaced at login" if leave in _AT_LOGIN else _PERSON),
            )


class PlannedCohort(DocumentPart):
    """What becomes of some rows."""

    cohort: Annotated[str, "their cohort, or why they are left"]
    rows: Rows
    gets: Annotated[str, "what the rows get"]
    guesses_per_second: Annotated[float | None, "an attacker's now; null where there is none"]


class SchemaChangePart(DocumentPart):
    """What the column needs first."""

    statements: Annotated[list[str], "statements to run"]
    reverse: Annotated[list[str], "statements that undo them"]
    locks: Annotated[str, "what the server locks meanwhile"]


class PlannedMove(MovePart):
    """The move to another column."""

    is_there: Annotated[bool, "whether the table has the new column"]
    add: Annotated[str, "the statement that adds it"]
    drop_added: Annotated[str, "what takes that back"]
    drop: Annotated[str, "the statement that drops the old column, in the end"]
    locks: Annotated[str, "what these lock"]


class Touched(DocumentPart):
    """What a change of the table would touch, as far as the server tells."""

    triggers: Annotated[list[str], "triggers on the table"]
    views: Annotated[list[str], "views that read it"]
    generated: Annotated[list[str], "columns of it that are computed"]
    updated_by_itself: Annotated[list[str], "columns that the server sets at every update"]
    relatives: Annotated[list[str], "tables that by their names keep its past"]
    copies: Annotated[list[str], "where the server sends or keeps changes"]
    readers: Annotated[list[str], "accounts of the server that may read the column"]
    routines: Annotated[list[str], "functions and procedures that name the table"]
    statements: Annotated[list[str], "statements that named the column lately, without values"]
    clients: Annotated[list[str], "programs and accounts that are connected now"]
    not_told: Annotated[list[str], "which of these the server does not tell this account"]


class ReaderPart(DocumentPart):
    """What one program of `verified_by` reads, from now to the end."""

    program: Annotated[str, "the program"]
    now: Annotated[list[str], "cohorts whose values it verifies as they stand"]
    layered: Annotated[bool, "whether it reads the values that stand there meanwhile"]


class PlanDocument(Document, tag=named("plan")):
    """What can be done with a store now, and how it will finish."""

    store: StoreName
    table: Annotated[str, "the table"]
    target: Annotated[str, "what new values are written with"]
    rows: Rows
    cohorts: Annotated[list[PlannedCohort], "what each cohort gets"]
    proofs: Annotated[dict[str, ProofPart], "evidence by cohort"]
    proof_lapsed: Annotated[str | None, "why earlier proof does not count; null where it does"]
    hindrances: Annotated[list[str], "why nothing may be written yet, whatever stands in the rows"]
    guesses_per_second_after: Annotated[float | None, "an attacker's, at the target"]
    layering: Annotated[SpreadPart, "the seconds that layering takes here"]
    workers: Annotated[int, "on so many cores"]
    characters_needed: Annotated[int, "characters that the longest new value needs"]
    schema_change: Annotated[
        SchemaChangePart | None, "what the column needs first; null for nothing"
    ]
    keyed_by: Annotated[str, "the key that new values go under; empty for none"]
    keys: Annotated[dict[str, int], "rows by the key that they are under"]
    to_rekey: Annotated[int, "rows that `rekey` would write; it derives nothing"]
    readers: Annotated[list[ReaderPart], "what each program of `verified_by` reads"]
    column_move: Annotated[PlannedMove | None, "the move to another column; null without one"]
    touched: Annotated[Touched, "what a change of the table would touch"]
    table_bytes: Annotated[int | None, "size of the table; null where the server does not say"]
    forecast: Annotated[OutlookPart | None, "how it will finish; null without dates"]
    listed: Annotated[list[ListedRow], "the first rows that a person must look at"]


def plan_document(plan: Plan, outlook: Outlook | None) -> PlanDocument:
    """Give the plan as a document; without dates there is no forecast in it."""
    summary = plan.summary
    return PlanDocument.of(
        plan,
        store=plan.name,
        rows=summary.considered,
        cohorts=[
            PlannedCohort(
                cohort=name, rows=rows, gets=gets, guesses_per_second=plan.guesses.get(name)
            )
            for name, rows, gets in _parts(plan)
        ],
        proofs={key.label: proof_part(proof) for key, proof in summary.proofs.items()},
        proof_lapsed=summary.lapsed or None,
        hindrances=summary.hindrances,
        guesses_per_second_after=plan.guesses_after,
        layering=SpreadPart.of(summary.expected or NO_TIME),
        workers=summary.workers,
        characters_needed=plan.needed,
        schema_change=plan.change and SchemaChangePart.of(plan.change),
        keys=summary.keys,
        to_rekey=summary.to_rekey(plan.keyed_by),
        readers=[ReaderPart.of(reader) for reader in plan.readers],
        column_move=plan.move and PlannedMove.of(plan.move),
        touched=Touched.of(plan.around),
        table_bytes=plan.around.bytes,
        forecast=outlook and outlook_part(outlook),
        listed=[ListedRow(account=key_told(key), reason=reason) for key, reason in summary.listed],
    )


def draw_plan(console: Console, plan: Plan, outlook: Outlook | None) -> None:
    """Print the plan, and how it will finish."""
    summary = plan.summary
    seconds = summary.expected or NO_TIME
    took = spread(seconds.low, seconds.high)
    waiting = _waiting(plan)
    rows = f"{summary.written:,} of {summary.considered:,} rows"
    more = f"; {waiting:,} wait until their cohort is proven" if waiting else ""
    console.print(Text(f"{plan.name}: {rows} can be layered or replaced now{more}.", "bold"))
    workers = count(summary.workers, "worker")
    if summary.written:
        console.print(f"That takes {took} here with {workers}; written with {plan.target}.")
    console.print(f"Next: {_next(plan)}.")
    console.print()
    table = new_table("cohort", "rows", "gets", "guesses/s now", right=(1, 3))
    for name, number, gets in _parts(plan):
        style = "yellow" if gets == _PERSON or gets.startswith(_UNPROVEN) else ""
        table.add_row(name, f"{number:,}", Text(gets, style), _guesses(plan, name))
    console.print(table)
    if plan.guesses_after is not None:
        console.print()
        console.print(
            f"After layering, an attacker tries {guess_count(plan.guesses_after)} guesses a second."
        )
    _draw_keys(console, plan)
    _draw_readers(console, plan)
    draw_left(console, summary, table=False)
    draw_proofs(console, plan.summary, store=plan.name)
    _draw_hindrances(console, plan)
    console.print()
    _draw_change(console, plan)
    if plan.move is not None:
        _draw_move(console, plan, plan.move)
    _draw_touched(console, plan)
    if outlook is None:
        console.print()
        console.print(
            "No forecast: name “last_login” in the store's [columns], or give a log with --logins."
        )
    else:
        draw_outlook(console, outlook)


def _draw_keys(console: Console, plan: Plan) -> None:
    """Say under which keys values are, and what putting them all under one costs."""
    keys, to_rekey = plan.summary.keys, plan.summary.to_rekey(plan.keyed_by)
    if not keys and not plan.keyed_by:
        return
    told = ", ".join(f"{rows:,} under “{name}”" for name, rows in keys.items()) or "none yet"
    console.print()
    console.print(f"Keys: {told}. New values go under “{plan.keyed_by or 'none'}”.")
    if to_rekey:
        console.print(
            f"`lean-tumbler rekey` would write {count(to_rekey, 'row')}. It derives nothing and "
            "needs no password; logins move rows too."
        )


def _draw_readers(console: Console, plan: Plan) -> None:
    """Say of each program of `verified_by` what it reads before, during and after."""
    if not plan.readers:
        return
    console.print()
    table = new_table("program", "reads now", "meanwhile", "afterwards")
    for reader in plan.readers:
        meanwhile = "the same, and new values" if reader.layered else "no layered value"
        now = ", ".join(reader.now) or "no value as it stands"
        table.add_row(reader.program, now, meanwhile, f"all: {plan.target.partition(' ')[0]}")
    console.print(table)


def _waiting(plan: Plan) -> int:
    """Count the rows that a bulk step leaves until known accounts or logins prove their cohort."""
    return sum(plan.summary.left[reason] for reason in _UNTIL_PROVEN)


def _draw_hindrances(console: Console, plan: Plan) -> None:
    """Say why nothing may be written yet, whatever stands in the rows."""
    if plan.summary.hindrances:
        console.print()
    for reason in plan.summary.hindrances:
        console.print(Text(f"`layer` writes nothing yet: {reason}.", "yellow"))
        console.print(f"  Next: {reason.remedy}.", soft_wrap=True)


def _next(plan: Plan) -> str:
    if _waiting(plan):
        return _NEXT_WHILE_UNPROVEN.format(store=plan.name)
    if plan.move is not None and not plan.move.is_there:
        return f"add the column “{plan.move.column}” by the statement above"
    if not plan.summary.written:
        return _NEXT_WHEN_LAYERED
    return _NEXT_WHILE_READERS_ARE_NOT if plan.summary.hindrances else _NEXT


def _guesses(plan: Plan, cohort: str) -> str:
    if cohort not in plan.guesses:
        return ""
    rate = plan.guesses[cohort]
    return "readable" if rate is None else guess_count(rate)


def _draw_change(console: Console, plan: Plan) -> None:
    if plan.move is not None and not plan.move.is_there:
        return  # it is added with room enough
    if plan.change is None:
        console.print(f"The column has room for the {plan.needed:,} characters that are needed.")
        return
    console.print(Text("First widen the column; review, and run it yourself:", "bold"))
    for statement in plan.change.statements:
        console.print(f"  {statement}", highlight=False, soft_wrap=True)
    console.print(f"  Locks: {plan.change.locks}")
    if plan.around.bytes:
        console.print(f"  The table takes {plan.around.bytes / 2**20:,.1f} MiB with its indexes.")
    console.print("To undo it, once the column holds no long value (`lean-tumbler undo`):")
    for statement in plan.change.reverse:
        console.print(f"  {statement}", highlight=False, soft_wrap=True)


def _draw_move(console: Console, plan: Plan, move: ColumnMove) -> None:
    """Print the steps from one column to the other, in the safe order, each with its way back."""
    old, new = f"“{move.left_behind}”", f"“{move.column}”"
    if move.is_there:
        console.print()
    console.print(Text(moved_so_far(move), "bold"))
    steps = [
        (f"Add the column {new}; review, and run it yourself:", move.add, move.drop_added),
        (
            f"Have every program read {new} first, then {old}; set readers_ready in the policy.",
            "",
            f"the old check, once `lean-tumbler undo` has put the values back into {old}",
        ),
        (
            f"Fill it; logins do so too, one by one. Nothing is written to {old} any more.",
            f"lean-tumbler layer --store {plan.name} --backup FILE --to PUBLICKEY",
            "lean-tumbler undo FILE --key PRIVATEKEY",
        ),
        (
            f"Once `lean-tumbler progress` counts none in {old} alone, name {new} as stored and:",
            move.drop,
            f"add {old} again; `lean-tumbler undo` puts the values back from the sealed backups",
        ),
    ]
    for number, (does, statement, back) in enumerate(steps[move.is_there :], start=1):
        console.print(f"  {number}. {does}", highlight=False)
        if statement:
            console.print(f"       {statement}", highlight=False, soft_wrap=True)
        console.print(f"     Way back: {back}", highlight=False)
    console.print(f"  Adding and dropping lock: {move.locks}", highlight=False)


def _draw_touched(console: Console, plan: Plan) -> None:
    around = asdict(plan.around)
    if any(around[part] for part in _TOUCHED):
        console.print()
        console.print(Text("What else the change affects:", "bold"))
    for part, means in _TOUCHED.items():
        if around[part]:
            console.print(f"  {means}: {', '.join(around[part])}", highlight=False)
    if any(around[part] for part in _READERS):
        console.print()
        console.print(Text(_READERS_TITLE, "bold"), soft_wrap=True)
    for part, means in _READERS.items():
        if around[part]:
            between = "\n    " if part == "statements" else ", "
            first = between if part == "statements" else " "
            named = between.join(around[part])
            console.print(f"  {means}:{first}{named}", highlight=False, soft_wrap=True)
    if plan.around.not_told:
        told = ", ".join(plan.around.not_told)
        console.print(f"  The server does not tell this account: {told}.", style="dim")
