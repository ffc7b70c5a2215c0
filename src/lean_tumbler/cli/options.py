"""Options that several commands share, declared once."""

import argparse
import re
from contextlib import closing, contextmanager
from datetime import date, datetime, time
from pathlib import Path
from typing import TYPE_CHECKING

from lean_tumbler.cli.option_types import BulkOptions, PolicyOptions
from lean_tumbler.errors import UsageError

if TYPE_CHECKING:
    from collections.abc import Callable, Iterator

    from lean_tumbler.cli.session import Session
    from lean_tumbler.core.login.gateway import CredentialGateway
    from lean_tumbler.core.policy import StoragePolicy, StorePolicy
    from lean_tumbler.core.reading.evidence import Evidence
    from lean_tumbler.core.reading.survey import Column
    from lean_tumbler.stores.interface import LoginStore, Store

POLICY_NAME = "tumbler.toml"
DEFAULT_MILLISECONDS = 250.0  # within which 99 of 100 logins are answered
_RATE = re.compile(r"(?P<number>\d{1,9}(?:\.\d{1,6})?)/?(?P<unit>s|min|h)")
_SECONDS_IN = {"s": 1, "min": 60, "h": 3600}
_BYTES = re.compile(r"(?P<number>\d{1,9}(?:\.\d{1,6})?)\s*(?P<unit>KiB|MiB|GiB|TiB)", re.IGNORECASE)
_KIB_IN = {"kib": 1, "mib": 1 << 10, "gib": 1 << 20, "tib": 1 << 30}
_SHARE = re.compile(r"(?P<number>\d{1,3}(?:\.\d{1,6})?)%")
_MILLISECONDS = re.compile(r"(?P<number>\d{1,7}(?:\.\d{1,6})?)(?P<unit>ms|s)?")


def add_report_options(parser: argparse.ArgumentParser, *more_formats: str) -> None:
    """Add what every command with a result takes."""
    parser.add_argument(
        "--format",
        choices=("text", "json", *more_formats),
        default="text",
        help="how to write the result",
    )
    parser.add_argument(
        "--output", type=Path, metavar="FILE", help="write it there, readable by you alone"
    )


def add_plot_option(parser: argparse.ArgumentParser, what: str) -> None:
    """Add a picture of the result."""
    parser.add_argument("--plot", type=_plot_file, metavar="FILE", help=what)


def _plot_file(text: str) -> Path:
    path = Path(text)
    if path.suffix.lower() not in {".png", ".svg"}:
        raise argparse.ArgumentTypeError("name a file that ends in .png or .svg")
    return path


def write_plot(path: Path, draw: "Callable[[str], bytes]", session: "Session") -> None:
    """Write a picture in the form that the file's name asks for, and say so."""
    from lean_tumbler.stores.file_access import write_bytes

    write_bytes(path, draw(path.suffix.lower().removeprefix(".")))
    session.message(f"{path}: plot written")


def add_part(
    parts: "argparse._SubParsersAction[argparse.ArgumentParser]",
    name: str,
    *,
    does: str,
    example: str,
) -> argparse.ArgumentParser:
    """Declare one of the commands that a command has, with its help."""
    return parts.add_parser(
        name,
        help=does,
        description=f"{does[0].upper()}{does[1:]}.",
        epilog=f"example:\n{example}",
        formatter_class=argparse.RawDescriptionHelpFormatter,
    )


def children_of(parser: argparse.ArgumentParser) -> dict[str, argparse.ArgumentParser]:
    """Give the commands of a parser, by name."""
    found: dict[str, argparse.ArgumentParser] = {}
    for action in parser._actions:  # noqa: SLF001 - argparse tells its options in no other way
        if isinstance(action, argparse._SubParsersAction):  # noqa: SLF001 - as above
            found.update(action.choices)
    return found


def add_policy_option(parser: argparse.ArgumentParser) -> None:
    """Add the policy file."""
    parser.add_argument(
        "--policy",
        type=Path,
        metavar="FILE",
        help=f"the policy; without it, {POLICY_NAME} in this folder",
    )


def add_attacker_option(parser: argparse.ArgumentParser) -> None:
    """Add who guesses."""
    parser.add_argument(
        "--attacker",
        type=Path,
        metavar="FILE",
        help="the attacker, as TOML: hardware, and how people choose passwords "
        "(default: docs/ATTACKER.md)",
    )


