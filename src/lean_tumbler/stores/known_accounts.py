"""Files of known accounts: CSV with `login,password[,stored[,salt]]`, and parts of formulas."""

import csv
import io
from collections.abc import Callable, Mapping, Sequence
from pathlib import Path
from typing import TYPE_CHECKING

from msgspec import Struct, field

from lean_tumbler.core.masked import Masked
from lean_tumbler.core.records import Hidden, MaskedRecord
from lean_tumbler.errors import KnownAccountsError, SourceError
from lean_tumbler.stores.file_access import read_text

if TYPE_CHECKING:
    from _csv import Reader

KNOWN_BYTES = 64 << 20
_COLUMNS = ("login", "password", "stored", "salt")


class KnownAccount(MaskedRecord, Struct, frozen=True, kw_only=True):
    """An account whose password somebody knows; `others` are the file's further columns."""

    line: int
    login: str
    password: Masked[str]
    stored: Masked[str] | None = None
    salt: Hidden[bytes | None] = None
    others: Hidden[Mapping[str, str]] = field(default_factory=dict)


def read_known_accounts(
    path: Path, *, with_stored: bool, say: Callable[[str], None] = lambda _: None
) -> list[KnownAccount]:
    """Read a file of known accounts.

    Args:
        path: the CSV file, UTF-8, with a header line.
        with_stored: whether the stored values must stand in the file.
        say: told what was taken off.

    Raises:
        KnownAccountsError: a column is missing or a row cannot be used; line and column named.
        SourceError: the file cannot be read.
    """
    try:
        text = read_text(path, limit_bytes=KNOWN_BYTES)
    except SourceError as error:
        raise KnownAccountsError(f"known accounts: {error}") from None
    reader = csv.reader(io.StringIO(text, newline=""), strict=True)
    try:
        return _accounts(path, reader, with_stored=with_stored, say=say)
    except csv.Error as error:
        raise KnownAccountsError(f"{path}: line {reader.line_num}: {error}") from None


def names_stored(path: Path) -> bool:
    """Tell whether a file of known accounts has a column of stored values.

    Raises:
        KnownAccountsError: the file cannot be read.
    """
    try:
        first = read_text(path, limit_bytes=KNOWN_BYTES).partition("\n")[0]
    except SourceError as error:
        raise KnownAccountsError(f"known accounts: {error}") from None
    return "stored" in [name.strip().lower() for name in next(csv.reader([first]), [])]


def read_earlier(path: Path) -> dict[str, str]:
    """Read an older dump: login -> stored value.

    Raises:
        KnownAccountsError: a column is missing, or the file is no CSV.
        SourceError: the file cannot be read.
    """
    text = read_text(path, limit_bytes=KNOWN_BYTES)
    rows = csv.DictReader(io.StringIO(text, newline=""))
    try:
        if not {"login", "stored"} <= set(rows.fieldnames or ()):
            raise KnownAccountsError(f"{path}: line 1: the first line must name login,stored")
        return {row["login"]: row["stored"] or "" for row in rows if row["login"]}
    except csv.Error as error:
        raise KnownAccountsError(f"{path}: line {rows.line_num}: {error}") from None


def listed_accounts(path: Path) -> frozenset[str]:
    """Read a list of accounts: the keys in its column `account`, as the list has them.

    Raises:
        KnownAccountsError: there is no such column, no account, or the file is no CSV.
        SourceError: the file cannot be read.
    """
    text = read_text(path, limit_bytes=KNOWN_BYTES)
    rows = csv.DictReader(io.StringIO(text, newline=""), strict=True)
    try:
        if "account" not in (rows.fieldnames or ()):
            raise KnownAccountsError(f"{path}: line 1: the first line must name account")
        found = frozenset(row["account"] for row in rows if row["account"])
    except csv.Error as error:
        raise KnownAccountsError(f"{path}: line {rows.line_num}: {error}") from None
    if not found:
        raise KnownAccountsError(f"{path}: no account after the header line")
    return found


def _accounts(
    path: Path, reader: "Reader", *, with_stored: bool, say: Callable[[str], None]
) -> list[KnownAccount]:
    head = [name.strip().lower() for name in next(reader, [])]
    needed = _COLUMNS[:3] if with_stored else _COLUMNS[:2]
    missing = [name for name in needed if name not in head]
    if missing:
        wanted = "login,password"
        if with_stored:
            wanted += ",stored[,salt]; or take the stored values from a store, with --store"
        raise KnownAccountsError(
            f"{path}: line 1: no column “{missing[0]}”; the first line must name {wanted}"
        )
    rows: list[tuple[int, dict[str, str]]] = []
    for row in reader:
        if not row:
            continue
        if len(row) != len(head):
            hint = " (values with commas need quotes)" if len(row) > len(head) else ""
            raise KnownAccountsError(
                f"{path}: line {reader.line_num}: {len(row)} fields, expected {len(head)}{hint}"
            )
        rows.append((reader.line_num, dict(zip(head, row, strict=True))))
    if not rows:
        raise KnownAccountsError(f"{path}: no account after the header line")
    if _are_padded([fields for _, fields in rows], needed):
        say(f"{path}: every login has blanks around it; blanks around all fields were removed")
        rows = [(n, {name: text.strip() for name, text in row.items()}) for n, row in rows]
    return [_account(path, number, fields, with_stored) for number, fields in rows]


def _are_padded(rows: list[dict[str, str]], needed: Sequence[str]) -> bool:
    """Tell a file whose program pads its fields: a password alone may well end with a blank."""
    never_blank = [name for name in needed if name != "password"]
    return all(row[name] != row[name].strip() for row in rows for name in never_blank)


def _account(path: Path, line: int, fields: dict[str, str], with_stored: bool) -> KnownAccount:
    for name in ("login", "password", "stored") if with_stored else ("login", "password"):
        if not fields[name]:
            raise KnownAccountsError(f"{path}: line {line}: the column “{name}” is empty")
    salt = fields.get("salt")
    return KnownAccount(
        line=line,
        login=fields["login"],
        password=Masked(fields["password"]),
        stored=Masked(fields["stored"]) if with_stored else None,
        salt=None if salt is None else salt.encode("utf-8"),
        others={name: text for name, text in fields.items() if name not in _COLUMNS},
    )
