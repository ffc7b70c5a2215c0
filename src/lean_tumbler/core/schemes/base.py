"""The types that stored values and their layouts are described with."""

import re
from collections.abc import Callable, Iterable, Mapping
from enum import StrEnum
from functools import cached_property

from msgspec import Struct, field

from lean_tumbler.core.records import Hidden, MaskedRecord

Parameters = Mapping[str, int]

# A digest as text with nothing beside it: what a formula prints.
BARE_LAYOUTS = frozenset(
    {"hex", "hex-upper", "hex, mixed case", "base64", "base64, no padding", "base64url"}
)
PREFIXED_HEX = "0x and hex"
PRINTED_BYTES = "bytes in hexadecimal"

VALUE_CHARACTERS = 4096  # longer text is no stored value, and is not searched by patterns


class Kind(StrEnum):
    """What a scheme does with a password, as far as the grade depends on it."""

    READABLE = "readable"  # the password itself, or something it can be read from
    FAST = "fast"  # one or a few digests
    ITERATED = "iterated"  # slow once: the crypt(3) family and its like
    DERIVATION = "derivation"  # a slow scheme with parameters, still recommended at some cost
    LAYERED = "layered"  # a legacy digest under a derivation
    KEYED = "keyed"  # any of these, under a key that stands apart and was not used
    LOCKED = "locked"  # a marker that no password opens
    UNKNOWN = "unknown"


# What holds a digest: of a slow scheme, or of any.
SLOW = frozenset({Kind.ITERATED, Kind.DERIVATION, Kind.LAYERED})
HASHED = SLOW | {Kind.FAST}
STORED_ALONE = HASHED | {Kind.KEYED}  # what stands in a column, and nobody types


class Says(StrEnum):
    """How much a layout says by itself about how a value was made."""

    ALL = "all"  # scheme and inputs, without doubt: PHC strings, dollar fields, tags in braces
    TAG = "tag"  # scheme and inputs, by a mark so short that other systems may write it too
    PLACES = "places"  # where digest and salt stand, but not how they were joined
    NOTHING = "nothing"  # a bare shape


class Contents(MaskedRecord, Struct, frozen=True, kw_only=True):
    """What one value holds, as its layout reads it."""

    # costs, by the names that the policy file uses
    parameters: Parameters = field(default_factory=dict)
    variant: str = ""  # what tells apart values of one scheme and layout (`2a`, `v=16`), or empty
    # the salt that stands in the value; None where there is none
    salt: Hidden[bytes | None] = None
    digest: Hidden[bytes] = b""  # the digest as bytes; empty where there is none
    # its length where `digest` holds it in another writing; 0 to take the bytes
    digest_bits: int = 0
    # for schemes that describe themselves, the text that together with the password gives the
    # stored value again (see docs/FORMATS.md); empty where none is defined
    setting: Hidden[str] = ""
    # for the schemes of `CryptScheme`, the text that setting and password give
    whole: Hidden[str] = ""
    # for fast values, the formulas that can have made them, the likeliest first; they print the
    # digest in lower-case hexadecimal
    formulas: tuple[str, ...] = ()
    salted_by_login: bool = False  # whether the login goes in as salt
    inner: "ParsedValue | None" = None  # for layered values, the derivation that lies on top
    origin: str = ""  # for layered values, the scheme below, or the fingerprints of the formulas
    # for layered values, the login kept in the head
    login: Hidden[bytes | None] = None
    # for layered values, the formulas' further inputs, by name
    parts: Hidden[Mapping[str, bytes]] = field(default_factory=dict)
    # what the text says is the password itself
    password: Hidden[str | None] = None
    confidence: float = 1.0  # 0 to 1, that the scheme is right
    also_possible: tuple[str, ...] = ()  # other schemes that write the same text
    notes: tuple[str, ...] = ()  # sentences for a reader
    obsolete: bool = False  # whether a newer variant replaced this one because of a weakness
    scheme: str = ""  # the scheme, where the layout alone does not say it


