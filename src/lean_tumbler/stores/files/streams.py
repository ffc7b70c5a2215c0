"""Opening files: compression taken off, encoding found out, lines numbered."""

import bz2
import codecs
import gzip
import lzma
import re
import zlib
from collections.abc import Iterator
from contextlib import contextmanager
from pathlib import Path
from typing import BinaryIO, Protocol, cast

from lean_tumbler.stores.file_access import file_errors
from lean_tumbler.stores.files.base import VALUE_CHARACTERS, Unreadable

SAMPLE_BYTES = 1 << 16
LINE_BYTES = 8 * VALUE_CHARACTERS
_PIECE_BYTES = 1 << 18
_COMPRESSED_BYTES = 1 << 10  # at most 32 MiB once decompressed (RFC 8878 section 3.1.1.2.4)
# What a compressed file may unpack to: so much in any case, and else so many times its size. Dumps
# of tables with the same texts in every row reach some hundred times.
UNPACKED_BYTES = 1 << 30
MOST_TIMES_LARGER = 1000
# In the place of a line that is longer than may be held; no text has a NUL.
_TOO_LONG = b"\0too long\n"
_FIRST_BYTES = 1 << 18  # whoever wants to know what is in a file reads the first block alone
_UTF16 = (codecs.BOM_UTF16_LE, codecs.BOM_UTF16_BE)
# RFC 1952 section 2.3.1; the .xz format, 2.1.1.1; RFC 8878 section 3.1.1.
_GZIP, _XZ, _ZSTD = b"\x1f\x8b", b"\xfd7zXZ\x00", b"\x28\xb5\x2f\xfd"
_BZIP2 = re.compile(rb"BZh[1-9](?:1AY&SY|\x17rE8P\x90)")  # bzip2: a block, or the end, follows


class _Stream(Protocol):
    """What is read from: some bytes at a time, none at the end."""

    def read1(self, size: int, /) -> bytes:
        """Read at most so many bytes."""


class _Bzip2Stream:
    """A bzip2 stream, whose damage is told from errors of the disk."""

    def __init__(self, raw: BinaryIO) -> None:
        self._file = bz2.BZ2File(raw)

    def read1(self, size: int, /) -> bytes:
        """Read some bytes.

        Raises:
            EOFError: the stream is damaged or cut off.
        """
        try:
            return self._file.read1(size)
        except OSError as error:
            if error.errno is None:  # no error of the system's
                raise EOFError("damaged") from None
            raise


class _ZstandardStream:
    """Zstandard frames, taken apart as they come; an unfinished last one is damage."""

    def __init__(self, raw: BinaryIO) -> None:
        import zstandard  # noqa: PLC0415 - rarely needed

        self._raw = raw
        self._decompressor = zstandard.ZstdDecompressor()
        self._frame = self._decompressor.decompressobj()
        self._begun = False
        self._held, self._given = b"", 0  # what was unpacked, and how much of it was asked for

    def read1(self, size: int, /) -> bytes:
        """Read some bytes.

        Raises:
            EOFError: the file ends within a frame.
        """
        if self._given >= len(self._held):
            self._held, self._given = self._more(), 0
        text = self._held[self._given : self._given + size]
        self._given += len(text)
        return text

    def _more(self) -> bytes:
        # A few bytes may stand for a hundred thousand of them: a little is taken in at a time.
        while part := self._raw.read(_COMPRESSED_BYTES):
            text = b""
            while part:
                if self._frame.eof:
                    self._frame = self._decompressor.decompressobj()
                text += self._frame.decompress(part)
                self._begun = True
                part = self._frame.unused_data if self._frame.eof else b""
            if text:
                return text
        if self._begun and not self._frame.eof:
            raise EOFError("the last frame is not whole")
        return b""


