"""Gathering the report for whoever signs off: counts, course, surroundings, backups, standards."""

from collections.abc import Sequence
from datetime import datetime
from pathlib import Path

from msgspec import Struct

from lean_tumbler.core.grades import Grade
from lean_tumbler.core.policy import StoragePolicy, StorePolicy
from lean_tumbler.core.standards import POINTS, Facts, Point, PointVerdict
from lean_tumbler.errors import UsageError
from lean_tumbler.jobs.report.residue_result import ResidueResult
from lean_tumbler.stores.history import Entry
from lean_tumbler.stores.interface import HasSchema
from lean_tumbler.stores.kinds import open_store
from lean_tumbler.stores.locators import open_guard
from lean_tumbler.stores.scans.auditing import AuditedColumn
from lean_tumbler.stores.scans.migration_progress import MigrationProgress
from lean_tumbler.stores.sealed_backup import SealedHead, read_head
from lean_tumbler.stores.sql.surroundings import Surroundings

_NO_SALT = (Grade.READABLE, Grade.FAST_UNSALTED)


class KeptBackup(Struct, frozen=True, kw_only=True):
    """A sealed backup: the file, what its head says, and whether it should be gone."""

    path: Path
    head: SealedHead
    expired: bool


class StoreReport(Struct, frozen=True, kw_only=True):
    """One store's part.

    Attributes:
        course: counts and forecast.
        column: the audit of its column.
        around: what stands around its table; empty for files.
        guarded: whether the column is guarded; None where it cannot be.
        points: of the standards, and whether they are met.
    """

    migration: MigrationProgress
    column: AuditedColumn
    around: Surroundings
    guarded: bool | None
    points: Sequence[tuple[Point, PointVerdict, str]]


class Report(Struct, frozen=True, kw_only=True):
    """The whole."""

    taken_at: datetime  # when it was counted
    policy: Path  # the policy's file
    target: str  # what new values are written with, in words
    floor: str  # what counts as current, in words
    stores: Sequence[StoreReport]  # by store
    entries: Sequence[Entry]  # earlier counts, oldest first
    backups: Sequence[KeptBackup]  # sealed ones that were named
    notes: Sequence[str]  # what could not be read
    residue: Sequence[ResidueResult] = ()  # what searches elsewhere found


def kept_backup(path: Path, now: datetime) -> KeptBackup:
    """Read what a sealed backup says of itself; no key is needed.

    Raises:
        UsageError: it is none.
        SourceError: it cannot be read.
    """
    head = read_head(path)
    return KeptBackup(path=path, head=head, expired=head.expired(now))


def report_store(
    store: StorePolicy,
    *,
    base: Path,
    policy: StoragePolicy,
    migration: MigrationProgress,
    column: AuditedColumn,
) -> StoreReport:
    """Report on one store.

    Raises:
        SourceError: it cannot be read.
    """
    guarded, around = _around(store, base, policy)
    facts = _facts(column, policy, guarded)
    return StoreReport(
        migration=migration,
        column=column,
        around=around,
        guarded=guarded,
        points=[(point, *point.judge(facts)) for point in POINTS],
    )


def _around(
    store: StorePolicy, base: Path, policy: StoragePolicy
) -> tuple[bool | None, Surroundings]:
    try:
        guard = open_guard(store, base=base, policy=policy, writable=False)
    except UsageError:  # a file, a directory, or the application's own
        return None, Surroundings()
    try:
        guarded = guard.stands()
    finally:
        guard.close()
    opened = open_store(store, base=base)
    try:
        around = opened.surroundings() if isinstance(opened, HasSchema) else Surroundings()
        return guarded, around
    finally:
        opened.close()


def _facts(column: AuditedColumn, policy: StoragePolicy, guarded: bool | None) -> Facts:
    grades = column.profile.grades
    return Facts(
        weak=column.profile.below_floor,
        unsalted=sum(grades.get(grade, 0) for grade in _NO_SALT),
        unknown=grades.get(Grade.UNKNOWN, 0),
        values=sum(grades.values()) - grades.get(Grade.LOCKED, 0),
        keyed=sum(column.profile.keys.values()),
        findings={finding.code: finding.rows for finding in column.findings},
        min_length=policy.new_passwords.min_length,
        guarded=guarded,
    )
