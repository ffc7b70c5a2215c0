"""A draft: what was found and proven, what is not, and the next command."""

from __future__ import annotations

from typing import TYPE_CHECKING, Annotated

from rich.text import Text

from lean_tumbler.core.formulas.alternatives import Untested
from lean_tumbler.jobs.draft.policy_text import PlacedStore, shown_by
from lean_tumbler.reports.documents import Document, DocumentPart, Rows, named
from lean_tumbler.reports.terminal import new_table
from lean_tumbler.reports.wording import count

if TYPE_CHECKING:
    from collections.abc import Sequence
    from pathlib import Path

    from rich.console import Console

    from lean_tumbler.core.drafting.class_cohorts import DraftedCohort
    from lean_tumbler.jobs.draft.drafting import DraftedStore
    from lean_tumbler.jobs.draft.judging import Dropped
    from lean_tumbler.jobs.draft.source import Draft


class RolePart(DocumentPart):
    """A column that has a role."""

    column: Annotated[str, "the column"]
    why: Annotated[str | None, "why it was taken; null where it was named"]


class JoinPart(DocumentPart):
    """The second table, where the login stands in it."""

    table: Annotated[str, "its name"]
    key: Annotated[str, "its column that names each of its rows"]
    by: Annotated[str, "the column of the store's own table that holds that key"]


class DraftedCohortPart(DocumentPart):
    """A cohort that was found."""

    name: Annotated[str, "its name"]
    formula: Annotated[str, "the formula; empty for none"]
    layout: Annotated[str, "how values are written down; empty for their own layout"]
    scheme: Annotated[str, "the scheme of values that are bare shapes; may be empty"]
    plain_text: Annotated[bool, "whether its texts are passwords"]
    when: Annotated[str | None, "the condition; null for all rows"]
    rows: Rows
    known: Annotated[int, "known accounts that open by it"]
    guessed: Annotated[int, "rows that open by it with a likely password"]
    sure: Annotated[bool, "whether known accounts prove it"]
    untested: Annotated[list[str], "what known accounts leave open; a login tries each alternative"]
    unsure: Annotated[list[str], "what is not sure"]
    seen: Annotated[list[str], "what was seen"]
    also: Annotated[list[str], "other formulas that fit as well"]


class NotUnderstood(DocumentPart):
    """Rows that no cohort explains."""

    values: Annotated[str, "what they look like"]
    when: Annotated[str | None, "the condition; null for all rows"]
    rows: Rows
    known: Annotated[int, "known accounts among them, which do not open"]


class DraftedPart(DocumentPart):
    """A store that was drafted."""

    name: Annotated[str, "its name"]
    table: Annotated[str | None, "the table; null for equal tables"]
    tables: Annotated[list[str], "the patterns or names of its equal tables; none for one table"]
    columns: Annotated[dict[str, RolePart], "columns by role"]
    parts: Annotated[dict[str, str], "further inputs of formulas, by their names in them"]
    join: Annotated[JoinPart | None, "the second table; null without one"]
    rows_when: Annotated[str | None, "the condition of the rows that are the store's; null for all"]
    logins_repeated: Annotated[int, "logins that stand in several rows"]
    rows: Rows
    without_value: Annotated[int, "rows without a stored value"]
    rows_are_estimates: Annotated[bool, "whether the rows were counted in a sample"]
    known: Annotated[int, "known accounts"]
    opened: Annotated[int, "known accounts that the drafted policy opens"]
    lines_not_opened: Annotated[list[int], "lines of the file of known accounts that it does not"]
    said: Annotated[dict[str, int], "rows by the scheme that they say themselves"]
    cohorts: Annotated[list[DraftedCohortPart], "the cohorts that were found"]
    not_understood: Annotated[list[NotUnderstood], "rows that no cohort explains"]


class DroppedPart(DocumentPart):
    """A known account that no cohort opens."""

    line: Annotated[int, "its line in the file of known accounts"]
    login: Annotated[str, "its login"]
    why: Annotated[str, "the reason"]


