"""`rehearse`: the whole change on a copy, with accounts whose password is known."""

import os
import tempfile
from concurrent.futures import ThreadPoolExecutor
from dataclasses import dataclass
from pathlib import Path

from lean_tumbler.cli.bulk import reading_context
from lean_tumbler.cli.declared import argument, option
from lean_tumbler.cli.known_account_proof import prove_known
from lean_tumbler.cli.option_types import ReportOptions, StoreOptions
from lean_tumbler.cli.options import (
    chosen_store,
    gateway_of,
    opened_rows,
    read_policy,
)
from lean_tumbler.cli.session import Session
from lean_tumbler.stores.interface import HasSchema

EXAMPLE = """\
  lean-tumbler rehearse known.csv --store passengers

known.csv begins with the line login,password. The store is only read; the copy is in a
temporary folder that only you can read, and is removed at the end."""

DEFAULT_ROWS = 500


@dataclass(frozen=True, kw_only=True)
class Options(StoreOptions, ReportOptions):
    """What the command was asked for."""

    known: Path = argument("KNOWN", "a CSV file of known accounts")
    rows: int = option(
        "N",
        f"how many other accounts to copy and layer (default {DEFAULT_ROWS})",
        default=DEFAULT_ROWS,
    )


def run(options: Options, session: Session) -> int:
    """Run the command."""
    from lean_tumbler.jobs.rehearse.rehearsal import rehearse
    from lean_tumbler.jobs.rehearse.rehearse_report import draw_rehearse, rehearse_document
    from lean_tumbler.migration.bulk.layering import Workers
    from lean_tumbler.migration.bulk.warranting import widest
    from lean_tumbler.stores.known_accounts import read_known_accounts

    policy = read_policy(options)
    store_policy = chosen_store(policy, options.store)
    known = read_known_accounts(options.known, with_stored=False, say=session.message)
    workers = os.cpu_count() or 1
    with (
        opened_rows(options, store_policy) as store,
        tempfile.TemporaryDirectory(prefix="rehearsal-") as folder,
        ThreadPoolExecutor(workers) as executor,
        session.progress("Rehearsing", total=0, unit="logins") as advance,
    ):
        gateway = gateway_of(options, policy)
        prove_known(options, session, gateway, [store_policy], known)
        found = rehearse(
            store,
            known,
            store_policy=store_policy,
            gateway=gateway,
            context=reading_context(advance),
            workers=Workers(executor, workers),
            folder=Path(folder),
            rows=options.rows,
            today=session.today(),
        )
        found.width = store.width() if isinstance(store, HasSchema) else None
    found.needed = widest(policy, store_policy)
    session.emit(options, rehearse_document(found), draw=draw_rehearse)
    return int(not found.passed)