def add_store_options(parser: argparse.ArgumentParser) -> None:
    """Add the choice of a store, and what every command on a store takes."""
    parser.add_argument(
        "--store", metavar="NAME", help="a store of the policy; without it, the only one"
    )
    add_policy_option(parser)
    add_report_options(parser)


def add_proof_options(parser: argparse.ArgumentParser) -> None:
    """Add how much proof a cohort needs."""
    parser.add_argument(
        "--unproven",
        action="append",
        default=[],
        metavar="COHORT",
        help="include this cohort although nothing proves it, or something speaks against it; "
        "accounts that it does not fit are locked out; may be repeated",
    )
    parser.add_argument(
        "--error-bound",
        type=share,
        metavar="SHARE",
        help="take a cohort where at most this share of its rows can be made otherwise without "
        "having been seen, at 95 %%, like 1%%; without it, what the policy says (20%%)",
    )


def add_dry_run_option(parser: argparse.ArgumentParser) -> None:
    """Add a try that writes nothing."""
    parser.add_argument(
        "--dry-run", action="store_true", help="say what would be done, and write nothing"
    )


def policy_path(options: PolicyOptions) -> Path:
    """Tell where the policy is meant to be."""
    return options.policy or Path(POLICY_NAME)


def read_policy(options: PolicyOptions, *, required: bool = True) -> "StoragePolicy":
    """Read the policy that the options name.

    Args:
        options: parsed options.
        required: without it, a policy that is neither named nor there is the default policy.
    """
    from lean_tumbler.core.policy import StoragePolicy
    from lean_tumbler.stores.policy_file import read_policy as read

    path = policy_path(options)
    if not required and options.policy is None and not path.exists():
        return StoragePolicy()
    return read(path)


def gateway_of(options: PolicyOptions, policy: "StoragePolicy") -> "CredentialGateway":
    """Give the gateway of a policy, with the keys that it names; it looks at columns by need."""
    from lean_tumbler.core.login.gateway import CredentialGateway
    from lean_tumbler.core.policy import APPLICATION

    columns = {
        name: column_of(options, policy, store)
        for name, store in policy.stores.items()
        if store.locator != APPLICATION
    }
    return CredentialGateway(
        policy,
        keys=keys_of(options, policy),
        columns=columns,
        evidence=_evidence_of(options, policy),
    )


def _evidence_of(options: PolicyOptions, policy: "StoragePolicy") -> "Callable[[], Evidence]":
    """Give what logins may go by: what is known of stores whose rows still stand there."""
    from lean_tumbler.stores.evidence_file import EvidenceFile
    from lean_tumbler.stores.scans.binding import LoginEvidence, openers

    path = policy_path(options)
    return LoginEvidence(
        EvidenceFile.beside(path), openers(policy.stores, policy=policy, base=path.parent)
    )


def column_of(
    options: PolicyOptions, policy: "StoragePolicy", store: "StorePolicy"
) -> "Callable[[], Column]":
    """Give what surveys a store's column when it is first asked for."""
    from lean_tumbler.core.reading.of_stores import store_reader
    from lean_tumbler.stores.locators import open_store
    from lean_tumbler.stores.scans.surveying import surveyed_once

    base = policy_path(options).parent
    return surveyed_once(lambda: closing(open_store(store, base=base)), store_reader(policy, store))


def keys_of(options: PolicyOptions, policy: "StoragePolicy") -> dict[str, bytes]:
    """Read the keys that a policy names."""
    import os

    from lean_tumbler.stores.keys import read_keys

    return read_keys(policy, base=policy_path(options).parent, environment=os.environ)


def chosen_store(policy: "StoragePolicy", name: str | None) -> "StorePolicy":
    """Give the store that is meant.

    Raises:
        UsageError: there is none of that name, or several and none is named.
    """
    known = _named(policy)
    if name is not None:
        if name not in policy.stores:
            raise UsageError(f"the policy has no store “{name}”; it has: {known}")
        return policy.stores[name]
    if len(policy.stores) != 1:
        raise UsageError(f"name a store with --store; the policy has: {known}")
    return next(iter(policy.stores.values()))


def _named(policy: "StoragePolicy") -> str:
    """List the stores of a policy; of equal tables the first."""
    listed: dict[str, list[str]] = {}
    for store in policy.stores.values():
        listed.setdefault(store.section, []).append(store.name)
    return ", ".join(
        tables[0] + (f" (and {len(tables) - 1:,} equal tables)" if len(tables) > 1 else "")
        for tables in listed.values()
    ) or "none"  # fmt: skip


