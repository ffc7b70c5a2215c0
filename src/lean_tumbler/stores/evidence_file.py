"""The evidence file beside the policy: counts of people by cohort, no values and no logins.

Several programs add to it at once, so each change is made under a lock. A person counts once: a
keyed hash of the login names one bit of a map. Two people on one bit count as one, so no count is
ever too high. Who holds the file can ask whether a login may be in it, and hears “maybe” for others
too. Counts belong to the rows that were looked at, of which keyed fingerprints are kept.
"""

import fcntl
import hashlib
import hmac
import os
import zlib
from collections.abc import Callable, Iterable, Iterator, Mapping
from contextlib import contextmanager
from datetime import date
from enum import StrEnum
from functools import partial
from pathlib import Path
from types import MappingProxyType
from typing import Final, Literal

from msgspec import Struct, field, json

from lean_tumbler.core.reading.evidence import (
    CohortKey,
    Counts,
    Evidence,
    Mark,
    RowFacts,
    StoreEvidence,
)
from lean_tumbler.core.schema import checked
from lean_tumbler.errors import UsageError
from lean_tumbler.stores.file_access import file_errors, read_text, write_text
from lean_tumbler.stores.json_text import load_json

DOCUMENT: Final = "lean-tumbler/evidence/1"
MAP_BITS = 1 << 18  # of each count; of few people, hardly two share a bit
MOST_MARKS = 100  # of columns that name few
_FILE_BYTES = 1 << 26
_KEY_BYTES = 16


class Shown(StrEnum):
    """By what a person shows something of a cohort: the map that counts it."""

    KNOWN = "accepted"
    LOGIN = "agreed"
    GUESS = "guessed"


_AGAINST = {Shown.KNOWN: "refused", Shown.LOGIN: "differed", Shown.GUESS: "refused"}
_RIGHT = tuple(Shown)
_MAPS = (*_RIGHT, "refused", "differed")


class CohortTrial(Struct, frozen=True, kw_only=True):
    """One person who shows something of a cohort."""

    store: str  # the policy's name of it
    # of the cohort; None where the row shows nothing of one, because it says itself how it was made
    key: CohortKey | None
    login: str  # whose; it is not kept
    right: bool  # whether the person speaks for the cohort, or against it
    # alternatives of its formula that would not have opened the row
    ruled_out: frozenset[str] = frozenset()
    row: RowFacts | None = None  # what is known of the row beside its value; None where nothing is


