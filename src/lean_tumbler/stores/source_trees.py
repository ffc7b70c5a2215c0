"""Source trees, and archives of them: files one after the other, within limits."""

import os
import stat
import tarfile
import zipfile
from collections.abc import Iterator, Sequence
from pathlib import Path

from msgspec import Struct, field

from lean_tumbler.core.code.languages.registry import language_of
from lean_tumbler.core.code.reading import SourceFile
from lean_tumbler.core.code.settings import is_settings
from lean_tumbler.errors import SourceError

LARGEST_FILE_BYTES = 1 << 20  # a larger one is data, or was written by a program
MOST_FILES = 500_000
DEPTH = 40  # of folders in each other

# What others wrote, or programs did.
LEFT_OUT = frozenset({
    "node_modules", "vendor", "bower_components", "site-packages", "dist-packages", ".venv", "venv",
    "build", "dist", "target", "out", "__pycache__", ".git", ".hg", ".svn", ".tox", ".next",
})  # fmt: skip
_ARCHIVES = (".zip", ".tar", ".tar.gz", ".tgz", ".tar.bz2", ".tar.xz", ".jar")


class SourceTree(Struct):
    """Files of several places, and what was passed over on the way."""

    places: Sequence[Path]
    everything: bool = False  # whether folders of others are read too
    left_out: dict[str, int] = field(default_factory=dict)  # a folder's name -> how many of it
    unread: list[tuple[str, str]] = field(default_factory=list)  # a file, and why not

    def files(self) -> Iterator[SourceFile]:
        """Give each file of a language or of configuration.

        Raises:
            SourceError: where a place does not exist.
        """
        for place in self.places:
            if not place.exists():
                raise SourceError(f"{place}: there is no such file or folder")
            for count, found in enumerate(self._of(place)):
                if count >= MOST_FILES:
                    self.unread.append((str(place), f"more than {MOST_FILES:,} files"))
                    break
                yield found

    def load(self, path: str) -> bytes:
        """Read a file again that was given before; one of an archive is kept nowhere."""
        try:
            return Path(path).read_bytes()
        except OSError:
            return b""

    def _of(self, place: Path) -> Iterator[SourceFile]:
        if place.is_dir():
            yield from self._folder(place, 0)
        elif place.name.lower().endswith(_ARCHIVES):
            yield from self._archive(place)
        else:
            yield from self._file(place)

    def _folder(self, folder: Path, depth: int) -> Iterator[SourceFile]:
        if depth > DEPTH:
            self.unread.append((str(folder), f"more than {DEPTH} folders deep"))
            return
        try:
            entries = sorted(os.scandir(folder), key=lambda entry: entry.name)
        except OSError as error:
            self.unread.append((str(folder), error.strerror or "cannot be read"))
            return
        for entry in entries:
            if entry.is_symlink():
                continue  # what it leads to is read where it stands, or is not of the tree
            if entry.is_dir(follow_symlinks=False):
                if entry.name in LEFT_OUT and not self.everything:
                    self.left_out[entry.name] = self.left_out.get(entry.name, 0) + 1
                else:
                    yield from self._folder(Path(entry.path), depth + 1)
            elif _is_read(entry.name):
                yield from self._file(Path(entry.path))

    def _file(self, path: Path) -> Iterator[SourceFile]:
        try:
            status = path.stat()
            if not stat.S_ISREG(status.st_mode):
                return
            if status.st_size > LARGEST_FILE_BYTES:
                self.unread.append((str(path), f"larger than {LARGEST_FILE_BYTES >> 20} MiB"))
                return
            yield SourceFile(str(path), path.read_bytes())
        except OSError as error:
            self.unread.append((str(path), error.strerror or "cannot be read"))

    def _archive(self, place: Path) -> Iterator[SourceFile]:
        try:
            if zipfile.is_zipfile(place):
                yield from self._zip(place)
            else:
                yield from self._tar(place)
        except (OSError, EOFError, tarfile.TarError, zipfile.BadZipFile) as error:
            self.unread.append((str(place), str(error) or "damaged"))

    def _zip(self, place: Path) -> Iterator[SourceFile]:
        with zipfile.ZipFile(place) as archive:
            for member in archive.infolist():
                if self._is_wanted(place, member.filename, member.file_size):
                    yield SourceFile(f"{place}/{member.filename}", archive.read(member))

    def _tar(self, place: Path) -> Iterator[SourceFile]:
        with tarfile.open(place) as archive:
            for member in archive:
                if member.isfile() and self._is_wanted(place, member.name, member.size):
                    data = archive.extractfile(member)
                    if data is not None:
                        yield SourceFile(f"{place}/{member.name}", data.read())

    def _is_wanted(self, place: Path, name: str, size_bytes: int) -> bool:
        if not _is_read(name):
            return False
        folders = set(name.split("/")[:-1])
        if not self.everything and folders & LEFT_OUT:
            first = next(iter(folders & LEFT_OUT))
            self.left_out[first] = self.left_out.get(first, 0) + 1
            return False
        if size_bytes > LARGEST_FILE_BYTES:
            self.unread.append((f"{place}/{name}", f"larger than {LARGEST_FILE_BYTES >> 20} MiB"))
            return False
        return True


def _is_read(name: str) -> bool:
    return language_of(name) is not None or name.lower().endswith(".sql") or is_settings(name)
