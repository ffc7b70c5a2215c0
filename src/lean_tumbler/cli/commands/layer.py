"""`layer`: the slow hash over every legacy digest, in bulk."""

import argparse
import os
import signal
import threading
import time
from collections.abc import Iterator
from concurrent.futures import Executor, ThreadPoolExecutor
from contextlib import contextmanager
from datetime import datetime, timedelta
from datetime import time as wall_time
from pathlib import Path
from typing import TYPE_CHECKING

from lean_tumbler.cli.options import (
    add_bulk_options,
    chosen_store,
    keys_of,
    opened_store,
    policy_path,
    positive_integer,
    rate_per_second,
    read_policy,
    share,
    time_of_day,
)
from lean_tumbler.cli.session import Session
from lean_tumbler.errors import StoppedPartWay, UsageError

if TYPE_CHECKING:
    from collections.abc import Callable, Sequence

    from lean_tumbler.core.policy import StorePolicy
    from lean_tumbler.stores.interface import Swap

EXAMPLE = """\
  lean-tumbler layer --store passengers --dry-run
  lean-tumbler layer --store passengers --share 0.1%
  lean-tumbler layer --store passengers --backup layer-1.sealed --to recovery.public.pem
  lean-tumbler layer --store passengers --rate 200/s --until 06:00
  lean-tumbler layer --store kiosk --into kiosk-layered.jsonl
  lean-tumbler layer --store passengers     the same again, to continue after a stop or a kill"""


DEFAULT_KEEP_DAYS = 90
_KEY_BYTES = 1 << 14


def configure(parser: argparse.ArgumentParser) -> None:
    """Declare the arguments."""
    parser.add_argument(
        "--workers",
        type=positive_integer,
        metavar="N",
        help="derivations at once; without it, one for each core",
    )
    parser.add_argument(
        "--cluster",
        metavar="URL",
        help="derive on a Dask cluster, like tcp://HOST:8786: it gets digests, no credentials",
    )
    parser.add_argument(
        "--share",
        type=share,
        default=1.0,
        metavar="SHARE",
        help="a stable part of the accounts, like 0.1%%: a larger one contains every smaller one",
    )
    parser.add_argument(
        "--only",
        default="",
        metavar="COHORT",
        help="a scheme, a formula of the policy, plain-text or decryptable; --dry-run names them",
    )
    _add_pace_options(parser)
    parser.add_argument(
        "--backup",
        type=Path,
        metavar="FILE",
        help="first seal what is replaced into this new file, so that `undo` can put it back",
    )
    parser.add_argument(
        "--to", type=Path, metavar="PUBLICKEY", help="the public half of the key to seal it for"
    )
    parser.add_argument(
        "--keep-days",
        type=positive_integer,
        default=DEFAULT_KEEP_DAYS,
        metavar="N",
        help=f"how long the backup may be used (default {DEFAULT_KEEP_DAYS})",
    )
    add_bulk_options(parser)


def _add_pace_options(parser: argparse.ArgumentParser) -> None:
    """Add what keeps a run out of the way of others."""
    parser.add_argument(
        "--rate",
        type=rate_per_second,
        default=0.0,
        metavar="RATE",
        help="write no more than so many rows, like 200/s",
    )
    parser.add_argument(
        "--pause-when-behind",
        type=positive_integer,
        metavar="SECONDS",
        help="wait while a replica is further behind (PostgreSQL; MariaDB and MySQL with “replicas”"
        " in the store's policy)",
    )
    parser.add_argument(
        "--until",
        type=time_of_day,
        metavar="HH:MM",
        help="stop at this time of day, after the batch in hand",
    )


