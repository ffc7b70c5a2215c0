"""A file as a store: it is read, worked on in a database beside, and written as another file.

The working file is an SQLite database with the rows alone. It stays when a run is stopped or
killed, so that the next one continues; the copy appears whole, in one step, when all is done.
"""

import hashlib
import os
import sqlite3
import tempfile
from collections.abc import Iterator
from contextlib import closing
from pathlib import Path
from typing import Any
from urllib.parse import quote

from msgspec.structs import replace

from lean_tumbler.core.policy import Columns, StorePolicy
from lean_tumbler.core.reading.rows import account_name, text_of
from lean_tumbler.errors import SourceError, UsageError
from lean_tumbler.stores.file_access import OWNER_ONLY, file_errors, require_own, write_parts
from lean_tumbler.stores.files.copying import Fields, Record
from lean_tumbler.stores.files.kinds import open_export
from lean_tumbler.stores.interface import Account, AccountKey
from lean_tumbler.stores.naming import require_column
from lean_tumbler.stores.sql.sqlite import open_sqlite, sqlite_errors
from lean_tumbler.stores.sql.swaps import SqlSwaps

_TABLE = "accounts"
_ROLES = ("login", "stored", "salt", "privileged", "last_login", "created", "origin")
_SELECT = f"SELECT place, CAST(stored AS BLOB) FROM {_TABLE} ORDER BY place"  # noqa: S608
_BESIDE = ("-journal", "-wal", "-shm")
_CHANGED = (
    "it has changed since it was read; run the command again, which starts from the beginning"
)


