"""From paths to pieces of bytes: files, what is packed in them, and what is packed in that."""

import os
import stat
import tarfile
import tempfile
import zipfile
from collections.abc import Iterator, Sequence
from pathlib import Path
from typing import BinaryIO, cast

from msgspec import Struct

from lean_tumbler.core.residue.value_texts import LONGEST
from lean_tumbler.stores.files.streams import (
    MOST_TIMES_LARGER,
    UNPACKED_BYTES,
    damage,
    decompressed,
    is_compressed,
)

PIECE_BYTES = 1 << 23
OVERLAP_BYTES = 4 * LONGEST  # a value that begins in a piece ends in it, in any encoding
_NESTED = 6  # within each other; a compressed tar archive is two
_HEAD_BYTES = 512
_HELD_BYTES = 1 << 26  # of a ZIP archive within another archive; beyond it, on disk
_ZIP = b"PK\x03\x04"
_TAR_MARK, _TAR_AT = b"ustar", 257
_DAMAGE: tuple[type[Exception], ...] = (
    *damage(),
    tarfile.TarError,
    zipfile.BadZipFile,
    NotImplementedError,  # a method of compression that Python does not have
)
_PASSED_OVER = frozenset({".git/objects"})  # compressed by git; `git log -p` shows what they hold


class SearchedPlace(Struct, frozen=True):
    """Where bytes stand: a file, and the names of what is packed in it, outermost first."""

    path: str
    members: tuple[str, ...] = ()

    def __str__(self) -> str:
        """Give it as a report does."""
        return " › ".join((self.path, *self.members))


class BytesPiece(Struct, frozen=True):
    """Some bytes of a place; finds that begin at `own` or behind are the next piece's."""

    place: SearchedPlace  # where they stand
    offset: int  # of the first byte
    data: bytes  # the bytes; empty where whoever searches reads them from the file itself
    own: int  # how many of them are this piece's


class Unread(Struct, frozen=True):
    """A place that could not be searched, or not to its end, and why."""

    place: SearchedPlace
    reason: str


def pieces_of(paths: Sequence[Path]) -> Iterator[BytesPiece | Unread]:
    """Give the bytes of files, and of all files in folders; links are not followed."""
    for path in paths:
        if path.is_dir():
            for folder, folders, names in os.walk(path):
                folders[:] = sorted(name for name in folders if not _is_passed_over(folder, name))
                for name in sorted(names):
                    yield from _pieces_of_file(Path(folder, name))
        else:
            yield from _pieces_of_file(path)


def size_of(paths: Sequence[Path]) -> int:
    """Add up the sizes of files."""
    total = 0
    for path in paths:
        if not path.is_dir():
            total += _size(path)
            continue
        for folder, _, names in os.walk(path):
            total += sum(_size(Path(folder, name)) for name in names)
    return total


def _size(path: Path) -> int:
    try:
        found = path.lstat()
    except OSError:
        return 0
    return found.st_size if stat.S_ISREG(found.st_mode) else 0


def _is_passed_over(folder: str, name: str) -> bool:
    return f"{Path(folder).name}/{name}" in _PASSED_OVER


def _pieces_of_file(path: Path) -> Iterator[BytesPiece | Unread]:
    place = SearchedPlace(str(path))
    try:
        found = path.lstat()
        if stat.S_ISLNK(found.st_mode):
            return
        if not stat.S_ISREG(found.st_mode):
            yield Unread(place, "no regular file")
            return
        with path.open("rb") as raw:
            head = raw.read(_HEAD_BYTES)
            raw.seek(0)
            if _kind(head):
                yield from _unpacked(place, raw, head, found.st_size)
            else:
                yield from _of_plain_file(place, found.st_size)
    except OSError as error:
        yield Unread(place, error.strerror or "cannot be read")


def _of_plain_file(place: SearchedPlace, size: int) -> Iterator[BytesPiece]:
    for offset in range(0, size, PIECE_BYTES):
        own = min(PIECE_BYTES, size - offset)
        yield BytesPiece(place, offset, b"", own)


def _kind(head: bytes) -> str:
    if head.startswith(_ZIP):
        return "zip"
    if head[_TAR_AT : _TAR_AT + len(_TAR_MARK)] == _TAR_MARK:
        return "tar"
    return "packed" if is_compressed(head) else ""


