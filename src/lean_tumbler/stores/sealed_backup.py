"""Sealed files of bulk steps: what is about to be replaced, written and synced before it is.

A sealed backup holds the values themselves; a remembered file holds what finds them again.

A line of JSON says what the file is, and for whom; then come sealed chunks, each behind its length
in four bytes, and behind each the signature of whoever wrote it. docs/FORMATS.md describes it.

A run that continues another writes a file of its own beside the first one, FILE.2 and so on, whose
head names the digest of the file before: so nothing can be cut off one that was not ended.
"""

import base64
import hashlib
import json
import os
from collections.abc import Iterator, Sequence
from datetime import datetime
from pathlib import Path
from typing import Any, BinaryIO

from msgspec import Struct
from msgspec.structs import asdict, replace

from lean_tumbler.core.schema import checked
from lean_tumbler.core.sealing import ENCAPSULATED_BYTES, Opener, Sealer
from lean_tumbler.core.signing import SIGNATURE_BYTES, Signer, Verifier
from lean_tumbler.errors import SourceError, UsageError
from lean_tumbler.stores.file_access import file_errors
from lean_tumbler.stores.interface import AccountKey, Swap
from lean_tumbler.stores.json_text import load_json

DOCUMENT = "lean-tumbler/sealed-backup/1"
REMEMBERED = "lean-tumbler/fingerprints/1"
_WHAT = {DOCUMENT: "a sealed backup", REMEMBERED: "a file of remembered values"}
_LENGTH_BYTES = 4
_HEAD_BYTES = 1 << 14
_CHUNK_BYTES = 1 << 26


class SealedHead(Struct, frozen=True, kw_only=True):
    """What stands readable before the sealed part, and is bound to it."""

    store: str  # the store's name in the policy
    table: str  # its table
    step: str  # the command that replaced the values
    made_at: str  # ISO 8601
    # ISO 8601, by when somebody wants it deleted; None where nobody said so
    expires_at: str | None = None
    continues: str = ""  # SHA-256 of the file before, in hexadecimal; empty for the first
    document: str = DOCUMENT  # what the file is

    def line(self) -> bytes:
        """Write the head's line."""
        own = asdict(self)
        return json.dumps({"document": own.pop("document"), **own}).encode("utf-8") + b"\n"

    def expired(self, now: datetime) -> bool:
        """Tell whether somebody wanted the file deleted by now."""
        return self.expires_at is not None and now >= datetime.fromisoformat(self.expires_at)

    def way_back(self, name: str) -> str:
        """Say until when somebody wanted the file kept, and what depends on it meanwhile."""
        return (
            f"{name}: to be deleted by {self.expires_at}, as --keep-days said. Until then and "
            f"after, rows that still hold what `{self.step}` wrote are put back from it alone"
        )

    def is_of(self, other: "SealedHead") -> bool:
        """Tell whether two files are of one step on one table."""
        mine = (self.document, self.store, self.table, self.step)
        return mine == (other.document, other.store, other.table, other.step)


