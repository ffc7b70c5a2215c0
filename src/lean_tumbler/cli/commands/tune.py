"""`tune`: the costliest parameters that users can wait for, by measurement."""

import argparse
import os
import platform
import time
from concurrent.futures import ThreadPoolExecutor
from typing import TYPE_CHECKING

from lean_tumbler.cli.options import (
    add_policy_option,
    add_report_options,
    milliseconds,
    policy_path,
    read_policy,
)
from lean_tumbler.cli.session import Session

if TYPE_CHECKING:
    from lean_tumbler.core.grades import Floor
    from lean_tumbler.core.schemes.base import Parameters
    from lean_tumbler.core.tuning.measuring import Measurement

EXAMPLE = """\
  lean-tumbler tune --within 250
  lean-tumbler tune --within 250 --save     writes [target] into the policy"""

DEFAULT_MILLISECONDS = 250.0


def configure(parser: argparse.ArgumentParser) -> None:
    """Declare the arguments."""
    parser.add_argument(
        "--within",
        type=milliseconds,
        metavar="MILLISECONDS",
        default=DEFAULT_MILLISECONDS,
        help="the longest wait at the 99th percentile with every core busy "
        f"(default {DEFAULT_MILLISECONDS:.0f})",
    )
    parser.add_argument(
        "--save", action="store_true", help="write the choice into the policy's [target]"
    )
    add_policy_option(parser)
    add_report_options(parser)


def run(arguments: argparse.Namespace, session: Session) -> int:
    """Run the command."""
    from lean_tumbler.core.policy import Target
    from lean_tumbler.core.tuning.choosing import choose
    from lean_tumbler.reports.tune import draw_tune, tune_document
    from lean_tumbler.stores.policy_file import save_target

    policy = read_policy(arguments, required=arguments.save)
    cores = len(os.sched_getaffinity(0)) if hasattr(os, "sched_getaffinity") else os.cpu_count()
    points = _measure(policy.floor, arguments.within, cores or 1, session)
    choice = choose(points, within_milliseconds=arguments.within)
    host = {"system": platform.system(), "machine": platform.machine(), "cores": cores}
    session.emit(
        arguments,
        document=lambda: tune_document(
            host=host,
            constraints={"within_milliseconds": arguments.within, "floor": policy.floor.source},
            points=points,
            choice=choice,
        ),
        draw=lambda console: draw_tune(
            console, points=points, choice=choice, within=arguments.within
        ),
    )
    if choice is None:
        return 1
    if arguments.save:
        target = Target(choice.measurement.scheme, choice.measurement.parameters)
        save_target(policy_path(arguments), target)
        session.message(f"{policy_path(arguments)}: [target] is now {target}")
    return 0


def _measure(floor: "Floor", within: float, cores: int, session: Session) -> "list[Measurement]":
    from lean_tumbler.core.schemes.catalogue import DERIVATIONS
    from lean_tumbler.core.tuning.choosing import candidates, measure_until_too_slow
    from lean_tumbler.core.tuning.measuring import measure

    with (
        ThreadPoolExecutor(cores) as executor,
        session.progress("Measuring", total=len(candidates(floor))) as advance,
    ):

        def measured(parameters: "Parameters") -> "Measurement":
            point = measure(
                DERIVATIONS["argon2id"],
                parameters,
                executor=executor,
                cores=cores,
                clock=time.perf_counter,
            )
            advance(1)
            return point

        return measure_until_too_slow(floor, within_milliseconds=within, measured=measured)
