"""`plan`: what each cohort gets, what the schema needs, how long it takes, and what it touches."""

import os
from concurrent.futures import ThreadPoolExecutor
from dataclasses import dataclass
from functools import partial
from pathlib import Path
from typing import TYPE_CHECKING

from lean_tumbler.cli.bulk import reading_context, step_warrant
from lean_tumbler.cli.declared import flag, option
from lean_tumbler.cli.histories import begin_history
from lean_tumbler.cli.option_types import ForecastOptions, ProofOptions, ReportOptions
from lean_tumbler.cli.options import (
    chosen_store,
    opened_rows,
    policy_path,
    read_policy,
    write_plot,
)
from lean_tumbler.cli.session import Session
from lean_tumbler.cli.store_forecasts import store_forecast
from lean_tumbler.cli.typed import days, plot_file
from lean_tumbler.errors import UsageError

if TYPE_CHECKING:
    from lean_tumbler.core.policy import StoragePolicy, StorePolicy
    from lean_tumbler.jobs.plan.planning import Plan
    from lean_tumbler.reports.forecast import Outlook
    from lean_tumbler.stores.history import StoreCount

EXAMPLE = """\
  lean-tumbler plan --store passengers
  lean-tumbler plan --store passengers --plot burn-down.png
  lean-tumbler plan --store passengers --logins logins.csv --back-test

The store is only read. The statements are for you to review and to run."""


DEFAULT_LOCK_DAYS = 180


@dataclass(frozen=True, kw_only=True)
class Options(ProofOptions, ForecastOptions, ReportOptions):
    """What the command was asked for."""

    concurrency: int | None = option(
        "N", "derivations at once that the time is given for; without it, one for each core"
    )
    lock_after: int = option(
        "DAYS",
        f"when the third strategy locks who has not returned (default {DEFAULT_LOCK_DAYS})",
        read=days,
        default=DEFAULT_LOCK_DAYS,
    )
    back_test: bool = flag("forecast from days in the past, and hold it against the log")
    plot: Path | None = option("FILE", "draw the burn-down, as .png or .svg", read=plot_file)


def run(options: Options, session: Session) -> int:
    """Run the command."""
    from lean_tumbler.core.warrant import Step
    from lean_tumbler.jobs.plan.plan_report import draw_plan, plan_document
    from lean_tumbler.jobs.plan.planning import plan_store
    from lean_tumbler.migration.bulk.layering import Workers

    policy = read_policy(options)
    store_policy = chosen_store(policy, options.store)
    workers = options.concurrency or os.cpu_count() or 1
    with (
        opened_rows(options, store_policy) as store,
        ThreadPoolExecutor(workers) as executor,
        session.progress("Reading", total=store.count(), unit="rows") as advance,
    ):
        plan = plan_store(
            store,
            store_policy=store_policy,
            policy=policy,
            context=reading_context(advance),
            workers=Workers(executor, workers),
            warrant=step_warrant(options, session, Step.LAYER, store, (policy, store_policy)),
        )
    outlook = _outlook(options, session, policy, store_policy, plan)
    session.emit(
        options,
        plan_document(plan, outlook),
        draw=lambda console, _: draw_plan(console, plan, outlook),
    )
    count = partial(_count, options, policy, store_policy, outlook)
    begin_history(options, session, store_policy.name, count)
    _draw_plot(options, session, outlook)
    return 0


def _draw_plot(options: Options, session: Session, outlook: "Outlook | None") -> None:
    if options.plot:
        if outlook is None:
            raise UsageError("--plot: without dates there is no forecast to draw")
        from lean_tumbler.reports.forecast_plot import burn_down_plot

        write_plot(options.plot, lambda kind: burn_down_plot(outlook, kind), session)


def _count(
    options: Options,
    policy: "StoragePolicy",
    store: "StorePolicy",
    outlook: "Outlook | None",
) -> "StoreCount":
    from lean_tumbler.stores.scans.auditing import audit_policy_store
    from lean_tumbler.stores.scans.migration_progress import store_count
    from lean_tumbler.stores.scans.profiling import AuditContext

    context = AuditContext(floor=policy.floor, policy=policy)
    column = audit_policy_store(store, base=policy_path(options).parent, context=context).columns[0]
    return store_count(column.profile, column.table, outlook.found if outlook else None)


def _outlook(
    options: Options,
    session: Session,
    policy: "StoragePolicy",
    store: "StorePolicy",
    plan: "Plan",
) -> "Outlook | None":
    """Forecast how the plan's store will finish; None where it has no dates."""
    from lean_tumbler.reports.forecast import Outlook

    found = store_forecast(options, session, policy, store, needs_log=options.back_test)
    if found is None:
        return None
    from lean_tumbler.migration.bulk.deriving import NO_TIME

    summary = plan.summary
    return Outlook(
        found,
        left=max(0, found.weak.accounts - summary.written),
        seconds_each=(summary.expected or NO_TIME).expected
        * summary.workers
        / max(1, summary.written),
        lock_after_days=options.lock_after,
        shows_back_test=options.back_test,
    )
