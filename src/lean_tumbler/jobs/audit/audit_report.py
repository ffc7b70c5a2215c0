"""The audit, for programs and for people: what matters first, then the details."""

from __future__ import annotations

from typing import TYPE_CHECKING

from rich.padding import Padding
from rich.table import Table
from rich.text import Text

from lean_tumbler.core.audit.equal_names import shared_name
from lean_tumbler.core.audit.kinds import RULES_OF_KINDS
from lean_tumbler.core.audit.rule import Severity
from lean_tumbler.core.grades import Grade
from lean_tumbler.jobs.audit.attack import (
    ATTACK_HEADINGS,
    ATTACK_MEANING,
    attack_rows,
)
from lean_tumbler.jobs.audit.headline import ALL_CLEAR, headline
from lean_tumbler.reports.terminal import GRADE_STYLES, grades_table, new_table
from lean_tumbler.reports.wording import costs, count

if TYPE_CHECKING:
    from collections.abc import Sequence

    from rich.console import Console

    from lean_tumbler.core.audit.findings import Finding
    from lean_tumbler.core.audit.results import Profile
    from lean_tumbler.core.tuning.attacker import Attacker
    from lean_tumbler.stores.scans.auditing import Audit, AuditedColumn, OtherCredentials

_REFERENCE_CHARACTERS = 90
_SEVERITY_STYLES = {
    Severity.CRITICAL: "bold red",
    Severity.HIGH: "red",
    Severity.MEDIUM: "yellow",
    Severity.LOW: "dim",
}


_NEXT = (
    "Next: `lean-tumbler draft SOURCE known.csv` writes the policy; known.csv has login,password "
    "of a few accounts of each age whose password you know."
)
_NEXT_BY_POLICY = "Next: `lean-tumbler plan` says what can be changed now, and what must wait."


def draw_audit(console: Console, audit: Audit) -> None:
    """Print an audit: the headline of each column, its grades, findings and groups."""
    _unreadable(console, audit)
    _headlines(console, audit)
    console.print()
    if any(column.findings for column in audit.columns):
        console.print(_NEXT_BY_POLICY if audit.by_policy else _NEXT)
        console.print()
    for column, equal, _ in folded(audit.columns):
        if len(audit.columns) > 1:
            console.print(Text(f"{column.table}.{column.column}", "bold underline"))
            if equal:
                console.print(
                    f"The others of {equal} hold the same kinds, with the same findings; --table "
                    "NAME shows one of them, --format json all."
                )
            console.print()
        console.print(grades_table(column.profile))
        console.print()
        if column.findings:
            console.print(_summary(column.findings))
            console.print()
        console.print(_groups(column.profile))
        for reading in column.profile.groups:
            if reading.because:
                console.print(f"{reading.scheme}, {reading.layout}: {reading.because}.")
        _under_keys(console, column.profile)
        console.print()
        _attack(console, column.profile, audit.attacker)
        for finding in column.findings:
            _finding(console, finding)
    _other_kinds(console, audit)
    _last_lines(console, audit)


def _under_keys(console: Console, profile: Profile) -> None:
    """Say what a key that stands apart changes for somebody who has the table alone."""
    closed = profile.grades.get(Grade.KEYED, 0)
    for key, rows in profile.keys.items():
        of = count(profile.rows - profile.without_value, "value")
        console.print(f"Under the key “{key}”: {rows:,} of {of}.", highlight=False)
    if profile.keys:
        console.print(
            "With the table alone nobody can try a guess at these values. "
            + (
                f"{closed:,} were not opened: give their key in [keys] of a policy to grade them."
                if closed
                else "Grades and costs are those for somebody who has the key too."
            )
        )


def _headlines(console: Console, audit: Audit) -> None:
    if not audit.columns:
        console.print(Text("No column of passwords was found.", "bold"))
    lines = [
        _together(members, equal) if equal else headline(column)
        for column, equal, members in folded(audit.columns)
    ]
    for line in sorted(lines, key=lambda line: line.style == ALL_CLEAR):
        console.print(line)
    for other in audit.others:
        if other.readable:
            console.print(Text(_other_headline(other), "bold"))


def folded(
    columns: Sequence[AuditedColumn],
) -> list[tuple[AuditedColumn, str, Sequence[AuditedColumn]]]:
    """Give one column of equal tables for all of them, with what their names share, and them all.

    It is the one with most accounts below the floor.
    """
    groups: dict[object, list[AuditedColumn]] = {}
    for column in columns:
        groups.setdefault(_alike(column), []).append(column)
    found: list[tuple[AuditedColumn, str, Sequence[AuditedColumn]]] = []
    for members in groups.values():
        shared = shared_name({column.table for column in members})
        if shared:
            largest = max(members, key=lambda column: column.profile.below_floor)
            found.append((largest, f"{shared}.{largest.column}", members))
        else:
            found += [(column, "", (column,)) for column in members]
    return found


def _alike(column: AuditedColumn) -> object:
    """Give what equal tables have in common."""
    kinds = frozenset((r.scheme, r.layout, r.grade) for r in column.profile.groups)
    return column.column, kinds, frozenset(finding.code for finding in column.findings)


def _together(members: Sequence[AuditedColumn], equal: str) -> Text:
    """Say of equal tables how many accounts are below the floor in all."""
    weak = sum(column.profile.below_floor for column in members)
    rows = sum(column.profile.rows for column in members)
    text = f"{equal}, {len(members):,} tables: {weak:,} of {rows:,} accounts are below the floor."
    return Text(text, "bold" if weak else ALL_CLEAR)