def run(arguments: argparse.Namespace, session: Session) -> int:
    """Run the command."""
    from lean_tumbler.operations.layering import Resources, Selection, layer_store
    from lean_tumbler.reports.layer import draw_layer, layer_document

    policy = read_policy(arguments)
    store_policy = chosen_store(policy, arguments.store)
    require_cohort(arguments.only, store_policy)
    local_workers = arguments.workers or os.cpu_count() or 1
    started = datetime.now().astimezone()
    with (
        opened_store(arguments, store_policy, in_bulk=True) as store,
        ThreadPoolExecutor(local_workers) as local,
        _executor(arguments, session, local, local_workers) as (executor, workers),
        stop_signals() as stopping,
        _backup(arguments, store_policy, started) as keep,
        session.progress("Layering", total=store.count(), unit="rows") as advance,
    ):
        summary = layer_store(
            store,
            store_policy=store_policy,
            policy=policy,
            resources=Resources(
                executor=executor,
                local=local,
                workers=workers,
                clock=time.perf_counter,
                randomness=os.urandom,
                keys=keys_of(arguments, policy),
                pause=stopping.wait,
                rows_per_second=arguments.rate,
                keep=keep,
                seconds_behind=_replicas(arguments, store_policy),
                most_seconds_behind=arguments.pause_when_behind or 0.0,
            ),
            selection=Selection(
                share=arguments.share, only=arguments.only, dry_run=arguments.dry_run
            ),
            should_stop=lambda: stopping.is_set() or _is_past(arguments.until, started),
            progress=advance,
        )
        if not summary.stopped:
            summary.copy = store.finish()
    session.emit(
        arguments,
        document=lambda: layer_document(summary),
        draw=lambda console: draw_layer(console, summary),
    )
    return StoppedPartWay.exit_code if summary.stopped or summary.failed else 0


@contextmanager
def _executor(
    arguments: argparse.Namespace, session: Session, local: Executor, workers: int
) -> "Iterator[tuple[Executor, int]]":
    """Give what derives: the threads here, or a cluster."""
    if arguments.cluster is None:
        yield local, workers
        return
    from lean_tumbler.operations.cluster import cluster_executor, is_overheard

    if is_overheard(arguments.cluster):
        session.message(
            "lean-tumbler layer: digests cross the network to the cluster in clear; "
            "tls:// and Dask's certificates would encrypt them"
        )
    with cluster_executor(arguments.cluster) as found:
        yield found


def _replicas(arguments: argparse.Namespace, store: "StorePolicy") -> "Callable[[], float] | None":
    """Tell how far replicas are behind, where they are to be waited for."""
    if arguments.pause_when_behind is None or arguments.dry_run:
        return None
    from lean_tumbler.stores.replication import replicas_of

    replicas = replicas_of(store, base=policy_path(arguments).parent, clock=time.monotonic)
    replicas.seconds_behind()  # whether they can be asked shows before anything is written
    return replicas.seconds_behind


@contextmanager
def _backup(
    arguments: argparse.Namespace, store: "StorePolicy", started: datetime
) -> "Iterator[Callable[[Sequence[Swap]], None]]":
    """Open the sealed backup that is asked for; the end mark is written when all went well."""
    if (arguments.backup is None) is not (arguments.to is None):
        raise UsageError("--backup and --to go together: the file, and whom it is sealed for")
    if arguments.backup is None or arguments.dry_run:
        yield lambda _: None
        return
    from lean_tumbler.stores.files import read_text
    from lean_tumbler.stores.sealed_backup import BackupWriter, Head

    expires = started + timedelta(days=arguments.keep_days)
    head = Head(
        store=store.name,
        table=store.table,
        step="layer",
        made_at=started.isoformat(timespec="seconds"),
        expires_at=expires.isoformat(timespec="seconds"),
    )
    key = read_text(arguments.to, limit_bytes=_KEY_BYTES)
    writer = BackupWriter(arguments.backup, public_key=key, head=head)
    yield writer.keep
    writer.finish()


def _is_past(until: wall_time | None, started: datetime) -> bool:
    """Tell whether a time of day has come: the first after the start."""
    if until is None:
        return False
    end = datetime.combine(started.date(), until, started.tzinfo)
    if end <= started:
        end += timedelta(days=1)
    return datetime.now().astimezone() >= end


def require_cohort(name: str, store: "StorePolicy") -> None:
    """Check the name of a cohort against what a store can hold.

    Raises:
        UsageError: naming the nearest.
    """
    from lean_tumbler.core.schemes.catalogue import DERIVATIONS, SETTING_SCHEMES
    from lean_tumbler.stores.naming import nearest

    formulas = [named.name for named in store.formulas]
    known = (*formulas, "plain-text", "decryptable", *DERIVATIONS, *SETTING_SCHEMES)
    if name and name not in known:
        raise UsageError(f"--only: no cohort “{name}”; {nearest(name, known)}")


@contextmanager
def stop_signals() -> Iterator[threading.Event]:
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
