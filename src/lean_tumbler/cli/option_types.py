"""What commands are asked for, as types: the options that several of them have.

Each command adds its own in `command.py`; `asked` makes them of what was parsed.
"""

import inspect
from collections.abc import Callable
from dataclasses import dataclass, fields
from datetime import time
from pathlib import Path
from typing import Any


@dataclass(frozen=True, kw_only=True)
class PolicyOptions:
    """The options of commands that go by a policy."""

    policy: Path | None


@dataclass(frozen=True, kw_only=True)
class ReportOptions:
    """The options of commands that print a report."""

    format: str
    output: Path | None


@dataclass(frozen=True, kw_only=True)
class StoreOptions(PolicyOptions):
    """The options of commands for one store, or for each."""

    store: str | None


@dataclass(frozen=True, kw_only=True)
class ForecastOptions(StoreOptions):
    """What a forecast is made of."""

    logins: str | None
    session_days: int


@dataclass(frozen=True, kw_only=True)
class CountOptions(ForecastOptions):
    """What a count is held against."""

    history: Path | None
    lately: int


@dataclass(frozen=True, kw_only=True)
class BulkOptions(StoreOptions):
    """The options of steps that write many rows."""

    share: float
    rate: float
    until: time | None
    max_replica_lag: int | None
    into: Path | None
    dry_run: bool


@dataclass(frozen=True, kw_only=True)
class BackupOptions:
    """Where what is replaced is sealed."""

    backup: Path | None
    fingerprints: Path | None
    to: Path | None
    keep_days: int | None
    no_backup: bool


@dataclass(frozen=True, kw_only=True)
class ProofOptions:
    """How much proof a cohort needs."""

    error_bound: float | None
    unproven: list[str]


def asked(act: Callable[..., int], parsed: Any) -> Any:
    """Give what a command was asked for as the type that it takes.

    Args:
        act: takes `options`, which are a dataclass, and a session.
        parsed: has an attribute for each of their fields.
    """
    kind = inspect.signature(act, eval_str=True).parameters["options"].annotation
    return kind(**{field.name: getattr(parsed, field.name) for field in fields(kind)})