class _Utf8Stream:
    """Text as it is, but UTF-16 (told by its mark) as UTF-8."""

    def __init__(self, raw: _Stream) -> None:
        self._raw = raw
        self._begun = False
        self._decoder: codecs.IncrementalDecoder | None = None

    def read1(self, size: int, /) -> bytes:
        """Read some bytes."""
        while part := self._raw.read1(size):
            if not self._begun:
                part = part if len(part) > 1 else part + self._raw.read1(1)
                if part.startswith(_UTF16):
                    self._decoder = codecs.getincrementaldecoder("utf-16")("replace")
                self._begun = True
            if self._decoder is None:
                return part
            if text := self._decoder.decode(part):
                return text.encode("utf-8")
        return b""


class _BoundedStream:
    """What a compressed file unpacks to, up to a bound: what is beyond it counts as damage."""

    def __init__(self, raw: _Stream, packed_bytes: int) -> None:
        self._raw = raw
        self._left = max(UNPACKED_BYTES, MOST_TIMES_LARGER * packed_bytes)

    def read1(self, size: int, /) -> bytes:
        """Read some bytes.

        Raises:
            EOFError: the bound is reached.
        """
        if self._left < 0:
            raise EOFError("it unpacks to more than is read")
        part = self._raw.read1(size)
        self._left -= len(part)
        return part if self._left >= 0 else part[: self._left]


@contextmanager
def opened(path: Path) -> Iterator[_Stream]:
    """Open a file for reading, its compression taken off, and UTF-16 turned into UTF-8.

    Raises:
        SourceError: it cannot be read.
    """
    with file_errors(path), path.open("rb") as raw:
        head = raw.read(len(_XZ))
        raw.seek(0)
        stream = decompressed(raw, head)
        if stream is None:
            yield _Utf8Stream(cast("_Stream", raw))
        else:
            yield _Utf8Stream(_BoundedStream(stream, path.stat().st_size))


def decompressed(raw: BinaryIO, head: bytes) -> _Stream | None:
    """Give what a stream unpacks to; None where it is not compressed.

    Args:
        raw: the stream, from its start.
        head: how it begins.
    """
    if head.startswith(_GZIP):
        return cast("_Stream", gzip.open(raw))
    if head.startswith(_XZ):
        return cast("_Stream", lzma.open(raw))
    if _BZIP2.match(head):
        return _Bzip2Stream(raw)
    return _ZstandardStream(raw) if head.startswith(_ZSTD) else None


def damage() -> tuple[type[Exception], ...]:
    """Give what the decompressors raise where a file ends early or is broken."""
    known = (EOFError, lzma.LZMAError, zlib.error, gzip.BadGzipFile)
    try:
        import zstandard  # noqa: PLC0415 - rarely needed
    except ModuleNotFoundError:
        return known
    return (*known, zstandard.ZstdError)


def _read(stream: _Stream, size: int, *, before: bytes = b"") -> tuple[bytes, bool]:
    """Read up to so many bytes, and tell whether the stream is damaged behind them.

    Args:
        stream: what is read.
        size: the most bytes to read.
        before: what the bytes are appended to.
    """
    parts = [before]
    length = 0
    while length < size:
        try:
            part = stream.read1(min(size - length, _PIECE_BYTES))
        except damage():
            return b"".join(parts), True
        if not part:
            break
        parts.append(part)
        length += len(part)
    return b"".join(parts), False


def is_compressed(beginning: bytes) -> bool:
    """Tell a compressed file by its first bytes."""
    return beginning.startswith((_GZIP, _XZ, _ZSTD)) or _BZIP2.match(beginning) is not None


def is_plain(beginning: bytes) -> bool:
    """Tell a file that is neither compressed nor UTF-16 by its first bytes."""
    return not is_compressed(beginning) and not beginning.startswith(_UTF16)


def sample(path: Path) -> bytes:
    """Read the beginning of a file; a damaged one gives what can be had."""
    with opened(path) as stream:
        return _read(stream, SAMPLE_BYTES)[0][:SAMPLE_BYTES]


