"""Ways that may fit a text: by a formula whose output it can be, or by a bare shape."""

from collections.abc import Iterator, Mapping, Sequence

from lean_tumbler.core.formulas.named import NamedFormula
from lean_tumbler.core.reading.rows import Row
from lean_tumbler.core.reading.ways import (
    Certainty,
    CryptWay,
    FormulaWay,
    PasswordWay,
    Way,
)
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
