"""The audit for other programs: accounts as CSV, and SARIF 2.1.0 for CI."""

from __future__ import annotations

import hashlib
from typing import TYPE_CHECKING, Any

from lean_tumbler.core.audit.rules import RULES
from lean_tumbler.reports.csv_lines import csv_line
from lean_tumbler.reports.sarif import LEVELS, sarif_log

if TYPE_CHECKING:
    from collections.abc import Iterator

    from lean_tumbler.core.audit.findings import Finding
    from lean_tumbler.stores.scans.auditing import Audit, AuditedColumn, OtherCredentials

_OTHER_RULE: dict[str, Any] = {
    "id": "readable-credential",
    "shortDescription": {"text": "Tokens, keys or codes stand there as they are used."},
    "help": {"text": "docs/FINDINGS.md says how each kind is kept."},
    "defaultConfiguration": {"level": "error"},
}


def audit_csv(audit: Audit) -> Iterator[str]:
    """List every account that a finding concerns, one line for each finding and account.

    Reads the source once more, so that the list need not be held.
    """
    yield csv_line(("source", "table", "column", "severity", "finding", "account", "administrator"))
    for column in audit.columns:
        for finding, rows in column.listed():
            head = (audit.source, column.table, column.column, finding.severity, finding.code)
            for account, privileged in rows.iter_rows():
                yield csv_line((*head, account, "yes" if privileged else "no"))


def all_accounts_csv(audit: Audit) -> Iterator[str]:
    """List every account, whatever is found: one line each, with its findings.

    Reads the source once more, so that the list need not be held.
    """
    names = ("account", "administrator", "scheme", "grade", "findings")
    yield csv_line(("source", "table", "column", *names))
    for column in audit.columns:
        head = (audit.source, column.table, column.column)
        for rows in column.everyone():
            for account, privileged, *others in rows.iter_rows():
                cells = (cell or "" for cell in others)
                yield csv_line((*head, account, "yes" if privileged else "no", *cells))


def audit_sarif(audit: Audit) -> dict[str, Any]:
    """Give the findings as SARIF 2.1.0: a rule for each code, a result for each finding."""
    codes = list(RULES)
    results = [
        _result(audit, column, finding, codes.index(finding.code))
        for column in audit.columns
        for finding in column.findings
    ]
    results += [_other(audit, other, len(codes)) for other in audit.others if other.readable]
    rules = [*map(_rule, codes), _OTHER_RULE]
    return sarif_log(rules, results, whole=not audit.cut_off)


def _other(audit: Audit, other: OtherCredentials, index: int) -> dict[str, Any]:
    place = f"{other.table}.{other.column}"
    return {
        "ruleIndex": index,
        "level": LEVELS[other.severity],
        "message": {"text": f"{place}: {other.readable:,} readable, kind: {other.kind}."},
        "properties": {"rows": other.readable},
        **_placed(audit, place, _OTHER_RULE["id"]),
    }


def _placed(audit: Audit, place: str, code: str) -> dict[str, Any]:
    named = f"{audit.source} {place} {code}".encode()
    return {
        "ruleId": code,
        "locations": [
            {
                "physicalLocation": {"artifactLocation": {"uri": audit.source}},
                "logicalLocations": [{"fullyQualifiedName": place, "kind": "member"}],
            }
        ],
        # The same finding of another day has the same fingerprint, whatever its number of rows.
        "partialFingerprints": {"finding/v1": hashlib.sha256(named).hexdigest()[:32]},
    }


def _rule(code: str) -> dict[str, Any]:
    rule = RULES[code]
    return {
        "id": code,
        "shortDescription": {"text": rule.summary},
        "help": {"text": rule.remedy},
        "defaultConfiguration": {"level": LEVELS[rule.severity]},
        "properties": {"breaks": rule.breaks, "severity": rule.severity},
    }


def _result(audit: Audit, column: AuditedColumn, finding: Finding, index: int) -> dict[str, Any]:
    place = f"{column.table}.{column.column}"
    return {
        "ruleIndex": index,
        "level": LEVELS[finding.severity],
        "message": {"text": f"{place}: {finding.rows:,} rows. {finding.evidence}"},
        "properties": {"rows": finding.rows, "administrators": finding.privileged_rows},
        **_placed(audit, place, finding.code),
    }
