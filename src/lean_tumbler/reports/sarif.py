"""SARIF 2.1.0, as code scanning reads it."""

from __future__ import annotations

from importlib.metadata import version
from typing import TYPE_CHECKING, Any

if TYPE_CHECKING:
    from collections.abc import Sequence

# SARIF 2.1.0 section 3.27.10 has three levels.
LEVELS = {"critical": "error", "high": "error", "medium": "warning", "low": "note"}
_SCHEMA = "https://docs.oasis-open.org/sarif/sarif/v2.1.0/os/schemas/sarif-schema-2.1.0.json"


def sarif_log(
    rules: Sequence[dict[str, Any]], results: Sequence[dict[str, Any]], *, whole: bool = True
) -> dict[str, Any]:
    """Give a log of one run.

    Args:
        rules: that results refer to.
        results: of the run.
        whole: whether everything could be looked at.
    """
    driver = {"name": "lean-tumbler", "version": version("lean-tumbler"), "rules": list(rules)}
    return {
        "$schema": _SCHEMA,
        "version": "2.1.0",
        "runs": [
            {
                "tool": {"driver": driver},
                "columnKind": "unicodeCodePoints",
                "results": list(results),
                "invocations": [{"executionSuccessful": whole}],
            }
        ],
    }
