"""LDIF (RFC 2849): values of one attribute are written anew, all other lines stay."""

from base64 import b64encode
from collections.abc import Iterator, Sequence
from dataclasses import dataclass, field
from functools import cached_property
from pathlib import Path

from lean_tumbler.stores.formats.copying import Record, bad_record, decoded, raw_lines, without_end
from lean_tumbler.stores.formats.records import RecordTable, attribute_text, ldif_rows

_FOLD = 76  # RFC 2849, note 2: lines may be folded; what writes them folds here


@dataclass(slots=True)
class _Line:
    """One attribute and its value, which may stand on several lines of the file."""

    number: int
    raw: list[bytes]
    text: str = field(repr=False)
    end: str = "\n"


@dataclass(frozen=True)
class LdifExport:
    """A directory's entries."""

    path: Path
    checked_elsewhere = "directories check"
    numbered_by_line = False

    @cached_property
    def columns(self) -> tuple[str, ...]:
        """The attributes of the first entries."""
        return RecordTable(self.path, ldif_rows).columns

    def records(self, stored: str) -> Iterator[Record]:
        """Read it from beginning to end, an entry at a time."""
        held: list[_Line] = []
        started = 1
        for line, raw in raw_lines(self.path):
            text, end = without_end(decoded(self.path, line, raw, "utf-8"))
            if text.startswith(" ") and held and held[-1].text:
                held[-1].raw.append(raw)
                held[-1].text += text[1:]
                continue
            held.append(_Line(line, [raw], text, end))
            if not text:
                yield self._record(held, started, stored)
                held, started = [], line + 1
        if held:
            yield self._record(held, started, stored)

    def _record(self, lines: list[_Line], started: int, stored: str) -> Record:
        single: dict[str, str | None] = {}
        places: list[int] = []
        values: list[str | None] = []
        for place, line in enumerate(lines):
            head, colon, value = line.text.partition(":")
            if not line.text or line.text.startswith("#"):
                continue
            if not colon:
                raise bad_record(self.path, line.number, "no colon after an attribute's name")
            name = head.split(";")[0]
            text = attribute_text(value)
            if name == stored:
                if text is None:
                    reason = f"a value of {stored} is not UTF-8 text"
                    raise bad_record(self.path, line.number, reason)
                places.append(place)
                values.append(text)
            else:
                single.setdefault(name, text)

        def replaced(new: Sequence[str | None]) -> bytes:
            written = [b"".join(line.raw) for line in lines]
            for place, value in zip(places, new, strict=True):
                if value is not None:
                    written[place] = _written(lines[place], value)
            return b"".join(written)

        rows = [{**single, stored: value} for value in values]
        raw = b"".join(part for line in lines for part in line.raw)
        return Record(line=started, raw=raw, rows=rows, replaced=replaced)


def _written(line: _Line, value: str) -> bytes:
    """Write a value in the form that the old one had, plain or base64, and fold it."""
    head, _, old = line.text.partition(":")
    encoded = old.startswith(":")
    text = f":: {b64encode(value.encode('utf-8')).decode()}" if encoded else f": {value}"
    whole = head + text
    parts = [whole[:_FOLD], *(f" {whole[at:at + _FOLD - 1]}"
                              for at in range(_FOLD, len(whole), _FOLD - 1))]  # fmt: skip
    return "".join(part + (line.end or "\n") for part in parts).encode("utf-8")
