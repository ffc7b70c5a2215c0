"""Layouts of composite values: which field is the digest, and what the others are for."""

import re
from collections.abc import Iterator, Sequence

from msgspec import Struct

from lean_tumbler.core.drafting.classes import FIELD, digest_fields
from lean_tumbler.core.formulas.steps import DIGESTS
from lean_tumbler.core.reading.layouts import DIGEST, SALT, ValueLayout, parse_layout

_MANY = 5  # values that have a field in common, for it to be written into the layout
_VERSION = re.compile(r"v?[0-9]{1,2}", re.IGNORECASE)
_FEW = 20  # costs are of few kinds; salts are not
_LARGEST_COST = 10_000_000
_HEX_DIGITS = sorted({2 * digest.size_bytes for digest in DIGESTS.values()}, reverse=True)
_LONGEST_SALT = 64
_ANY_DIGEST = "[0-9A-Za-z+/=]+"


def _names_make(text: str) -> bool:
    """Tell a version or the name of a digest, which say how a value was made."""
    return _VERSION.fullmatch(text) is not None or text.lower() in DIGESTS


class _Column(Struct, frozen=True):
    """One field of all values of a class."""

    texts: tuple[str, ...]

    @property
    def is_constant(self) -> bool:
        """Whether it is the same in every value, and in so many that it is no salt."""
        is_same = len(set(self.texts)) == 1
        return is_same and (len(self.texts) >= _MANY or _names_make(self.texts[0]))

    @property
    def is_cost(self) -> bool:
        return len(set(self.texts)) <= _FEW and all(
            text.isdigit() and text.isascii() and 2 <= int(text[:9]) <= _LARGEST_COST
            and len(text) < 9 for text in self.texts
        )  # fmt: skip


def layouts_of(texts: Sequence[str]) -> Iterator[ValueLayout]:
    """Give the layouts that values of one class may have, the likeliest first.

    Args:
        texts: some of the class.
    """
    first = texts[0]
    signs = FIELD.split(first)
    if len(signs) < 3:
        yield from _without_signs(texts)
        return
    same = [text for text in texts if FIELD.split(text) == signs]
    fields = [FIELD.findall(text) for text in same]
    columns = [_Column(tuple(column)) for column in zip(*fields, strict=True)]
    for place, _ in digest_fields(first):
        if len(set(columns[place].texts)) > 1 or len(same) == 1:
            yield _layout(signs, columns, place)


def _layout(signs: Sequence[str], columns: Sequence[_Column], digest: int) -> ValueLayout:
    """Write a layout: a part for what varies, and for what may be a cost."""
    others = [
        number
        for number, column in enumerate(columns)
        if number != digest and not column.is_cost and not column.is_constant
    ]
    salt = max(others, key=lambda number: len(set(columns[number].texts)), default=-1)
    text = _escaped(signs[0])
    costs = 0
    for number, column in enumerate(columns):
        if number == digest:
            piece = f"{{{DIGEST}}}"
        elif number == salt:
            piece = f"{{{SALT}}}"
        elif column.is_cost:
            costs += 1
            piece = "{rounds:number}" if costs == 1 else f"{{number{costs}:number}}"
        elif column.is_constant:
            piece = _escaped(column.texts[0])
        else:
            piece = f"{{field{number + 1}}}"
        text += piece + _escaped(signs[number + 1])
    return parse_layout(text, digest_pattern=_ANY_DIGEST, digest_is_fixed=False)


def _without_signs(texts: Sequence[str]) -> Iterator[ValueLayout]:
    """Give the layouts of digest and salt that touch each other."""
    length = len(texts[0])
    for digits in _HEX_DIGITS:
        if not 0 < length - digits <= _LONGEST_SALT:
            continue
        pattern = f"[0-9a-fA-F]{{{digits}}}"
        for text in (f"{{{DIGEST}}}{{{SALT}}}", f"{{{SALT}}}{{{DIGEST}}}"):
            layout = parse_layout(text, digest_pattern=pattern, digest_is_fixed=True)
            if all(layout.read(each) for each in texts):
                yield layout


def without_unused(layout: ValueLayout, used: frozenset[str], texts: Sequence[str]) -> str:
    """Write a layout with the costs that no formula takes as what they are in every value.

    Args:
        layout: as `layouts_of` gave it.
        used: the parts that the formula takes.
        texts: values of the class.
    """
    found = [parts.others for text in texts if (parts := layout.read(text))]
    written = layout.text
    for name, encoding in layout.encodings.items():
        same = {parts[name] for parts in found} if encoding == "number" else set()
        if len(same) == 1 and name not in used:
            written = written.replace(f"{{{name}:number}}", same.pop().decode("ascii"))
    return written


def _escaped(text: str) -> str:
    return text.replace("{", "{{").replace("}", "}}")
