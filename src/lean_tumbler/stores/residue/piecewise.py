"""Searching pieces of bytes, several at once, and adding up what was found."""

from array import array
from collections import deque
from collections.abc import Callable, Iterable, Iterator
from concurrent.futures import Executor, Future
from pathlib import Path

from msgspec import Struct, field

from lean_tumbler.core.residue.finds import FINGERPRINT_BYTES, Encoding, Find, Recognition
from lean_tumbler.core.residue.known_values import KnownValues
from lean_tumbler.core.residue.searching import finds_in
from lean_tumbler.stores.residue.places import OVERLAP_BYTES, BytesPiece, SearchedPlace, Unread

_AT_ONCE = 4  # pieces that wait for each worker
_NUL = b"\0"
Told = Callable[[SearchedPlace, Find], str | None]  # the column, or None where it was told already


class Spot(Struct, frozen=True, kw_only=True):
    """What finds have in common that are told together."""

    place: SearchedPlace  # where the bytes stand
    column: str = ""  # table and column, or what else of a database; else empty
    is_of_database: bool = False  # whether a row or a definition of a database holds it
    store: str = ""  # of the policy, where the value is known
    certainty: Recognition  # how sure it is
    scheme: str  # as the text reads
    encoding: Encoding  # how it was written


class Remains(Struct, kw_only=True):
    """How many values were found at a spot."""

    count: int = 0  # finds
    first: str = ""  # where the first stands: “line 7”, “byte 4,096” or “row 12”
    live: int = 0  # those that a store still holds: whoever cracks one gets in
    privileged: int = 0  # those of them that open an administrator's


class Residue(Struct, kw_only=True):
    """What a search found."""

    places: int = 0  # how many were searched to their end
    bytes: int = 0  # how many were searched
    remains: dict[Spot, Remains] = field(default_factory=dict)  # by spot
    unread: list[Unread] = field(default_factory=list)  # places that could not be searched

    @property
    def count(self) -> int:
        """All values that were found."""
        return sum(found.count for found in self.remains.values())

    @property
    def live(self) -> int:
        """Those of them that a store still holds."""
        return sum(found.live for found in self.remains.values())

    def add(
        self,
        place: SearchedPlace,
        find: Find,
        known: KnownValues,
        *,
        first: str,
        count: int = 1,
        column: str = "",
        is_of_database: bool = False,
    ) -> None:
        """Add a find, or several of which the same is known."""
        spot = Spot(
            place=place,
            column=column,
            is_of_database=is_of_database,
            store=known.stores.get(find.fingerprint, ""),
            certainty=find.certainty,
            scheme=find.scheme,
            encoding=find.encoding,
        )
        found = self.remains.setdefault(spot, Remains(first=first))
        found.count += count
        found.live += count * (find.fingerprint in known.live)
        found.privileged += count * (find.fingerprint in known.privileged)


class _Looked(Struct):
    """What was found in a piece, packed: it comes from another process."""

    lines: int | None  # how many the piece has; None where it is no text
    # certainty, scheme and encoding, as they occur
    kinds: dict[tuple[Recognition, str, Encoding], int] = field(default_factory=dict)
    # of each find, the index of its kind, its offset, and the lines before it
    numbers: "array[int]" = field(default_factory=lambda: array("Q"))
    fingerprints: bytearray = field(default_factory=bytearray)  # of all finds, one after the other

    def add(self, find: Find, line: int) -> None:
        """Pack one find."""
        kind = find.certainty, find.scheme, find.encoding
        index = self.kinds.setdefault(kind, len(self.kinds))
        self.numbers.extend((index, find.offset, line))
        self.fingerprints += find.fingerprint

    def finds(self) -> Iterator[tuple[Find, int]]:
        """Unpack them."""
        kinds, numbers = list(self.kinds), iter(self.numbers)
        places = range(0, len(self.fingerprints), FINGERPRINT_BYTES)
        for place, index, offset, line in zip(places, numbers, numbers, numbers, strict=True):
            certainty, scheme, encoding = kinds[index]
            find = Find(
                offset=offset,
                certainty=certainty,
                scheme=scheme,
                encoding=encoding,
                fingerprint=bytes(self.fingerprints[place : place + FINGERPRINT_BYTES]),
            )
            yield find, line


