"""`layer`: the slow hash over every legacy digest, in bulk."""

import argparse
import os
import signal
import threading
import time
from collections.abc import Iterator
from concurrent.futures import ThreadPoolExecutor
from contextlib import contextmanager

from lean_tumbler.cli.options import (
    add_store_options,
    chosen_store,
    opened_store,
    positive_integer,
    read_policy,
)
from lean_tumbler.cli.session import Session
from lean_tumbler.errors import StoppedPartWay

EXAMPLE = """\
  lean-tumbler layer --store passengers
  lean-tumbler layer --store passengers     the same again, to continue after a stop or a kill"""


def configure(parser: argparse.ArgumentParser) -> None:
    """Declare the arguments."""
    parser.add_argument(
        "--workers",
        type=positive_integer,
        metavar="N",
        help="derivations at once; without it, one for each core",
    )
    add_store_options(parser)


def run(arguments: argparse.Namespace, session: Session) -> int:
    """Run the command."""
    from lean_tumbler.operations.layering import Resources, layer_store
    from lean_tumbler.reports.layer import draw_layer, layer_document

    policy = read_policy(arguments)
    store_policy = chosen_store(policy, arguments.store)
    workers = arguments.workers or os.cpu_count() or 1
    with (
        opened_store(arguments, store_policy, writable=True) as store,
        ThreadPoolExecutor(workers) as executor,
        stop_signals() as stopping,
        session.progress("Layering", total=store.count(), unit="rows") as advance,
    ):
        summary = layer_store(
            store,
            store_policy=store_policy,
            policy=policy,
            resources=Resources(
                executor=executor,
                workers=workers,
                clock=time.perf_counter,
                randomness=os.urandom,
            ),
            should_stop=stopping.is_set,
            progress=advance,
        )
    session.emit(
        arguments,
        document=lambda: layer_document(summary),
        draw=lambda console: draw_layer(console, summary),
    )
    return StoppedPartWay.exit_code if summary.stopped or summary.failed else 0


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
