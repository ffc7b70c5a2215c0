"""Reading files within bounds, and writing them beside, synced and renamed."""

import os
import tempfile
from collections.abc import Iterable, Iterator
from contextlib import contextmanager, suppress
from pathlib import Path

from lean_tumbler.errors import SourceError, UsageError

OWNER_ONLY = 0o600


@contextmanager
def file_errors(path: Path, *, otherwise: str = "cannot be read") -> Iterator[None]:
    """Say of a file what the system says when something with it fails.

    Args:
        path: the file.
        otherwise: what is said where the system says nothing.

    Raises:
        SourceError: something failed.
    """
    try:
        yield
    except OSError as error:
        raise SourceError(f"{path}: {error.strerror or otherwise}") from None


def read_text(path: Path, *, limit_bytes: int) -> str:
    """Read a small UTF-8 file.

    Raises:
        SourceError: it cannot be read, is larger than the limit, or is not UTF-8.
    """
    with file_errors(path), path.open("rb") as file:
        raw = file.read(limit_bytes + 1)
    if len(raw) > limit_bytes:
        raise SourceError(f"{path}: larger than {limit_bytes:,} bytes")
    try:
        return raw.decode("utf-8-sig")
    except UnicodeDecodeError as error:
        raise SourceError(f"{path}: not UTF-8 at byte {error.start:,}") from None


def read_secret(path: Path, *, what: str, limit_bytes: int, others: int = 0o077) -> bytes:
    """Read a file that holds a secret; who may read it is asked of the very file that is read.

    Args:
        path: the file.
        what: it holds, for messages.
        limit_bytes: of it.
        others: the permissions that it may not give.

    Raises:
        UsageError: others may read it, or it belongs to somebody else.
        SourceError: it cannot be read, or is larger than the limit.
    """
    with file_errors(path), path.open("rb") as file:
        require_own(path, os.fstat(file.fileno()), what=what, others=others)
        raw = file.read(limit_bytes + 1)
    if len(raw) > limit_bytes:
        raise SourceError(f"{path}: larger than {limit_bytes:,} bytes")
    return raw


def require_own(path: Path, status: os.stat_result, *, what: str, others: int = 0o077) -> None:
    """Refuse a file that somebody else can read, or has put there.

    Args:
        path: the file, for messages.
        status: what the system says of it.
        what: it holds, for messages.
        others: the permissions that it may not give.

    Raises:
        UsageError: it is so.
    """
    if status.st_uid not in {os.geteuid(), 0}:
        raise UsageError(f"{path}: {what} belongs to another user; find out who put it there")
    if status.st_mode & others:
        right = "600" if others & 0o070 else "o="
        raise UsageError(f"{path}: others may read {what}; chmod {right} it")


def create_once(path: Path, content: bytes) -> None:
    """Write a file for its owner alone, whole and only where there is none; else do nothing.

    Raises:
        SourceError: it cannot be written.
    """
    with file_errors(path, otherwise="cannot be written"):
        handle, name = tempfile.mkstemp(dir=path.parent, prefix=f".{path.name}.")
        try:
            with os.fdopen(handle, "wb") as file:
                file.write(content)
                file.flush()
                os.fsync(file.fileno())
            with suppress(FileExistsError):
                path.hardlink_to(name)
        finally:
            Path(name).unlink()


def read_lines(path: Path, *, limit_bytes: int = 1 << 26) -> list[str]:
    """Read a UTF-8 file of one entry a line; empty lines are left out.

    Raises:
        SourceError: it cannot be read, is larger than the limit, or is not UTF-8.
    """
    return [line for line in read_text(path, limit_bytes=limit_bytes).split("\n") if line]


def write_text(path: Path, text: str, *, mode: int | None = OWNER_ONLY) -> None:
    """Replace a text file in one step, as `write_bytes` does."""
    write_bytes(path, text.encode("utf-8"), mode=mode)


def write_bytes(path: Path, content: bytes, *, mode: int | None = OWNER_ONLY) -> None:
    """Replace a file in one step, as `write_parts` does."""
    write_parts(path, [content], mode=mode)


def write_parts(path: Path, parts: Iterable[bytes], *, mode: int | None = OWNER_ONLY) -> None:
    """Replace a file in one step: what stands there is the old content or the new, never half.

    A link is followed. A device or a pipe is written to, and never replaced.

    Args:
        path: the file.
        parts: its new content, one after the other.
        mode: permissions; None keeps those of the file that is there.

    Raises:
        SourceError: it cannot be written.
    """
    with file_errors(path, otherwise="cannot be written"):
        if path.exists() and not path.is_file() and not path.is_dir():
            with path.open("wb") as opened:
                opened.writelines(parts)
            return
        path = path.resolve() if path.is_symlink() else path
        if mode is None:
            mode = path.stat().st_mode & 0o777 if path.exists() else OWNER_ONLY
        handle, name = tempfile.mkstemp(dir=path.parent, prefix=f".{path.name}.")
        try:
            with os.fdopen(handle, "wb") as file:
                file.writelines(parts)
                file.flush()
                os.fsync(file.fileno())
            Path(name).chmod(mode)
            Path(name).replace(path)
        except BaseException:
            Path(name).unlink(missing_ok=True)
            raise