def _other_headline(other: OtherCredentials) -> str:
    stand = "stands" if other.readable == 1 else "stand"
    many = count(other.readable, other.kind)
    told = "" if other.still_open is None else f", {other.still_open:,} of them not expired"
    place = f"{other.table}.{other.column}"
    return f"{place}: {many} {stand} readable{told}; no password opens with them."


def _other_kinds(console: Console, audit: Audit) -> None:
    """Say what else opens something, and how it has to be kept."""
    if not audit.others:
        return
    headings = ("other credentials", "kind", "rows", "readable", "not expired")
    table = new_table(*headings, right=(2, 3, 4))
    for other in audit.others:
        table.add_row(
            f"{other.table}.{other.column}",
            other.kind,
            f"{other.rows:,}",
            f"{other.readable:,}",
            "" if other.still_open is None else f"{other.still_open:,}",
        )
    console.print(table)
    console.print()
    readable = [other for other in audit.others if other.readable]
    for kind in dict.fromkeys(other.kind for other in readable):
        rule = RULES_OF_KINDS[kind]
        console.print(
            f"{kind}: to be kept {rule.keeping}. {rule.remedy} Readable ones break {rule.breaks}."
        )
    if readable:
        console.print()


def _last_lines(console: Console, audit: Audit) -> None:
    """Say what was not read, what was tried, and what else holds the values."""
    for place, when in audit.only_rows.items():
        console.print(f"Of {place} only the rows with {when} were read.")
    if audit.set_aside:
        console.print(
            f"Not judged, as they hold digests of something else: {', '.join(audit.set_aside)}; to "
            "judge one, name it with --table and --column."
        )
    if audit.likely_passwords:
        tried = f"{audit.likely_passwords:,} likely passwords were looked for in plain text and"
        console.print(f"{tried} unsalted digests. To try salted rows too, add --budget SECONDS.")
    if any(column.findings for column in audit.columns):
        console.print("Backups, replicas and old dumps hold the same values.")


def _summary(found: list[Finding]) -> Table:
    """One line for each finding, the worst first; the details stand below."""
    table = new_table("severity", "finding", "rows", "administrators", "evidence", right=(2, 3))
    for finding in found:
        table.add_row(
            Text(finding.severity, style=_SEVERITY_STYLES[finding.severity]),
            finding.code,
            f"{finding.rows:,}",
            f"{finding.privileged_rows:,}" if finding.privileged_rows else "",
            finding.evidence.removesuffix(_administrators(finding)),
        )
    return table


def _administrators(finding: Finding) -> str:
    return f"; {finding.privileged_rows:,} of them administrators"


def _unreadable(console: Console, audit: Audit) -> None:
    if audit.cut_off:
        text = (
            "The source is cut off, damaged, or unpacks to far more than its size: only what "
            "comes before was read."
        )
        console.print(Text(text, "bold red"))
    for found in audit.unreadable:
        if found.rows:
            console.print(Text(f"{count(found.rows, 'row')} could not be read:", "bold yellow"))
        for line, reason in found.listed:
            console.print(f"  line {line:,}: {reason}")
        if found.rows > len(found.listed):
            console.print(f"  and {found.rows - len(found.listed):,} more")


def _finding(console: Console, finding: Finding) -> None:
    head = Text.assemble(
        (f"{finding.severity:<9}", _SEVERITY_STYLES[finding.severity]),
        (finding.code, "bold"),
        f"  {count(finding.rows, 'row')}",
    )
    details = Table.grid(padding=(0, 1))
    breaks = f" Breaks {finding.breaks}." if finding.breaks else ""
    means = Text.assemble(finding.summary, (breaks, "dim"))
    for label, value in (
        ("means", means),
        ("evidence", Text(finding.evidence)),
        ("accounts", Text(_reference(finding))),
        ("remedy", Text(finding.remedy)),
    ):
        details.add_row(Text(label, "dim"), value)
    console.print(head)
    console.print(Padding(details, (0, 0, 1, 9)))


def _reference(finding: Finding) -> str:
    """Name accounts on a line or so, the administrators first; dots where there are more."""
    shown: list[str] = []
    length = 0
    for account in finding.accounts:
        length += len(account) + 2
        if shown and length > _REFERENCE_CHARACTERS:
            break
        shown.append(account)
    admins = ", ".join(shown[: finding.privileged_accounts])
    others = ", ".join(shown[finding.privileged_accounts :])
    parts = [f"administrators {admins}" if admins else "", others]
    more = " …" if finding.rows > len(shown) else ""
    return "; ".join(part for part in parts if part) + more


def _attack(console: Console, profile: Profile, attacker: Attacker) -> None:
    rows = attack_rows(profile, attacker)
    if not rows:
        return
    table = new_table(*ATTACK_HEADINGS, right=(1, 2, 3, 4))
    for row in rows:
        table.add_row(*row)
    console.print(f"What an attacker with {attacker.hardware.name} pays, once the table leaks:")
    console.print()
    console.print(table)
    console.print(ATTACK_MEANING, style="dim", highlight=False)
    console.print()


def _groups(profile: Profile) -> Table:
    table = new_table(
        "scheme", "layout", "salt", "parameters", "grade", "rows", "sure", right=(5, 6)
    )
    for reading, affected in sorted(profile.groups.items(), key=lambda item: -item[1].rows):
        also = f" (or {', '.join(reading.also_possible)})" if reading.also_possible else ""
        table.add_row(
            reading.scheme + also,
            reading.layout,
            "yes" if reading.salted else "no",
            costs(reading.parameters),
            Text(reading.grade, style=GRADE_STYLES[reading.grade]),
            f"{affected.rows:,}",
            f"{100 * reading.confidence:.0f} %",
        )
    return table
