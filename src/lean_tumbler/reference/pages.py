"""Which pages there are, and what writes each."""

from collections.abc import Callable, Mapping
from types import MappingProxyType

from lean_tumbler.reference.commands import commands_page
from lean_tumbler.reference.findings import findings_page
from lean_tumbler.reference.metrics import metrics_page
from lean_tumbler.reference.policy import policy_page
from lean_tumbler.reference.schemes import schemes_page

PAGES: Mapping[str, Callable[[], str]] = MappingProxyType(
    {
        "COMMANDS.md": commands_page,
        "FINDINGS.md": findings_page,
        "METRICS.md": metrics_page,
        "POLICY.md": policy_page,
        "SCHEMES.md": schemes_page,
    }
)
