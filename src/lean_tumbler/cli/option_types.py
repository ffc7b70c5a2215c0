"""The options that several commands have; each command adds its own in `command.py`."""

from collections.abc import Iterable
from dataclasses import dataclass
from datetime import time
from pathlib import Path

from lean_tumbler.cli.declared import flag, option
from lean_tumbler.cli.typed import days, positive_integer, rate_per_second, share

POLICY_NAME = "tumbler.toml"
LATELY_DAYS = 30
FORMATS = ("text", "json")
SEVERITIES = ("low", "medium", "high", "critical")  # of findings, the least first


@dataclass(frozen=True, kw_only=True)
class PolicyOptions:
    """The options of commands that go by a policy."""

    policy: Path | None = option(
        "FILE", f"the policy; without it, {POLICY_NAME} in this folder", default=None
    )


@dataclass(frozen=True, kw_only=True)
class ReportOptions:
    """The options of commands that print a report."""

    format: str = option(None, "how to write the result", choices=FORMATS, default=FORMATS[0])
    output: Path | None = option("FILE", "write it there, readable by you alone")


@dataclass(frozen=True, kw_only=True)
class StoreOptions(PolicyOptions):
    """The options of commands for one store, or for each."""

    store: str | None = option("NAME", "a store of the policy; without it, the only one")


@dataclass(frozen=True, kw_only=True)
class AttackerOptions:
    """Who guesses."""

    attacker: Path | None = option(
        "FILE",
        "the attacker, as TOML: hardware, and how people choose passwords "
        "(default: docs/ATTACKER.md)",
    )


@dataclass(frozen=True, kw_only=True)
class ForecastOptions(StoreOptions):
    """What a forecast is made of."""

    logins: str | None = option(
        "FILE|TABLE",
        "a log of logins with typed passwords (who, when): better than last logins alone",
    )
    session_days: int = option(
        "N",
        "how long a session is remembered: “last seen” is newer than the last typed password",
        read=days,
        default=0,
    )


@dataclass(frozen=True, kw_only=True)
class CountOptions(ForecastOptions):
    """What a count is held against."""

    history: Path | None
    lately: int = LATELY_DAYS


@dataclass(frozen=True, kw_only=True)
class BulkOptions(StoreOptions):
    """The options of steps that write many rows."""

    share: float = option(
        "SHARE",
        "a stable part of the accounts, like 0.1%: a larger one contains every smaller one",
        read=share,
        default=1.0,
    )
    rate: float = option(
        "RATE",
        "the highest rate of writing in rows, like 200/s",
        read=rate_per_second,
        default=0.0,
    )
    until: time | None = option("HH:MM", "stop at this time of day, after the batch in hand")
    max_replica_lag: int | None = option(
        "SECONDS",
        "wait while a replica is further behind (PostgreSQL; MariaDB and MySQL with “replicas” in "
        "the store's policy)",
        read=positive_integer,
    )
    into: Path | None = option(
        "FILE", "the copy to write, where the store is a file: the file itself is never written"
    )
    dry_run: bool = flag("say what would be done, and write nothing")


@dataclass(frozen=True, kw_only=True)
class BackupOptions:
    """Where what is replaced is kept, for whom, and for how long."""

    backup: Path | None = option(
        "FILE", "first seal what is replaced into this new file, so that `undo` can put it back"
    )
    fingerprints: Path | None = option(
        "FILE",
        "seal into this new file what lets `residue` find the replaced values elsewhere: keyed "
        "fingerprints, and no value",
    )
    to: Path | None = option("PUBLICKEY", "the public half of the key to seal it for")
    keep_days: int | None = option(
        "N",
        "write into the backup after how many days it is to be deleted; without it, it is kept as "
        "long as you keep it",
        read=days,
    )
    no_backup: bool = flag("replace values without a way back")


@dataclass(frozen=True, kw_only=True)
class ProofOptions:
    """How much proof a cohort needs."""

    unproven: list[str] = option(
        "COHORT",
        "include this cohort although nothing proves it, or something speaks against it; accounts "
        "that it does not fit are locked out; may be repeated",
    )
    error_bound: float | None = option(
        "SHARE",
        "take a cohort where, with 95 % confidence, at most this share of its rows uses another "
        "formula, like 1%; without it, what the policy says (20%)",
        read=share,
    )


def is_as_severe(found: Iterable[str], limit: str | None) -> bool:
    """Tell whether a severity is that of `--fail-on`, or more; never without that option."""
    if limit is None:
        return False
    return any(SEVERITIES.index(each) >= SEVERITIES.index(limit) for each in found)
