"""What an audit found, as its document says it."""

from __future__ import annotations

from typing import TYPE_CHECKING, Annotated

from lean_tumbler.core.audit.kinds import RULES_OF_KINDS, CredentialKind
from lean_tumbler.jobs.audit.attack import AttackPart, attack_part
from lean_tumbler.reports import documents

if TYPE_CHECKING:
    from lean_tumbler.core.tuning.attacker import Attacker
    from lean_tumbler.stores.scans.auditing import Audit, AuditedColumn


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
    keyed_by: Annotated[str, "the key that they are under; empty for none"]


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
    still_open: Annotated[
        int | None, "readable rows that have not expired and were not used; null where none tells"
    ]
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
        others=other_parts(audit),
    )


def other_parts(audit: Audit) -> list[OtherPart]:
    """Give the other kinds of credentials, each with how it has to be kept."""
    return [
        OtherPart.of(other, keep=rule.keeping, breaks=rule.breaks, remedy=rule.remedy)
        for other in audit.others
        for rule in [RULES_OF_KINDS[other.kind]]
    ]


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
