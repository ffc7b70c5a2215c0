"""`layer`: the slow hash over every legacy digest, in bulk."""

import os
from concurrent.futures import ThreadPoolExecutor
from contextlib import contextmanager
from dataclasses import dataclass
from pathlib import Path
from typing import TYPE_CHECKING

from lean_tumbler.cli.bulk import finished_copy, warranted_context
from lean_tumbler.cli.declared import option
from lean_tumbler.cli.option_types import (
    BackupOptions,
    BulkOptions,
    ProofOptions,
    ReportOptions,
)
from lean_tumbler.cli.options import (
    chosen_store,
    opened_rows,
    read_policy,
)
from lean_tumbler.cli.session import Session
from lean_tumbler.errors import Interrupted, UsageError

if TYPE_CHECKING:
    from collections.abc import Iterator

    from lean_tumbler.core.policy import StoragePolicy, StorePolicy
    from lean_tumbler.migration.bulk.deriving import RemoteDerivation
    from lean_tumbler.migration.bulk.summary import LayeringSummary

EXAMPLE = """\
  lean-tumbler layer --store passengers --dry-run
  lean-tumbler layer --store passengers --share 0.1% \\
      --backup layer-1.sealed --to recovery.public.pem
  lean-tumbler layer --store passengers --backup layer-2.sealed --to recovery.public.pem \\
      --rate 200/s --until 06:00
  lean-tumbler layer --store kiosk --into kiosk-layered.jsonl

After a stop or a kill, the same command line continues, in the same backup."""


@dataclass(frozen=True, kw_only=True)
class Options(ProofOptions, BackupOptions, BulkOptions, ReportOptions):
    """What the command was asked for."""

    concurrency: int | None = option("N", "derivations at once; without it, one for each core")
    cluster: str | None = option(
        "URL",
        "derive on a Dask cluster, like tls://HOST:8786: it gets digests, no credentials, and a "
        "part of its results is derived here again",
    )
    only: str = option(
        "COHORT",
        "a cohort of the policy, a scheme, or decryptable; --dry-run names them",
        default="",
    )
    list_left: Path | None = option(
        "FILE", "write the accounts that are left, as CSV: key, reason, and what would decide it"
    )


def run(options: Options, session: Session) -> int:
    """Run the command."""
    from lean_tumbler.jobs.layer.layer_report import draw_layer, layer_document
    from lean_tumbler.reports.skipped import left_lines
    from lean_tumbler.stores.file_access import write_text

    policy = read_policy(options)
    store_policy = chosen_store(policy, options.store)
    require_cohort("--only", options.only, store_policy)
    for name in options.unproven:
        require_cohort("--unproven", name, store_policy)
    summary = _layered(options, session, policy, store_policy)
    if options.list_left:
        write_text(options.list_left, "".join(left_lines(summary)))
    session.emit(
        options,
        layer_document(summary),
        draw=lambda console, _: draw_layer(console, summary, store=store_policy.name),
    )
    if summary.stopped or summary.failed:
        return Interrupted.exit_code
    return int(bool(summary.unproven))


def _layered(
    options: Options, session: Session, policy: "StoragePolicy", store_policy: "StorePolicy"
) -> "LayeringSummary":
    from lean_tumbler.core.warrant import Step
    from lean_tumbler.migration.bulk.layering import Selection, Workers, layer_store

    local_workers = options.concurrency or os.cpu_count() or 1
    with (
        opened_rows(options, store_policy) as store,
        ThreadPoolExecutor(local_workers) as executor,
        _elsewhere(options) as (elsewhere, remote_workers),
        warranted_context(
            options,
            session,
            Step.LAYER,
            store,
            (policy, store_policy),
            title="Layering",
        ) as (context, warrant),
    ):
        summary = layer_store(
            store,
            store_policy=store_policy,
            policy=policy,
            warrant=warrant,
            context=context,
            workers=Workers(executor, remote_workers or local_workers, elsewhere),
            selection=Selection(
                only=options.only,
                dry_run=options.dry_run,
                lists_left=options.list_left is not None,
            ),
        )
        if not summary.stopped:
            summary.copy = finished_copy(store)
    return summary


@contextmanager
def _elsewhere(options: Options) -> "Iterator[tuple[RemoteDerivation | None, int]]":
    """Give the cluster that derives, if there is one, and how many calls run there at once."""
    if options.cluster is None:
        yield None, 0
        return
    from lean_tumbler.jobs.layer.cluster import is_overheard
    from lean_tumbler.jobs.layer.cluster_process import cluster

    if is_overheard(options.cluster):
        raise UsageError(
            "--cluster: digests would cross the network in clear, and anybody could answer; use "
            "tls:// and the certificates of Dask's configuration"
        )
    if options.backup is None and not options.dry_run:
        raise UsageError(
            "--cluster goes with --backup and --to: other machines are not trusted with accounts, "
            "and what a wrong one gave is put back from there"
        )
    with cluster(options.cluster) as found:
        yield found


def require_cohort(option: str, name: str, store: "StorePolicy") -> None:
    """Check the name of a cohort, or of several joined, against what a store can hold.

    Raises:
        UsageError: naming the nearest.
    """
    from lean_tumbler.core.reading.reader import DECRYPTABLE
    from lean_tumbler.core.schemes.catalogue import CRYPT_SCHEMES, DERIVATIONS, LAYOUTS
    from lean_tumbler.stores.naming import nearest

    cohorts = [cohort.name for cohort in store.cohorts]
    schemes = {name for layout in LAYOUTS for name in layout.scheme.split(", ")}
    known = (*cohorts, DECRYPTABLE, *DERIVATIONS, *sorted({*CRYPT_SCHEMES, *schemes}))
    for part in filter(None, name.split("+")):
        if part not in known:
            raise UsageError(f"{option}: no cohort “{part}”; {nearest(part, known)}")
