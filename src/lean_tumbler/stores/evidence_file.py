"""The evidence file beside the policy: counts of logins by cohort, no values and no logins.

Several programs add to it at once, so each change is made under a lock. A person counts once: a
keyed hash of the login names one bit of a map. Two people on one bit count as one, so no count is
ever too high. Who holds the file can ask whether a login may be in it, and hears “maybe” for others
too.
"""

import fcntl
import hashlib
import hmac
import os
import zlib
from collections.abc import Callable, Iterable, Iterator, Mapping, Sequence
from contextlib import contextmanager
from dataclasses import dataclass
from pathlib import Path
from typing import Final, Literal

from msgspec import Struct, field, json

from lean_tumbler.core.reading.evidence import CohortKey, Counts, Evidence
from lean_tumbler.core.schema import checked
from lean_tumbler.errors import UsageError
from lean_tumbler.stores.file_access import file_errors, read_text, write_text
from lean_tumbler.stores.json_text import load_json

DOCUMENT: Final = "lean-tumbler/evidence/1"
MAP_BITS = 1 << 13  # of each count: 1 KiB
_FILE_BYTES = 1 << 24
_KEY_BYTES = 16


@dataclass(frozen=True, slots=True, kw_only=True)
class CohortTrial:
    """One account or login that shows something of its cohort.

    Attributes:
        key: of the cohort.
        login: whose; it is not kept.
        right: whether it speaks for the cohort, or against it.
    """

    key: CohortKey
    login: str
    right: bool


_ACCEPTED, _REFUSED, _AGREED, _DIFFERED = _COUNTS = tuple(Counts.__dataclass_fields__)


class _Maps(dict[str, bytearray]):
    """The maps of one cohort, by what they count."""

    def __missing__(self, name: str) -> bytearray:
        self[name] = bytearray(MAP_BITS // 8)
        return self[name]

    def mark(self, place: int, name: str, *, instead_of: str = "") -> None:
        """Set a bit in one map, and take it out of another."""
        byte, bit = divmod(place, 8)
        self[name][byte] |= 1 << bit
        if instead_of:
            self[instead_of][byte] &= ~(1 << bit) & 0xFF

    @property
    def counts(self) -> Counts:
        """How many bits are set in each."""
        return Counts(**{name: sum(map(int.bit_count, self[name])) for name in _COUNTS})


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
        _, cohorts = self._load()
        return Evidence({key: maps.counts for key, maps in cohorts.items()})

    def note_known(self, tried: Iterable[CohortTrial]) -> None:
        """Note known accounts; what is found now takes the place of what was found before."""
        with self._changed() as (key, cohorts):
            for account in tried:
                maps = cohorts.setdefault(account.key, _Maps())
                now, before = (_ACCEPTED, _REFUSED) if account.right else (_REFUSED, _ACCEPTED)
                maps.mark(_place(key, account.login), now, instead_of=before)

    def note_seen(self, logins: Sequence[CohortTrial]) -> None:
        """Note logins that were observed."""
        if not logins:
            return
        with self._changed() as (key, cohorts):
            for login in logins:
                maps = cohorts.setdefault(login.key, _Maps())
                maps.mark(_place(key, login.login), _AGREED if login.right else _DIFFERED)

    @contextmanager
    def _changed(self) -> Iterator[tuple[bytes, dict[CohortKey, _Maps]]]:
        """Give the maps to change, and write them, while no other program does."""
        with file_errors(self._policy):
            opened = self._policy.open("rb")
        with opened:
            fcntl.flock(opened, fcntl.LOCK_EX)
            key, cohorts = self._load()
            yield key, cohorts
            write_text(self._path, _text(key, cohorts))

    def _load(self) -> tuple[bytes, dict[CohortKey, _Maps]]:
        if not self._path.exists():
            return self._randomness(_KEY_BYTES), {}
        text = read_text(self._path, limit_bytes=_FILE_BYTES)
        try:
            document = checked(load_json(text), _Document)
            return document.key, dict(_cohorts(document.stores))
        except (ValueError, zlib.error):
            raise UsageError(
                f"{self._path}: not an evidence file that this tool wrote; move it away, and run "
                "`lean-tumbler verify` again"
            ) from None


def _place(key: bytes, login: str) -> int:
    digest = hmac.digest(key, login.encode("utf-8", "replace"), hashlib.sha256)
    return int.from_bytes(digest[:4], "big") % MAP_BITS


class _CohortEntry(Struct, kw_only=True):
    """The counts of one cohort, for a reader; and the maps that they are counted from."""

    cohort: str
    identity: str = field(name="from")
    counts: Counts = Counts()
    maps: dict[str, bytes]


class _Document(Struct, kw_only=True):
    """The file; bytes are in base64."""

    document: Literal["lean-tumbler/evidence/1"] = DOCUMENT
    key: bytes
    stores: dict[str, list[_CohortEntry]]


def _cohorts(stores: Mapping[str, list[_CohortEntry]]) -> Iterator[tuple[CohortKey, _Maps]]:
    for store, cohorts in stores.items():
        for found in cohorts:
            maps = _Maps()
            for count, packed in found.maps.items():
                raw = zlib.decompressobj().decompress(packed, MAP_BITS // 8 + 1)
                if count not in _COUNTS or len(raw) != MAP_BITS // 8:
                    raise ValueError("a map of another size")
                maps[count] = bytearray(raw)
            yield CohortKey(store, found.cohort, found.identity), maps


def _text(key: bytes, cohorts: Mapping[CohortKey, _Maps]) -> str:
    stores: dict[str, list[_CohortEntry]] = {}
    for cohort, maps in sorted(cohorts.items(), key=lambda item: str(item[0])):
        entry = _CohortEntry(
            cohort=cohort.cohort,
            identity=cohort.identity,
            counts=maps.counts,
            maps={name: zlib.compress(bits) for name, bits in maps.items() if any(bits)},
        )
        stores.setdefault(cohort.store, []).append(entry)
    document = json.encode(_Document(key=key, stores=stores))
    return json.format(document, indent=1).decode("utf-8") + "\n"