class DraftDocument(Document, tag=named("draft")):
    """A policy that was drafted."""

    source: Annotated[str, "the source that was read"]
    policy: Annotated[str, "the policy file"]
    added: Annotated[list[str], "stores that were added to a policy"]
    stores: Annotated[list[DraftedPart], "one entry for each store"]
    left_out: Annotated[list[str], "what was left out, and why"]
    known_not_opened: Annotated[list[DroppedPart], "known accounts that no cohort opens"]


def draft_document(
    draft: Draft, *, written: Path, added: Sequence[str], dropped: Sequence[Dropped]
) -> DraftDocument:
    """Give a draft as a document."""
    return DraftDocument.of(
        draft,
        policy=str(written),
        added=added,
        stores=[_store_part(store) for store in draft.stores],
        known_not_opened=[DroppedPart.of(account) for account in dropped],
    )


def _store_part(store: PlacedStore) -> DraftedPart:
    drafted = store.drafted
    source, reasons = drafted.source, drafted.reasons
    return DraftedPart.of(
        drafted,
        name=store.name,
        table=None if store.tables else drafted.table,
        tables=store.tables,
        columns={
            role: RolePart(column=own, why=reasons.get(role))
            for role, own in drafted.columns.mapped.items()
        },
        join=source.join and JoinPart.of(source.join),
        rows_when=str(source.rows) if source.rows else None,
        rows_are_estimates=drafted.sampled,
        lines_not_opened=drafted.not_opened,
        cohorts=[_cohort(name, cohort) for name, cohort in drafted.cohorts.items()],
        not_understood=[
            NotUnderstood.of(
                each,
                values=each.value_class.label,
                when=each.condition or None,
                known=each.failed,
            )
            for each in drafted.unproven
        ],
    )


def _cohort(name: str, cohort: DraftedCohort) -> DraftedCohortPart:
    explanation = cohort.explanation
    return DraftedCohortPart.of(
        cohort,
        name=name,
        formula=explanation.formula,
        layout=explanation.layout,
        scheme=explanation.scheme,
        plain_text=explanation.plain_text,
        when=cohort.condition or None,
        sure=not cohort.unsure,
        seen=cohort.notes,
    )


def draw_draft(
    console: Console,
    draft: Draft,
    *,
    written: Path,
    added: Sequence[str],
    dropped: Sequence[Dropped],
    known: Path | None,
) -> None:
    """Print each store with its cohorts, what is open, and the next command."""
    rows = sum(store.drafted.rows for store in draft.stores)
    open_rows = sum(each.rows for store in draft.stores for each in store.drafted.unproven)
    what = f"{count(len(draft.stores), 'store')} with {count(rows, 'row')}"
    if added:
        console.print(Text(f"Added to {written}: {', '.join(added)}.", "bold"), soft_wrap=True)
    style = "bold green" if not open_rows else "bold yellow"
    whole = f"{open_rows:,} of them not understood" if open_rows else "all of them understood"
    failed = f"; {count(len(dropped), 'known account')} not opened" if dropped else ""
    console.print(Text(f"{written}: {what}, {whole}{failed}.", style), soft_wrap=True)
    for store in draft.stores:
        _draw_store(console, store)
    if dropped:
        console.print()
        console.print(Text("Known accounts that no cohort opens:", "bold"))
    for account in dropped:
        console.print(f"  line {account.line}, {account.login}: {account.why}", soft_wrap=True)
    if draft.left_out:
        console.print()
        console.print("Left out:")
        for reason in draft.left_out:
            console.print(f"  {reason}")
    console.print()
    for line in _next(draft, written, known):
        console.print(line, soft_wrap=True)


def _draw_source(console: Console, store: PlacedStore) -> None:
    """Say where the logins stand, and which rows are the store's, where that is not all of them."""
    source = store.drafted.source
    if store.tables:
        console.print(
            "Equal tables: each needs one known account of its own, or the line “alike = true”.",
            soft_wrap=True,
        )
    if source.join is not None:
        join = source.join
        console.print(f"Logins are in {join.table}, where {join.key} is what {join.by} holds.")
    if source.rows is not None:
        console.print(
            f"Only rows with {source.rows}: a login has further rows, which are left alone.",
            soft_wrap=True,
        )


