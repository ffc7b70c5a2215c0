"""What is wrong, how bad it is, and what to do: one frozen table of findings."""

from collections.abc import Callable, Iterator
from dataclasses import dataclass, field
from enum import StrEnum
from types import MappingProxyType

from lean_tumbler.core.audit.results import Affected, Profile, Reading
from lean_tumbler.core.grades import Floor, Grade


class Severity(StrEnum):
    """How bad, least first."""

    LOW = "low"
    MEDIUM = "medium"
    HIGH = "high"
    CRITICAL = "critical"

    @property
    def rank(self) -> int:
        """0 for the least."""
        return list(Severity).index(self)


@dataclass(frozen=True, slots=True, kw_only=True)
class Rule:
    """One thing that can be wrong.

    Attributes:
        summary: what it means, in a sentence.
        breaks: the published rule that it breaks.
        remedy: the next command or step.
    """

    severity: Severity
    summary: str
    breaks: str
    remedy: str


@dataclass(frozen=True, slots=True, kw_only=True)
class Finding:
    """One thing wrong in one column."""

    code: str
    severity: Severity
    rows: int
    privileged_rows: int
    accounts: list[str] = field(repr=False)
    privileged_accounts: int
    evidence: str
    summary: str
    breaks: str
    remedy: str


_ASVS = "OWASP ASVS 4.0.3, 2.4.1"
_NIST = "NIST SP 800-63B-4, 3.1.1.2"

RULES: MappingProxyType[str, Rule] = MappingProxyType(
    {
        "plain-text": Rule(
            severity=Severity.CRITICAL,
            summary="Passwords can be read by anyone who reads the column.",
            breaks=f"{_NIST}; {_ASVS}",
            remedy="Set accept_plain_text = true for the store, then run `lean-tumbler layer`: "
            "these rows become current at once.",
        ),
        "unsalted-digest": Rule(
            severity=Severity.CRITICAL,
            summary="One guess is tried against every account at once, billions a second.",
            breaks=f"{_NIST}; {_ASVS}",
            remedy="Name the formula in the policy, prove it with `lean-tumbler verify`, "
            "then run `lean-tumbler layer`.",
        ),
        "shared-digest": Rule(
            severity=Severity.HIGH,
            summary="Equal digests betray equal passwords: one guessed, all of them known.",
            breaks=_ASVS,
            remedy="Run `lean-tumbler layer`: a fresh salt for each row hides which are equal.",
        ),
        "cost-below-floor": Rule(
            severity=Severity.HIGH,
            summary="The hash is fast enough to try likely passwords in bulk.",
            breaks=f"{_NIST}; the floor in force",
            remedy="Run `lean-tumbler tune`, then `lean-tumbler layer`; logins upgrade the rest.",
        ),
    }
)


def _plain_text(profile: Profile, _: Floor) -> tuple[Affected, str]:
    affected = _gather(profile, lambda reading: reading.scheme == "plain-text")
    return affected, f"{affected.rows:,} of {profile.rows:,} rows hold text that is no digest"


def _unsalted(profile: Profile, _: Floor) -> tuple[Affected, str]:
    affected = _gather(profile, lambda reading: reading.grade is Grade.FAST_UNSALTED)
    schemes = _schemes_of(profile, {Grade.FAST_UNSALTED})
    return affected, f"{affected.rows:,} bare digests without salt ({schemes})"


def _shared(profile: Profile, _: Floor) -> tuple[Affected, str]:
    return profile.shared, (
        f"{profile.shared_clusters:,} digests stand more than once, "
        f"the commonest {profile.largest_cluster:,} times"
    )


def _below_floor(profile: Profile, floor: Floor) -> tuple[Affected, str]:
    below = {Grade.FAST_SALTED, Grade.OUTDATED}
    affected = _gather(profile, lambda reading: reading.grade in below)
    return affected, f"{_schemes_of(profile, below)}; floor: {floor.source}"


_DETECTORS: MappingProxyType[str, Callable[[Profile, Floor], tuple[Affected, str]]] = (
    MappingProxyType(
        {
            "plain-text": _plain_text,
            "unsalted-digest": _unsalted,
            "shared-digest": _shared,
            "cost-below-floor": _below_floor,
        }
    )
)


def _gather(profile: Profile, wanted: Callable[[Reading], bool]) -> Affected:
    total = Affected()
    for reading, affected in profile.groups.items():
        if wanted(reading):
            total.add(affected.rows, affected.privileged_rows, affected.privileged, affected.others)
    return total


def _schemes_of(profile: Profile, grades: set[Grade]) -> str:
    rows: dict[str, int] = {}
    for reading, affected in profile.groups.items():
        if reading.grade in grades:
            costs = " ".join(f"{name}={number}" for name, number in reading.parameters)
            name = f"{reading.scheme} {costs}".strip()
            rows[name] = rows.get(name, 0) + affected.rows
    ordered = sorted(rows.items(), key=lambda item: -item[1])
    return ", ".join(f"{count:,} {name}" for name, count in ordered)


def findings(profile: Profile, floor: Floor) -> list[Finding]:
    """List what is wrong with a column, the worst first."""
    found = list(_findings(profile, floor))
    return sorted(
        found,
        key=lambda finding: (-finding.severity.rank, -finding.privileged_rows, -finding.rows),
    )


def _findings(profile: Profile, floor: Floor) -> Iterator[Finding]:
    for code, rule in RULES.items():
        affected, evidence = _DETECTORS[code](profile, floor)
        if affected.rows == 0:
            continue
        if affected.privileged_rows:
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
