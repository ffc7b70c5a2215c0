"""Which pages there are, and what writes each."""

import json
from collections.abc import Callable, Mapping
from types import MappingProxyType

from lean_tumbler.service.description import description
from reference.commands import commands_page
from reference.findings import findings_page
from reference.languages import languages_page
from reference.metrics import metrics_page
from reference.policy import policy_page
from reference.promises import promises_page
from reference.schemes import schemes_page


def _openapi() -> str:
    """Give what `serve` says of itself at /openapi.json, where callers show a token."""
    return json.dumps(description(has_token=True), indent=1, ensure_ascii=False) + "\n"


PAGES: Mapping[str, Callable[[], str]] = MappingProxyType(
    {
        "COMMANDS.md": commands_page,
        "FINDINGS.md": findings_page,
        "LANGUAGES.md": languages_page,
        "METRICS.md": metrics_page,
        "POLICY.md": policy_page,
        "PROMISES.md": promises_page,
        "SCHEMES.md": schemes_page,
        "openapi.json": _openapi,
    }
)
