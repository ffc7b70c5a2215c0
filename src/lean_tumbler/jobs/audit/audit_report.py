"""The audit, for programs and for people: what matters first, then the details."""

from __future__ import annotations

from typing import TYPE_CHECKING, Annotated

from rich.padding import Padding
from rich.table import Table
from rich.text import Text

from lean_tumbler.core.audit.kinds import RULES_OF_KINDS, CredentialKind
from lean_tumbler.core.audit.rules import Severity
from lean_tumbler.core.grades import BELOW_FLOOR
from lean_tumbler.jobs.audit.attack import (
    ATTACK_HEADINGS,
    ATTACK_MEANING,
    AttackPart,
    attack_part,
    attack_rows,
)
from lean_tumbler.reports import documents
from lean_tumbler.reports.terminal import GRADE_STYLES, grades_table, new_table
from lean_tumbler.reports.wording import costs, count

if TYPE_CHECKING:
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


class UnreadableRow(documents.DocumentPart):
    """A row that could not be read."""

    line: Annotated[int, "line or row, counted from 1"]
    reason: Annotated[str, "why"]


class OnlyRows(documents.DocumentPart):
    """A column of which some rows alone were read, as the others hold no passwords."""

    place: Annotated[str, "table and column"]
    when: Annotated[str, "the condition of the rows that were read"]


class GroupPart(documents.DocumentPart):
    """Rows that are read alike."""

    scheme: documents.Scheme
    layout: documents.Layout
    salted: Annotated[bool, "whether a salt goes in"]
    grade: Annotated[str, "the grade"]
    rows: documents.Rows
    share: Annotated[float, "part of the rows with a value, 0 to 1"]
    parameters: documents.Costs
    confidence: Annotated[float, "0 to 1, that the scheme is right"]
    also_possible: Annotated[list[str], "other schemes that write such a value"]
    because: documents.Because


class FindingPart(documents.DocumentPart):
    """What is wrong, and what to do."""

    code: Annotated[str, "the finding's code"]
    severity: Annotated[str, "low, medium, high or critical"]
    rows: documents.Rows
    privileged_rows: Annotated[int, "administrators' rows among them"]
    accounts: Annotated[list[str], "the first accounts, administrators before others"]
    evidence: Annotated[str, "what was seen"]
    summary: Annotated[str, "what it means"]
    breaks: Annotated[str, "the published rule that it breaks; may be empty"]
    remedy: documents.Remedy


class AuditedStore(documents.DocumentPart):
    """One column, audited."""

    table: Annotated[str, "the table"]
    column: Annotated[str, "the column"]
    rows: documents.Rows
    without_value: Annotated[int, "rows without a stored value"]
    grades: documents.RowsByGrade
    groups: Annotated[list[GroupPart], "rows that are alike, most first"]
    attack: Annotated[AttackPart, "what an attacker pays, where values can be guessed"]
    findings: Annotated[list[FindingPart], "what is wrong: see docs/FINDINGS.md"]


class OtherPart(documents.DocumentPart):
    """A column of another kind of credentials than passwords."""

    table: Annotated[str, "the table"]
    column: Annotated[str, "the column"]
    kind: Annotated[CredentialKind, "what it holds"]
    rows: Annotated[int, "rows with something in them"]
    readable: Annotated[int, "rows of these that stand as they are used, as far as form tells"]
    keep: Annotated[str, "how such values have to be kept"]
    breaks: Annotated[str, "the published rule that readable ones break"]
    remedy: documents.Remedy


class AuditDocument(documents.Document, tag=documents.named("audit")):
    """What an audit found."""

    source: Annotated[str, "the source that was read"]
    rows: documents.Rows
    unreadable_rows: Annotated[int, "rows that could not be read"]
    unreadable: Annotated[list[UnreadableRow], "the first rows that could not be read"]
    cut_off: Annotated[bool, "whether the source ended in the middle of a row"]
    set_aside: Annotated[list[str], "columns with digests of something else; not judged"]
    others: Annotated[list[OtherPart], "other kinds of credentials; they are no accounts"]
    only_rows: Annotated[list[OnlyRows], "columns of which some rows alone were read"]
    likely_passwords: Annotated[int, "likely passwords that were tried on unsalted values"]
    stores: Annotated[list[AuditedStore], "one entry for each store or column"]


