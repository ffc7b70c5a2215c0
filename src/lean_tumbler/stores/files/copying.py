"""Records of a file: the bytes as they stand, the rows in them, and how to replace a value."""

from collections.abc import Callable, Iterator, Mapping, Sequence
from dataclasses import dataclass, field
from pathlib import Path
from typing import Protocol

from lean_tumbler.errors import SourceError
from lean_tumbler.stores.file_access import file_errors
from lean_tumbler.stores.files.streams import LINE_BYTES, encoding_of, sample

Fields = Mapping[str, str | None]
MARK = "\ufeff"  # the byte order mark, which a file may begin with


@dataclass(frozen=True, slots=True, kw_only=True)
class Record:
    """Some lines of a file."""

    line: int  # where it begins, from 1
    raw: bytes = field(repr=False)  # its bytes
    # the fields of each account in it: none in a header line, several in an entry of a directory
    # that has several values
    rows: Sequence[Fields] = field(default=(), repr=False)
    # a new stored value for each row, or None -> the bytes with these
    replaced: Callable[[Sequence[str | None]], bytes] = field(
        default=lambda _: b"", repr=False, compare=False
    )


class Export(Protocol):
    """A file of one kind.

    Attributes:
        columns: the names of its fields.
        checked_elsewhere: which program checks its values by itself, and so would lock people
            out of layered ones; empty where none does.
        numbered_by_line: whether a row keeps its line when values are replaced.
    """

    checked_elsewhere: str
    numbered_by_line: bool

    @property
    def columns(self) -> tuple[str, ...]:
        """The names of its fields."""

    def records(self, stored: str) -> Iterator[Record]:
        """Read it from beginning to end; its records are all of its bytes.

        Args:
            stored: the field of the stored value.

        Raises:
            SourceError: a record that cannot be read, by its line.
        """


def raw_lines(path: Path) -> Iterator[tuple[int, bytes]]:
    """Read lines with their ends, numbered from 1.

    Raises:
        SourceError: the file cannot be read, or a line is endless.
    """
    with file_errors(path), path.open("rb") as file:
        number = 0
        while raw := file.readline(LINE_BYTES + 1):
            number += 1
            if len(raw) > LINE_BYTES:
                raise bad_record(path, number, f"more than {LINE_BYTES:,} bytes")
            yield number, raw


def bad_record(path: Path, line: int, reason: str) -> SourceError:
    """Say that a record cannot be read: a copy must hold every one."""
    return SourceError(
        f"{path}, line {line:,}: {reason}; a copy must hold every row, so mend this line first "
        "(`audit` lists all such lines)"
    )


def decoded(path: Path, line: int, raw: bytes, encoding: str) -> str:
    """Give a record's text.

    Raises:
        SourceError: it is not in the file's encoding, or holds a NUL.
    """
    if b"\0" in raw:
        raise bad_record(path, line, "holds a NUL")
    try:
        return raw.decode(encoding)
    except UnicodeDecodeError as error:
        raise bad_record(path, line, f"not {encoding} at byte {error.start + 1}") from None


def encoding_of_file(path: Path) -> str:
    """Find out a file's encoding."""
    return encoding_of(sample(path))


def without_end(text: str) -> tuple[str, str]:
    """Take a line's end off: the line, and its end."""
    body = text.removesuffix("\n").removesuffix("\r")
    return body, text[len(body) :]
