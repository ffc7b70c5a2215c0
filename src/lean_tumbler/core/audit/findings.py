"""What is wrong, how bad it is, and what to do: one frozen table of findings."""

import re
from collections.abc import Callable, Iterator
from dataclasses import dataclass, field
from enum import StrEnum
from types import MappingProxyType

from lean_tumbler.core.audit.results import Affected, Clusters, Profile, Reading
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


@dataclass(frozen=True, slots=True)
class Place:
    """Where a column stands, and what other credential columns its table has."""

    table: str = ""
    column: str = ""
    beside: tuple[str, ...] = ()


@dataclass(frozen=True, slots=True)
class _Case:
    """What a detector looks at."""

    profile: Profile
    floor: Floor
    place: Place


@dataclass(frozen=True, slots=True, kw_only=True)
class Rule:
    """One thing that can be wrong.

    Attributes:
        summary: what it means, in a sentence.
        breaks: the published rule that it breaks; empty where there is none.
        remedy: the next command or step.
        detect: case -> the rows it concerns, and the evidence in numbers.
    """

    severity: Severity
    summary: str
    breaks: str = ""
    remedy: str
    detect: Callable[[_Case], tuple[Affected, str]]


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
_STATIC_SHARE = 0.5  # one salt for more than half of the salted rows is no salt
_STATIC_ROWS = 10

_FAST = frozenset({Grade.FAST_UNSALTED, Grade.FAST_SALTED})
_LEFTOVER_TABLE = re.compile(
    r"(^|_)(old|bak|backup|copy|tmp|temp|archive|\d{4,8})($|_)", re.IGNORECASE
)
_LOG_TABLE = re.compile(
    r"(^|_)(log|logs|audit|history|events?|trace|requests?)($|_)", re.IGNORECASE
)


def _gather(profile: Profile, wanted: Callable[[Reading], bool]) -> Affected:
    total = Affected()
    for reading, affected in profile.groups.items():
        if wanted(reading):
            total.add(affected.rows, affected.privileged_rows, affected.privileged, affected.others)
    return total


def _schemes_of(profile: Profile, wanted: Callable[[Reading], bool]) -> str:
    rows: dict[str, int] = {}
    for reading, affected in profile.groups.items():
        if wanted(reading):
            costs = " ".join(f"{name}={number}" for name, number in reading.parameters)
            name = f"{reading.scheme} {costs}".strip()
            rows[name] = rows.get(name, 0) + affected.rows
    ordered = sorted(rows.items(), key=lambda item: -item[1])
    return ", ".join(f"{count:,} {name}" for name, count in ordered)


def _by_reading(
    wanted: Callable[[Reading], bool], evidence: str
) -> Callable[[_Case], tuple[Affected, str]]:
    """Detect groups; the evidence may name {rows}, {all}, {schemes} and {floor}."""

    def detect(case: _Case) -> tuple[Affected, str]:
        affected = _gather(case.profile, wanted)
        return affected, evidence.format(
            rows=f"{affected.rows:,}",
            all=f"{case.profile.rows:,}",
            schemes=_schemes_of(case.profile, wanted),
            floor=case.floor.source,
        )

    return detect


def _flagged(code: str, evidence: str) -> Callable[[_Case], tuple[Affected, str]]:
    """Detect rows that the profile flagged under a code."""

    def detect(case: _Case) -> tuple[Affected, str]:
        affected = case.profile.flagged.get(code, Affected())
        return affected, evidence.format(rows=f"{affected.rows:,}", all=f"{case.profile.rows:,}")

    return detect


def _shared_digest(case: _Case) -> tuple[Affected, str]:
    found = case.profile.digests
    fast = _gather(case.profile, lambda reading: reading.grade in _FAST)
    return (found.affected if fast.rows else Affected()), (
        f"{found.number:,} digests stand more than once, the commonest {found.largest:,} times"
    )


def _is_static(case: _Case, salts: Clusters) -> bool:
    return salts.largest >= max(_STATIC_ROWS, _STATIC_SHARE * case.profile.salted_rows)


def _static_salt(case: _Case) -> tuple[Affected, str]:
    salts = case.profile.salts
    evidence = f"one salt stands in {salts.largest:,} of {case.profile.salted_rows:,} salted rows"
    return (salts.affected if _is_static(case, salts) else Affected()), evidence


def _salt_reused(case: _Case) -> tuple[Affected, str]:
    salts = case.profile.salts
    evidence = f"{salts.number:,} salts stand more than once, the commonest {salts.largest:,} times"
    return (Affected() if _is_static(case, salts) else salts.affected), evidence


def _mixed_case(case: _Case) -> tuple[Affected, str]:
    lower = _gather(case.profile, lambda reading: reading.layout == "hex")
    upper = _gather(case.profile, lambda reading: reading.layout == "hex-upper")
    mixed = case.profile.flagged.get("mixed-case-digest", Affected())
    evidence = f"{lower.rows:,} in lower case, {upper.rows:,} in upper, {mixed.rows:,} mixed"
    if mixed.rows:
        return mixed, evidence
    return (min(lower, upper, key=lambda part: part.rows) if lower.rows else Affected()), evidence


