"""Searching bytes for stored values: what says so itself, what is named so, and what is known."""

from collections.abc import Callable, Iterator, Mapping

from msgspec.structs import replace

from lean_tumbler.core.reading.rows import text_of
from lean_tumbler.core.residue.finds import Encoding, Find, Recognition
from lean_tumbler.core.residue.known_values import KnownValues
from lean_tumbler.core.residue.leads import Lead, leads
from lean_tumbler.core.residue.packed import all_packed, from_base64, from_hex, from_wide
from lean_tumbler.core.residue.value_texts import (
    PossibleValue,
    end_of_signs,
    marked_at,
    named_after,
)
from lean_tumbler.core.schemes.catalogue import read_value

_TRIES = 32  # within signs that nothing separates; beyond them it is no text with values
_PHASES = 4  # steps of base64 that a word may begin in; of two for the others
_PACKED: Mapping[Lead, tuple[Encoding, Callable[[bytes, int], bytes]]] = {
    Lead.HEX: (Encoding.HEX, from_hex),
    Lead.BASE64: (Encoding.BASE64, from_base64),
    Lead.WIDE: (Encoding.UTF16, from_wide),
}


def finds_in(data: bytes, known: KnownValues) -> list[Find]:
    """Find the stored values in some bytes, each once, in the order of their places.

    Args:
        data: bytes of any kind.
        known: values to look for; without any, only what texts say of themselves is found.
    """
    found: dict[int, Find] = {}
    for find in (*_by_leads(data, known), *_known(data, known)):
        other = found.get(find.offset)
        if other is None or find.certainty is Recognition.EXACT:
            found[find.offset] = find
    return [found[offset] for offset in sorted(found)]


def _by_leads(data: bytes, known: KnownValues, *, packed: bool = True) -> Iterator[Find]:
    ends: dict[tuple[Lead, int], int] = {}
    signs_end = tries = 0
    for lead, start, end in leads(data):
        # What was decoded from one place holds all that begins behind it in the same step.
        step = lead, start % _PHASES if lead in _PACKED else 0
        if start < ends.get(step, 0):
            continue  # within what was read already
        if lead in _PACKED:
            encoding, decoded = _PACKED[lead]
            content = decoded(data, start) if packed else b""
            for find in _by_leads(content, known, packed=False):
                # A place in what was decoded is about as far into what it was decoded from.
                yield replace(find, offset=start + find.offset, encoding=encoding)
            ends[step] = start + len(content)
            continue
        if start >= signs_end:
            signs_end, tries = end_of_signs(data, start), 0
        tries += 1
        if tries > _TRIES:
            continue  # no value holds so many marks
        candidate = marked_at(data, start) if lead is Lead.MARK else named_after(data, start, end)
        if candidate is not None:
            ends[step] = candidate.start + len(candidate.text)
            certainty = Recognition.SAID if lead is Lead.MARK else Recognition.NAMED
            tries = 0
            yield _judged(candidate, certainty, known, known.at(data, candidate.start))


def _known(data: bytes, known: KnownValues) -> Iterator[Find]:
    """Look for known values that do not say themselves what they are."""
    if not known.has_unmarked:
        return
    yield from _known_in(data, known, 0, Encoding.PLAIN)
    for encoding, start, content in all_packed(data):
        yield from _known_in(content, known, start, encoding)


def _known_in(data: bytes, known: KnownValues, first: int, encoding: Encoding) -> Iterator[Find]:
    for start, length, mark in known.within(data):
        yield Find(
            offset=first + start,
            certainty=Recognition.EXACT,
            scheme=read_value(text_of(data[start : start + length])).scheme,
            encoding=encoding,
            fingerprint=mark,
        )


def _judged(
    candidate: PossibleValue, certainty: Recognition, known: KnownValues, exact: bytes | None
) -> Find:
    mark = known.mark(candidate.text.encode("utf-8"))
    if mark not in known.stores and exact is not None:
        mark = exact
    return Find(
        offset=candidate.start,
        certainty=Recognition.EXACT if mark in known.stores else certainty,
        scheme=candidate.scheme,
        encoding=candidate.encoding,
        fingerprint=mark,
    )
