"""From what was named to what is searched: tables first, and then the bytes of files."""

import os
import re
from collections.abc import Callable, Iterator, Mapping, Sequence
from concurrent.futures import Executor, ThreadPoolExecutor
from contextlib import nullcontext
from pathlib import Path
from types import MappingProxyType

from msgspec import Struct, field

from lean_tumbler.core.residue.finds import Find, Recognition
from lean_tumbler.core.residue.known_values import KnownValues
from lean_tumbler.errors import UsageError
from lean_tumbler.stores.residue.piecewise import Residue, search_pieces
from lean_tumbler.stores.residue.places import SearchedPlace, Unread, pieces_of
from lean_tumbler.stores.residue.tables import OwnPlaces, search_file_tables, search_source
from lean_tumbler.stores.sql.recognition import is_sqlite, is_url

# Files of servers, by where they stand; what their stores hold now belongs there.
SERVER_FILES: Mapping[str, re.Pattern[str]] = MappingProxyType(
    {
        "postgresql": re.compile(r"/(?:base/\d+|global|pg_wal|pg_tblspc/.+)/[^/ ]+$"),
        "mysql": re.compile(r"(?:\.ibd|/ibdata\d+|/ib_logfile\d+|/undo\d+|-bin\.\d{6})$"),
    }
)
NO_ROW = "bytes that no row holds"
_BESIDE_SQLITE = ("-wal", "-journal")


class Files(Struct):
    """The files whose bytes are to be searched, and what their tables have told already."""

    paths: list[Path] = field(default_factory=list)  # files and folders
    # database file -> fingerprints of what its rows hold
    held: dict[str, set[bytes]] = field(default_factory=dict)
    # file -> fingerprints of what its columns were found to hold
    by_column: dict[str, set[bytes]] = field(default_factory=dict)
    live: set[bytes] = field(default_factory=set)  # fingerprints of what stores hold now
    own_folders: tuple[str, ...] = ()  # of the servers' own files

    def told(self, place: SearchedPlace, find: Find) -> str | None:
        """Say under which heading a find is told; None where a table has told it."""
        if place.path in self.held:
            return None if find.fingerprint in self.held[place.path] else NO_ROW
        if find.fingerprint in self.live and self._is_of_own_server(place.path):
            return None
        is_told = find.fingerprint in self.by_column.get(place.path, ())
        return None if is_told and find.certainty is Recognition.NAMED else ""

    def _is_of_own_server(self, path: str) -> bool:
        """Tell a file in which a store's own server keeps its rows; copies of it are finds."""
        if not any(pattern.search(path) for pattern in SERVER_FILES.values()):
            return False
        real = os.path.realpath(path)
        return any(real.startswith(f"{folder}/") for folder in self.own_folders)


def search_sources(
    places: Sequence[str],
    known: KnownValues,
    own: OwnPlaces,
    residue: Residue,
    *,
    progress: Callable[[int], None],
) -> Files:
    """Search the tables of all places; give the files that are left.

    Raises:
        UsageError: a place is not there.
        SourceError: a database cannot be read.
    """
    files = Files(live=known.live, own_folders=tuple(map(os.path.realpath, own.folders)))
    for place in places:
        if is_url(place):
            search_source(
                place, base=Path(), known=known, own=own, residue=residue, progress=progress
            )
            residue.places += 1
            continue
        path = Path(place)
        if not path.exists():
            raise UsageError(f"{path}: is not there")
        if not (path.is_file() or path.is_dir()):
            residue.unread.append(Unread(SearchedPlace(place), "no regular file"))
            continue
        files.paths.append(path)
        for file in _files_in(path):
            if is_sqlite(file):
                held = search_source(
                    str(file),
                    base=Path(),
                    known=known,
                    own=own,
                    residue=residue,
                    progress=progress,
                    keeps_marks=True,
                )
                for name in (str(file), *(f"{file}{end}" for end in _BESIDE_SQLITE)):
                    files.held[name] = held
            else:
                files.by_column[str(file)] = search_file_tables(file, known, residue)
        files.paths += [
            beside for end in _BESIDE_SQLITE
            if path.is_file() and (beside := Path(f"{path}{end}")).is_file()
        ]  # fmt: skip
    return files


def _files_in(path: Path) -> Iterator[Path]:
    if not path.is_dir():
        yield path
        return
    for folder, _, names in os.walk(path):
        for name in sorted(names):
            file = Path(folder, name)
            if file.is_file() and not file.is_symlink():
                yield file


def search_files(
    files: Files,  # which
    known: KnownValues,  # values to look for
    residue: Residue,  # takes the finds
    *,
    executor: Executor | None,  # other processes that search; None to search here
    workers: int,  # how many
    progress: Callable[[int], None],  # told the number of bytes after each piece
) -> None:
    """Search the bytes of files."""
    with nullcontext(executor) if executor else ThreadPoolExecutor(1) as searching:
        search_pieces(
            pieces_of(files.paths),
            known,
            residue,
            executor=searching,
            workers=workers,
            progress=progress,
            told=files.told,
        )
