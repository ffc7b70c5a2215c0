"""The types that schemes are described with: all that a family says of itself."""

from collections.abc import Callable, Iterable, Iterator, Mapping, Sequence

from msgspec import Struct, field

from lean_tumbler.core.schemes.base import Layout, Parameters, ParsedValue
from lean_tumbler.core.schemes.guess_work import Work


class Parameter(Struct, frozen=True, kw_only=True):
    """One cost of a derivation: its name in policy files and the range its standard allows."""

    name: str
    lowest: int
    highest: int
    needs: tuple[str, int] | None = None  # another cost, and how much of it each one of this takes


class OnTop(Struct, frozen=True, kw_only=True):
    """How a derivation that can lie over a legacy digest writes its values, as a PHC string.

    The reader of layered values, the guard of a column and the width that a column needs follow
    from this, so that what is written is read and admitted.
    """

    layout: Layout  # that reads what `create` writes
    start: str  # how each value begins
    # what stands before a number, and the parameter; empty for one that follows from the digest
    numbers: tuple[tuple[str, str], ...]
    digest_characters: int  # of the digest that `create` writes

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


class FixedForm(Struct, frozen=True, kw_only=True):
    """Values of one length, whatever they cost: what a guarded column compares them with."""

    start: str  # what stands before the cost, with sets of characters in brackets
    cost: str  # the parameter, which stands there in two digits and a dollar after it
    alphabet: str  # of salt and digest
    characters: int  # how many of them follow


class Tuning(Struct, frozen=True, kw_only=True):
    """What is measured of a scheme, and what parameters are chosen from."""

    points: tuple[Parameters, ...]  # costs to measure, the cheapest first, in steps of about two
    # costs -> what time grows with, besides what is always spent
    grows_with: Callable[[Parameters], float]
    # the floor's alternatives -> costs to choose from, some below the floor perhaps
    above: Callable[[Sequence[Parameters]], Iterator[Parameters]]
    approved: bool = False  # whether NIST SP 800-132 approves of it


class Steps(Struct, frozen=True, kw_only=True):
    """Work that differs in nothing but how often something is done."""

    number: Callable[[Parameters], int]  # costs -> how often
    # number -> costs of derivations that together do it as often
    costs: Callable[[int], Iterable[Parameters]]


class Derivation(Struct, frozen=True, kw_only=True):
    """A slow scheme: it can check values, and write new ones."""

    scheme: str
    source: str
    parameters: tuple[Parameter, ...]
    defaults: Parameters
    salt_bytes: int
    # (parsed value, secret) -> digest bytes, to compare with `parsed.digest`
    recompute: Callable[[ParsedValue, bytes], bytes]
    # (secret, salt, parameters) -> the complete stored text
    create: Callable[[bytes, bytes, Parameters], str]
    # (setting, digest bytes) -> the complete stored text in canonical form
    whole_text: Callable[[str, bytes], str]
    # what `setting` means again, without a digest; None where it is malformed
    read_setting: Callable[[str], ParsedValue | None]
    memory_kib: Callable[[Parameters], int]  # working memory of one derivation
    # memory that one derivation goes over in all; 0 where memory is not its cost
    work_kib: Callable[[Parameters], int]
    # (parameters, others) -> whether the first cost an attacker at least as much
    as_strong: Callable[[Parameters, Parameters], bool]
    # how it is written where it stands over a legacy digest; None where it cannot
    on_top: OnTop | None = None
    # of a digest that is computed in blocks, each for all the rounds; 0 where it is not
    block_bytes: int = 0
    # its work, where one derivation can be filled up to a dearer one; None where it cannot
    steps: Steps | None = None
    in_words: Callable[[Parameters], str]  # costs for a person
    work_in_words: Callable[[Parameters], str] = lambda _: ""  # what they make a check do
    # by the name of a published floor, alternatives of about equal strength; a value is current
    # when it reaches all numbers of one
    floors: Mapping[str, tuple[Parameters, ...]] = field(default_factory=dict)
    # which limit of a policy bounds which cost
    limits: Mapping[str, str] = field(default_factory=dict)
    tuning: Tuning | None = None  # how parameters are chosen; None for what `tune` does not choose
    # how a guarded column knows its values, where it does not lie on top
    fixed_form: FixedForm | None = None
    # lengths of digests in bytes that people choose are multiples of it; 0 where all have one
    # length
    digest_multiple: int = 8
    password_bytes: int = 0  # that it takes in; 0 for any number
    # names under which it writes the same value, the usual one first
    variants: tuple[str, ...] = ()
    # (value, variant) -> the value under that name
    as_variant: Callable[[str, str], str] = lambda value, _: value

    def blocks_of(self, digest_bytes: int) -> int:
        """Give how many times the rounds are gone through for a digest."""
        return max(1, -(-digest_bytes // self.block_bytes)) if self.block_bytes else 1


class CryptScheme(Struct, frozen=True, kw_only=True):
    """A legacy scheme whose setting and password give the whole stored text again."""

    scheme: str
    source: str
    compute: Callable[[str, bytes], str]  # (setting, password's bytes) -> the whole stored text
    # a digest that makes a value of a setting, to read its costs; empty where it has none
    filler: str = ""
    lossy: tuple[str, ...] = ()  # why different passwords open one account; empty where they do not
    # for values that are bare shapes, text -> its setting; None where the text is no such value.
    # Nothing about what the text looks like beyond its structure counts.
    setting_of: Callable[[str], str | None] | None = None
    memory_kib: Callable[[Parameters], int] = lambda _: 0  # working memory of one computation
    # number -> settings that together go through as many rounds; None where there are none
    settings_of_rounds: Callable[[int], Iterable[str]] | None = None


class Family(Struct, frozen=True, kw_only=True):
    """One module of schemes, as the catalogue lists it."""

    name: str
    layouts: tuple[Layout, ...]
    derivations: tuple[Derivation, ...] = ()
    crypt_schemes: tuple[CryptScheme, ...] = ()
    formulas: tuple[str, ...] = ()  # all that its layouts name
    # what one guess takes, scheme by scheme; KeyError where a layout states no costs
    work: Mapping[str, Callable[[Parameters], Work]] = field(default_factory=dict)


def within(parameters: Parameters, ranges: tuple[Parameter, ...]) -> bool:
    """Tell whether every parameter lies in the range that its standard allows."""
    return all(
        entry.lowest <= parameters[entry.name] <= highest_of(entry, parameters) for entry in ranges
    )


def highest_of(entry: Parameter, parameters: Parameters) -> int:
    """Give the highest number of a cost beside the others."""
    if entry.needs is None or entry.needs[0] not in parameters:
        return entry.highest
    name, each = entry.needs
    return min(entry.highest, parameters[name] // each)