class FileStore(SqlSwaps):
    """The rows of a file, worked on beside it.

    An account's key is its line, or in a directory's export the number of the value.

    Args:
        path: the file; it is never written.
        store: its columns, and who checks its values.
        into: the copy to write; None where nothing is to be written.

    Raises:
        UsageError: the copy is there already, or a column is not.
        SourceError: a row cannot be read, or a working file cannot be written.
    """

    def __init__(self, path: Path, store: StorePolicy, *, into: Path | None) -> None:
        self._path, self._into, self._mapped = path, into, store.columns
        self._export = open_export(path)
        named = filter(None, [store.columns.account])
        self._other_names = tuple(dict.fromkeys((*store.other_columns, *named)))
        mapped = store.columns.mapped.values()
        for name in filter(None, (*mapped, *self._other_names)):
            require_column(name, self._export.columns, str(path))
        if self._export.checked_elsewhere and not store.checked_by_application:
            self.layering_refused = (
                f"{self._export.checked_elsewhere} such values and cannot check layered ones; "
                "where an application's login handler alone checks them, and by this tool, say "
                f"checked_by_application = true in [store.{store.name}]"
            )
            if into is not None:
                raise UsageError(f"{path}: {self.layering_refused}")
        self.key_label = "line" if self._export.numbered_by_line else "value"
        self._digest = _digest_of(path)
        self._made_of = (
            f"{self._digest} {hashlib.sha256(store.binding.encode('utf-8')).hexdigest()}"
        )
        self._temporary = tempfile.TemporaryDirectory() if into is None else None
        self._work = self._working_file()
        columns = Columns(
            account="place",
            login="login",
            stored="stored",
            salt="salt" if store.columns.salt else None,
            privileged="privileged" if store.columns.privileged else None,
            privileged_values=store.columns.privileged_values,
            last_login="last_login" if store.columns.last_login else None,
            created="created" if store.columns.created else None,
            origin="origin" if store.columns.origin else None,
        )
        super().__init__(
            open_sqlite(self._work, writable=True, locator=str(path)),
            table=_TABLE,
            columns=columns,
            others={name: f"other_{n}" for n, name in enumerate(self._other_names)},
            writable=True,
        )

    def _working_file(self) -> Path:
        """Take up the working file of a run that ended early, or make one."""
        if self._into is None:
            folder = Path(self._temporary.name if self._temporary else "")
            work = folder / "rows.work"
        else:
            if self._into.exists():
                raise UsageError(f"{self._into} is there already; name a new file with --into")
            work = self._into.with_name(f"{self._into.name}.work")
        if _is_own(work):
            if _made_of(work) != self._made_of:
                raise UsageError(
                    f"{work} was made of another file, or for other columns or cohorts: an "
                    "earlier run was not ended; delete it to begin anew"
                )
            return work
        beginning = work.with_name(f"{work.name}.new")
        beginning.unlink(missing_ok=True)
        try:
            with sqlite_errors(str(work)):
                self._fill(beginning)
            beginning.replace(work)
        finally:
            beginning.unlink(missing_ok=True)
        return work

    def _fill(self, work: Path) -> None:
        with file_errors(work, otherwise="cannot be written"):
            os.close(os.open(work, os.O_CREAT | os.O_EXCL | os.O_WRONLY, OWNER_ONLY))
        names = [*_ROLES, *(f"other_{n}" for n, _ in enumerate(self._other_names))]
        own = (*self._roles(), *self._other_names)
        columns = ", ".join(f"{name} TEXT" for name in names)
        with closing(sqlite3.connect(work)) as connection, connection:
            connection.execute(f"CREATE TABLE {_TABLE} (place INTEGER PRIMARY KEY, {columns})")
            connection.execute("CREATE TABLE source (made_of TEXT NOT NULL)")
            connection.executemany(
                f"INSERT INTO {_TABLE} VALUES (?{', ?' * len(names)})",  # noqa: S608 - our names
                (
                    (place, *(fields.get(name) if name else None for name in own))
                    for _, rows in self._rows()
                    for place, fields in rows
                ),
            )
            connection.execute("INSERT INTO source VALUES (?)", (self._made_of,))

    def _roles(self) -> tuple[str | None, ...]:
        columns = self._mapped
        return tuple(getattr(columns, role) for role in _ROLES)

    def _rows(self) -> Iterator[tuple[Record, list[tuple[int, Fields]]]]:
        """Give each record of the file with its rows, numbered."""
        number = 0
        for record in self._export.records(self._mapped.stored or ""):
            rows = []
            for fields in record.rows:
                number += 1
                rows.append((record.line if self._export.numbered_by_line else number, fields))
            yield record, rows

    def _account(self, row: Any) -> Account:
        """Give a row; a line may move, so only a column names it for good."""
        account, column = super()._account(row), self._mapped.account
        content = account.others.get(column) if column else None
        name = None if content is None else account_name(text_of(content))
        return replace(account, key_is_place=True, name=name)

    @property
    def table(self) -> str:
        """The file's name."""
        return self._path.name

    def repeated(self) -> frozenset[AccountKey]:
        """Give rows whose login others have too; the values of one directory entry are its own."""
        return super().repeated() if self._export.numbered_by_line else frozenset()

    def finish(self) -> str:
        """Write the copy, and take the working file away; give the copy's path.

        Raises:
            SourceError: the file changed meanwhile, or the copy cannot be written.
        """
        if self._into is None:
            return ""
        if _digest_of(self._path) != self._digest:
            raise SourceError(f"{self._path}: {_CHANGED}")
        with sqlite_errors(str(self._work)), closing(sqlite3.connect(self._work)) as connection:
            worked = connection.execute(_SELECT)
            write_parts(self._into, self._copied(worked), mode=OWNER_ONLY)
        self.close()
        self._work.unlink()
        return str(self._into)

    def _copied(self, worked: Iterator[tuple[int, bytes | None]]) -> Iterator[bytes]:
        stored = self._mapped.stored or ""
        for record, rows in self._rows():
            new: list[str | None] = []
            for place, fields in rows:
                here, value = next(worked, (0, None))
                if here != place:
                    raise SourceError(f"{self._path}: {_CHANGED}")
                text = None if value is None else value.decode("utf-8")
                new.append(None if text == fields.get(stored) else text)
            changed = any(value is not None for value in new)
            yield record.replaced(new) if changed else record.raw

    def close(self) -> None:
        """Let go of the working file; a temporary one goes."""
        super().close()
        if self._temporary is not None:
            self._temporary.cleanup()


def _digest_of(path: Path) -> str:
    with file_errors(path), path.open("rb") as file:
        return hashlib.file_digest(file, "sha256").hexdigest()


def _is_own(work: Path) -> bool:
    """Tell whether a working file is there; SQLite takes up what stands beside it as well.

    Raises:
        UsageError: somebody else has put it there, or can write to it.
    """
    for path in (work, *(work.with_name(work.name + end) for end in _BESIDE)):
        if path.is_symlink():
            raise UsageError(f"{path} is a link; remove it, or name another --into")
        if path.exists():
            require_own(path, path.stat(), what="the rows that are worked on")
    return work.exists()


def _made_of(work: Path) -> str:
    """Tell of which file, and by which policy, a working file was made.

    Raises:
        UsageError: it is no working file of this tool.
    """
    try:
        with closing(sqlite3.connect(f"file:{quote(str(work))}?mode=ro", uri=True)) as connection:
            (found,) = connection.execute("SELECT made_of FROM source").fetchall()
            return str(found[0])
    except (sqlite3.Error, ValueError):
        raise UsageError(f"{work} is in the way: move it, or name another --into") from None
