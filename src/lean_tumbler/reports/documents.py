"""The JSON documents. Keys may be added, never renamed: others build on them."""

from __future__ import annotations

import json
from typing import TYPE_CHECKING, Any

from lean_tumbler.core.tuning.choosing import Choice, guesses_per_second

if TYPE_CHECKING:
    from lean_tumbler.core.audit.findings import Finding
    from lean_tumbler.core.audit.results import Affected, Reading
    from lean_tumbler.core.grades import Grade
    from lean_tumbler.core.outcome import Outcome
    from lean_tumbler.core.schemes.base import ParsedValue
    from lean_tumbler.core.tuning.measuring import Measurement
    from lean_tumbler.operations.auditing import Audit, AuditedColumn
    from lean_tumbler.operations.layering import LayeringSummary
    from lean_tumbler.operations.verification import CheckedAccount

Document = dict[str, Any]
VERSION = 1


def new_document(name: str, **entries: object) -> Document:
    """Start a document of this project."""
    return {"document": f"lean-tumbler/{name}/{VERSION}", **entries}


def as_json(document: Document) -> str:
    """Write a document; bytes that are no text become their hexadecimal form."""
    return json.dumps(document, indent=2, ensure_ascii=False, default=_plain) + "\n"


def _plain(value: object) -> object:
    return value.hex() if isinstance(value, bytes) else str(value)


def _group(reading: Reading, affected: Affected, values: int) -> Document:
    return {
        "scheme": reading.scheme,
        "layout": reading.layout,
        "salted": reading.salted,
        "grade": reading.grade,
        "rows": affected.rows,
        "share": round(affected.rows / values, 6) if values else 0.0,
        "parameters": dict(reading.parameters),
        "confidence": reading.confidence,
        "also_possible": list(reading.also_possible),
    }


def _finding(finding: Finding) -> Document:
    return {
        "code": finding.code,
        "severity": finding.severity,
        "rows": finding.rows,
        "privileged_rows": finding.privileged_rows,
        "accounts": finding.accounts,
        "evidence": finding.evidence,
        "summary": finding.summary,
        "breaks": finding.breaks,
        "remedy": finding.remedy,
    }


def _column(column: AuditedColumn) -> Document:
    profile = column.profile
    values = profile.rows - profile.without_value
    ordered = sorted(profile.groups.items(), key=lambda item: -item[1].rows)
    return {
        "table": column.table,
        "column": column.column,
        "rows": profile.rows,
        "without_value": profile.without_value,
        "grades": dict(profile.grades),
        "groups": [_group(reading, affected, values) for reading, affected in ordered],
        "findings": [_finding(finding) for finding in column.findings],
    }


def audit_document(audit: Audit) -> Document:
    """Give an audit as a document."""
    unreadable = [
        {"line": account, "reason": "the stored value is not UTF-8 text"}
        for column in audit.columns
        for account in column.profile.unreadable.accounts
    ]
    return new_document(
        "audit",
        source=audit.source,
        rows=sum(column.profile.rows for column in audit.columns),
        unreadable_rows=sum(column.profile.unreadable.rows for column in audit.columns),
        unreadable=unreadable,
        stores=[_column(column) for column in audit.columns],
    )


def explain_document(parsed: ParsedValue, grade: Grade, *, salted: bool) -> Document:
    """Give one parsed value as a document; neither salt nor digest is in it."""
    return new_document(
        "explain",
        scheme=parsed.scheme,
        layout=parsed.layout,
        salted=salted,
        grade=grade,
        parameters=dict(parsed.parameters),
        salt_bits=8 * len(parsed.salt) if parsed.salt is not None else None,
        digest_bits=8 * len(parsed.digest) if parsed.digest else None,
        confidence=parsed.confidence,
        also_possible=list(parsed.also_possible),
        notes=list(parsed.notes),
    )


def verify_document(accounts: list[CheckedAccount]) -> Document:
    """Give the result for known accounts as a document."""
    accepted = sum(account.accepted for account in accounts)
    return new_document(
        "verify",
        known=len(accounts),
        accepted=accepted,
        rejected=len(accounts) - accepted,
        accounts=[
            {
                "login": account.login,
                "accepted": account.accepted,
                "scheme": account.scheme,
                "formula": account.formula,
                "near_miss": account.near_miss or None,
            }
            for account in accounts
        ],
    )


def _point(point: Measurement) -> Document:
    return {
        "scheme": point.scheme,
        "parameters": dict(point.parameters),
        "milliseconds": round(point.milliseconds, 2),
        "milliseconds_at_load": round(point.milliseconds_at_load, 2),
        "p99_milliseconds": round(point.p99_milliseconds, 2),
        "guesses_per_second": round(guesses_per_second(point.parameters), 1),
    }


def tune_document(
    *, host: Document, constraints: Document, points: list[Measurement], choice: Choice | None
) -> Document:
    """Give measurements and the choice as a document."""
    fields = ("scheme", "parameters", "p99_milliseconds", "guesses_per_second")
    measured = [_point(point) for point in points]
    chosen = None
    if choice is not None:
        point = _point(choice.measurement)
        chosen = {**{name: point[name] for name in fields}, "why": choice.why}
    return new_document(
        "tune",
        host=host,
        constraints=constraints,
        measured=[
            {name: entry[name] for name in entry if name not in fields[2:]} for entry in measured
        ],
        candidates=[{name: entry[name] for name in fields} for entry in measured],
        chosen=chosen,
    )


def layer_document(summary: LayeringSummary) -> Document:
    """Give what a bulk run did as a document."""
    return new_document(
        "layer",
        considered=summary.considered,
        layered=summary.layered,
        replaced=summary.replaced,
        skipped=summary.skipped,
        changed_meanwhile=summary.changed_meanwhile,
        failed=summary.failed,
        seconds=round(summary.seconds, 3),
        per_second=round(summary.per_second, 2),
        hashing_time_share=round(summary.hashing_time_share, 4),
        stopped=summary.stopped,
        left={str(reason): rows for reason, rows in summary.left.items()},
        listed=[{"account": key, "reason": reason} for key, reason in summary.listed],
    )


def admit_document(outcome: Outcome) -> Document:
    """Give one login's answer as a document; a refusal says nothing of what is stored."""
    return new_document(
        "admit",
        admitted=outcome.admitted,
        action=outcome.action,
        **{"from": outcome.from_scheme, "to": outcome.to_scheme},
    )


def progress_document(*, taken_at: str, columns: list[AuditedColumn]) -> Document:
    """Give the state of the migration as a document."""
    return new_document(
        "progress",
        taken_at=taken_at,
        stores=[
            {
                "table": column.table,
                "rows": column.profile.rows,
                "without_value": column.profile.without_value,
                "grades": dict(column.profile.grades),
                "below_floor": column.profile.below_floor,
            }
            for column in columns
        ],
    )
