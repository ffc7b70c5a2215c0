"""The types that every scheme is described with."""

from collections.abc import Callable, Mapping
from dataclasses import dataclass, field
from enum import StrEnum

Parameters = Mapping[str, int]


class Kind(StrEnum):
    """What a scheme does with a password, as far as the grade depends on it."""

    READABLE = "readable"  # the password itself, or something it can be read from
    FAST = "fast"  # one or a few digests
    DERIVATION = "derivation"  # a slow scheme with parameters, still recommended at some cost
    LAYERED = "layered"  # a legacy digest under a derivation
    LOCKED = "locked"  # a marker that no password opens
    UNKNOWN = "unknown"


@dataclass(frozen=True, slots=True, kw_only=True)
class ParsedValue:
    """One stored value understood.

    Attributes:
        scheme: what was computed, by its trade name.
        layout: how it was written down.
        parameters: costs, by the names that the policy file uses.
        variant: what tells apart values of one scheme and layout (`2a`, `v=16`), or empty.
        salt: the salt that stands in the value; None where there is none.
        digest: the digest as bytes; empty where there is none.
        setting: for schemes that describe themselves, the text that together with the password
            gives the stored value again (see docs/FORMATS.md).
        inner: for layered values, the derivation that lies on top.
        origin: for layered values, the fingerprint or the scheme below.
        login: for layered values, the login kept in the head.
        confidence: 0 to 1, that `scheme` is right.
        also_possible: other schemes that write the same text.
        notes: sentences for a reader.
    """

    scheme: str
    layout: str
    kind: Kind
    parameters: Parameters = field(default_factory=dict)
    variant: str = ""
    salt: bytes | None = field(default=None, repr=False)
    digest: bytes = field(default=b"", repr=False)
    setting: str = field(default="", repr=False)
    inner: "ParsedValue | None" = None
    origin: str = ""
    login: bytes | None = field(default=None, repr=False)
    confidence: float = 1.0
    also_possible: tuple[str, ...] = ()
    notes: tuple[str, ...] = ()

    @property
    def salted(self) -> bool:
        """Whether a salt stands in the value; a layered value's is its derivation's."""
        return self.salt is not None or self.inner is not None


@dataclass(frozen=True, slots=True, kw_only=True)
class Parameter:
    """One cost of a derivation: its name in policy files and the range its standard allows."""

    name: str
    lowest: int
    highest: int


@dataclass(frozen=True, slots=True, kw_only=True)
class Derivation:
    """A slow scheme: it can check values, and write new ones.

    Attributes:
        recompute: (parsed value, secret) -> digest bytes, to compare with `parsed.digest`.
        create: (secret, salt, parameters) -> the complete stored text.
        whole_text: (setting, digest bytes) -> the complete stored text in canonical form.
        read_setting: what `setting` means again, without a digest; None where it is malformed.
        memory_kib: working memory of one derivation.
        work_kib: memory that one derivation goes over in all; 0 where memory is not its cost.
        as_strong: (parameters, others) -> whether the first cost an attacker at least as much.
        may_layer: whether it can stand over a legacy digest.
        uncheckable: variants that are read but cannot be checked.
    """

    scheme: str
    summary: str
    source: str
    parameters: tuple[Parameter, ...]
    defaults: Parameters
    salt_bytes: int
    recompute: Callable[[ParsedValue, bytes], bytes]
    create: Callable[[bytes, bytes, Parameters], str]
    whole_text: Callable[[str, bytes], str]
    read_setting: Callable[[str], ParsedValue | None]
    memory_kib: Callable[[Parameters], int]
    work_kib: Callable[[Parameters], int]
    as_strong: Callable[[Parameters, Parameters], bool]
    may_layer: bool
    uncheckable: frozenset[str] = frozenset()


@dataclass(frozen=True, slots=True, kw_only=True)
class Family:
    """One module of schemes, as the catalogue lists it.

    Attributes:
        read: text -> parsed value, or None where the text is not of this family.
        derivations: the slow schemes among them.
    """

    name: str
    read: Callable[[str], ParsedValue | None]
    derivations: tuple[Derivation, ...] = ()


def within(parameters: Parameters, ranges: tuple[Parameter, ...]) -> bool:
    """Tell whether every parameter lies in the range that its standard allows."""
    return all(entry.lowest <= parameters[entry.name] <= entry.highest for entry in ranges)
