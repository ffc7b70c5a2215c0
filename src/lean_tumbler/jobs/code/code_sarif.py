"""Mistakes in source code as SARIF, so that code hosts show them at their lines."""

from __future__ import annotations

from pathlib import Path
from typing import TYPE_CHECKING, Any

from lean_tumbler.core.code.mistakes.rules import CODE_RULES
from lean_tumbler.reports.sarif import LEVELS, sarif_log

if TYPE_CHECKING:
    from lean_tumbler.jobs.code.documents import CodeDocument, MistakePart


def code_sarif(found: CodeDocument) -> dict[str, Any]:
    """Give the mistakes as a log with a region each."""
    codes = dict.fromkeys(each.code for each in found.mistakes)
    rules = [
        {
            "id": code,
            "shortDescription": {"text": CODE_RULES[code].means},
            "defaultConfiguration": {"level": LEVELS[str(CODE_RULES[code].severity)]},
        }
        for code in codes
    ]
    results = [_result(each) for each in found.mistakes]
    return sarif_log(rules, results, whole=not found.unread)


def _result(part: MistakePart) -> dict[str, Any]:
    return {
        "ruleId": part.code,
        "level": LEVELS[part.severity],
        "message": {"text": f"{part.means} {part.evidence}. {part.remedy}"},
        "locations": [
            {
                "physicalLocation": {
                    "artifactLocation": {"uri": Path(part.path).as_posix()},
                    "region": {"startLine": max(1, part.line)},
                }
            }
        ],
    }
