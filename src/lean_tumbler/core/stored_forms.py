"""The forms that a guarded column admits: current, layered and locked values, and nothing else.

Written twice: as one regular expression, for servers that have them, and as an expression of
SQLite, which has none. Both admit what this tool writes, and what it would leave as it is; nothing
passes that it does not read. Other layouts of the same schemes do not pass, although `audit` reads
them.
"""

import re
from collections.abc import Iterator, Mapping, Sequence
from types import MappingProxyType

from msgspec import Struct

from lean_tumbler.core.grades import Floor
from lean_tumbler.core.limits import Limits
from lean_tumbler.core.policy import StoragePolicy
from lean_tumbler.core.schemes import keyed as keyed_values
from lean_tumbler.core.schemes.base import Parameters
from lean_tumbler.core.schemes.catalogue import DERIVATIONS
from lean_tumbler.core.schemes.derivation import FixedForm, OnTop, highest_of
from lean_tumbler.core.schemes.keyed import (
    CHECK_CHARACTERS,
    LEAST_CHARACTERS,
    NONCE_CHARACTERS,
    Bound,
)
from lean_tumbler.core.schemes.lock_markers import ALPHABET, MARKERS, RANDOM_CHARACTERS, START

_BASE64 = "[A-Za-z0-9+/]"
# Base64 without padding has no length that leaves a rest of one; a salt has 8 bytes at least.
# Nothing with a count is repeated here as a whole: some servers write that out, and give up.
_SALT = f"{_BASE64}{{8}}({_BASE64}{{4}})*({_BASE64}{{3}}|{_BASE64}{{4}}|{_BASE64}{{6}})"
_SALT_CHARACTERS = (11, 86)
# Bytes of digests: what this tool writes, and what others choose (RFC 9106 section 4 among them).
_DIGEST_BYTES = (16, 24, 32, 40, 48, 56, 64)
# docs/FORMATS.md; the order of inputs is the reader's alone.
_ORIGIN = "([0-9a-f]{16}([+][0-9a-f]{16})*|[a-z0-9-]{1,32})"
_INPUT = f"[A-Za-z_][A-Za-z0-9_-]{{0,31}}=({_BASE64}{{4}})*({_BASE64}{{2,3}})?"
_HEAD = f"[$]over[$]from={_ORIGIN}(,{_INPUT})*"


_PHC: Mapping[str, OnTop] = MappingProxyType(
    {name: found.on_top for name, found in DERIVATIONS.items() if found.on_top is not None}
)
_FIXED: Mapping[str, FixedForm] = MappingProxyType(
    {name: found.fixed_form for name, found in DERIVATIONS.items() if found.fixed_form is not None}
)


def between(lowest: int, highest: int) -> str:
    """Write a regular expression for the decimal numbers of a range, without leading zeros."""
    parts = []
    for digits in range(len(str(lowest)), len(str(highest)) + 1):
        first = max(lowest, 10 ** (digits - 1)) if digits > 1 else lowest
        last = min(highest, 10**digits - 1)
        parts.append(_of_one_length(str(first), str(last)))
    return f"({'|'.join(parts)})"


def _of_one_length(first: str, last: str) -> str:
    """Write the numbers from one to another of as many digits."""
    rest = len(first) - 1
    any_rest = f"[0-9]{{{rest}}}" if rest else ""
    if first[0] == last[0]:
        return first[0] + _of_one_length(first[1:], last[1:]) if rest else first[0]
    low, high = int(first[0]), int(last[0])
    parts = []
    if first[1:] != "0" * rest:
        parts.append(first[0] + _of_one_length(first[1:], "9" * rest))
        low += 1
    if last[1:] != "9" * rest:
        parts.append(last[0] + _of_one_length("0" * rest, last[1:]))
        high -= 1
    if low <= high:
        parts.append(f"[{low}-{high}]{any_rest}")
    return f"({'|'.join(parts)})"


