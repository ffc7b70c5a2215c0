"""What the solver tries, the plausible first: how passwords are prepared, and what is joined.

Everything here is written in the notation and computed by its own evaluation, so that what is
found is what will be checked. docs/FORMULAS.md lists the space for readers.
"""

import re
from collections.abc import Callable, Iterable, Iterator, Sequence
from functools import cache, lru_cache

from msgspec import Struct

from lean_tumbler.core.formulas import joins, notation
from lean_tumbler.core.formulas.evaluation import Inputs, value_of
from lean_tumbler.core.formulas.steps import Formula
from lean_tumbler.core.records import Hidden, MaskedRecord
from lean_tumbler.errors import FormulaError, InputDoesNotFit

USUAL_DIGESTS = ("md5", "sha1", "sha256", "sha512", "sha224", "sha384")
DIGEST_ORDER = (
    "md5", "sha1", "sha256", "sha512", "sha224", "sha384", "md4", "ripemd160", "sha3-256",
    "sha3-512", "blake2b", "sha3-224", "sha3-384", "sha512-224", "sha512-256", "blake2s",
)  # fmt: skip
WRITING_ORDER = ("hex", "", "hex-upper", "base64", "base64-unpadded")  # "": raw bytes
ENCODING_ORDER = ("utf-8", "latin-1", "windows-1252", "utf-16le")
# One, two and five of each power of ten; RFC 8018 section 4.2 and SP 800-132 say 1,000, the
# vectors of RFC 6070 and the least of RFC 7677 are 4,096, OWASP's guidance says the last four.
PBKDF2_ROUNDS = (1000, 1, 2, 5, 10, 20, 50, 100, 200, 500, 2000, 4096, 5000, 10_000)
PBKDF2_MANY_ROUNDS = (
    20_000, 50_000, 100_000, 200_000, 500_000, 1_000_000, 210_000, 220_000, 600_000, 1_400_000,
)  # fmt: skip
SHORTEST_LOOP_COUNT = 100
SHORT_LOOP_COUNT = 1_001
LOOP_COUNT = 10_000  # every count up to here
LONG_LOOP_COUNT = 100_000

_TEXT_STEPS = (
    "", "lower", "trim", "upper", "escape-html", "escape-quotes", "nfc", "nfd", "reverse",
    "double-utf-8",
)  # fmt: skip
_CUTS = (8, 10, 12, 14, 15, 16, 20, 32, 6, 7, 9, 11, 13)
_SALT_FILTERS = ("", ":trim", ":unhex", ":hex", ":lower", ":upper", ":unbase64", ":hex-upper")
_LOGIN_FILTERS = ("", ":lower", ":trim", ":upper")
_NAMES_ROUNDS = re.compile(r"(^|_)(rounds?|iter(ation)?s?|costs?|count|number\d+)(_|$)")
_LARGEST_NUMBER = 10_000_000  # rounds; a larger one would be a date or a key


class Piece(MaskedRecord, Struct, frozen=True):
    """What flows so far: the steps that lead to it, and its value for each known account."""

    steps: tuple[str, ...]
    values: Hidden[tuple[bytes, ...]]


class Form(MaskedRecord, Struct, frozen=True):
    """What is joined to what flows: the steps, and what comes before and after for each account."""

    steps: tuple[str, ...]
    before: Hidden[tuple[bytes, ...]]
    after: Hidden[tuple[bytes, ...]]


class Constants(Struct, frozen=True):
    """Texts that may go into a formula."""

    literals: tuple[str, ...] = ()  # site-wide constants that somebody knows of
    # of the table and what is around it, which code likes to use as such
    names: tuple[str, ...] = ()


class Space(Struct):
    """The pieces and forms for some known accounts; those with equal values stand once."""

    # passwords as text steps and encodings make them; the first of them without steps
    starts: list[Piece]
    # the same before utf-16le, for joins that are encoded with the password
    wide_starts: list[Piece]
    # one salt, login or constant as it is, before or behind. All begin with the empty one.
    plain: list[Form]
    core: list[Form]  # the commonest joins, with filters
    forms: list[Form]  # all joins
    wide_forms: list[Form]  # the core joins in utf-16le
    # one salt, login, constant or other column, with separators that people like; made when they
    # are first asked for
    customary: Callable[[], list[Form]]
    # joins with a reversed text, a slice of the salt or a length; made when first asked for
    odd: Callable[[], list[Form]]
    operands: list[Piece]  # what can be a salt or a key of its own
    numbers: list[dict[str, int]]  # for each account, the parts that may be a number of rounds
    # steps -> other steps that mean the same for these accounts and might not for others
    twins: dict[tuple[str, ...], list[tuple[str, ...]]]