class _Maps(dict[str, bytearray]):
    """Maps of people, by what they count."""

    def __missing__(self, name: str) -> bytearray:
        self[name] = bytearray(MAP_BITS // 8)
        return self[name]

    def mark(self, place: int, name: str, *, instead_of: str = "") -> None:
        """Set a bit in one map, and take it out of another."""
        byte, bit = divmod(place, 8)
        self[name][byte] |= 1 << bit
        if instead_of:
            self[instead_of][byte] &= ~(1 << bit) & 0xFF

    def holds(self, place: int, *names: str) -> bool:
        """Tell whether a bit is set in any of some maps."""
        byte, bit = divmod(place, 8)
        return any(name in self and self[name][byte] >> bit & 1 for name in names)

    def number(self, *names: str) -> int:
        """Count the people in any of some maps."""
        found = 0
        for name in names:
            found |= int.from_bytes(self.get(name, b""), "little")
        return found.bit_count()


class Binding(Struct, kw_only=True):
    """What was looked at: rows that must still be there, for counts to mean anything."""

    proved_on: date  # the day of the newest proof
    rows: int  # that the store had then
    # the highest number that named a row; None where keys are no numbers
    highest: int | None = None
    # keyed fingerprints of some rows' keys -> of their values, 64 bits each
    sample: dict[str, str] = {}


# (store, what was looked at before, key) -> what is looked at now, and whether that still counts
Bound = Callable[[str, Binding | None, bytes], tuple[Binding | None, bool]]


class _CohortEntry(Struct, kw_only=True):
    """What is known of one cohort, for a reader; and the maps that it is counted from."""

    cohort: str
    identity: str = field(name="from")
    counts: dict[str, int] = {}
    years: list[int] = []
    marks: list[tuple[str, str]] = []
    maps: dict[str, bytes] = {}


class _StoreEntry(Struct, kw_only=True):
    """What is known of one store; `ruled_out` by the fingerprints of alternatives."""

    binding: Binding | None = None
    cohorts: list[_CohortEntry] = []
    ruled_out: dict[str, bytes] = {}


class _Document(Struct, kw_only=True):
    """The file; bytes are in base64."""

    document: Literal["lean-tumbler/evidence/1"] = DOCUMENT
    key: bytes
    stores: dict[str, _StoreEntry] = {}


class _Cohort:
    """One cohort while it is worked on."""

    def __init__(self, entry: _CohortEntry | None = None) -> None:
        self.years: set[int] = set(entry.years if entry else ())
        self.marks: set[Mark] = set(entry.marks if entry else ())
        self.maps = _unpacked(entry.maps if entry else {}, _MAPS)

    @property
    def counts(self) -> Counts:
        return Counts(
            accepted=self.maps.number(Shown.KNOWN),
            refused=self.maps.number("refused"),
            agreed=self.maps.number(Shown.LOGIN),
            differed=self.maps.number("differed"),
            guessed=self.maps.number(Shown.GUESS),
            people=self.maps.number(*_RIGHT),
            years=frozenset(self.years),
            marks=frozenset(self.marks),
        )

    def entry(self, key: CohortKey) -> _CohortEntry:
        counts = self.counts
        shown = {name: getattr(counts, name) for name in _MAPS} | {"people": counts.right}
        return _CohortEntry(
            cohort=key.cohort,
            identity=key.identity,
            counts=shown,
            years=sorted(self.years),
            marks=sorted(self.marks),
            maps=_packed(self.maps),
        )


class _Store:
    """One store while it is worked on."""

    def __init__(self, name: str, entry: _StoreEntry | None = None) -> None:
        self.binding = entry.binding if entry else None
        self.cohorts = {
            CohortKey(name, each.cohort, each.identity): _Cohort(each)
            for each in (entry.cohorts if entry else ())
        }
        self.ruled_out = _unpacked(entry.ruled_out if entry else {})

    def note(self, trial: CohortTrial, shown: Shown, place: int) -> None:
        for alternative in trial.ruled_out if trial.right else ():
            self.ruled_out.mark(place, alternative)
        if trial.key is None:
            return
        cohort = self.cohorts.setdefault(trial.key, _Cohort())
        now, before = (shown, _AGAINST[shown]) if trial.right else (_AGAINST[shown], shown)
        # A known password that is tried again takes the place of what it showed before.
        cohort.maps.mark(place, now, instead_of=before if shown is Shown.KNOWN else "")
        if trial.right and trial.row is not None:
            created, marks = trial.row.created, trial.row.marks
            cohort.years |= set() if created is None else {created.year}
            cohort.marks |= set() if len(cohort.marks) >= MOST_MARKS else marks

    def refused_itself(self, key: bytes, login: str) -> bool:
        place = _place(key, login)
        return any(
            cohort.maps.holds(place, "refused") and not cohort.maps.holds(place, *_RIGHT)
            for cohort in self.cohorts.values()
        )

    def entry(self) -> _StoreEntry:
        ordered = sorted(self.cohorts.items(), key=lambda item: str(item[0]))
        return _StoreEntry(
            binding=self.binding,
            cohorts=[cohort.entry(key) for key, cohort in ordered],
            ruled_out=_packed(self.ruled_out),
        )


class KnownOfStores(Struct, frozen=True):
    """What a file of evidence held when it was read."""

    key: bytes  # of fingerprints
    _stores: "Mapping[str, _Store]"

    @property
    def bindings(self) -> dict[str, Binding]:
        """What was looked at of each store."""
        found = ((name, store.binding) for name, store in self._stores.items())
        return {name: binding for name, binding in found if binding is not None}

    def evidence(self, lapsed: Mapping[str, str] = MappingProxyType({})) -> Evidence:
        """Give what counts.

        Args:
            lapsed: store -> why what is known of it does not count any more.
        """
        stores = {name: store for name, store in self._stores.items() if name not in lapsed}
        counts = {
            cohort: found.counts
            for store in stores.values()
            for cohort, found in store.cohorts.items()
        }
        beside = {
            name: StoreEvidence(
                ruled_out={
                    each: number
                    for each in store.ruled_out
                    if (number := store.ruled_out.number(each))
                },
                refused_itself=partial(store.refused_itself, self.key),
            )
            for name, store in stores.items()
        }
        gone = {name: StoreEvidence(lapsed=why) for name, why in lapsed.items()}
        return Evidence(counts, {**beside, **gone})


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

    def load(self) -> "KnownOfStores":
        """Give all that is known.

        Raises:
            UsageError: the file is none that this tool wrote.
            SourceError: it cannot be read.
        """
        return KnownOfStores(*self._load())

    def note(
        self,
        shown: Shown,  # by what
        trials: Iterable[CohortTrial],  # what each shows
        *,
        # (store, what was looked at before, key) -> what was looked at now, and whether what was
        # known before still counts
        bound: Bound | None = None,
    ) -> None:
        """Note what people show."""
        found = list(trials)
        if not found:
            return
        with self._changed() as (key, stores):
            for name in dict.fromkeys(trial.store for trial in found):
                store = stores.setdefault(name, _Store(name))
                if bound is not None:
                    binding, counts_on = bound(name, store.binding, key)
                    if not counts_on:
                        store = stores[name] = _Store(name)
                    store.binding = binding
            for trial in found:
                stores[trial.store].note(trial, shown, _place(key, trial.login))

    @contextmanager
    def _changed(self) -> Iterator[tuple[bytes, dict[str, _Store]]]:
        """Give the stores to change, and write them, while no other program does."""
        with file_errors(self._policy):
            opened = self._policy.open("rb")
        with opened:
            fcntl.flock(opened, fcntl.LOCK_EX)
            key, stores = self._load()
            yield key, stores
            document = _Document(
                key=key, stores={name: store.entry() for name, store in sorted(stores.items())}
            )
            text = json.format(json.encode(document), indent=1).decode("utf-8") + "\n"
            write_text(self._path, text)

    def _load(self) -> tuple[bytes, dict[str, _Store]]:
        if not self._path.exists():
            return self._randomness(_KEY_BYTES), {}
        text = read_text(self._path, limit_bytes=_FILE_BYTES)
        try:
            document = checked(load_json(text), _Document)
            return document.key, {
                name: _Store(name, entry) for name, entry in document.stores.items()
            }
        except (ValueError, zlib.error):
            raise UsageError(
                f"{self._path}: not an evidence file that this tool wrote; move it away, and run "
                "`lean-tumbler verify` again"
            ) from None


def _place(key: bytes, login: str) -> int:
    digest = hmac.digest(key, login.casefold().encode("utf-8", "replace"), hashlib.sha256)
    return int.from_bytes(digest[:4], "big") % MAP_BITS


def _packed(maps: _Maps) -> dict[str, bytes]:
    return {name: zlib.compress(bits) for name, bits in sorted(maps.items()) if any(bits)}


def _unpacked(packed: Mapping[str, bytes], names: Iterable[str] | None = None) -> _Maps:
    maps = _Maps()
    for name, pack in packed.items():
        raw = zlib.decompressobj().decompress(pack, MAP_BITS // 8 + 1)
        if (names is not None and name not in names) or len(raw) != MAP_BITS // 8:
            raise ValueError("a map of another size")
        maps[name] = bytearray(raw)
    return maps
