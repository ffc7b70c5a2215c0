"""`plan`: what each cohort gets, what the schema needs, how long it takes, and what it touches."""

import argparse
import os
import time
from concurrent.futures import ThreadPoolExecutor

from lean_tumbler.cli.options import (
    add_store_options,
    chosen_store,
    keys_of,
    opened_store,
    positive_integer,
    read_policy,
)
from lean_tumbler.cli.session import Session

EXAMPLE = """\
  lean-tumbler plan --store passengers

The store is only read. The statements are for you to review and to run."""


def configure(parser: argparse.ArgumentParser) -> None:
    """Declare the arguments."""
    parser.add_argument(
        "--workers",
        type=positive_integer,
        metavar="N",
        help="derivations at once that the time is given for; without it, one for each core",
    )
    add_store_options(parser)


def run(arguments: argparse.Namespace, session: Session) -> int:
    """Run the command."""
    from lean_tumbler.operations.layering import Resources
    from lean_tumbler.operations.planning import plan_store
    from lean_tumbler.reports.plan import draw_plan, plan_document

    policy = read_policy(arguments)
    store_policy = chosen_store(policy, arguments.store)
    workers = arguments.workers or os.cpu_count() or 1
    with (
        opened_store(arguments, store_policy) as store,
        ThreadPoolExecutor(workers) as executor,
        session.progress("Reading", total=store.count(), unit="rows") as advance,
    ):
        plan = plan_store(
            store,
            store_policy=store_policy,
            policy=policy,
            resources=Resources(
                executor=executor,
                local=executor,
                workers=workers,
                clock=time.perf_counter,
                randomness=os.urandom,
                keys=keys_of(arguments, policy),
                pause=time.sleep,
            ),
            progress=advance,
        )
    session.emit(
        arguments,
        document=lambda: plan_document(plan),
        draw=lambda console: draw_plan(console, plan),
    )
    return 0
