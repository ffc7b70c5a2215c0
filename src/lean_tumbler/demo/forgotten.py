"""What somebody forgot: a backup in an archive, a log of answers, and pages that were freed."""

import io
import json
import sqlite3
import tarfile
import zipfile
from contextlib import closing
from pathlib import Path

from lean_tumbler.errors import SourceError
from lean_tumbler.stores.file_access import write_bytes, write_text

BACKUP = "harbour-2025.zip"
LOG = "api.log"
FORGOTTEN = (BACKUP, LOG)
FORGOTTEN_TABLE = "passengers_2019_backup"
_LOGGED = 40  # answers that carried the whole row


def write_forgotten(folder: Path, database: str) -> None:
    """Write them beside a database, from what it holds.

    Raises:
        SourceError: it cannot be read or written.
    """
    path = folder / database
    try:
        with closing(sqlite3.connect(path)) as connection:
            rows = connection.execute(
                "SELECT id, email, pw, pw_salt FROM passengers ORDER BY id LIMIT ?", (_LOGGED,)
            ).fetchall()
            dump = "\n".join(connection.iterdump())
            connection.execute("PRAGMA secure_delete = OFF")
            connection.execute("CREATE TABLE passengers_2018 AS SELECT email, pw FROM passengers")
            connection.execute("DROP TABLE passengers_2018")
    except sqlite3.Error:
        raise SourceError(f"{path}: cannot be written") from None
    write_text(folder / LOG, "".join(map(_answer, rows)))
    write_bytes(folder / BACKUP, _zipped(_packed(dump.encode("utf-8"))), mode=0o600)


def _answer(row: tuple[int, str, str | None, str | None]) -> str:
    number, email, stored, salt = row
    answer = json.dumps({"id": number, "email": email, "password": stored, "salt": salt})
    return f"2026-04-30T09:{number % 60:02}:00Z GET /v1/me 200 {answer}\n"


def _packed(dump: bytes) -> bytes:
    packed = io.BytesIO()
    with tarfile.open(fileobj=packed, mode="w:gz") as archive:
        member = tarfile.TarInfo("portal/harbour.sql")
        member.size = len(dump)
        archive.addfile(member, io.BytesIO(dump))
    return packed.getvalue()


def _zipped(packed: bytes) -> bytes:
    zipped = io.BytesIO()
    with zipfile.ZipFile(zipped, "w") as archive:
        archive.writestr("nightly/portal.tar.gz", packed)
    return zipped.getvalue()


def clean_up(folder: Path, database: str) -> None:
    """Do what the owner of each place does: delete files, drop the table, write the pages anew."""
    for name in FORGOTTEN:
        (folder / name).unlink()
    with closing(sqlite3.connect(folder / database)) as connection:
        connection.execute("PRAGMA secure_delete = ON")
        connection.execute(f"DROP TABLE {FORGOTTEN_TABLE}")
        connection.execute("VACUUM")
