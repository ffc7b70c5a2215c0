"""The types that every scheme and layout is described with."""

import re
from collections.abc import Callable, Iterable, Mapping
from dataclasses import dataclass, field
from enum import StrEnum
from functools import cached_property

Parameters = Mapping[str, int]

# A digest as text with nothing beside it: what a formula prints.
BARE_LAYOUTS = frozenset({"hex", "hex-upper", "hex, mixed case", "base64", "base64, no padding"})
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
    LOCKED = "locked"  # a marker that no password opens
    UNKNOWN = "unknown"


class Says(StrEnum):
    """How much a layout says by itself about how a value was made."""

    ALL = "all"  # scheme and inputs, without doubt: PHC strings, dollar fields, tags in braces
    TAG = "tag"  # scheme and inputs, by a mark so short that other systems may write it too
    PLACES = "places"  # where digest and salt stand, but not how they were joined
    NOTHING = "nothing"  # a bare shape


@dataclass(frozen=True, slots=True, kw_only=True)
class Contents:
    """What one value holds, as its layout reads it.

    Attributes:
        parameters: costs, by the names that the policy file uses.
        variant: what tells apart values of one scheme and layout (`2a`, `v=16`), or empty.
        salt: the salt that stands in the value; None where there is none.
        digest: the digest as bytes; empty where there is none.
        digest_bits: its length where `digest` holds it in another writing; 0 to take the bytes.
        setting: for schemes that describe themselves, the text that together with the password
            gives the stored value again (see docs/FORMATS.md); empty where none is defined.
        whole: for the schemes of `SettingScheme`, the text that setting and password give.
        formulas: for fast values, the formulas that can have made them, the likeliest first;
            they print the digest in lower-case hexadecimal.
        salted_by_login: whether the login goes in as salt.
        inner: for layered values, the derivation that lies on top.
        origin: for layered values, the scheme below, or the fingerprints of the formulas.
        login: for layered values, the login kept in the head.
        parts: for layered values, the formulas' further inputs, by name.
        password: what the text says is the password itself.
        confidence: 0 to 1, that the scheme is right.
        also_possible: other schemes that write the same text.
        notes: sentences for a reader.
        scheme: the scheme, where the layout alone does not say it.
    """

    parameters: Parameters = field(default_factory=dict)
    variant: str = ""
    salt: bytes | None = field(default=None, repr=False)
    digest: bytes = field(default=b"", repr=False)
    digest_bits: int = 0
    setting: str = field(default="", repr=False)
    whole: str = field(default="", repr=False)
    formulas: tuple[str, ...] = ()
    salted_by_login: bool = False
    inner: "ParsedValue | None" = None
    origin: str = ""
    login: bytes | None = field(default=None, repr=False)
    parts: Mapping[str, bytes] = field(default_factory=dict, repr=False)
    password: str | None = field(default=None, repr=False)
    confidence: float = 1.0
    also_possible: tuple[str, ...] = ()
    notes: tuple[str, ...] = ()
    scheme: str = ""


@dataclass(frozen=True, slots=True, kw_only=True)
class ParsedValue:
    """One stored value understood: what its layout says, and what it holds.

    Attributes:
        wrappers: what stands around the value itself, outermost first; `inner_text` is then the
            value without them, and empty where there are none.
    """

    scheme: str
    layout: str
    kind: Kind
    says: Says = Says.NOTHING
    contents: Contents = field(default_factory=Contents)
    wrappers: tuple[str, ...] = ()
    inner_text: str = field(default="", repr=False)

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


@dataclass(frozen=True, kw_only=True)
class Layout:
    """One way of writing one scheme down: pattern, meaning and source in one entry.

    The audit reads columns by the same pattern, a representative for each shape. A shape is the
    text of the groups in `shaped_by` and the lengths of all other groups, so `build` may depend
    on these and on nothing else of the value, unless `by_value` says so.

    Attributes:
        scheme: what was computed, by its trade name; several by length: joined with commas.
        name: how it was written down, by structure.
        structure: what it looks like, for the catalogue.
        source: the standard or program documentation that defines it.
        kind: what the scheme does with a password.
        says: how much a value of it says by itself.
        pattern: the whole value, in the common part of Python's and Rust's regular expressions.
        build: match -> contents, or None where the numbers in it are impossible.
        starts: how every value begins; empty where there is no such text.
        shaped_by: groups whose text decides the reading.
        lengths_count: whether the lengths of the other groups do.
        by_value: whether `build` looks at all of the value; such values have no shape.
        longest: values above this many characters are not of this layout.
        lengths: the only lengths in characters that values have; empty for any.
    """

    scheme: str
    name: str
    structure: str
    source: str
    kind: Kind
    pattern: str
    build: Callable[[re.Match[str]], Contents | None]
    says: Says = Says.NOTHING
    starts: tuple[str, ...] = ()
    key_groups: tuple[str, ...] = ()
    lengths_count: bool = True
    by_value: bool = False
    longest: int = VALUE_CHARACTERS
    lengths: tuple[int, ...] = ()

    @cached_property
    def _compiled(self) -> re.Pattern[str]:
        return re.compile(self.pattern, re.ASCII)

    @cached_property
    def groups(self) -> tuple[str, ...]:
        """The names of the pattern's groups, in order."""
        return tuple(self._compiled.groupindex)

    def match(self, text: str) -> re.Match[str] | None:
        """Match the pattern against all of a text."""
        return self._compiled.fullmatch(text)

    def read(self, text: str) -> ParsedValue | None:
        """Read a value; None where it is not of this layout."""
        if len(text) > self.longest or (self.lengths and len(text) not in self.lengths):
            return None
        if self.starts and not text.startswith(self.starts):
            return None
        match = self.match(text)
        contents = self.build(match) if match else None
        if contents is None:
            return None
        scheme = contents.scheme or self.scheme
        return ParsedValue(
            scheme=scheme, layout=self.name, kind=self.kind, says=self.says, contents=contents
        )