class ParsedValue(MaskedRecord, Struct, frozen=True, kw_only=True):
    """One stored value understood: what its layout says, and what it holds."""

    scheme: str
    layout: str
    kind: Kind
    says: Says = Says.NOTHING
    contents: Contents = field(default_factory=Contents)
    # what stands around the value itself, outermost first; `inner_text` is then the value without
    # them, and empty where there are none
    wrappers: tuple[str, ...] = ()
    inner_text: Hidden[str] = ""

    @property
    def parameters(self) -> Parameters:
        """Costs, by the names that the policy file uses."""
        return self.contents.parameters

    @property
    def salt(self) -> bytes | None:
        """The salt that stands in the value; None where there is none."""
        return self.contents.salt

    @property
    def digest(self) -> bytes:
        """The digest as bytes; empty where there is none."""
        return self.contents.digest

    @property
    def inner(self) -> "ParsedValue | None":
        """The derivation on top of a layered value."""
        return self.contents.inner

    @property
    def digest_bits(self) -> int:
        """The digest's length in bits; 0 where there is none."""
        return self.contents.digest_bits or 8 * len(self.contents.digest)

    def formula_text(self, stored: str) -> str:
        """Give what a formula must print: the stored text, or the digest in hexadecimal alone.

        What stands around a digest, its salt too, is the layout's business and not the formula's.
        """
        is_around = self.kind is Kind.FAST and self.layout not in BARE_LAYOUTS and self.digest
        return self.digest.hex() if is_around or self.layout == PRINTED_BYTES else stored

    @property
    def salted(self) -> bool:
        """Whether a salt stands in the value, or the login goes in as one."""
        return self.salt is not None or self.inner is not None or self.contents.salted_by_login


class Layout(Struct, frozen=True, kw_only=True, dict=True):
    """One way of writing one scheme down: pattern, meaning and source in one entry.

    The audit reads columns by the same pattern, a representative for each shape. A shape is the
    text of the groups in `key_groups` and the lengths of all other groups, so `build` may depend
    on these and on nothing else of the value, unless `by_value` says so.
    """

    scheme: str  # what was computed, by its trade name; several by length: joined with commas
    name: str  # how it was written down, by structure
    structure: str  # what it looks like, for the catalogue
    source: str  # the standard or program documentation that defines it
    kind: Kind  # what the scheme does with a password
    pattern: str  # the whole value, in the common part of Python's and Rust's regular expressions
    # match -> contents, or None where the numbers in it are impossible
    build: Callable[[re.Match[str]], Contents | None]
    says: Says = Says.NOTHING  # how much a value of it says by itself
    starts: tuple[str, ...] = ()  # how every value begins; empty where there is no such text
    key_groups: tuple[str, ...] = ()  # groups whose text decides the reading
    lengths_count: bool = True  # whether the lengths of the other groups do
    by_value: bool = False  # whether `build` looks at all of the value; such values have no shape
    longest: int = VALUE_CHARACTERS  # values above this many characters are not of this layout
    lengths: tuple[int, ...] = ()  # the only lengths in characters that values have; empty for any

    @cached_property
    def _compiled(self) -> re.Pattern[str]:
        return re.compile(self.pattern, re.ASCII)

    @cached_property
    def groups(self) -> tuple[str, ...]:
        """The names of the pattern's groups, in order."""
        return tuple(self._compiled.groupindex)

    def match(self, text: str, end: int | None = None) -> re.Match[str] | None:
        """Match the pattern against all of a text, or against all of it before `end`."""
        return self._compiled.fullmatch(text, 0, len(text) if end is None else end)

    def shape(self, match: re.Match[str]) -> tuple[str | int | None, ...]:
        """Give what decides the reading of what the pattern fits, unless that goes by the value."""
        return tuple(
            text if name in self.key_groups or text is None else self.lengths_count * len(text)
            for name, text in match.groupdict().items()
        )

    def beginning(self, text: str) -> re.Match[str] | None:
        """Match the pattern against the beginning of a text."""
        return self._compiled.match(text)

    def read(self, text: str) -> ParsedValue | None:
        """Read a value; None where it is not of this layout."""
        if self.starts and not text.startswith(self.starts):
            return None
        if len(text) > self.longest or (self.lengths and len(text) not in self.lengths):
            return None
        match = self._compiled.fullmatch(text)
        contents = self.build(match) if match else None
        if contents is None:
            return None
        scheme = contents.scheme or self.scheme
        return ParsedValue(
            scheme=scheme, layout=self.name, kind=self.kind, says=self.says, contents=contents
        )


def read_first(layouts: Iterable[Layout], text: str) -> ParsedValue | None:
    """Read a value by the first layout that it is of."""
    for layout in layouts:
        found = layout.read(text)
        if found is not None:
            return found
    return None
