"""Verdicts that a written check counted in a file: a line each, signed, and without a login.

    STORE <tab> IDENTITY <tab> PERSON <tab> OWN <tab> OLD <tab> DAY <tab> SIGNATURE

IDENTITY is what evidence calls the row's cohorts; PERSON the HMAC-SHA-256 of “person:” and the
login; OWN `right` or `wrong`; OLD the same of the old code, or `unasked`; SIGNATURE the first 32
digits of the HMAC-SHA-256 of what stands before it. The key is the one of the environment.
"""

import hmac
import re

from msgspec import Struct

KEY_VARIABLE = "LEAN_TUMBLER_VERDICTS_KEY"
LEAST_KEY_CHARACTERS = 32
LONGEST_LINE = 512  # bytes; one append of fewer is written whole
_LINE = re.compile(
    r"(?P<signed>(?P<store>[^\t\n]+)\t(?P<identity>[0-9a-f+]+)\t(?P<person>[0-9a-f]{64})"
    r"\t(?P<own>right|wrong)\t(?P<old>right|wrong|unasked)\t[0-9]{4}-[0-9]{2}-[0-9]{2})"
    r"\t(?P<signature>[0-9a-f]{32})",
    re.ASCII,
)
_SIGNATURE_DIGITS = 32


class VerdictLine(Struct, frozen=True):
    """One verdict."""

    store: str
    identity: str  # of the row's cohorts
    person: str  # the login, as `person_of` writes it
    is_right: bool
    expected: bool | None  # what the old code said; None where it was not asked


def person_of(login: str, key: bytes) -> str:
    """Write who logged in, as a line holds it."""
    return hmac.digest(key, b"person:" + login.encode("utf-8", "replace"), "sha256").hex()


def read_verdict(line: str, key: bytes) -> VerdictLine | None:
    """Read one line; None where it is none, or was not signed with the key."""
    match = _LINE.fullmatch(line)
    if match is None or len(line.encode("utf-8")) >= LONGEST_LINE:
        return None
    own = hmac.digest(key, match["signed"].encode("utf-8"), "sha256").hex()[:_SIGNATURE_DIGITS]
    if not hmac.compare_digest(own, match["signature"]):
        return None
    return VerdictLine(
        store=match["store"],
        identity=match["identity"],
        person=match["person"],
        is_right=match["own"] == "right",
        expected=None if match["old"] == "unasked" else match["old"] == "right",
    )
