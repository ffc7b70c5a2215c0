"""The forms that a guarded column admits: current, layered and locked values, and nothing else.

Written twice: as one regular expression, for servers that have them, and as an expression of
SQLite, which has none. Both admit what this tool writes; other layouts of the same schemes do not
pass, although `audit` reads them.
"""

from collections.abc import Iterator, Mapping, Sequence
from types import MappingProxyType

from lean_tumbler.core.grades import Floor
from lean_tumbler.core.schemes.base import OnTop, Parameters
from lean_tumbler.core.schemes.catalogue import DERIVATIONS
from lean_tumbler.core.schemes.lock_markers import ALPHABET, MARKERS, RANDOM_CHARACTERS, START

_BASE64 = "[A-Za-z0-9+/]"
_CRYPT64 = "[A-Za-z0-9./]"  # a dot after a bracket means something else in POSIX
_SALT = f"{_BASE64}{{11,86}}"
_HEAD = f"[$]over[$]from=[0-9a-z+-]+(,[A-Za-z_][A-Za-z0-9_-]*={_BASE64}*)*"  # docs/FORMATS.md
_BCRYPT_CHARACTERS = 53  # salt and digest, in the alphabet of crypt(3)
_DIGITS = 9


_PHC: Mapping[str, OnTop] = MappingProxyType(
    {name: found.on_top for name, found in DERIVATIONS.items() if found.on_top is not None}
)


def at_least(number: int) -> str:
    """Write a regular expression for the decimal numbers from one on, without leading zeros."""
    digits = str(number)
    parts = []
    for place, digit in enumerate(digits):
        if digit != "9":
            rest = len(digits) - place - 1
            tail = f"[0-9]{{{rest}}}" if rest else ""
            parts.append(f"{digits[:place]}[{int(digit) + 1}-9]{tail}")
    parts.append(digits)
    if len(digits) < _DIGITS:
        parts.append(f"[1-9][0-9]{{{len(digits)},{_DIGITS - 1}}}")
    return f"({'|'.join(parts)})"


def _alternatives(floor: Floor) -> Iterator[tuple[str, Parameters]]:
    for scheme in (*_PHC, "bcrypt"):
        for costs in floor.alternatives.get(scheme, ()):
            yield scheme, costs


def _escaped(text: str) -> str:
    """Write a text for a regular expression without backslashes, which servers read differently."""
    return "".join(f"[{each}]" if each in "$*" else each for each in text)


def _phc_pattern(form: OnTop, costs: Parameters) -> str:
    numbers = "".join(
        f"{_escaped(before)}{at_least(costs.get(name, 1))}" for before, name in form.numbers
    )
    return f"{_escaped(form.start)}{numbers}[$]{_SALT}[$]{_BASE64}{{{form.digest_characters}}}"


def pattern(floor: Floor) -> str:
    """Give the regular expression, from start to end of a value.

    It takes character classes, groups and counts alone: PostgreSQL, MariaDB, MySQL and Python
    read it alike.
    """
    inner = [_phc_pattern(_PHC[scheme], costs)
             for scheme, costs in _alternatives(floor) if scheme in _PHC]  # fmt: skip
    wholes = [_escaped(marker) for marker in MARKERS]
    wholes.append(f"{_escaped(START)}[{ALPHABET}]{{{RANDOM_CHARACTERS}}}")
    if inner:
        wholes.append(f"({_HEAD})?({'|'.join(inner)})")
    for scheme, costs in _alternatives(floor):
        if scheme == "bcrypt":
            cost = "|".join(f"{number:02}" for number in range(costs["cost_log2"], 32))
            wholes.append(f"[$]2[aby][$]({cost})[$]{_CRYPT64}{{{_BCRYPT_CHARACTERS}}}")
    return f"^({'|'.join(wholes)})$"


def sqlite_condition(value: str, floor: Floor) -> str:
    """Give the same for SQLite, which has no regular expressions: shapes, numbers and lengths.

    Args:
        value: the expression for the text.
        floor: the least that is current.
    """
    wholes = [
        f"v IN ({', '.join(_quoted(marker) for marker in MARKERS)})",
        (
            f"v GLOB '{START}*' AND length(v) = {len(START) + RANDOM_CHARACTERS}"
            f" AND {_only(f'substr(v, {len(START) + 1})', f'[{ALPHABET}]')}"
        ),
    ]
    for scheme, form in _PHC.items():
        if costs := floor.alternatives.get(scheme):
            wholes.append(_sqlite_phc(form, costs))
    wholes += [
        f"v GLOB '$2[aby]$[0-3][0-9]$*' AND length(v) = {7 + _BCRYPT_CHARACTERS}"
        f" AND {_only('substr(v, 8)', _CRYPT64)}"
        f" AND CAST(substr(v, 5, 2) AS INTEGER) BETWEEN {costs['cost_log2']} AND 31"
        for costs in floor.alternatives.get("bcrypt", ())
    ]
    either = "\n  OR ".join(wholes)
    return f"EXISTS (SELECT 1 FROM (SELECT {value} AS v) WHERE {either})"  # noqa: S608 - our own


def _sqlite_phc(form: OnTop, alternatives: Sequence[Parameters]) -> str:
    """Name the numbers of a PHC string, alone or behind the layered head, and compare them."""
    numbers = ", ".join(
        f"CAST(substr(s, instr(s, '{before}') + {len(before)}) AS INTEGER) AS {name}"
        for before, name in form.numbers
        if name
    )
    enough = " OR ".join(
        " AND ".join(f"{name} >= {costs.get(name, 1)}" for _, name in form.numbers if name)
        for costs in alternatives
    )
    glob = form.start + "".join(f"{before}[1-9]*" for before, _ in form.numbers) + "$*$*"
    dollars = glob.count("$")
    count, digest = "length(v) - length(replace(v, '$', ''))", form.digest_characters
    return (
        f"(v GLOB '{glob}' AND {count} = {dollars}"  # noqa: S608 - our own names and numbers
        f"\n    OR v GLOB '$over$from=*{glob}' AND {count} = {dollars + 2})"
        f"\n    AND {_only('v', '[A-Za-z0-9_+/,=$-]')}"
        f" AND substr(v, -{digest + 1}, 1) = '$' AND {_only(f'substr(v, -{digest})', _BASE64)}"
        f"\n    AND EXISTS (SELECT 1 FROM (SELECT {numbers}"
        f" FROM (SELECT substr(v, instr(v, '{form.start}$')) AS s))\n      WHERE {enough})"
    )


def _only(text: str, characters: str) -> str:
    return f"{text} NOT GLOB '*[^{characters[1:-1]}]*'"


def _quoted(text: str) -> str:
    return "'" + text.replace("'", "''") + "'"


def admitted(floor: Floor) -> Sequence[str]:
    """Say in words what is admitted."""
    schemes = dict.fromkeys(scheme for scheme, _ in _alternatives(floor))
    return (
        f"current: {', '.join(schemes)} at the floor ({floor.source}) or above",
        "layered, with one of these but bcrypt on top",
        f"locked: {' '.join(MARKERS)}, and the markers of `lock-dormant`",
    )
