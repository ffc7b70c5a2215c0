"""A draft: what was found and proven, what is not, and the next command."""

from __future__ import annotations

from dataclasses import asdict
from typing import TYPE_CHECKING

from rich.text import Text

from lean_tumbler.core.formulas.alternatives import Untested
from lean_tumbler.jobs.draft.policy_text import PlacedStore, shown_by
from lean_tumbler.reports.documents import Document, new_document
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


def draft_document(
    draft: Draft, *, written: Path, added: Sequence[str], dropped: Sequence[Dropped]
) -> Document:
    """Give a draft as a document."""
    return new_document(
        "draft",
        source=draft.source,
        policy=str(written),
        added=list(added),
        stores=[_store_entries(store) for store in draft.stores],
        left_out=list(draft.left_out),
        known_not_opened=[asdict(account) for account in dropped],
    )


def _store_entries(store: PlacedStore) -> Document:
    drafted = store.drafted
    roles = drafted.columns.mapped
    return {
        "name": store.name,
        "table": None if store.tables else drafted.table,
        "tables": list(store.tables),
        "columns": {r: {"column": own, "why": drafted.reasons.get(r)} for r, own in roles.items()},
        "parts": dict(drafted.parts),
        "join": None if drafted.source.join is None else asdict(drafted.source.join),
        "rows_when": str(drafted.source.rows) if drafted.source.rows else None,
        "logins_repeated": drafted.logins_repeated,
        "rows": drafted.rows,
        "without_value": drafted.without_value,
        "rows_are_estimates": drafted.sampled,
        "known": drafted.known,
        "opened": drafted.opened,
        "lines_not_opened": list(drafted.not_opened),
        "said": dict(drafted.said),
        "cohorts": [_cohort(name, cohort) for name, cohort in drafted.cohorts.items()],
        "not_understood": [
            {
                "values": each.value_class.label,
                "when": each.condition or None,
                "rows": each.rows,
                "known": each.failed,
            }
            for each in drafted.unproven
        ],
    }


def _cohort(name: str, cohort: DraftedCohort) -> Document:
    return {
        "name": name,
        **cohort.explanation.entries,
        "when": cohort.condition or None,
        "rows": cohort.rows,
        "known": cohort.known,
        "guessed": cohort.guessed,
        "sure": not cohort.unsure,
        "untested": [str(each) for each in cohort.untested],
        "unsure": list(cohort.unsure),
        "seen": list(cohort.notes),
        "also": list(cohort.also),
    }


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