def build_space(accounts: Sequence[Inputs], constants: Constants) -> Space:
    """Prepare the space for some accounts.

    Args:
        accounts: what is known of each.
        constants: that may go in.
    """
    literals = constants.literals
    twins: dict[tuple[str, ...], list[tuple[str, ...]]] = {}
    operands = _operands(accounts, literals)
    single = [piece.steps[0] for piece in operands]
    core = _forms(accounts, joins.core_joins(single), "", twins)
    return Space(
        starts=_starts(accounts, twins),
        wide_starts=_pieces(accounts, [(*steps, "utf-16le") for steps in _prepared()], drop=1),
        plain=_forms(accounts, joins.plain_joins(single, literals), "", {}),
        core=core,
        forms=_forms(
            accounts, (*joins.core_joins(single), *joins.all_joins(single, literals)), "", twins
        ),
        wide_forms=_forms(accounts, joins.core_joins(single), "utf-16le", twins),
        customary=cache(
            lambda: _forms(
                accounts, joins.customary_joins(accounts, single, constants.names), "", twins
            )
        ),
        odd=cache(lambda: _forms(accounts, joins.odd_joins(accounts, single), "", twins)),
        operands=operands,
        numbers=_numbers(accounts),
        twins=twins,
    )


def _numbers(accounts: Sequence[Inputs]) -> list[dict[str, int]]:
    """Give the parts of each account that may be a number of rounds: alike for some, or so named.

    A row's number in its table is no such thing.
    """
    numbers: list[dict[str, int]] = []
    for inputs in accounts:
        texts = {name: raw.decode("utf-8", "replace") for name, raw in inputs.parts.items()}
        numbers.append({
            name: int(text)
            for name, text in texts.items()
            if text.isascii() and text.isdigit() and 2 <= int(text[:9]) <= _LARGEST_NUMBER
        })  # fmt: skip
    seen = {name: [each.get(name) for each in numbers] for each in numbers for name in each}
    kept = {
        name
        for name, values in seen.items()
        if _NAMES_ROUNDS.search(name) or len(set(values)) < len(values)
    }
    return [{name: n for name, n in each.items() if name in kept} for each in numbers]


@lru_cache(maxsize=8192)  # some four thousand, which all accounts and searches share
def _parsed(steps: tuple[str, ...]) -> Formula | None:
    """Read steps as a formula; None where they are none."""
    try:
        return notation.parse(", ".join((*steps, "hex")))
    except FormulaError:
        return None


def _value(steps: tuple[str, ...], inputs: Inputs) -> bytes | None:
    """Compute steps by the notation's own evaluation; None where they cannot be."""
    formula = _parsed(steps)
    try:
        return None if formula is None else bytes.fromhex(str(value_of(formula, inputs)))
    except (InputDoesNotFit, FormulaError):
        return None


def _pieces(
    accounts: Sequence[Inputs], all_steps: Iterable[tuple[str, ...]], *, drop: int = 0
) -> list[Piece]:
    """Compute pieces; of equal ones the first is kept, without its last `drop` steps."""
    found: dict[tuple[bytes, ...], Piece] = {}
    for steps in all_steps:
        values = tuple(_value(steps, inputs) for inputs in accounts)
        known = tuple(value for value in values if value is not None)
        if len(known) == len(values) and known not in found:
            found[known] = Piece(steps[: len(steps) - drop], known)
    return list(found.values())


def _prepared() -> Iterator[tuple[str, ...]]:
    """Give the text steps: none, each alone, cuts, and the commonest pairs."""
    for step in _TEXT_STEPS:
        yield (step,) if step else ()
    for length in _CUTS:
        yield (f"first {length}",)
    yield from (("trim", "lower"), ("trim", "upper"), ("trim", "escape-html"))
    for length in _CUTS[:6]:
        yield ("lower", f"first {length}")
        yield ("upper", f"first {length}")


