"""Values that have no shape, grouped by what reading each of them gives.

Such a layout looks at the whole text, so each is parsed; but what is said of values that are read
alike is said once. Only where no cohort of a policy may tell them apart.
"""

import polars as pl

from lean_tumbler.core.schemes.base import ParsedValue
from lean_tumbler.core.schemes.catalogue import read_value

_FIRST_NUMBER = 1 << 62  # beyond all shapes


def reading_numbers(texts: pl.Series) -> pl.Series:
    """Number texts: those that are read alike have one number.

    Args:
        texts: stored values; null for one that has a shape.
    """
    numbers: dict[object, int] = {}
    found: list[int | None] = []
    for text in texts:
        if text is None:
            found.append(None)
            continue
        key = _key(read_value(text))
        found.append(_FIRST_NUMBER + numbers.setdefault(key, len(numbers)))
    return pl.Series(found, dtype=pl.UInt64)


def _key(parsed: ParsedValue) -> object:
    """Give all that a report says of a value, or goes by."""
    contents = parsed.contents
    return (
        parsed.scheme,
        parsed.layout,
        parsed.kind,
        parsed.says,
        parsed.wrappers,
        parsed.salted,
        None if contents.salt is None else len(contents.salt),
        parsed.digest_bits,
        len(contents.digest),
        contents.variant,
        contents.confidence,
        contents.also_possible,
        contents.obsolete,
        contents.origin,
        tuple(contents.parameters.items()),
        contents.password is None,
        contents.inner is None,
    )
