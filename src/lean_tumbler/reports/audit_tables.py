"""The audit for other programs: accounts as CSV, and SARIF 2.1.0 for CI."""

from __future__ import annotations

import csv
import hashlib
import io
from importlib.metadata import version
from typing import TYPE_CHECKING

from lean_tumbler.core.audit.findings import RULES, Finding, Severity

if TYPE_CHECKING:
    from collections.abc import Iterator

    from lean_tumbler.operations.auditing import Audit, AuditedColumn
    from lean_tumbler.reports.documents import Document

_SARIF_SCHEMA = "https://docs.oasis-open.org/sarif/sarif/v2.1.0/os/schemas/sarif-schema-2.1.0.json"
# SARIF 2.1.0 section 3.27.10 has three levels.
_LEVELS = {
    Severity.CRITICAL: "error",
    Severity.HIGH: "error",
    Severity.MEDIUM: "warning",
    Severity.LOW: "note",
}
# A spreadsheet runs a cell that begins with one of these.
_RUNS = ("=", "+", "-", "@", "\t", "\r")


def neutral_cell(text: str) -> str:
    """Give a CSV cell that no spreadsheet takes for a formula."""
    return f"'{text}" if text.startswith(_RUNS) else text


def audit_csv(audit: Audit) -> Iterator[str]:
    """List every account that a finding concerns, one line for each finding and account.

    Reads the source once more, so that the list need not be held.
    """
    yield _line("source", "table", "column", "severity", "finding", "account", "administrator")
    for column in audit.columns:
        for finding, rows in column.listed():
            head = (audit.source, column.table, column.column, finding.severity, finding.code)
            for account, privileged in rows.iter_rows():
                yield _line(*head, account, "yes" if privileged else "no")


def _line(*cells: str) -> str:
    buffer = io.StringIO()
    csv.writer(buffer, lineterminator="\n").writerow([neutral_cell(cell) for cell in cells])
    return buffer.getvalue()


def audit_sarif(audit: Audit) -> Document:
    """Give the findings as SARIF 2.1.0: a rule for each code, a result for each finding."""
    codes = list(RULES)
    results = [
        _result(audit, column, finding, codes.index(finding.code))
        for column in audit.columns
        for finding in column.findings
    ]
    driver = {
        "name": "lean-tumbler",
        "version": version("lean-tumbler"),
        "rules": [_rule(code) for code in codes],
    }
    return {
        "$schema": _SARIF_SCHEMA,
        "version": "2.1.0",
        "runs": [
            {
                "tool": {"driver": driver},
                "columnKind": "unicodeCodePoints",
                "results": results,
                "invocations": [{"executionSuccessful": not audit.cut_off}],
            }
        ],
    }


def _rule(code: str) -> Document:
    rule = RULES[code]
    return {
        "id": code,
        "shortDescription": {"text": rule.summary},
        "help": {"text": rule.remedy},
        "defaultConfiguration": {"level": _LEVELS[rule.severity]},
        "properties": {"breaks": rule.breaks, "severity": rule.severity},
    }


def _result(audit: Audit, column: AuditedColumn, finding: Finding, index: int) -> Document:
    place = f"{column.table}.{column.column}"
    named = f"{audit.source} {place} {finding.code}".encode()
    return {
        "ruleId": finding.code,
        "ruleIndex": index,
        "level": _LEVELS[finding.severity],
        "message": {"text": f"{place}: {finding.rows:,} rows. {finding.evidence}"},
        "locations": [
            {
                "physicalLocation": {"artifactLocation": {"uri": audit.source}},
                "logicalLocations": [{"fullyQualifiedName": place, "kind": "member"}],
            }
        ],
        # The same finding of another day has the same fingerprint, whatever its number of rows.
        "partialFingerprints": {"finding/v1": hashlib.sha256(named).hexdigest()[:32]},
        "properties": {"rows": finding.rows, "administrators": finding.privileged_rows},
    }