def _starts(
    accounts: Sequence[Inputs], twins: dict[tuple[str, ...], list[tuple[str, ...]]]
) -> list[Piece]:
    starts = _pieces(
        accounts, [(*steps, encoding) for steps in _prepared() for encoding in ENCODING_ORDER]
    )
    for piece in starts:  # an ASCII password reads alike in most encodings
        for encoding in ENCODING_ORDER[ENCODING_ORDER.index(piece.steps[-1]) + 1 :]:
            other = (*piece.steps[:-1], encoding)
            if tuple(_value(other, inputs) for inputs in accounts) == piece.values:
                twins.setdefault(piece.steps, []).append(other)
    return starts


def _operands(accounts: Sequence[Inputs], literals: Sequence[str]) -> list[Piece]:
    """Give what is joined alone: salt and login with filters, and constants."""
    names: list[str] = []
    if all(inputs.salt is not None for inputs in accounts):
        names += [f"salt{name}" for name in _SALT_FILTERS]
    if all(inputs.login for inputs in accounts):
        names += [f"login{name}" for name in _LOGIN_FILTERS]
    names += [joins.literal(text) for text in literals]
    found: dict[tuple[str, tuple[bytes, ...]], Piece] = {}
    for name in names:
        values = operand_values(name, accounts)
        if values is not None and all(values):  # equal salts and logins both stay: they are twins
            found.setdefault((name.partition(":")[0], values), Piece((name,), values))
    return list(found.values())


class _Joined:
    """Gives the bytes that a row of operands makes for each account; each operand once."""

    def __init__(self, accounts: Sequence[Inputs], encoding: str) -> None:
        self._accounts = accounts
        self._encoding = encoding
        self._values: dict[str, tuple[bytes, ...] | None] = {}

    def __call__(self, names: Sequence[str]) -> tuple[bytes, ...] | None:
        """Join operands; None where one of them has no value for an account."""
        parts = [b""] * len(self._accounts)
        for name in names:
            if name not in self._values:
                self._values[name] = operand_values(name, self._accounts, self._encoding)
            found = self._values[name]
            if found is None:
                return None
            parts = [part + value for part, value in zip(parts, found, strict=True)]
        return tuple(parts)


def operand_values(
    name: str, accounts: Sequence[Inputs], encoding: str = ""
) -> tuple[bytes, ...] | None:
    """Compute an operand's bytes; text joined to bytes goes in as UTF-8."""
    for steps in ((f"take {name}", encoding or "utf-8"), (f"take {name}",)):
        values = [_value(steps, inputs) for inputs in accounts]
        known = tuple(value for value in values if value is not None)
        if len(known) == len(values):
            return known
        if encoding:
            break
    return None


def _forms(
    accounts: Sequence[Inputs],
    sequences: Iterable[tuple[str, ...]],
    encoding: str,
    twins: dict[tuple[str, ...], list[tuple[str, ...]]],
) -> list[Form]:
    """Turn sequences into forms; of equal ones the first is kept, the others are its twins."""
    joined = _Joined(accounts, encoding)
    found: dict[tuple[tuple[bytes, ...], tuple[bytes, ...]], Form] = {}
    for sequence in sequences:
        place = sequence.index("P")
        before, after = joined(sequence[:place]), joined(sequence[place + 1 :])
        if before is None or after is None:
            continue
        steps = _join_steps(sequence[:place], sequence[place + 1 :])
        first = found.setdefault((before, after), Form(steps, before, after)).steps
        if _sources(steps) != _sources(first) and steps not in twins.get(first, []):
            twins.setdefault(first, []).append(steps)
    return list(found.values())


def _sources(steps: Sequence[str]) -> frozenset[str]:
    """Name the inputs that join steps take; a filter without effect is not worth a mention."""
    return frozenset(
        name for step in steps for name in ("salt", "login", "password", '"') if name in step
    )


def _join_steps(before: Sequence[str], after: Sequence[str]) -> tuple[str, ...]:
    if len(before) == 1 and list(before) == list(after):
        return (f"surround {before[0]}",)
    return (
        *(f"prepend {name}" for name in reversed(before)),
        *(f"append {name}" for name in after),
    )
