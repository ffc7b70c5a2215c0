"""`tune`: parameters by measurement, under a login load, against an attacker's costs."""

import time
from concurrent.futures import ThreadPoolExecutor
from dataclasses import dataclass
from datetime import UTC
from pathlib import Path
from typing import TYPE_CHECKING

from lean_tumbler.cli.declared import flag, option
from lean_tumbler.cli.option_types import AttackerOptions, PolicyOptions, ReportOptions
from lean_tumbler.cli.options import (
    DEFAULT_MILLISECONDS,
    policy_path,
    read_policy,
    write_plot,
)
from lean_tumbler.cli.session import Session
from lean_tumbler.cli.typed import kibibytes, milliseconds, plot_file, rate_per_second, share
from lean_tumbler.errors import UsageError

if TYPE_CHECKING:
    from lean_tumbler.core.policy import StoragePolicy
    from lean_tumbler.core.tuning.choosing import Candidate
    from lean_tumbler.core.tuning.measuring import LeftOut, Measurement
    from lean_tumbler.stores.host import Host
    from lean_tumbler.stores.tuning_files import Measured

EXAMPLE = """\
  lean-tumbler tune --peak-logins 40/s --within 300ms
  lean-tumbler tune --peak-logins 40/s --schemes bcrypt,pbkdf2-sha256 --memory 4GiB
  lean-tumbler tune --measurements production.json --cores 16 --save"""


@dataclass(frozen=True, kw_only=True)
class Options(AttackerOptions, PolicyOptions, ReportOptions):
    """What the command was asked for."""

    peak_logins: float | None = option(
        "RATE",
        "attempts at the worst minute, failed ones included, like 40/s",
        read=rate_per_second,
    )
    upgrading: float = option(
        "SHARE",
        "the share of logins that derive twice, the first after a migration, like 30%",
        read=share,
        default=0.0,
    )
    within: float = option(
        "MILLISECONDS",
        f"the longest wait of 99 in 100 logins at that load (default {DEFAULT_MILLISECONDS:.0f})",
        read=milliseconds,
        default=DEFAULT_MILLISECONDS,
    )
    cores: int | None = option(
        "N", "cores of the host that checks logins (default: those measured on)"
    )
    memory: int | None = option(
        "AMOUNT",
        "memory that the host gives to it, like 4GiB (default: all of the one measured on)",
        read=kibibytes,
    )
    schemes: str | None = option(
        "LIST", "choose among these alone, like bcrypt,pbkdf2-sha256: what your language can verify"
    )
    approved_only: bool = flag("choose among schemes of FIPS-approved primitives alone")
    floor: str | None = option(
        "NAME",
        "the minimum: owasp, rfc9106, nist, or a TOML file with a table [floor] (default: the "
        "policy's)",
    )
    quick: bool = flag("measure for less than 10 seconds instead of 60")
    measurements: Path | None = option(
        "FILE", "read the measurements from this file; if it does not exist, measure and write it"
    )
    plot: Path | None = option(
        "FILE", "draw waits against guesses, as .png or .svg", read=plot_file
    )
    save: bool = flag("write the choice into the policy's [target]")


def run(options: Options, session: Session) -> int:
    """Run the command."""
    from lean_tumbler.core.tuning.choosing import Demand
    from lean_tumbler.jobs.tune.tune_report import draw_tune, tune_document
    from lean_tumbler.jobs.tune.tuning import tune
    from lean_tumbler.stores.tuning_files import read_attacker, read_floor

    policy = read_policy(options, required=options.save)
    floor = read_floor(options.floor, policy)
    attacker = read_attacker(options.attacker)
    wanted = _schemes(options)
    measured, left_out = _measured(options, wanted, session)
    tuned = tune(
        [point for point in measured.measured if point.scheme in wanted],
        left_out,
        floor=floor,
        attacker=attacker,
        demand=Demand(
            cores=options.cores or measured.host.cores,
            memory_kib=options.memory or measured.host.memory_kib,
            within_milliseconds=options.within,
            logins_per_second=options.peak_logins or 0.0,
            upgrading=options.upgrading,
            verified_by=policy.target.verified_by,
        ),
    )
    session.emit(
        options,
        tune_document(tuned, measured.host),
        draw=lambda console, _: draw_tune(console, tuned, measured.host),
    )
    if options.plot:
        from lean_tumbler.jobs.tune.plot import tune_plot

        write_plot(options.plot, lambda kind: tune_plot(tuned, kind), session)
    chosen = tuned.choice.chosen
    if chosen is None:
        return 1
    if options.save:
        _save(options, policy, chosen, session)
    return 0