def _unpacked(
    place: SearchedPlace, raw: BinaryIO, head: bytes, packed_bytes: int, depth: int = 0
) -> Iterator[BytesPiece | Unread]:
    """Give what is packed in a stream, as far as it may be unpacked."""
    kind = _kind(head)
    if kind and depth >= _NESTED:
        yield Unread(place, f"more than {_NESTED} archives within each other")
        return
    try:
        if kind == "zip":
            yield from _of_zip(place, raw, depth + 1)
        elif kind == "tar":
            yield from _of_tar(place, raw, depth + 1)
        elif kind == "packed":
            limit = max(UNPACKED_BYTES, MOST_TIMES_LARGER * packed_bytes)
            inner = cast("BinaryIO", _Bounded(decompressed(raw, head), limit))
            yield from _of_stream(place, inner, depth + 1)
        else:
            yield from _of_bytes(place, raw)
    except _DAMAGE as error:
        yield Unread(
            place, f"damaged, cut off, or larger than is unpacked ({type(error).__name__})"
        )


def _of_stream(place: SearchedPlace, raw: BinaryIO, depth: int) -> Iterator[BytesPiece | Unread]:
    """Look at how a stream begins, and go on with what it is."""
    head = raw.read(_HEAD_BYTES)
    whole = cast("BinaryIO", _Rejoined(head, raw))
    if _kind(head) == "zip":  # its table of contents stands at the end
        with tempfile.SpooledTemporaryFile(max_size=_HELD_BYTES) as held:
            while part := whole.read(1 << 20):
                held.write(part)
            held.seek(0)
            yield from _unpacked(place, cast("BinaryIO", held), head, PIECE_BYTES, depth)
    else:
        yield from _unpacked(place, whole, head, PIECE_BYTES, depth)


def _of_zip(place: SearchedPlace, raw: BinaryIO, depth: int) -> Iterator[BytesPiece | Unread]:
    with zipfile.ZipFile(raw) as archive:
        for member in archive.infolist():
            inner = SearchedPlace(place.path, (*place.members, member.filename))
            if member.is_dir():
                continue
            if member.flag_bits & 1:
                yield Unread(inner, "encrypted")
                continue
            with archive.open(member) as stream:
                limit = max(UNPACKED_BYTES, MOST_TIMES_LARGER * member.compress_size)
                yield from _of_stream(inner, cast("BinaryIO", _Bounded(stream, limit)), depth)


def _of_tar(place: SearchedPlace, raw: BinaryIO, depth: int) -> Iterator[BytesPiece | Unread]:
    with tarfile.open(fileobj=raw, mode="r|") as archive:
        for member in archive:
            stream = archive.extractfile(member) if member.isreg() else None
            if stream is not None:
                inner = SearchedPlace(place.path, (*place.members, member.name))
                yield from _of_stream(inner, cast("BinaryIO", stream), depth)


def _of_bytes(place: SearchedPlace, raw: BinaryIO) -> Iterator[BytesPiece]:
    """Give a stream in pieces that overlap."""
    offset, rest = 0, b""
    while True:
        part = raw.read(PIECE_BYTES)
        data = rest + part
        is_last = len(part) < PIECE_BYTES
        own = len(data) if is_last else len(data) - OVERLAP_BYTES
        if data:
            yield BytesPiece(place, offset, data, own)
        if is_last:
            raw.read(1)  # raises where the stream ended because it is damaged
            return
        offset, rest = offset + own, data[own:]


class _Rejoined:
    """A stream of which the beginning was read already."""

    def __init__(self, head: bytes, raw: BinaryIO) -> None:
        self._head, self._raw = head, raw

    def read(self, size: int = -1, /) -> bytes:
        """Read so many bytes, or fewer at the end."""
        if size < 0:
            found, self._head = self._head + self._raw.read(), b""
            return found
        parts, self._head = [self._head[:size]], self._head[size:]
        left = size - len(parts[0])
        try:
            while left and (part := self._raw.read(left)):
                parts.append(part)
                left -= len(part)
        except _DAMAGE:
            if not any(parts):
                raise  # as it does again, once what came before is taken
        return b"".join(parts)


class _Bounded:
    """What something unpacks to, up to a bound."""

    def __init__(self, raw: object, limit: int) -> None:
        self._read = getattr(raw, "read1", None) or raw.read  # type: ignore[attr-defined]
        self._left = limit
        self._damage: Exception | None = None

    def read(self, size: int = -1, /) -> bytes:
        """Read so many bytes, or fewer at the end.

        Raises:
            EOFError: the bound is reached; or what a decompressor raises, once all is given that
                came before.
        """
        if self._damage is not None:
            raise self._damage
        parts: list[bytes] = []
        wanted = self._left if size < 0 else size
        try:
            while wanted and (part := self._read(min(wanted, 1 << 20))):
                parts.append(part)
                wanted -= len(part)
                self._left -= len(part)
                if self._left < 0:
                    raise EOFError("it unpacks to more than is read")
        except _DAMAGE as error:
            self._damage = error  # what came before is searched
            if not parts:
                raise
        return b"".join(parts)
