"""The first line about a column: what is worst comes first, and no all-clear that is taken back."""

from rich.text import Text

from lean_tumbler.core.audit.results import Profile
from lean_tumbler.core.audit.rule import Severity
from lean_tumbler.core.grades import Grade
from lean_tumbler.reports.wording import count
from lean_tumbler.stores.scans.auditing import AuditedColumn

ALL_CLEAR = "bold green"  # the style of a line that nothing is wrong


def headline(column: AuditedColumn) -> Text:
    """Give the line, in the style of what it says."""
    place = f"{column.table}.{column.column}"
    clauses = [*_clauses(column)]
    is_well = clauses == [_none_below(column.profile)]
    return Text(f"{place}: {'; '.join(clauses)}.", ALL_CLEAR if is_well else "bold")


def _clauses(column: AuditedColumn) -> list[str]:
    profile = column.profile
    weak, damaged, unknown = profile.below_floor, profile.damaged, profile.not_understood
    exchanged = [each for each in column.findings if each.code == "exchanged-columns"]
    if exchanged:
        return [exchanged[0].evidence]
    clauses = [f"{_of(weak, profile)} below the floor{_administrators(profile)}"] if weak else []
    if damaged:
        them = "it" if damaged == 1 else "them"
        clauses.append(f"{_values(damaged, profile)} damaged, and nobody can log in with {them}")
    if closed := profile.grades.get(Grade.KEYED, 0):
        clauses.append(f"{_values(closed, profile)} under a key and not opened")
    if unknown > damaged:
        alarm = ", and nobody may be able to log in" if 2 * unknown > _stored(profile) else ""
        clauses.append(f"{_values(unknown, profile)} not understood{alarm}")
    if not clauses:
        clauses = [
            f"{finding.evidence} ({finding.code})"
            for finding in column.findings[:1]
            if finding.severity.rank >= Severity.HIGH.rank
        ]
    if not weak and max(damaged, unknown, closed) < _stored(profile):
        other = "other " if damaged or unknown or closed else ""
        clauses.append(_none_below(profile, other))
    return clauses


def _none_below(profile: Profile, other: str = "") -> str:
    return f"no {other}account of {profile.rows:,} is below the floor"


def _stored(profile: Profile) -> int:
    return profile.rows - profile.without_value


def _values(number: int, profile: Profile) -> str:
    are = "is" if number == 1 else "are"
    return f"{number:,} of {count(_stored(profile), 'value')} {are}"


def _of(number: int, profile: Profile) -> str:
    are = "is" if number == 1 else "are"
    return f"{number:,} of {profile.rows:,} accounts {are}"


def _administrators(profile: Profile) -> str:
    privileged = profile.privileged_below_floor
    return f", {count(privileged, 'administrator')} among them" if privileged else ""
