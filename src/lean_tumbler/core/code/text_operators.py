"""Operators on texts: encodings, cuts, patterns, and lists that are put together."""

import re
from collections.abc import Mapping
from types import MappingProxyType

from lean_tumbler.core.code.sites import (
    Operator,
    Site,
    each_option,
    joined,
    number,
    step,
    text,
)
from lean_tumbler.core.code.terms import (
    NOTHING,
    Constant,
    Fields,
    Term,
    TermStep,
    gap,
)


def _written(site: Site, raw: Term, of: Term) -> Term:
    """Give bytes as they are where a flag says so, else in hexadecimal."""
    is_raw = isinstance(raw, Constant) and bool(raw.value)
    return of if is_raw else step(site, "hex", of)


def encoded(site: Site, of: Term, name: Term) -> Term:
    """Write bytes as text by the name of an encoding."""
    known = {
        "hex": "hex", "base64": "base64", "base64url": "base64url-unpadded", "binary": "as-latin-1",
        "latin1": "as-latin-1", "utf8": "as-text", "utf-8": "as-text", "ascii": "as-text",
    }  # fmt: skip
    if name == NOTHING:
        return of
    found = known.get((text(name) or "").lower())
    if found is None:
        return gap("an encoding that is not followed", site.place, (of,))
    return step(site, found, of)


def bytes_of(site: Site, of: Term, name: Term = NOTHING) -> Term:
    """Give a text's bytes by the name of an encoding; UTF-8 where none is named."""
    folded = (text(name) or "utf-8").lower().replace("_", "-").replace("charset.", "")
    known = {
        "utf-8": "utf-8", "utf8": "utf-8", "latin1": "latin-1", "latin-1": "latin-1",
        "iso-8859-1": "latin-1", "windows-1252": "windows-1252", "cp1252": "windows-1252",
        "utf-16le": "utf-16le", "utf16le": "utf-16le", "ucs-2le": "utf-16le", "ascii": "utf-8",
        "us-ascii": "utf-8", "binary": "latin-1", "ucs2": "utf-16le",
    }  # fmt: skip
    if folded in {"hex", "base64"}:
        return step(site, f"un{folded}", of)
    if folded not in known:
        return gap("an encoding that is not followed", site.place, (of,))
    return each_option(of, lambda each: _encoded_text(site, each, known[folded]))


def _encoded_text(site: Site, of: Term, encoding: str) -> Term:
    if encoding == "utf-8":
        return of  # what reaches a digest is UTF-8 by itself
    return TermStep(encoding, (of,), site.place)


def _slice(site: Site, of: Term, start: Term = NOTHING, length: Term = NOTHING) -> Term:
    """Cut by a place and a length, from the end where the place is negative."""
    first = 0 if start == NOTHING else number(start)
    many = number(length) if length != NOTHING else 0
    if first is None or many is None or first < 0 or many < 0:
        return gap("a cut whose places are not followed", site.place, (of,))
    return step(site, "slice", of, numbers=(first, first + many if many else 0))


def _between(site: Site, of: Term, start: Term = NOTHING, end: Term = NOTHING) -> Term:
    """Cut from a place up to another."""
    first = 0 if start == NOTHING else number(start)
    last = 0 if end == NOTHING else number(end)
    if first == 0 and last == 0:
        return of
    if first is None or last is None or first < 0 or last < 0:
        return gap("a cut whose places are not followed", site.place, (of,))
    return step(site, "slice", of, numbers=(first, last))


def _repeated(site: Site, of: Term, times: Term) -> Term:
    count = number(times)
    if count is None or not 0 <= count <= 16:
        return gap("a repetition that is not followed", site.place, (of,))
    return joined(site, *[of] * count)


def _mapped(site: Site, over: Term, routine: Term) -> Term:
    """Apply a function to each part of what is mapped."""
    if isinstance(over, Fields) and over.is_list and len(over.pairs) <= 32:
        return Fields(
            tuple((key, site.apply(routine, value)) for key, value in over.pairs), is_list=True
        )
    each = site.apply(routine, TermStep("element", (over,), site.place))
    return TermStep("mapped", (each, over), site.place)


def _concatenated(site: Site, of: Term, separator: Term = NOTHING) -> Term:
    """Join what a list holds."""
    between = separator if separator != NOTHING else Constant("")
    if isinstance(of, TermStep) and of.name == "mapped":
        each, over = of.of
        if isinstance(each, TermStep) and each.name == "hex-byte":
            return step(site, "hex", over)
    if not isinstance(of, Fields):
        return (
            of
            if isinstance(of, TermStep)
            else gap("a list that is not followed", site.place, (of,))
        )
    found: list[Term] = []
    for _, value in of.pairs:
        found.extend([between, value] if found else [value])
    return joined(site, *found)


def _formatted(site: Site, pattern: Term, *given: Term) -> Term:
    """Put values into a pattern with percent signs."""
    said = text(pattern)
    if said is None:
        return gap("a pattern that is not followed", site.place, given)
    values = list(given)
    if len(values) == 1 and isinstance(values[0], Fields) and values[0].is_list:
        values = [value for _, value in values[0].pairs]
    found: list[Term] = []
    for piece in _PIECES.split(said):
        if not piece.startswith("%"):
            found.append(Constant(piece, site.place))
        elif piece == "%%":
            found.append(Constant("%", site.place))
        else:
            value = values.pop(0) if values else NOTHING
            found.append(_one(site, piece, value))
    return joined(site, *found)


def _one(site: Site, piece: str, value: Term) -> Term:
    if piece[-1] in "xX":
        is_byte = isinstance(value, TermStep) and value.name == "element"
        name = "hex-byte" if is_byte else "hex"
        made = step(site, name, value)
        return step(site, "upper", made) if piece[-1] == "X" else made
    if piece in {"%s", "%v", "%d", "%S", "%i", "%1$s"}:
        return value
    return gap("a pattern that is not followed", site.place, (value,))


def _packed(site: Site, pattern: Term, *given: Term) -> Term:
    """Read what `pack` makes: hexadecimal text as bytes."""
    if (text(pattern) or "") in {"H*", "H32", "H40", "H64", "H128"} and given:
        return step(site, "unhex", given[0])
    return gap("a packing that is not followed", site.place, given)


def _unpacked(site: Site, of: Term, pattern: Term) -> Term:
    if text(pattern) == "H*":
        return Fields((("0", step(site, "hex", of)),), is_list=True)
    return gap("an unpacking that is not followed", site.place, (of,))


_PIECES = re.compile(r"(%%|%(?:\d+\$)?[-+ 0#]*\d*(?:\.\d+)?[a-zA-Z])")


TEXT_OPERATORS: Mapping[str, Operator] = MappingProxyType(
    {
        "written": _written,
        "encoded": encoded,
        "bytes_of": bytes_of,
        "cut": _slice,
        "between": _between,
        "repeated": _repeated,
        "mapped": _mapped,
        "concatenated": _concatenated,
        "formatted": _formatted,
        "packed": _packed,
        "unpacked": _unpacked,
    }
)