def chosen_stores(policy: "StoragePolicy", name: str | None) -> "list[StorePolicy]":
    """Give the store that is named, with all its tables, or all stores.

    Raises:
        UsageError: there is none of that name, or none at all.
    """
    if name is None and policy.stores:
        return list(policy.stores.values())
    tables = [store for store in policy.stores.values() if store.section == name]
    return tables or [chosen_store(policy, name)]


def milliseconds(text: str) -> float:
    """Read a duration: a number of milliseconds, or one with `ms` or `s` behind it."""
    match = _MILLISECONDS.fullmatch(text.strip())
    number = float(match["number"]) * (1000 if match["unit"] == "s" else 1) if match else 0.0
    if number <= 0:
        raise argparse.ArgumentTypeError("expected a time above 0, like 250 or 250ms or 0.25s")
    return number


def seconds(text: str) -> float:
    """Read a duration in seconds, with or without `s` behind it."""
    return milliseconds(text.strip().removesuffix("s") + "s") / 1000


def rate_per_second(text: str) -> float:
    """Read a rate like `40/s` or `600/min`, above 0."""
    match = _RATE.fullmatch(text.strip())
    number = float(match["number"]) / _SECONDS_IN[match["unit"]] if match else 0.0
    if number <= 0:
        raise argparse.ArgumentTypeError("expected a rate above 0, like 40/s or 600/min")
    return number


def kibibytes(text: str) -> int:
    """Read an amount of memory like `4GiB` or `512MiB`, in KiB."""
    match = _BYTES.fullmatch(text.strip())
    number = int(float(match["number"]) * _KIB_IN[match["unit"].lower()]) if match else 0
    if number < 1:
        raise argparse.ArgumentTypeError("expected an amount above 0, like 4GiB or 512MiB")
    return number


def share(text: str) -> float:
    """Read a share like `30%`."""
    match = _SHARE.fullmatch(text.strip())
    number = float(match["number"]) if match else -1.0
    if not 0 <= number <= 100:
        raise argparse.ArgumentTypeError("expected a share from 0% to 100%")
    return number / 100


def time_of_day(text: str) -> time:
    """Read a time of day like `06:00`."""
    try:
        return datetime.strptime(text.strip(), "%H:%M").time()  # noqa: DTZ007 - no date, no zone
    except ValueError:
        raise argparse.ArgumentTypeError("expected a time of day, like 06:00") from None


def day(text: str) -> date:
    """Read a day like `2026-10-01`."""
    try:
        return date.fromisoformat(text.strip())
    except ValueError:
        raise argparse.ArgumentTypeError("expected a day, like 2026-10-01") from None


def positive_integer(text: str) -> int:
    """Read a whole number of 1 or more."""
    if not text.isascii() or not text.isdigit() or not int(text[:9]) >= 1 or len(text) > 9:
        raise argparse.ArgumentTypeError("expected a whole number from 1")
    return int(text)


@contextmanager
def opened_store(
    options: PolicyOptions,
    store: "StorePolicy",
    *,
    writable: bool = False,
) -> "Iterator[LoginStore]":
    """Open a store of the policy, and close it afterwards.

    Args:
        options: parsed options.
        store: the one.
        writable: whether single values will be written; a bulk step's options say it themselves.
    """
    from lean_tumbler.stores.locators import is_file, open_store

    base = policy_path(options).parent
    bulk = options if isinstance(options, BulkOptions) else None
    is_dry = bulk is not None and bulk.dry_run
    into = None if bulk is None or is_dry else bulk.into
    # A dry run needs no copy of a file; of a table it finds out whether it can be written.
    writable |= bulk is not None and not (is_dry and is_file(store, base=base))
    opened = open_store(store, base=base, writable=writable, into=into)
    try:
        yield opened
    finally:
        opened.close()


@contextmanager
def opened_rows(
    options: PolicyOptions,
    store: "StorePolicy",
) -> "Iterator[Store]":
    """Open a store whose rows are gone through; see `opened_store`.

    Raises:
        UsageError: they cannot be.
    """
    from lean_tumbler.stores.locators import require_bulk

    with opened_store(options, store) as opened:
        yield require_bulk(opened)
