"""The evidence file beside the policy: counts of logins by cohort, no values and no logins.

Several programs add to it at once, so each change is made under a lock. Observed logins are
counted once a person: a keyed hash of the login names one bit of a map, and a bit counts once. Two
people on one bit count as one, so the count is never too high.
"""

import base64
import fcntl
import hashlib
import hmac
import json
import os
from collections.abc import Callable, Iterator, Mapping, Sequence
from contextlib import contextmanager
from dataclasses import dataclass, field
from pathlib import Path
from typing import Any

from lean_tumbler.core.reading.evidence import CohortKey, Counts, Evidence
from lean_tumbler.errors import UsageError
from lean_tumbler.stores.files import file_errors, read_text, write_text

DOCUMENT = "lean-tumbler/evidence/1"
MAP_BITS = 1 << 16  # of one cohort: 8 KiB
_FILE_BYTES = 1 << 24
_KEY_BYTES = 16


@dataclass(frozen=True, slots=True, kw_only=True)
class Seen:
    """One login that was observed.

    Attributes:
        key: of its cohort.
        login: whose; it is not kept.
        agrees: whether nothing speaks against the cohort.
    """

    key: CohortKey
    login: str
    agrees: bool


@dataclass(slots=True)
class _Entry:
    counts: Counts
    seen: bytearray = field(default_factory=lambda: bytearray(MAP_BITS // 8))


class EvidenceFile:
    """The file of one policy.

    Args:
        path: of the file; it need not be there.
        policy: the policy's file, which is locked while the evidence changes.
        randomness: number of bytes -> random bytes, for the key of the map.
    """

    def __init__(
        self, path: Path, *, policy: Path, randomness: Callable[[int], bytes] = os.urandom
    ) -> None:
        self._path = path
        self._policy = policy
        self._randomness = randomness

    @classmethod
    def beside(cls, policy: Path) -> "EvidenceFile":
        """Give the evidence file of a policy."""
        return cls(policy.with_suffix(".evidence.json"), policy=policy)

    @property
    def path(self) -> Path:
        """Where it is."""
        return self._path

    def read(self) -> Evidence:
        """Give all counts.

        Raises:
            UsageError: the file is none that this tool wrote.
            SourceError: it cannot be read.
        """
        _, entries = self._load()
        return Evidence({key: entry.counts for key, entry in entries.items()})

    def note_known(self, tried: Mapping[CohortKey, tuple[int, int]]) -> None:
        """Put the results of known accounts in the place of earlier ones, cohort by cohort.

        Args:
            tried: cohort -> accounts accepted and refused.
        """
        with self._changed() as (_, entries):
            for key, (accepted, refused) in tried.items():
                entry = entries.setdefault(key, _Entry(Counts()))
                entry.counts = Counts(
                    accepted=accepted,
                    refused=refused,
                    agreed=entry.counts.agreed,
                    differed=entry.counts.differed,
                )

    def note_seen(self, logins: Sequence[Seen]) -> None:
        """Add logins that were observed; one person counts once for a cohort."""
        if not logins:
            return
        with self._changed() as (key, entries):
            for login in logins:
                entry = entries.setdefault(login.key, _Entry(Counts()))
                if login.agrees and not _marked(entry.seen, key, login.login):
                    continue
                counts = entry.counts
                entry.counts = Counts(
                    accepted=counts.accepted,
                    refused=counts.refused,
                    agreed=counts.agreed + login.agrees,
                    differed=counts.differed + (not login.agrees),
                )

    @contextmanager
    def _changed(self) -> Iterator[tuple[bytes, dict[CohortKey, _Entry]]]:
        """Give the entries to change, and write them, while no other program does."""
        with file_errors(self._policy):
            opened = self._policy.open("rb")
        with opened:
            fcntl.flock(opened, fcntl.LOCK_EX)
            key, entries = self._load()
            yield key, entries
            write_text(self._path, _document(key, entries))

    def _load(self) -> tuple[bytes, dict[CohortKey, _Entry]]:
        if not self._path.exists():
            return self._randomness(_KEY_BYTES), {}
        text = read_text(self._path, limit_bytes=_FILE_BYTES)
        try:
            document = json.loads(text)
            entries = dict(_entries(document["document"], document["stores"]))
            return base64.b64decode(document["key"], validate=True), entries
        except (ValueError, KeyError, TypeError, AttributeError, RecursionError):
            raise UsageError(
                f"{self._path}: not an evidence file that this tool wrote; move it away, and run "
                "`lean-tumbler verify` again"
            ) from None


def _marked(seen: bytearray, key: bytes, login: str) -> bool:
    """Mark a login in the map; tell whether it was not marked before."""
    digest = hmac.digest(key, login.encode("utf-8", "replace"), hashlib.sha256)
    place = int.from_bytes(digest[:4], "big") % MAP_BITS
    byte, bit = place // 8, 1 << place % 8
    is_new = not seen[byte] & bit
    seen[byte] |= bit
    return is_new


def _entries(name: str, stores: Mapping[str, Any]) -> Iterator[tuple[CohortKey, _Entry]]:
    if name != DOCUMENT:
        raise ValueError("another document")
    for store, cohorts in stores.items():
        for found in cohorts:
            counts = {name: int(found[name]) for name in Counts.__dataclass_fields__}
            if min(counts.values()) < 0:
                raise ValueError("a count below zero")
            seen = bytearray(base64.b64decode(found.get("seen", ""), validate=True))
            entry = _Entry(Counts(**counts))
            if len(seen) == MAP_BITS // 8:
                entry.seen = seen
            yield CohortKey(store, str(found["cohort"]), str(found["from"])), entry


def _document(key: bytes, entries: Mapping[CohortKey, _Entry]) -> str:
    stores: dict[str, list[dict[str, object]]] = {}
    for cohort, entry in sorted(entries.items(), key=lambda item: str(item[0])):
        counts = {name: getattr(entry.counts, name) for name in Counts.__dataclass_fields__}
        found: dict[str, object] = {"cohort": cohort.cohort, "from": cohort.identity, **counts}
        if any(entry.seen):
            found["seen"] = base64.b64encode(entry.seen).decode("ascii")
        stores.setdefault(cohort.store, []).append(found)
    coded = base64.b64encode(key).decode("ascii")
    return json.dumps({"document": DOCUMENT, "key": coded, "stores": stores}, indent=1) + "\n"
