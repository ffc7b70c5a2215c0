"""Ways that may fit a text: by a formula whose output it can be, or by a bare shape."""

from collections.abc import Iterator, Mapping, Sequence

from lean_tumbler.core.formulas.named import NamedFormula, named_by_itself
from lean_tumbler.core.formulas.steps import DIGESTS
from lean_tumbler.core.reading.readings import Reading
from lean_tumbler.core.reading.rows import Row
from lean_tumbler.core.reading.ways import (
    Certainty,
    CryptWay,
    FormulaWay,
    PasswordWay,
    Way,
)
from lean_tumbler.core.schemes.base import Kind, ParsedValue
from lean_tumbler.core.schemes.catalogue import BARE_CRYPT_SCHEMES, CRYPT_SCHEMES


def bare_schemes(text: str, *, only: str = "", name: str = "") -> Iterator[CryptWay]:
    """Give the bare schemes whose values have this shape, whatever the text looks like."""
    for scheme in BARE_CRYPT_SCHEMES:
        find = CRYPT_SCHEMES[scheme].setting_of
        setting = find(text) if find is not None and (not only or only == scheme) else None
        if setting is not None:
            yield CryptWay(
                name=name or scheme,
                certainty=Certainty.DECLARED if name else Certainty.POSSIBLE,
                scheme=scheme,
                setting=setting,
                canonical=text,
            )


def formula_way(
    name: str,
    certainty: Certainty,
    named: NamedFormula,
    printed: str,
    salt: bytes | None,
    row: Row,
    parts: Mapping[str, bytes],
) -> FormulaWay | None:
    """Give a formula's way where the text can be its result and its inputs are there."""
    canonical = named.output.canonical(printed)
    has_inputs = (
        (salt is not None or not named.takes_salt)
        and (bool(row.login) or not named.takes_login)
        and named.parts <= parts.keys()
        and all(parts[number].strip().isdigit() for number in named.numbers)
    )
    if canonical is None or not has_inputs:
        return None
    return FormulaWay(
        name=name,
        certainty=certainty,
        formula=named,
        canonical=canonical,
        salt=salt if named.takes_salt else None,
        login=row.login if named.takes_login else None,
        parts={part: parts[part] for part in sorted(named.parts)},
    )


def distinct(ways: Sequence[Way]) -> tuple[Way, ...]:
    """Drop ways that compute the same from the same, the surest first."""
    if len(ways) < 2:
        return tuple(ways)
    kept: dict[object, Way] = {}
    for way in sorted(ways, key=lambda way: way.certainty):
        inputs = (way.origin, way.canonical, way.salt) if not isinstance(way, PasswordWay) else way
        kept.setdefault(inputs, way)
    return tuple(kept.values())


def either_side(reading: Reading, row: Row) -> Iterator[FormulaWay]:
    """Give ways for a salted digest of which nobody says how the salt goes in: on either side."""
    printed, salt = digest_and_salt(reading.parsed, reading.text, row.salt)
    if not salt or reading.parsed.kind is not Kind.FAST:
        return
    for name in DIGESTS:
        for side in ("append", "prepend"):
            named = named_by_itself(f"{side} salt, {name}, hex")
            way = formula_way(name, Certainty.POSSIBLE, named, printed, salt, row, {})
            if way is not None:
                yield way


def digest_and_salt(parsed: ParsedValue, text: str, salt: bytes | None) -> tuple[str, bytes | None]:
    """Give what a formula must print, and its salt: one in the same text wins over a column."""
    own = parsed.salt if parsed.kind is Kind.FAST else None
    return parsed.formula_text(text), salt if own is None else own