def _values(case: _Case) -> Affected:
    return _gather(case.profile, lambda reading: reading.grade is not Grade.LOCKED)


def _leftover_column(case: _Case) -> tuple[Affected, str]:
    readable = _gather(case.profile, lambda reading: reading.grade is Grade.READABLE)
    beside = ", ".join(case.place.beside)
    return (readable if case.place.beside else Affected()), f"beside it stands: {beside}"


def _leftover_table(case: _Case) -> tuple[Affected, str]:
    is_left = _LEFTOVER_TABLE.search(case.place.table)
    return (_values(case) if is_left else Affected()), f"the table is named {case.place.table}"


def _password_in_log(case: _Case) -> tuple[Affected, str]:
    is_log = _LOG_TABLE.search(case.place.table)
    return (_values(case) if is_log else Affected()), f"the table is named {case.place.table}"


def _encrypted(case: _Case) -> tuple[Affected, str]:
    affected = _gather(case.profile, lambda reading: reading.scheme == "encrypted")
    evidence = f"{affected.rows:,} values are whole cipher blocks"
    shared = case.profile.first_blocks.affected.rows - case.profile.digests.affected.rows
    if affected.rows and shared > 0:
        evidence += (
            f"; {case.profile.first_blocks.affected.rows:,} share their first block with another: "
            "equal blocks are encrypted alike (ECB)"
        )
    return affected, evidence


_BELOW = frozenset({Grade.FAST_SALTED, Grade.OUTDATED})