def _schemes(options: Options) -> tuple[str, ...]:
    from lean_tumbler.core.schemes.catalogue import TUNED
    from lean_tumbler.core.tuning.choosing import APPROVED
    from lean_tumbler.stores.naming import nearest

    wanted = tuple(TUNED)
    if options.schemes is not None:
        wanted = tuple(name.strip() for name in options.schemes.split(","))
        for name in wanted:
            if name not in TUNED:
                raise UsageError(
                    f"--schemes: no scheme “{name}” to write; {nearest(name, tuple(TUNED))}"
                )
    if options.approved_only:
        wanted = tuple(name for name in wanted if name in APPROVED)
        if not wanted:
            approved = ", ".join(APPROVED)
            raise UsageError(f"--approved-only leaves none of --schemes; approved: {approved}")
    return wanted


def _measured(
    options: Options, schemes: tuple[str, ...], session: Session
) -> "tuple[Measured, list[LeftOut]]":
    """Take measurements from the file that is named, or measure."""
    from lean_tumbler.core.tuning.measuring import is_noisy, spread_of
    from lean_tumbler.stores.host import this_host
    from lean_tumbler.stores.tuning_files import (
        Measured,
        MeasuredHost,
        read_measurements,
        write_measurements,
    )

    path = options.measurements
    if path is not None and path.exists():
        return read_measurements(path), []
    host = this_host()
    points, left_out = _points(options, schemes, host, session)
    if is_noisy(points):
        session.message(f"timings varied by {spread_of(points):.0%}: measuring again")
        again, left_out_again = _points(options, schemes, host, session)
        if spread_of(again) < spread_of(points):
            points, left_out = again, left_out_again
    measured = Measured(
        host=MeasuredHost(
            system=host.system,
            machine=host.machine,
            cores=host.cores,
            memory_kib=host.memory_kib,
        ),
        taken_at=session.clock().astimezone(UTC).isoformat(timespec="seconds"),
        measured=tuple(points),
    )
    if path is not None:
        write_measurements(path, measured)
        session.message(f"{path}: measurements written; --measurements {path} takes them again")
        measured = read_measurements(path)  # rounded there: what is reported now comes again
    return measured, left_out


def _points(
    options: Options, schemes: tuple[str, ...], host: "Host", session: Session
) -> "tuple[list[Measurement], list[LeftOut]]":
    """Measure once."""
    from lean_tumbler.core.tuning.measuring import QUICK, THOROUGH, Bench

    with ThreadPoolExecutor(host.cores) as executor:
        bench = Bench(
            QUICK if options.quick else THOROUGH,
            executor=executor,
            cores=host.cores,
            memory_kib=host.free_kib,
            clock=time.perf_counter,
        )
        with session.progress("Measuring", total=bench.steps(schemes)) as advance:
            points = bench.measure(schemes, progress=advance)
    return points, bench.left_out


def _save(options: Options, policy: "StoragePolicy", chosen: "Candidate", session: Session) -> None:
    from lean_tumbler.core.policy import Target
    from lean_tumbler.stores.policy_file import save_target

    path = policy_path(options)
    if not policy.floor.reached_by(chosen.scheme, chosen.parameters):
        raise UsageError(
            f"{path}: the choice is below the policy's own floor ({policy.floor.source}); "
            "nothing saved; leave --floor out, or change the policy's [floor]"
        )
    target = Target(chosen.scheme, chosen.parameters)
    save_target(path, target)
    session.message(f"{path}: [target] is now {target}")