class SealedWriter:
    """Writes a new sealed file; every chunk is on the disk before `seal` returns.

    Args:
        path: the file; where a run of the same step has begun it, another is written beside.
        public_key: whom it is sealed for, in PEM.
        signing_key: the private key of whoever writes it, in PEM.
        head: what the file is.

    Raises:
        UsageError: the file is there already, of another step, or a key is none.
        SourceError: it cannot be written.
    """

    def __init__(self, path: Path, *, public_key: str, signing_key: str, head: SealedHead) -> None:
        earlier = parts_of(path)
        if earlier:
            if not read_head(path, head.document).is_of(head):
                raise UsageError(f"{path} is there already, of another step or table")
            head = replace(head, continues=_digest_of(earlier[-1]))
            path = _part(path, len(earlier) + 1)
        self._path = path
        self._sealer = Sealer(public_key, head.line())
        beginning = head.line() + self._sealer.encapsulated
        self._signer = Signer(signing_key, beginning)
        try:
            descriptor = os.open(path, os.O_WRONLY | os.O_CREAT | os.O_EXCL, 0o600)
        except FileExistsError:
            raise UsageError(f"{path} is there already; each run needs a file of its own") from None
        except OSError as error:
            raise SourceError(f"{path}: {error.strerror or 'cannot be written'}") from None
        self._file: BinaryIO = os.fdopen(descriptor, "wb")
        self._write(beginning)

    def seal(self, lines: Sequence[Any]) -> None:
        """Seal and sync a chunk, a line of JSON each."""
        self._seal("\n".join(map(json.dumps, lines)).encode("utf-8"), last=False)

    def finish(self) -> None:
        """Write the end mark: without it, a reader knows that the tail is missing."""
        self._seal(b"", last=True)
        self._file.close()

    def _seal(self, chunk: bytes, *, last: bool) -> None:
        sealed = self._sealer.seal(chunk, last=last)
        length = len(sealed).to_bytes(_LENGTH_BYTES, "big")
        self._write(length + sealed + self._signer.sign(length + sealed))

    def _write(self, content: bytes) -> None:
        try:
            self._file.write(content)
            self._file.flush()
            os.fsync(self._file.fileno())
        except OSError as error:
            reason = error.strerror or "cannot be written"
            raise SourceError(f"{self._path}: {reason}; nothing more was replaced") from None


class BackupWriter(SealedWriter):
    """Writes a new sealed backup."""

    def keep(self, swaps: Sequence[Swap]) -> None:
        """Seal and sync what swaps are about to replace."""
        self.seal([
            [_key_text(swap.key), _base64(swap.old), _base64(swap.new_bytes), swap.is_left_behind]
            for swap in swaps
        ])  # fmt: skip


def _base64(raw: bytes) -> str:
    return base64.b64encode(raw).decode("ascii")


def _key_text(key: AccountKey) -> Any:
    return {"bytes": _base64(key)} if isinstance(key, bytes) else key


def _key(value: Any) -> AccountKey:
    return base64.b64decode(value["bytes"]) if isinstance(value, dict) else value


def read_head(path: Path, document: str = DOCUMENT) -> SealedHead:
    """Read what a sealed file says of itself; no key is needed.

    Raises:
        UsageError: it is no such file.
        SourceError: it cannot be read.
    """
    with _opened(path) as file:
        return _head(path, file.readline(_HEAD_BYTES), document)


def ways_back(folder: Path, store: str, table: str) -> Iterator[str]:
    """Say of each backup in a folder that somebody wanted deleted one day, when that is."""
    for path in sorted(folder.iterdir()):
        try:
            head = read_head(path) if path.is_file() else None
        except (UsageError, SourceError):
            continue  # another file, or one of somebody else
        if head and head.expires_at and (head.store, head.table) == (store, table):
            yield head.way_back(path.name)


def _opened(path: Path) -> BinaryIO:
    with file_errors(path):
        return path.open("rb")


def _head(path: Path, line: bytes, document: str) -> SealedHead:
    what = _WHAT[document]
    try:
        entries = load_json(line)
        own = entries.get("document", "") if isinstance(entries, dict) else ""
        head = checked(entries, SealedHead) if own == document else None
        is_dated = head is None or all(
            datetime.fromisoformat(day) for day in (head.made_at, head.expires_at) if day
        )
    except ValueError:
        raise UsageError(f"{path}: not {what}") from None
    if head is None or not is_dated:
        raise UsageError(f"{path}: not {what}, or not of the version {document}")
    return head


def _part(path: Path, number: int) -> Path:
    return path if number == 1 else path.with_name(f"{path.name}.{number}")


def parts_of(path: Path) -> list[Path]:
    """Name the files of a step that are there: the first, and those of runs that continued it."""
    found: list[Path] = []
    while (part := _part(path, len(found) + 1)).exists():
        found.append(part)
    return found


def _digest_of(path: Path) -> str:
    with file_errors(path), path.open("rb") as file:
        return hashlib.file_digest(file, "sha256").hexdigest()


