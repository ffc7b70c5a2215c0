"""What a finding is made of."""

from enum import StrEnum

from msgspec import Struct

from lean_tumbler.core.audit import detectors


class Severity(StrEnum):
    """How bad, least first."""

    LOW = "low"
    MEDIUM = "medium"
    HIGH = "high"
    CRITICAL = "critical"

    @property
    def rank(self) -> int:
        """0 for the least."""
        return list(Severity).index(self)


class Rule(Struct, frozen=True, kw_only=True):
    """One thing that can be wrong."""

    severity: Severity
    summary: str  # what it means, in a sentence
    breaks: str = ""  # the published rule that it breaks; empty where there is none
    remedy: str  # the next command or step
    detect: detectors.Detector  # how it is seen
