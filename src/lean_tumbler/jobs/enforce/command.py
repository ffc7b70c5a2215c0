"""`enforce`: keeps a store finished, by a guard on the column and a gate for cron and CI."""

from dataclasses import dataclass
from functools import partial
from pathlib import Path
from typing import TYPE_CHECKING

from lean_tumbler.cli.declared import CommandPart, flag, option
from lean_tumbler.cli.option_types import FORMATS, ReportOptions, StoreOptions
from lean_tumbler.cli.options import (
    chosen_store,
    chosen_stores,
    evidence_of,
    policy_path,
    read_policy,
)
from lean_tumbler.cli.session import Session
from lean_tumbler.errors import UsageError

if TYPE_CHECKING:
    from lean_tumbler.jobs.enforce.enforce_report import GatedStore
    from lean_tumbler.stores.sql.guard import ColumnGuard

EXAMPLE = """\
  lean-tumbler enforce constraint --store passengers
  lean-tumbler enforce constraint --store passengers --apply
  lean-tumbler enforce gate --state gate.state
  lean-tumbler enforce gate --state gate.state --format junit --output gate.xml"""


@dataclass(frozen=True, kw_only=True)
class ConstraintOptions(StoreOptions, ReportOptions):
    """What `enforce constraint` was asked for."""

    apply: bool = flag("run the statements", one_of="what")
    remove: bool = flag("take the guard away", one_of="what")
    print: bool = flag("print the statements, and run none", one_of="what")
    list: Path | None = option(
        "FILE", "write the accounts whose values would not be admitted, as CSV"
    )


@dataclass(frozen=True, kw_only=True)
class GateOptions(StoreOptions, ReportOptions):
    """What `enforce gate` was asked for."""

    state: Path = option("FILE", "what was accepted; made by the first run, keep it with the job")
    accept: bool = flag("accept what is below the floor now, and pass")
    store: str | None = option("NAME", "a store of the policy; without it, all of them")
    format: str = option(
        None, "how to write the result", choices=(*FORMATS, "sarif", "junit"), default=FORMATS[0]
    )


def _constraint(options: ConstraintOptions, session: Session) -> int:
    from lean_tumbler.core.stored_forms import admitted
    from lean_tumbler.jobs.enforce.enforce_report import GuardDocument, draw_guard
    from lean_tumbler.stores.locators import open_guard

    policy = read_policy(options)
    store = chosen_store(policy, options.store)
    column = open_guard(store, base=policy_path(options).parent, policy=policy)
    try:
        if options.apply and column.stands():
            raise UsageError(f"[store.{store.name}] is guarded already; --remove it first")
        if options.remove and not column.exists():
            raise UsageError(f"[store.{store.name}] is not guarded")
        violations = column.violations()
        if options.apply and not violations.rows:
            violations = column.apply()
        if options.remove:
            column.remove()
        if options.list:
            _write_list(options.list, column)
        stands = column.stands()
    finally:
        column.close()
    state = GuardDocument.of(
        column.guard,
        store=store.name,
        stands=stands,
        admitted=list(admitted(policy)),
        violations=violations.rows,
        accounts=list(violations.keys),
    )
    session.emit(
        options,
        state,
        draw=partial(draw_guard, statements=options.print, listed=str(options.list or "")),
    )
    return 1 if options.apply and violations.rows else 0


def _write_list(path: Path, column: "ColumnGuard") -> None:
    from lean_tumbler.reports.csv_lines import csv_line
    from lean_tumbler.stores.file_access import write_text

    lines = (csv_line((str(key),)) for key in column.refused_keys())
    write_text(path, "".join([csv_line(("account",)), *lines]))


def _gate(options: GateOptions, session: Session) -> int:
    import polars as pl

    from lean_tumbler.jobs.enforce.enforce_report import (
        GateDocument,
        draw_gate,
        gate_junit,
        gate_sarif,
    )
    from lean_tumbler.jobs.enforce.gate import pass_gate, read_state, write_state
    from lean_tumbler.reports.documents import as_json
    from lean_tumbler.stores.embedded_files import files_behind
    from lean_tumbler.stores.scans.profiling import AuditContext

    policy = read_policy(options)
    stores = chosen_stores(policy, options.store)
    context = AuditContext(floor=policy.floor, policy=policy)
    state = read_state(options.state)
    found: list[GatedStore] = []
    parts = [state.filter(~pl.col("store").is_in([store.name for store in stores]))]
    base = policy_path(options).parent
    for store in stores:
        seen, part = pass_gate(
            store, base=base, context=context, state=state, accept=options.accept
        )
        if store.embedded:
            evidence = evidence_of(options, policy)()
            seen.embedded_behind = files_behind(store, policy, evidence, base=base)
        found.append(seen)
        parts.append(part)
    write_state(options.state, pl.concat(parts))
    gate = GateDocument(passed=not any(seen.has_failed for seen in found), stores=found)
    sarif, junit = (lambda: [as_json(gate_sarif(gate))]), (lambda: [gate_junit(gate)])
    session.emit(options, gate, draw=draw_gate, others={"sarif": sarif, "junit": junit})
    return int(not gate.passed and not options.accept)


PARTS = (
    CommandPart(
        name="constraint",
        does="let only current, layered and locked values into the column",
        options=ConstraintOptions,
        run=_constraint,
    ),
    CommandPart(
        name="gate",
        does="fail when anything below the floor has appeared since the accepted state",
        options=GateOptions,
        run=_gate,
    ),
)
