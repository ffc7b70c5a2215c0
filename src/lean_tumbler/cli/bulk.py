"""What bulk steps share: a part of the accounts, pace, a sealed backup, and stopping."""

import os
import signal
import threading
import time
from collections.abc import Iterator
from contextlib import contextmanager
from datetime import datetime, timedelta
from typing import TYPE_CHECKING

from msgspec.structs import replace

from lean_tumbler.cli.backups import sealed_backup
from lean_tumbler.cli.option_types import (
    BackupOptions,
    BulkOptions,
    ProofOptions,
    StoreOptions,
)
from lean_tumbler.cli.options import policy_path
from lean_tumbler.cli.session import Session

if TYPE_CHECKING:
    from collections.abc import Callable

    from lean_tumbler.core.policy import StoragePolicy, StorePolicy
    from lean_tumbler.core.warrant import Step, Warrant
    from lean_tumbler.migration.bulk.context import RunContext
    from lean_tumbler.stores.interface import LoginStore, Store


def has_way_back(options: BackupOptions) -> bool:
    """Tell whether what is replaced is sealed, or somebody said that it need not be."""
    return options.backup is not None or options.no_backup


def step_warrant(
    # parsed options; where they say nothing of share, backup and proof, these are no hindrance
    options: StoreOptions,
    session: Session,  # the clock
    step: "Step",  # which
    store: "LoginStore",  # opened
    policies: "tuple[StoragePolicy, StorePolicy]",  # the whole, and the store's
) -> "Warrant":
    """Give the warrant of a step, as the options, the policy, the evidence and the store say."""
    from lean_tumbler.migration.bulk.warranting import warrant_of
    from lean_tumbler.stores.evidence_file import EvidenceFile
    from lean_tumbler.stores.scans.binding import openers

    policy, store_policy = policies
    return warrant_of(
        step,
        store,
        store_policy=store_policy,
        policy=policy,
        today=session.today(),
        has_way_back=not isinstance(options, BackupOptions) or has_way_back(options),
        share=options.share if isinstance(options, BulkOptions) else 1.0,
        evidence=EvidenceFile.beside(policy_path(options)),
        sisters=openers(store_policy.sisters, policy=policy, base=policy_path(options).parent),
        most_otherwise=options.error_bound if isinstance(options, ProofOptions) else None,
        base=policy_path(options).parent,
        unproven=frozenset(options.unproven) if isinstance(options, ProofOptions) else frozenset(),
    )


@contextmanager
def warranted_context(
    options: BulkOptions,  # parsed options
    session: Session,  # clock and terminal
    step: "Step",  # which
    store: "Store",  # opened
    policies: "tuple[StoragePolicy, StorePolicy]",  # the whole, and the store's
    *,
    title: str,  # of the progress that is shown
) -> "Iterator[tuple[RunContext, Warrant]]":
    """Give what a bulk step works with, once the step as a whole may write.

    Raises:
        NotReady: the step may write nothing; no file was begun.
    """
    warrant = step_warrant(options, session, step, store, policies)
    rows = store.count()
    if not options.dry_run:
        warrant = with_way_back(options, session, warrant)
        warrant.require()
    with run_context(
        options, session, policies[1], step=str(step), title=title, rows=rows
    ) as context:
        yield context, warrant


def with_way_back(options: BulkOptions, session: Session, warrant: "Warrant") -> "Warrant":
    """Ask on a terminal whether to go on without a backup; elsewhere nobody can say."""
    from lean_tumbler.core.reasons import Reason

    if warrant.of_step() is not Reason.NO_WAY_BACK or not isinstance(options, BackupOptions):
        return warrant
    question = f"{_HOW_TO_BACK_UP}\nType “no backup” to go on without one: "
    return replace(warrant, has_way_back=session.ask(question) == "no backup")


_HOW_TO_BACK_UP = "Nothing says how to put the old values back."


@contextmanager
def run_context(
    options: BulkOptions,  # parsed options
    session: Session,  # clock and terminal
    store: "StorePolicy",  # the one
    *,
    step: str,  # the command's name, for the backup
    title: str,  # of the progress that is shown
    rows: int,  # how many there are; 0 for an unknown number
) -> "Iterator[RunContext]":
    """Give what a bulk step works with, by its options."""
    from lean_tumbler.migration.bulk.context import RunContext

    started = session.clock()
    with (
        _stop_signals() as stopping,
        sealed_backup(options, session, store, started, step=step) as keep,
        session.progress(title, total=rows, unit="rows") as advance,
    ):
        yield RunContext(
            clock=time.perf_counter,
            randomness=os.urandom,
            pause=stopping.wait,
            should_stop=_to_stop(options, session, stopping, started),
            progress=advance,
            rows_per_second=options.rate,
            keep=keep,
            seconds_behind=_replicas_behind(options, store),
            most_seconds_behind=options.max_replica_lag or 0.0,
        )


def reading_context(advance: "Callable[[int], None]") -> "RunContext":
    """Give what a job works with that goes through a store's rows and writes none of them."""
    from lean_tumbler.migration.bulk.context import RunContext

    return RunContext(
        clock=time.perf_counter, randomness=os.urandom, pause=time.sleep, progress=advance
    )


def finished_copy(store: "Store") -> str:
    """End a bulk step that went through; give the file that was written, or nothing."""
    from lean_tumbler.stores.interface import WritesCopy

    return store.finish() if isinstance(store, WritesCopy) else ""


def _replicas_behind(options: BulkOptions, store: "StorePolicy") -> "Callable[[], float] | None":
    """Tell how far replicas are behind, where they are to be waited for."""
    if options.max_replica_lag is None or options.dry_run:
        return None
    from lean_tumbler.stores.locators import open_replicas

    replicas = open_replicas(store, base=policy_path(options).parent, clock=time.monotonic)
    replicas.seconds_behind()  # whether they can be asked shows before anything is written
    return replicas.seconds_behind


def _to_stop(
    options: BulkOptions,
    session: Session,
    stopping: threading.Event,
    started: datetime,
) -> "Callable[[], bool]":
    """Tell whether to stop: for a signal, or because the time of --until has come.

    That is the first such time of day after the start.
    """
    until = options.until
    if until is None:
        return stopping.is_set
    end = datetime.combine(started.date(), until, started.tzinfo)
    if end <= started:
        end += timedelta(days=1)
    return lambda: stopping.is_set() or session.clock() >= end


@contextmanager
def _stop_signals() -> Iterator[threading.Event]:
    """Turn Ctrl-C and SIGTERM into an event: the batch in hand is finished."""
    stopping = threading.Event()
    before = {
        number: signal.signal(number, lambda *_: stopping.set())
        for number in (signal.SIGINT, signal.SIGTERM)
    }
    try:
        yield stopping
    finally:
        for number, handler in before.items():
            signal.signal(number, handler)
