"""What is wrong, how bad it is, and what to do: one frozen table of findings."""

from collections.abc import Iterable, Iterator

import polars as pl
from msgspec import Struct

from lean_tumbler.core.audit.detectors import (
    Case,
    Place,
)
from lean_tumbler.core.audit.frames import Frame
from lean_tumbler.core.audit.results import Profile
from lean_tumbler.core.audit.rule import Severity
from lean_tumbler.core.audit.rules import RULES
from lean_tumbler.core.grades import Floor
from lean_tumbler.core.records import Hidden, MaskedRecord


class Finding(MaskedRecord, Struct, frozen=True, kw_only=True):
    """One thing wrong in one column."""

    code: str
    severity: Severity
    rows: int
    privileged_rows: int
    accounts: Hidden[list[str]]
    privileged_accounts: int
    evidence: str
    summary: str
    breaks: str
    remedy: str


def findings(profile: Profile, floor: Floor, place: Place | None = None) -> list[Finding]:
    """List what is wrong with a column, the worst first.

    Args:
        profile: what the column holds.
        floor: the least that counts as current.
        place: where it stands.
    """
    found = list(_findings(Case(profile, floor, place or Place())))
    return sorted(
        found,
        key=lambda finding: (-finding.severity.rank, -finding.privileged_rows, -finding.rows),
    )


def _findings(case: Case) -> Iterator[Finding]:
    for code, rule in RULES.items():
        affected, evidence = rule.detect.count(case)
        if affected.rows == 0:
            continue
        if affected.privileged_rows and code != "privileged-at-risk":
            evidence += f"; {affected.privileged_rows:,} of them administrators"
        accounts = affected.accounts
        yield Finding(
            code=code,
            severity=rule.severity,
            rows=affected.rows,
            privileged_rows=affected.privileged_rows,
            accounts=accounts,
            privileged_accounts=min(len(affected.privileged), len(accounts)),
            evidence=evidence,
            summary=rule.summary,
            breaks=rule.breaks,
            remedy=rule.remedy,
        )


def members(
    found: Iterable[Finding], profile: Profile, floor: Floor, place: Place, frame: Frame
) -> Iterator[tuple[Finding, pl.DataFrame]]:
    """Give, for each finding, the rows of one frame that it concerns.

    Args:
        found: the column's findings.
        profile: the same column's profile.
        floor: the least that counts as current.
        place: where it stands.
        frame: rows of the same column, looked at again.

    Yields:
        A finding, and rows with `account` and `privileged`.
    """
    case = Case(profile, floor, place)
    for finding in found:
        rows = RULES[finding.code].detect.members(case, frame)
        if rows.height:
            yield finding, rows.select("account", "privileged")