_KNOWN = KnownValues()  # of a worker


def take_known(known: KnownValues) -> None:
    """Take the values that a worker looks for, once for all its pieces."""
    global _KNOWN  # noqa: PLW0603 - one for each process
    _KNOWN = known


def look_into(piece: BytesPiece) -> _Looked:
    """Search a piece, by the values that were taken.

    Raises:
        OSError: the file cannot be read any more.
    """
    data = piece.data or _read(piece)
    is_text = _NUL not in data[: 1 << 16]
    looked = _Looked(lines=0 if is_text else None)
    line = before = 0
    for find in finds_in(data, _KNOWN):
        if find.offset >= piece.own:
            break  # the next piece has it
        if is_text:
            line += data.count(b"\n", before, find.offset)
            before = find.offset
        looked.add(find, line)
    if is_text:
        looked.lines = line + data.count(b"\n", before, piece.own)
    return looked


def _read(piece: BytesPiece) -> bytes:
    with Path(piece.place.path).open("rb") as file:
        file.seek(piece.offset)
        return file.read(piece.own + OVERLAP_BYTES)


def search_pieces(
    pieces: Iterable[BytesPiece | Unread],  # of all places, one place after the other
    known: KnownValues,  # values to look for; workers have taken them already
    residue: Residue,  # takes the finds
    *,
    executor: Executor,  # looks into pieces
    workers: int,  # how many it looks into at once
    progress: Callable[[int], None],  # told the number of bytes after each piece
    told: Told,  # says under which heading a find is told
) -> None:
    """Search pieces, and add what is found in their order."""
    pending: deque[tuple[BytesPiece, Future[_Looked]]] = deque()
    counting = _Counting(residue, known, progress, told)
    for piece in pieces:
        if isinstance(piece, Unread):
            residue.unread.append(piece)
            continue
        pending.append((piece, executor.submit(look_into, piece)))
        if len(pending) >= _AT_ONCE * workers:
            counting.add(*pending.popleft())
    while pending:
        counting.add(*pending.popleft())


class _Counting:
    """Adds up finds, and numbers their lines."""

    def __init__(
        self,
        residue: Residue,
        known: KnownValues,
        progress: Callable[[int], None],
        told: Told,
    ) -> None:
        self._residue, self._known, self._progress = residue, known, progress
        self._told = told
        self._place: SearchedPlace | None = None
        self._lines: int | None = 0

    def add(self, piece: BytesPiece, call: "Future[_Looked]") -> None:
        """Add what was found in the next piece."""
        if piece.place != self._place:
            self._place, self._lines = piece.place, 0
            self._residue.places += 1
        try:
            looked = call.result()
        except OSError as error:
            reason = error.strerror or "cannot be read"
            self._residue.unread.append(Unread(piece.place, reason))
            return
        if looked.lines is None:
            self._lines = None
        for find, line in looked.finds():
            byte = f"byte {piece.offset + find.offset:,}"
            first = byte if self._lines is None else f"line {self._lines + line + 1:,}"
            column = self._told(piece.place, find)
            if column is not None:
                self._residue.add(piece.place, find, self._known, first=first, column=column)
        if self._lines is not None and looked.lines is not None:
            self._lines += looked.lines
        self._residue.bytes += piece.own
        self._progress(piece.own)


def search_lines(
    lines: Iterable[bytes], known: KnownValues, residue: Residue, place: SearchedPlace
) -> Iterator[tuple[int, Find]]:
    """Search lines as they come; give each find with its line's number."""
    for number, line in enumerate(lines, start=1):
        residue.bytes += len(line)
        for find in finds_in(line, known):
            residue.add(place, find, known, first=f"line {number:,}")
            yield number, find
    residue.places += 1
