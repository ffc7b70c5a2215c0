"""What the service's log tells: one line of JSON an event, with a level by which it is filtered.

Levels are those of syslog (RFC 5424, section 6.2.1) by their names.
"""

import json
from collections.abc import Callable, Mapping
from enum import StrEnum
from types import MappingProxyType
from typing import Protocol


class Event(StrEnum):
    """What happened."""

    STARTING = "starting"
    LISTENING = "listening"
    ENDED = "ended"
    POLICY_READ = "policy-read"
    POLICY_KEPT = "policy-kept"
    ALERT = "alert"
    PROBLEM = "problem"
    FAILED = "failed"


LEVELS: Mapping[Event, str] = MappingProxyType(
    {
        Event.STARTING: "info",
        Event.LISTENING: "info",
        Event.ENDED: "info",
        Event.POLICY_READ: "notice",
        Event.POLICY_KEPT: "error",  # a mistake in the new policy: the one before stays in force
        Event.ALERT: "warning",
        Event.PROBLEM: "error",
        Event.FAILED: "critical",
    }
)


class Log(Protocol):
    """Takes events."""

    def __call__(self, event: Event, /, **members: object) -> None:
        """Note one; its members hold neither logins nor values."""


def log_lines(write: Callable[[str], None], *, clock: Callable[[], float]) -> Log:
    """Give a log that writes lines of JSON.

    Args:
        write: takes a line.
        clock: seconds since 1970.
    """

    def log(event: Event, /, **members: object) -> None:
        line = {"time": round(clock(), 3), "level": LEVELS[event], "event": event, **members}
        write(json.dumps(line, ensure_ascii=False))

    return log