class SealedReader:
    """Reads one sealed file.

    Args:
        path: the file.
        private_key: whom it was sealed for, in PEM.
        verifying_key: of whoever wrote it, in PEM.
        document: what it must be.

    Raises:
        UsageError: it is no such file, or a key is none.
        SourceError: it cannot be read, or was sealed for another key, or changed.
    """

    def __init__(
        self, path: Path, *, private_key: str, verifying_key: str, document: str = DOCUMENT
    ) -> None:
        self._path = path
        self._file = _opened(path)
        line = self._file.readline(_HEAD_BYTES)
        self.head = _head(path, line, document)
        encapsulated = self._file.read(ENCAPSULATED_BYTES)
        self._opener = Opener(private_key, encapsulated=encapsulated, head=line)
        self._verifier = Verifier(verifying_key, line + encapsulated)

    def lines(self, *, unfinished: bool) -> Iterator[list[Any]]:
        """Give what was sealed, chunk by chunk, a document for each line.

        Args:
            unfinished: take a file whose end mark is missing, as a killed run leaves it.

        Raises:
            SourceError: signed by somebody else, sealed for another key, changed, or without its
                tail.
        """
        while sealed := self._sealed():
            try:
                chunk, last = self._opener.open(sealed)
            except SourceError as error:
                raise SourceError(f"{self._path}: {error}") from None
            if last:
                if self._file.read(1):
                    raise SourceError(f"{self._path}: something follows its end mark")
                return
            yield [load_json(line) for line in chunk.decode("utf-8").split("\n")]
        if not unfinished:
            raise SourceError(
                f"{self._path}: its end is missing; if the run that wrote it was killed, "
                "--unfinished reads what is there"
            )

    def _sealed(self) -> bytes:
        """Read the next chunk; nothing at the end, or where a killed run left a part of one."""
        prefix = self._file.read(_LENGTH_BYTES)
        length = int.from_bytes(prefix, "big")
        if length > _CHUNK_BYTES:
            raise SourceError(f"{self._path}: sealed for another key, or changed")
        sealed = self._file.read(length)
        signature = self._file.read(SIGNATURE_BYTES)
        if len(signature) < SIGNATURE_BYTES:
            return b""
        try:
            self._verifier.require(prefix + sealed, signature)
        except SourceError as error:
            raise SourceError(f"{self._path}: {error}") from None
        return sealed

    def close(self) -> None:
        """Let go of the file."""
        self._file.close()


class BackupReader:
    """Reads a sealed backup, with the files of runs that continued it.

    Args and errors are those of `SealedReader`.
    """

    def __init__(self, path: Path, *, private_key: str, verifying_key: str) -> None:
        keys = {"private_key": private_key, "verifying_key": verifying_key}
        self._parts = parts_of(path) or [path]
        self._readers = [SealedReader(part, **keys) for part in self._parts]
        self.head = self._readers[0].head
        for before, part, reader in zip(
            self._parts, self._parts[1:], self._readers[1:], strict=False
        ):
            if not reader.head.is_of(self.head) or reader.head.continues != _digest_of(before):
                raise SourceError(f"{part}: it does not continue {before}, or that was changed")

    def swaps(self, *, unfinished: bool) -> Iterator[list[Swap]]:
        """Give what was replaced, batch by batch, as swaps that put it back.

        Args and errors are those of `SealedReader.lines`; a file that another continues need not
        have its end mark.
        """
        for reader in self._readers:
            is_continued = reader is not self._readers[-1]
            for lines in reader.lines(unfinished=unfinished or is_continued):
                yield [_swap(*line) for line in lines]

    def close(self) -> None:
        """Let go of the files."""
        for reader in self._readers:
            reader.close()


def _swap(key: Any, old: str, new: str, is_left_behind: bool) -> Swap:
    written = Swap(
        key=_key(key),
        old=base64.b64decode(old),
        new=base64.b64decode(new),
        is_left_behind=is_left_behind,
    )
    return written.undone