def encoding_of(beginning: bytes) -> str:
    """Find out a text's encoding: UTF-8 where it fits, or Windows-1252."""
    lines = beginning.split(b"\n")
    undecodable = sum(not _is_utf8(line) for line in lines[:-1] or lines)
    # A file in another encoding fails again and again; one bad line is that line's fault.
    return "cp1252" if undecodable > max(1, len(lines) // 20) else "utf-8"


def _is_utf8(line: bytes) -> bool:
    try:
        line.decode("utf-8")
    except UnicodeDecodeError:
        return False
    return True


def blocks(
    path: Path,
    unreadable: Unreadable,
    *,
    block_bytes: int = 1 << 23,
    limit_bytes: int = 1 << 25,
) -> Iterator[bytes]:
    """Read a file in blocks that end at line ends; the last may not, and the first is small.

    A compressed file that is cut off gives what stands before the cut, and is noted. A line that is
    longer than the limit is not held: `why_no_text` tells what stands in its place.
    """
    rest, dropping = b"", False
    with opened(path) as stream:
        damaged, size = False, min(_FIRST_BYTES, block_bytes)
        while not damaged:
            before = len(rest)
            rest, damaged = _read(stream, size, before=rest)
            size = block_bytes
            unreadable.cut_off |= damaged
            if len(rest) == before:
                break
            if dropping:
                first = rest.find(b"\n") + 1
                rest, dropping = rest[first:], not first
                if dropping:
                    rest = b""
                    continue
            end = rest.rfind(b"\n", min(before, len(rest))) + 1
            if end:
                yield rest[:end]
                rest = rest[end:]
            if len(rest) > limit_bytes:
                yield _TOO_LONG
                rest, dropping = b"", True
    if rest:
        yield rest


def why_no_text(raw: bytes, limit_bytes: int) -> str:
    """Say why a line with a NUL is no text."""
    if raw.startswith(_TOO_LONG[:-1]):
        return f"a line of more than {limit_bytes:,} bytes"
    return "holds a NUL"


def pieces(path: Path, unreadable: Unreadable) -> Iterator[bytes]:
    """Read a file piece by piece; what is cut off is noted."""
    with opened(path) as stream:
        damaged = False
        while not damaged:
            piece, damaged = _read(stream, _FIRST_BYTES)
            unreadable.cut_off |= damaged
            if not piece:
                break
            yield piece


def split_lines(text: str) -> list[str]:
    """Split text at line ends alone; Python's own way also splits at other controls."""
    return re.split(r"\r\n|\n|\r", text)


def lines(
    path: Path, unreadable: Unreadable, *, limit_bytes: int = LINE_BYTES
) -> Iterator[tuple[int, str]]:
    """Read a text file line by line, numbered from 1, without line ends.

    Lines that are not text, or longer than the limit, are counted as unreadable and left out.
    """
    encoding = encoding_of(sample(path))
    number = 0
    for block in blocks(path, unreadable, limit_bytes=limit_bytes):
        for raw in block.split(b"\n")[: -1 if block.endswith(b"\n") else None]:
            number += 1
            if len(raw) > limit_bytes:
                unreadable.add(number, f"a line of more than {limit_bytes:,} bytes")
                continue
            line = _decoded(raw, encoding, number, unreadable, limit_bytes)
            if line is not None:
                yield number, line.removeprefix("\ufeff") if number == 1 else line


def _decoded(
    raw: bytes, encoding: str, number: int, unreadable: Unreadable, limit_bytes: int
) -> str | None:
    if b"\0" in raw:
        unreadable.add(number, why_no_text(raw, limit_bytes))
        return None
    try:
        return raw.removesuffix(b"\r").decode(encoding)
    except UnicodeDecodeError as error:
        unreadable.add(number, f"not {encoding} at byte {error.start + 1} of the line")
        return None