def audit_document(audit: Audit) -> AuditDocument:
    """Give an audit as a document."""
    return AuditDocument.of(
        audit,
        unreadable_rows=sum(found.rows for found in audit.unreadable),
        unreadable=[
            UnreadableRow(line=line, reason=reason)
            for found in audit.unreadable
            for line, reason in found.listed
        ],
        only_rows=[OnlyRows(place=place, when=when) for place, when in audit.only_rows.items()],
        stores=[_column(column, audit.attacker) for column in audit.columns],
        others=[
            OtherPart.of(other, keep=rule.keeping, breaks=rule.breaks, remedy=rule.remedy)
            for other in audit.others
            for rule in [RULES_OF_KINDS[other.kind]]
        ],
    )


def _column(column: AuditedColumn, attacker: Attacker) -> AuditedStore:
    profile = column.profile
    values = profile.rows - profile.without_value
    ordered = sorted(profile.groups.items(), key=lambda item: -item[1].rows)
    return AuditedStore.of(
        column,
        rows=profile.rows,
        without_value=profile.without_value,
        grades=profile.grades,
        groups=[
            GroupPart.of(
                reading,
                rows=affected.rows,
                share=affected.rows / values if values else 0.0,
                parameters=dict(reading.parameters),
            )
            for reading, affected in ordered
        ],
        attack=attack_part(profile, attacker),
        findings=[FindingPart.of(finding) for finding in column.findings],
    )


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
    for column in audit.columns:
        if len(audit.columns) > 1:
            console.print(Text(f"{column.table}.{column.column}", "bold underline"))
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
        console.print()
        _attack(console, column.profile, audit.attacker)
        for finding in column.findings:
            _finding(console, finding)
    _other_kinds(console, audit)
    _last_lines(console, audit)


def _headlines(console: Console, audit: Audit) -> None:
    if not audit.columns:
        console.print(Text("No column of passwords was found.", "bold"))
    for column in audit.columns:
        console.print(_headline(column))
    for other in audit.others:
        if other.readable:
            console.print(Text(_other_headline(other), "bold"))


def _other_headline(other: OtherCredentials) -> str:
    stand = "stands" if other.readable == 1 else "stand"
    many = count(other.readable, other.kind)
    return f"{other.table}.{other.column}: {many} {stand} readable; no password opens with them."


def _other_kinds(console: Console, audit: Audit) -> None:
    """Say what else opens something, and how it has to be kept."""
    if not audit.others:
        return
    table = new_table("other credentials", "kind", "rows", "readable", right=(2, 3))
    for other in audit.others:
        table.add_row(
            f"{other.table}.{other.column}", other.kind, f"{other.rows:,}", f"{other.readable:,}"
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
        console.print(f"{tried} unsalted digests; salted rows are tried with --budget SECONDS.")
    if any(column.findings for column in audit.columns):
        console.print(
            "The live column is not the only copy: backups, replicas and old dumps hold the same."
        )


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


def _headline(column: AuditedColumn) -> Text:
    profile = column.profile
    weak = profile.below_floor
    place = f"{column.table}.{column.column}"
    if weak == 0:
        text = Text(f"{place}: no account of {profile.rows:,} is below the floor")
        text.stylize("bold yellow" if profile.not_understood else "bold green")
    else:
        privileged = sum(
            affected.privileged_rows
            for reading, affected in profile.groups.items()
            if reading.grade in BELOW_FLOOR
        )
        whom = f", {count(privileged, 'administrator')} among them" if privileged else ""
        are = "is" if weak == 1 else "are"
        text = Text(f"{place}: {weak:,} of {profile.rows:,} accounts {are} below the floor{whom}")
        text.stylize("bold")
    return text.append(f"{not_understood(profile)}.", text.style or "bold")


def not_understood(profile: Profile) -> str:
    """Say how many rows nobody understands, to go on in a sentence; empty where there are none."""
    unknown = profile.not_understood
    if not unknown:
        return ""
    are = "is" if unknown == 1 else "are"
    values = profile.rows - profile.without_value
    alarm = "; nobody may be able to log in" if unknown > values / 2 else ""
    return f", and {unknown:,} {are} not understood{alarm}"


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