def _ranges(scheme: str, costs: Parameters, limits: Limits) -> Mapping[str, tuple[int, int]]:
    """Give what each number of a scheme may be: from the floor to what is read and run."""
    found = {}
    derivation = DERIVATIONS[scheme]
    for entry in derivation.parameters:
        limit = derivation.limits.get(entry.name)
        bound = getattr(limits, limit) if limit else entry.highest
        lowest = costs.get(entry.name, entry.lowest)
        found[entry.name] = lowest, max(lowest, min(bound, highest_of(entry, costs)))
    return found


def _alternatives(floor: Floor) -> Iterator[tuple[str, Parameters]]:
    for scheme in (*_PHC, *_FIXED):
        for costs in floor.alternatives.get(scheme, ()):
            yield scheme, costs


def _escaped(text: str) -> str:
    """Write a text for a regular expression without backslashes, which servers read differently."""
    return "".join(f"[{each}]" if each in "$*" else each for each in text)


def _characters(digest_bytes: int) -> int:
    return -(-4 * digest_bytes // 3)


def _phc_pattern(scheme: str, alternatives: Sequence[Parameters], limits: Limits) -> str:
    """Write one scheme: its numbers in any of the ways that the floor allows, and what follows."""
    form = _PHC[scheme]
    numbers = [
        "".join(f"{_escaped(before)}{between(*ranges[name])}"
                for before, name in form.numbers if name)
        for ranges in (_ranges(scheme, costs, limits) for costs in alternatives)
    ]  # fmt: skip
    length = next((before for before, name in form.numbers if not name), "")
    digests = [f"{_BASE64}{{{_characters(size)}}}" for size in _DIGEST_BYTES]
    if not length:
        ends = f"[$]{_SALT}[$]({'|'.join(digests)})"
    else:
        alike = [
            f"({_escaped(length)}{size})?[$]{_SALT}[$]{digest}"
            for size, digest in zip(_DIGEST_BYTES, digests, strict=True)
        ]
        ends = f"({'|'.join(alike)})"
    return f"{_escaped(form.start)}({'|'.join(numbers)}){ends}"


def pattern(policy: StoragePolicy) -> str:
    """Give the regular expression, from start to end of a value.

    It takes character classes, groups and counts alone: PostgreSQL, MariaDB, MySQL and Python
    read it alike, but that a line end may follow in some of them.

    Args:
        policy: the least that is current; the most that a value may ask for, as more would be
            refused at login; and the keys that stand apart.
    """
    floor, limits, keyed = policy.floor, policy.limits, KeyedForms.of(policy)
    inner = [_phc_pattern(scheme, floor.alternatives[scheme], limits)
             for scheme in _PHC if floor.alternatives.get(scheme)]  # fmt: skip
    wholes = [_escaped(marker) for marker in MARKERS]
    wholes.append(f"{_escaped(START)}[{ALPHABET}]{{{RANDOM_CHARACTERS}}}")
    if keyed.names:
        wholes.append(keyed.pattern)
    if keyed.alone:
        return f"^({'|'.join(wholes)})$"
    if inner:
        wholes.append(f"({_HEAD})?({'|'.join(inner)})")
    for form, lowest, highest in _fixed(floor, limits):
        cost = "|".join(f"{number:02}" for number in range(lowest, highest + 1))
        ends = f"({cost})[$]{form.alphabet}{{{form.characters}}}"
        wholes.append(form.start.replace("$", "[$]") + ends)
    return f"^({'|'.join(wholes)})$"


def _fixed(floor: Floor, limits: Limits) -> Iterator[tuple[FixedForm, int, int]]:
    """Give the forms of one length, with the lowest and the highest cost of each."""
    for scheme, form in _FIXED.items():
        for costs in floor.alternatives.get(scheme, ()):
            yield form, *_ranges(scheme, costs, limits)[form.cost]


def sqlite_condition(value: str, policy: StoragePolicy) -> str:
    """Give the same for SQLite, which has no regular expressions: shapes, numbers and lengths.

    Args:
        value: the expression for the text.
        policy: as `pattern` takes it.
    """
    floor, limits, keyed = policy.floor, policy.limits, KeyedForms.of(policy)
    wholes = [
        f"v IN ({', '.join(_quoted(marker) for marker in MARKERS)})",
        (
            f"v GLOB '{START}*' AND length(v) = {len(START) + RANDOM_CHARACTERS}"
            f" AND {_only(f'substr(v, {len(START) + 1})', f'[{ALPHABET}]')}"
        ),
    ]
    wholes += keyed.sqlite
    for scheme, form in () if keyed.alone else _PHC.items():
        if alternatives := floor.alternatives.get(scheme):
            ranges = [_ranges(scheme, costs, limits) for costs in alternatives]
            lengths = (True, False) if any(not name for _, name in form.numbers) else (False,)
            wholes += [_sqlite_phc(form, ranges, says_length=says) for says in lengths]
    for fixed, lowest, highest in () if keyed.alone else _fixed(floor, limits):
        before = len(re.sub(r"\[[^]]*\]", ".", fixed.start))  # a set stands for one character
        wholes.append(
            f"v GLOB '{fixed.start}[0-9][0-9]$*' AND length(v) = {before + 3 + fixed.characters}"
            f" AND {_only(f'substr(v, {before + 4})', fixed.alphabet)}"
            f" AND CAST(substr(v, {before + 1}, 2) AS INTEGER) BETWEEN {lowest} AND {highest}"
        )
    either = "\n  OR ".join(f"({whole})" for whole in wholes)
    # SQLite's text functions end at a NUL, and so would what is looked at.
    whole_text = "length(CAST(v AS BLOB)) = length(v)"
    return f"EXISTS (SELECT 1 FROM (SELECT {value} AS v) WHERE {whole_text} AND ({either}))"  # noqa: S608 - our own


def _sqlite_phc(
    form: OnTop, ranges: Sequence[Mapping[str, tuple[int, int]]], *, says_length: bool
) -> str:
    """Take the numbers of a PHC string, alone or behind the layered head, and compare them.

    The text's beginning is put together again of the numbers, so that nothing else stands in it.
    """
    named = [(before, name or "bytes") for before, name in form.numbers if name or says_length]
    numbers = ", ".join(
        f"CAST(substr(s, instr(s, '{before}') + {len(before)}) AS INTEGER) AS {name}"
        for before, name in named
    )
    head = " || ".join([f"'{form.start}'", *(f"'{before}' || {name}" for before, name in named)])
    enough = " OR ".join(
        " AND ".join(f"{name} BETWEEN {low} AND {high}" for name, (low, high) in each.items())
        for each in ranges
    )
    sizes = ", ".join(str(_characters(size)) for size in _DIGEST_BYTES)
    length = " AND length(digest) = (bytes * 4 + 2) / 3" if says_length else ""
    least, most = _SALT_CHARACTERS
    over = f"substr(v, 7, instr(v, '{form.start}$') - 7)"
    inner = f"SELECT substr(v, instr(v, '{form.start}$')) AS s"
    fields = (
        f"length(salt) BETWEEN {least} AND {most} AND length(salt) % 4 <> 1"
        f" AND {_only('salt', _BASE64)} AND length(digest) IN ({sizes})"
        f" AND {_only('digest', _BASE64)}{length}"
    )
    return (
        f"(v GLOB '{form.start}$*' OR v GLOB '$over$from=[0-9a-z]*{form.start}$*'"  # noqa: S608 - our own names and numbers
        f"\n    AND {_only(over, '[A-Za-z0-9_+/,=-]')} AND {_sqlite_head(over)})"
        "\n    AND EXISTS (SELECT 1 FROM (SELECT *, substr(r, 1, instr(r, '$') - 1) AS salt,"
        " substr(r, instr(r, '$') + 1) AS digest"
        "\n      FROM (SELECT *, substr(s, length(h) + 1) AS r"
        f"\n      FROM (SELECT *, {head} || '$' AS h FROM (SELECT s, {numbers} FROM ({inner})))))"
        f"\n      WHERE substr(s, 1, length(h)) = h AND ({enough})\n      AND {fields})"
    )


def _sqlite_head(head: str) -> str:
    """Look at each part of a layered head; its letters have been looked at before."""
    name, coded = "substr(value, 1, instr(value, '=') - 1)", "substr(value, instr(value, '=') + 1)"
    is_input = (
        "value GLOB '[A-Za-z_]*=*' AND length(value) - length(replace(value, '=', '')) = 1"
        f" AND length({name}) <= 32 AND {_only(name, '[A-Za-z0-9_-]')}"
        f" AND {_only(coded, _BASE64)} AND length({coded}) % 4 <> 1"
    )
    return (
        f"""NOT EXISTS (SELECT 1 FROM json_each('["' || replace({head}, ',', '","') || '"]')"""  # noqa: S608 - our own
        " WHERE NOT CASE key WHEN 0 THEN value GLOB 'from=[0-9a-z]*'"
        f" AND {_only('substr(value, 6)', '[0-9a-z+-]')} ELSE {is_input} END)"
    )


def _only(text: str, characters: str) -> str:
    return f"{text} NOT GLOB '*[^{characters[1:-1]}]*'"


def _quoted(text: str) -> str:
    return "'" + text.replace("'", "''") + "'"


def admitted(policy: StoragePolicy) -> Sequence[str]:
    """Say in words what is admitted."""
    floor, keyed = policy.floor, KeyedForms.of(policy)
    schemes = dict.fromkeys(scheme for scheme, _ in _alternatives(floor))
    named = ", ".join(f"“{name}”" for name in keyed.names)
    bound = f", bound to {keyed.bounds[0]}s" if len(keyed.bounds) == 1 else ""
    found = [f"keyed: under {named}{bound}"] if named else []
    if not keyed.alone:
        found += [
            f"current: {', '.join(schemes)} at the floor ({floor.source}) or above",
            f"layered, with {', '.join(scheme for scheme in schemes if scheme in _PHC)} on top",
        ]
    return (*found, f"locked: {' '.join(MARKERS)}, and the markers of `lock-dormant`")


class KeyedForms(Struct, frozen=True):
    """The keyed values that are admitted; what is sealed nobody can tell without the key."""

    names: tuple[str, ...]  # of the keys
    bounds: tuple[str, ...]  # what a value may be bound to
    alone: bool  # whether nothing else is admitted but markers

    @classmethod
    def of(cls, policy: StoragePolicy) -> "KeyedForms":
        """Give those of a policy: under each key of [keys] that may go over stored values."""
        target = policy.target
        may_be = [name for name, source in policy.keys.items() if source.may_seal]
        is_bound = target.keyed_by and target.bound_to is Bound.ACCOUNT
        return cls(
            names=tuple(may_be) if target.realm else (),
            bounds=(str(Bound.ACCOUNT),) if is_bound else tuple(map(str, Bound)),
            alone=bool(target.keyed_by),
        )

    @property
    def pattern(self) -> str:
        """Their regular expression."""
        names = "|".join(name.replace(".", "[.]") for name in self.names)
        sealed = f"{_BASE64}{{{LEAST_CHARACTERS}}}{_BASE64}*"
        return (
            f"{_escaped(keyed_values.TAG)}by=({names}),check={_BASE64}{{{CHECK_CHARACTERS}}}"
            f",to=({'|'.join(self.bounds)})[$]{_BASE64}{{{NONCE_CHARACTERS}}}[$]{sealed}"
        )

    @property
    def sqlite(self) -> list[str]:
        """The same as conditions of SQLite: places, lengths and letters."""
        return [self._sqlite(name, bound) for name in self.names for bound in self.bounds]

    def _sqlite(self, name: str, bound: str) -> str:
        start, middle = f"{keyed_values.TAG}by={name},check=", f",to={bound}$"
        after = len(start) + CHECK_CHARACTERS
        nonce = after + len(middle)
        sealed = nonce + NONCE_CHARACTERS + 1
        parts = (
            f"substr(v, 1, {len(start)}) = '{start}'",
            _only(f"substr(v, {len(start) + 1}, {CHECK_CHARACTERS})", _BASE64),
            f"substr(v, {after + 1}, {len(middle)}) = '{middle}'",
            _only(f"substr(v, {nonce + 1}, {NONCE_CHARACTERS})", _BASE64),
            f"substr(v, {sealed}, 1) = '$'",
            _only(f"substr(v, {sealed + 1})", _BASE64),
            f"length(v) >= {sealed + LEAST_CHARACTERS}",
        )
        return " AND ".join(parts)
