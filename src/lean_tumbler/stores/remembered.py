"""Files of remembered values: what finds replaced values again, without the values.

The file holds a key, and of each value its shape, its length and a fingerprint by that key; all of
it is sealed, as a backup is. Whoever opens it can try guesses at the old values, as with these.
"""

import base64
import hashlib
import hmac
from collections.abc import Iterator, Sequence
from pathlib import Path

from lean_tumbler.core.residue.known_values import Remembered, Shape, remembered
from lean_tumbler.errors import SourceError
from lean_tumbler.stores.interface import Swap
from lean_tumbler.stores.sealed_backup import SealedHead, SealedReader, SealedWriter, read_head


def fingerprint_key(path: Path, head: SealedHead, signing_key: str) -> bytes:
    """Give the key of a file's fingerprints: the same in all files of runs that continue one.

    Args:
        path: the first of the files.
        head: of the one that is begun.
        signing_key: of who writes them, in PEM.
    """
    first = read_head(path, head.document) if path.exists() else head
    said = f"{first.document} {first.store} {first.table} {first.step} {first.made_at}"
    return hmac.digest(signing_key.encode("ascii"), said.encode("utf-8"), hashlib.sha256)


class RememberingWriter:
    """Writes down what finds values again.

    Args:
        writer: of the sealed file.
        key: of the fingerprints.
    """

    def __init__(self, writer: SealedWriter, key: bytes) -> None:
        self._writer, self._key = writer, key
        writer.seal([base64.b64encode(key).decode("ascii")])

    def keep(self, swaps: Sequence[Swap]) -> None:
        """Remember what swaps are about to replace."""
        found = (remembered(swap.old, self._key) for swap in swaps)
        self._writer.seal([
            [value.shape, value.length, base64.b64encode(value.mark).decode("ascii")]
            for value in found if value is not None
        ] or [[]])  # fmt: skip

    def finish(self) -> None:
        """Write the end mark."""
        self._writer.finish()


def read_remembered(reader: SealedReader) -> tuple[bytes, Iterator[list[Remembered]]]:
    """Give the key, and what is remembered, chunk by chunk.

    Raises:
        SourceError: it holds no key, was sealed for another, or changed.
    """
    chunks = reader.lines(unfinished=True)
    first = next(chunks, None)
    if not first or not isinstance(first[0], str):
        raise SourceError("a file of remembered values without its key")
    return base64.b64decode(first[0]), (
        [Remembered(Shape(line[0]), line[1], base64.b64decode(line[2])) for line in chunk if line]
        for chunk in chunks
    )