def read_first(layouts: Iterable[Layout], text: str) -> ParsedValue | None:
    """Read a value by the first layout that it is of."""
    return next((found for layout in layouts if (found := layout.read(text))), None)


@dataclass(frozen=True, slots=True, kw_only=True)
class Parameter:
    """One cost of a derivation: its name in policy files and the range its standard allows."""

    name: str
    lowest: int
    highest: int


@dataclass(frozen=True, slots=True, kw_only=True)
class OnTop:
    """How a derivation that can lie over a legacy digest writes its values, as a PHC string.

    The reader of layered values, the guard of a column and the width that a column needs follow
    from this, so that what is written is read and admitted.

    Attributes:
        layout: that reads what `create` writes.
        start: how each value begins.
        numbers: what stands before a number, and the parameter; empty for one that follows from
            the digest.
        digest_characters: of the digest that `create` writes.
    """

    layout: Layout
    start: str
    numbers: tuple[tuple[str, str], ...]
    digest_characters: int

    @property
    def digest_bytes(self) -> int:
        """How many bytes the digest has that `create` writes."""
        return self.digest_characters * 3 // 4

    def text(self, parameters: Parameters, salt: str, digest: str) -> str:
        """Put a value together.

        Args:
            parameters: its costs.
            salt: in the base64 of PHC strings.
            digest: likewise.
        """
        costs = "".join(
            f"{before}{parameters[name] if name else self.digest_bytes}"
            for before, name in self.numbers
        )
        return f"{self.start}{costs}${salt}${digest}"


@dataclass(frozen=True, slots=True, kw_only=True)
class Steps:
    """Work that differs in nothing but how often something is done.

    Attributes:
        number: costs -> how often.
        costs: number -> costs of derivations that together do it as often.
    """

    number: Callable[[Parameters], int]
    costs: Callable[[int], Iterable[Parameters]]


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
        on_top: how it is written where it stands over a legacy digest; None where it cannot.
        block_bytes: of a digest that is computed in blocks, each for all the rounds; 0 where it is
            not.
        steps: its work, where one derivation can be filled up to a dearer one; None where it
            cannot.
    """

    scheme: str
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
    on_top: OnTop | None = None
    block_bytes: int = 0
    steps: Steps | None = None

    def blocks_of(self, digest_bytes: int) -> int:
        """Give how many times the rounds are gone through for a digest."""
        return max(1, -(-digest_bytes // self.block_bytes)) if self.block_bytes else 1


@dataclass(frozen=True, slots=True, kw_only=True)
class CryptScheme:
    """A legacy scheme whose setting and password give the whole stored text again.

    Attributes:
        compute: (setting, password's bytes) -> the whole stored text.
        filler: a digest that makes a value of a setting, to read its costs; empty where it has
            none.
        lossy: why different passwords open one account; empty where they do not.
        setting_of: for values that are bare shapes, text -> its setting; None where the text is
            no such value. Nothing about what the text looks like beyond its structure counts.
        memory_kib: working memory of one computation.
        settings_of_rounds: number -> settings that together go through as many rounds; None where
            there are none.
    """

    scheme: str
    source: str
    compute: Callable[[str, bytes], str]
    filler: str = ""
    lossy: tuple[str, ...] = ()
    setting_of: Callable[[str], str | None] | None = None
    memory_kib: Callable[[Parameters], int] = lambda _: 0
    settings_of_rounds: Callable[[int], Iterable[str]] | None = None


@dataclass(frozen=True, slots=True, kw_only=True)
class Family:
    """One module of schemes, as the catalogue lists it."""

    name: str
    layouts: tuple[Layout, ...]
    derivations: tuple[Derivation, ...] = ()
    crypt_schemes: tuple[CryptScheme, ...] = ()
    formulas: tuple[str, ...] = ()  # all that its layouts name


def within(parameters: Parameters, ranges: tuple[Parameter, ...]) -> bool:
    """Tell whether every parameter lies in the range that its standard allows."""
    return all(entry.lowest <= parameters[entry.name] <= entry.highest for entry in ranges)
