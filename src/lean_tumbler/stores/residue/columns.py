"""Stored values of a column: one of each shape is read, and all of that shape are counted."""

from collections.abc import Iterator, Sequence

import polars as pl
from msgspec import Struct
from msgspec.structs import replace

from lean_tumbler.core.audit.shapes import with_shapes
from lean_tumbler.core.residue.finds import Encoding, Find, Recognition
from lean_tumbler.core.residue.known_values import KnownValues
from lean_tumbler.core.residue.searching import finds_in
from lean_tumbler.core.schemes.base import HASHED
from lean_tumbler.core.schemes.catalogue import TAGS, read_value
from lean_tumbler.stores.files.base import LINE

_SHORTEST = 8  # characters of a value that is looked into
_NOTHING = KnownValues()


class Alike(Struct, frozen=True):
    """Finds of a column that are told alike."""

    line: int  # the row of the first
    find: Find  # the first
    count: int = 1  # how many they are


class ColumnSearch:
    """Searches columns, frame by frame.

    Args:
        known: values to look for.
        keeps_marks: whether `held` is wanted; it takes a fingerprint of every value.

    Attributes:
        held: fingerprints of all values that were found.
    """

    def __init__(self, known: KnownValues, *, keeps_marks: bool) -> None:
        self._known, self._keeps_marks = known, keeps_marks
        self.held: set[bytes] = set()

    def values(self, frame: pl.DataFrame, column: str, *, is_named: bool) -> list[Alike]:
        """Find the values in a column of a frame, in the order of its rows.

        Args:
            frame: rows.
            column: which.
            is_named: whether its name says that it holds passwords: bare digests are then values.
        """
        rows, whole = self._shaped(frame, column, is_named=is_named)
        found = [*whole, *self._looked_into(rows, is_named=is_named)]
        return sorted(found, key=lambda alike: alike.line)

    def bare(self, frame: pl.DataFrame, column: str) -> list[Alike]:
        """Find the bare digests in a column that its name says holds passwords."""
        rows, whole = self._shaped(frame, column, is_named=True)
        one_by_one = (
            Alike(line, bare)
            for line, text in zip(rows[LINE], rows["text"], strict=True)
            if (bare := _bare_digest(text, self._known))
        )
        digests = (each for each in whole if each.find.certainty is not Recognition.SAID)
        return sorted([*digests, *self._keeping(one_by_one)], key=lambda alike: alike.line)

    def _shaped(
        self, frame: pl.DataFrame, column: str, *, is_named: bool
    ) -> tuple[pl.DataFrame, list[Alike]]:
        """Take the rows that are values as a whole, by their shapes; give what is left."""
        text = pl.col("text")
        rows = frame.select(LINE, pl.col(column).alias("text")).filter(
            text.str.len_bytes() >= _SHORTEST
        )
        may_be = pl.lit(value=True) if is_named else text.str.slice(0, 1).is_in(TAGS)
        shaped = with_shapes(rows.filter(may_be), column="text", shape="shape")
        left = [rows.filter(~may_be), shaped.filter(pl.col("shape").is_null()).drop("shape")]
        whole: list[Alike] = []
        groups = shaped.drop_nulls("shape").group_by("shape", maintain_order=True)
        for _, part in groups:
            find = _whole_find(part["text"][0], is_named=is_named)
            if find is None:
                left.append(part.drop("shape"))
            else:
                whole += self._told(find, part)
        return pl.concat(left), whole

    def _told(self, find: Find, part: pl.DataFrame) -> Iterator[Alike]:
        """Tell those of a shape apart of which different things are known."""
        known, lines = self._known, part[LINE]
        if not known and not self._keeps_marks:
            yield Alike(lines[0], find, part.height)
            return
        marks = [known.mark(text.encode("utf-8")) for text in part["text"].to_list()]
        if self._keeps_marks:
            self.held.update(marks)
        groups: dict[tuple[str | None, bool, bool], list[int]] = {}
        for place, mark in enumerate(marks):
            store = known.stores.get(mark)
            fate = store, mark in known.live, mark in known.privileged
            groups.setdefault(fate, []).append(place)
        for (store, *_), places in groups.items():
            certainty = find.certainty if store is None else Recognition.EXACT
            first = replace(find, certainty=certainty, fingerprint=marks[places[0]])
            yield Alike(lines[places[0]], first, len(places))

    def _looked_into(self, rows: pl.DataFrame, *, is_named: bool) -> Iterator[Alike]:
        """Look into texts of which a value may be a part."""
        lines, texts = rows[LINE].to_list(), rows["text"].to_list()
        return self._keeping(
            Alike(lines[place], find) for place, find in self._within(texts, is_named=is_named)
        )

    def _within(self, texts: Sequence[str], *, is_named: bool) -> Iterator[tuple[int, Find]]:
        found: set[int] = set()
        number, end = -1, -1
        for find in finds_in("\n".join(texts).encode("utf-8"), self._known):
            while find.offset > end:
                number += 1
                end += 1 + len(texts[number].encode("utf-8"))
            found.add(number)
            yield number, find
        for place, text in enumerate(texts if is_named else ()):
            if place not in found and (bare := _bare_digest(text, self._known)):
                yield place, bare

    def _keeping(self, found: Iterator[Alike]) -> Iterator[Alike]:
        for alike in found:
            if self._keeps_marks:
                self.held.add(alike.find.fingerprint)
            yield alike


def _whole_find(text: str, *, is_named: bool) -> Find | None:
    """Read a text that is a stored value as a whole; None where it is none, or has one within."""
    finds = finds_in(text.encode("utf-8"), _NOTHING)
    if not finds:
        return _bare_digest(text, _NOTHING) if is_named else None
    is_whole = finds[0].fingerprint == _NOTHING.mark(text.encode("utf-8"))
    return finds[0] if is_whole and finds[0].certainty is Recognition.SAID else None


def _bare_digest(text: str, known: KnownValues) -> Find | None:
    """Read the digest that is a whole value of a column for passwords."""
    parsed = read_value(text)
    if parsed.kind not in HASHED or parsed.contents.password is not None:
        return None
    mark = known.mark(text.encode("utf-8"))
    return Find(
        offset=0,
        certainty=Recognition.EXACT if mark in known.stores else Recognition.NAMED,
        scheme=parsed.scheme,
        encoding=Encoding.PLAIN,
        fingerprint=mark,
    )
