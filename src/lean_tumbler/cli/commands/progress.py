"""`progress`: how far the migration is."""

import argparse
from datetime import UTC, datetime

from lean_tumbler.cli.options import (
    add_store_options,
    chosen_store,
    policy_path,
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
    from lean_tumbler.operations.auditing import Means, audit_policy_store
    from lean_tumbler.reports.progress import draw_progress, progress_document

    policy = read_policy(arguments)
    if arguments.store is None and policy.stores:
        stores = list(policy.stores.values())
    else:
        stores = [chosen_store(policy, arguments.store)]
    base = policy_path(arguments).parent
    means = Means(floor=policy.floor, target=policy.target)
    columns = [
        column
        for store in stores
        for column in audit_policy_store(store, base=base, means=means).columns
    ]
    taken_at = datetime.now(UTC).isoformat(timespec="seconds")
    session.emit(
        arguments,
        document=lambda: progress_document(taken_at=taken_at, columns=columns),
        draw=lambda console: draw_progress(console, columns),
    )
    return 0