def _draw_store(console: Console, store: PlacedStore) -> None:
    drafted = store.drafted
    console.print()
    console.print(
        Text.assemble(
            (f"{store.name}", "bold"),
            f": {_place(store)}.{drafted.columns.stored}, "
            f"{count(drafted.rows, 'row')}; "
            f"{drafted.opened} of {count(drafted.known, 'known account')} open",
        ),
        soft_wrap=True,
    )
    _draw_source(console, store)
    _draw_repeated(console, store)
    table = new_table("rows", "cohort", "how they were made", "where", "proof", right=(0,))
    for scheme, rows in drafted.said.items():
        table.add_row(f"{rows:,}", "", scheme, "", "the values say it")
    for name, cohort in drafted.cohorts.items():
        proof = shown_by(cohort)
        made = cohort.explanation.formula or (
            "the password" if cohort.explanation.plain_text else ""
        )
        table.add_row(
            f"{cohort.rows:,}",
            name,
            made,
            (cohort.condition or "all") + (" (shared)" if cohort.is_shared else ""),
            proof + (", not sure" if cohort.unsure else ""),
        )
    for each in drafted.unproven:
        failed = f"{count(each.failed, 'known account')} not explained" if each.failed else "none"
        label = f"not understood: {each.value_class.label}"
        table.add_row(f"{each.rows:,}", "", label, each.condition or "all", failed)
    if drafted.without_value:
        table.add_row(f"{drafted.without_value:,}", "", "no value", "", "")
    console.print(table)
    _draw_doubts(console, drafted)


def _place(store: PlacedStore) -> str:
    """Name the table, or the equal ones."""
    if len(store.tables) > 1:
        return f"{count(len(store.tables), 'equal table')} like {store.drafted.table}"
    return store.tables[0] if store.tables else store.drafted.table


_SETTLES = {
    Untested.CASE: "a password with a capital letter",
    Untested.BLANKS: "one with a blank before or behind it",
    Untested.ENCODING: "one with a letter beyond ASCII",
}


def _draw_repeated(console: Console, store: PlacedStore) -> None:
    """Print how many logins are not unique, and what follows."""
    drafted = store.drafted
    if drafted.logins_repeated:
        console.print(
            Text(
                f"{count(drafted.logins_repeated, 'login')} not unique: every step leaves their "
                "rows, and refuses their owners, until a column tells the live ones "
                f"([store.{store.name}.rows]) or each row has a login of its own.",
                "yellow",
            ),
            soft_wrap=True,
        )


def _draw_doubts(console: Console, drafted: DraftedStore) -> None:
    """Print what is not sure, each once, with the cohorts that it concerns."""
    for what, settles in _SETTLES.items():
        names = [name for name, cohort in drafted.cohorts.items() if what in cohort.untested]
        if names and what is not Untested.BLANKS:
            tried = f"{what}. A login tries both; {settles} settles it."
            text = Text(f"Untested for {', '.join(names)}: {tried}", "yellow")
            console.print(text, soft_wrap=True)
    doubts: dict[str, list[str]] = {}
    for name, cohort in drafted.cohorts.items():
        for doubt in cohort.unsure:
            doubts.setdefault(doubt, []).append(name)
    for doubt, names in doubts.items():
        console.print(Text(f"Not sure of {', '.join(names)}: {doubt}.", "yellow"))


def _next(draft: Draft, written: Path, known: Path | None) -> list[str]:
    policy = "" if written.name == "tumbler.toml" and str(written.parent) == "." else (
        f" --policy {written}"
    )  # fmt: skip
    proven = [store for store in draft.stores if store.drafted.known or store.drafted.guessed]
    if not proven:
        return [
            "Next: write known.csv (login,password): a few accounts of each age whose password you",
            f"know. Then run `lean-tumbler draft SOURCE known.csv --into {written} --merge`.",
        ]
    tried = f"{known} " if known is not None else ""
    return [
        "Next: read the policy; its comments say what each line rests on. Then run",
        *(f"  lean-tumbler verify {tried}--store {store.name}{policy}" for store in proven),
        f"  lean-tumbler plan{_store_to_plan(draft, proven[0])}{policy}",
    ]


def _store_to_plan(draft: Draft, store: PlacedStore) -> str:
    """Name a store, or one of its equal tables, where there are several."""
    if store.tables:
        return f" --store {store.name}/{store.drafted.table}"
    return f" --store {store.name}" if len(draft.stores) > 1 else ""
