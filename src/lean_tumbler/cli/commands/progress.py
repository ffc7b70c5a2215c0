"""`progress`: how far the migration is."""

import argparse
from datetime import UTC, datetime

from lean_tumbler.cli.options import (
    add_store_options,
    chosen_store,
    opened_store,
    read_policy,
)
from lean_tumbler.cli.session import Session

EXAMPLE = """\
  lean-tumbler progress
  lean-tumbler progress --store passengers --format json"""


def configure(parser: argparse.ArgumentParser) -> None:
    """Declare the arguments."""
    add_store_options(parser)


def run(arguments: argparse.Namespace, session: Session) -> int:
    """Run the command."""
    from lean_tumbler.operations.auditing import audit_store
    from lean_tumbler.reports.progress import draw_progress, progress_document

    policy = read_policy(arguments)
    if arguments.store is None and policy.stores:
        stores = list(policy.stores.values())
    else:
        stores = [chosen_store(policy, arguments.store)]
    columns = []
    for store_policy in stores:
        with opened_store(arguments, store_policy) as store:
            column = audit_store(store, floor=policy.floor, formulas=store_policy.formulas)
            columns.append(column)
    taken_at = datetime.now(UTC).isoformat(timespec="seconds")
    session.emit(
        arguments,
        document=lambda: progress_document(taken_at=taken_at, columns=columns),
        draw=lambda console: draw_progress(console, columns),
    )
    return 0