RULES: MappingProxyType[str, Rule] = MappingProxyType(
    {
        "plain-text": Rule(
            severity=Severity.CRITICAL,
            summary="Passwords can be read by anyone who reads the column.",
            breaks=f"{_NIST}; {_ASVS}",
            remedy="Set accept_plain_text = true for the store, then run `lean-tumbler layer`: "
            "these rows become current at once.",
            detect=_by_reading(
                lambda reading: reading.scheme == "plain-text",
                "{rows} of {all} rows hold text that is no digest",
            ),
        ),
        "encoded-only": Rule(
            severity=Severity.CRITICAL,
            summary="An encoding hides nothing: the passwords can be computed without guessing.",
            breaks=f"{_NIST}; {_ASVS}",
            remedy="Decode them once into the column, then run `lean-tumbler layer` on plain text.",
            detect=_by_reading(
                lambda reading: reading.scheme == "encoded", "{rows} rows decode to words"
            ),
        ),
        "reversible-encryption": Rule(
            severity=Severity.CRITICAL,
            summary="Whoever has the key, or the application's server, has every password.",
            breaks=f"{_NIST}; {_ASVS}",
            remedy="Decrypt once into a column of plain text, run `lean-tumbler layer` on it, "
            "then destroy key and cipher text.",
            detect=_encrypted,
        ),
        "empty-password": Rule(
            severity=Severity.CRITICAL,
            summary="The value is empty, or the digest of nothing.",
            breaks=_NIST,
            remedy="Find out what the old login code did with it; lock the account until then.",
            detect=_flagged("empty-password", "{rows} rows"),
        ),
        "unsalted-digest": Rule(
            severity=Severity.CRITICAL,
            summary="One guess is tried against every account at once, billions a second.",
            breaks=f"{_NIST}; {_ASVS}",
            remedy="Name the formula in the policy, prove it with `lean-tumbler verify`, "
            "then run `lean-tumbler layer`.",
            detect=_by_reading(
                lambda reading: reading.grade is Grade.FAST_UNSALTED,
                "{rows} bare digests without salt ({schemes})",
            ),
        ),
        "password-in-log": Rule(
            severity=Severity.CRITICAL,
            summary="A log or history holds credentials that nobody upgrades.",
            breaks="OWASP ASVS 4.0.3, 7.1.1",
            remedy="Delete the column's content, and stop the code that writes it.",
            detect=_password_in_log,
        ),
        "privileged-at-risk": Rule(
            severity=Severity.CRITICAL,
            summary="Administrators' values are below the floor: they fall first.",
            breaks=f"{_NIST}; {_ASVS}",
            remedy="Have these people log in or set new passwords first; then layer the rest.",
            detect=_flagged("privileged-at-risk", "{rows} administrators below the floor"),
        ),
        "static-salt": Rule(
            severity=Severity.HIGH,
            summary="One salt for all is no salt: one guess is tried against all of them.",
            breaks=f"{_NIST}; {_ASVS}",
            remedy="Run `lean-tumbler layer`: each row gets a fresh salt of its own.",
            detect=_static_salt,
        ),
        "shared-digest": Rule(
            severity=Severity.HIGH,
            summary="Equal digests betray equal passwords: one guessed, all of them known.",
            breaks=_ASVS,
            remedy="Run `lean-tumbler layer`: a fresh salt for each row hides which are equal.",
            detect=_shared_digest,
        ),
        "cost-below-floor": Rule(
            severity=Severity.HIGH,
            summary="The hash is fast enough to try likely passwords in bulk.",
            breaks=f"{_NIST}; the floor in force",
            remedy="Run `lean-tumbler tune`, then `lean-tumbler layer`; logins upgrade the rest.",
            detect=_by_reading(
                lambda reading: reading.grade in _BELOW, "{schemes}; floor: {floor}"
            ),
        ),
        "leftover-column": Rule(
            severity=Severity.HIGH,
            summary="A readable column beside a hashed one undoes the hashing.",
            breaks=_ASVS,
            remedy="Prove with `lean-tumbler verify` that the other is in use, then drop this one.",
            detect=_leftover_column,
        ),
        "leftover-table": Rule(
            severity=Severity.HIGH,
            summary="A copy that was left behind keeps the old values alive.",
            breaks=_ASVS,
            remedy="Delete it, and the backups that it was made for.",
            detect=_leftover_table,
        ),
        "truncated-value": Rule(
            severity=Severity.HIGH,
            summary="The value begins like a known scheme but is not whole: nobody can log in.",
            remedy="Look at the column's width; the passwords must be reset.",
            detect=_flagged("truncated-value", "{rows} values are not whole"),
        ),
        "obsolete-variant": Rule(
            severity=Severity.MEDIUM,
            summary="A variant that newer software replaced because of a fault or a weakness.",
            breaks="RFC 9106 section 4",
            remedy="The next login rewrites it; until then check that these accounts can log in.",
            detect=_flagged("obsolete-variant", "{rows} rows"),
        ),
        "salt-reused": Rule(
            severity=Severity.MEDIUM,
            summary="Accounts that share a salt are attacked together.",
            breaks="RFC 8018 section 4.1",
            remedy="Run `lean-tumbler layer`: each row gets a fresh salt of its own.",
            detect=_salt_reused,
        ),
        "salt-is-login": Rule(
            severity=Severity.MEDIUM,
            summary="The login as salt can be known beforehand, and is the same elsewhere.",
            breaks="RFC 8018 section 4.1",
            remedy="Run `lean-tumbler layer`: it keeps the old login, so renames do no harm.",
            detect=_flagged("salt-is-login", "{rows} rows"),
        ),
        "short-salt": Rule(
            severity=Severity.LOW,
            summary="A salt below 8 bytes repeats by chance in a large store.",
            breaks="RFC 8018 section 4.1",
            remedy="Run `lean-tumbler layer`: each row gets 16 fresh random bytes.",
            detect=_flagged("short-salt", "{rows} rows"),
        ),
        "salt-with-blanks": Rule(
            severity=Severity.LOW,
            summary="Blanks around a salt are part of the formula, or were added by the column.",
            remedy="Try `append salt:trim` beside `append salt` with `lean-tumbler verify`.",
            detect=_flagged("salt-with-blanks", "{rows} salts begin or end with a blank"),
        ),
        "stray-blanks": Rule(
            severity=Severity.LOW,
            summary="Blanks around a stored value, mostly from a padded column.",
            remedy="They do not hinder checks here; other software may fail on them.",
            detect=_flagged("stray-blanks", "{rows} values begin or end with a blank"),
        ),
        "mixed-case-digest": Rule(
            severity=Severity.LOW,
            summary="Hexadecimal digits in both cases: more than one program wrote here.",
            remedy="Verify known accounts of each kind before layering.",
            detect=_mixed_case,
        ),
        "no-credential": Rule(
            severity=Severity.LOW,
            summary="Accounts without any stored value: another way in, or never finished.",
            remedy="Find out how they log in before you count them as safe.",
            detect=_flagged("no-credential", "{rows} of {all} rows"),
        ),
        "lock-marker": Rule(
            severity=Severity.LOW,
            summary="Accounts that no password opens; an old value behind a marker comes back.",
            remedy="Nothing to do; where an old value stands behind the marker, delete it.",
            detect=_by_reading(
                lambda reading: reading.grade is Grade.LOCKED, "{rows} of {all} rows"
            ),
        ),
    }
)


def findings(profile: Profile, floor: Floor, place: Place | None = None) -> list[Finding]:
    """List what is wrong with a column, the worst first.

    Args:
        profile: what the column holds.
        floor: the least that counts as current.
        place: where it stands.
    """
    found = list(_findings(_Case(profile, floor, place or Place())))
    return sorted(
        found,
        key=lambda finding: (-finding.severity.rank, -finding.privileged_rows, -finding.rows),
    )


def _findings(case: _Case) -> Iterator[Finding]:
    for code, rule in RULES.items():
        affected, evidence = rule.detect(case)
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
