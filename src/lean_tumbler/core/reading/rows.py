"""One row as it was read, whatever store it comes from; and its bytes as text."""

import json
import re
from collections.abc import Mapping, Sequence
from types import MappingProxyType

from msgspec import Struct, field

from lean_tumbler.core.records import Hidden, MaskedRecord

# The roles whose content a row carries by itself; others stand under the table's own name.
STORED, SALT, LOGIN = "stored", "salt", "login"
# Signs that nobody types and no layout has; tabs and line ends are blanks, which are taken off.
CONTROL_SIGNS = "[\\x00-\\x08\\x0e-\\x1f\\x7f]"
_DIGEST_BYTES = frozenset({16, 20, 28, 32, 48, 64})
_CONTROL = re.compile(CONTROL_SIGNS.encode("ascii"))
_PRINTED = re.compile(r"\\x((?:[0-9a-f]{2})+)", re.ASCII)


def text_of(raw: bytes) -> str:
    r"""Give stored bytes as text; those that are none, as `\x` and hexadecimal digits.

    So a digest that stands as bytes in a binary column reads like one that a server printed. Some
    digests are text by chance: what is as long as one, and holds signs that nobody types, counts
    as bytes too.
    """
    by_chance = len(raw) in _DIGEST_BYTES and _CONTROL.search(raw.strip(b"\0"))
    if not by_chance:
        try:
            return raw.decode("utf-8")
        except UnicodeDecodeError:
            pass
    return "\\x" + raw.hex()


def bytes_of(text: str) -> bytes:
    """Give the bytes of which `text_of` made a text."""
    printed = _PRINTED.fullmatch(text)
    if printed:
        raw = bytes.fromhex(printed[1])
        if text_of(raw) == text:
            return raw
    return text.encode("utf-8")


class Row(MaskedRecord, Struct, frozen=True, kw_only=True):
    """One row, in the store's own bytes."""

    stored: Hidden[bytes | None]  # the stored value; None where it is NULL
    # the salt column; None where it is NULL or there is none
    salt: Hidden[bytes | None] = None
    login: str | None = None  # the login
    # what names the row in its table, as text: a value may be bound to it; None where nothing does
    account: str | None = None
    # further columns, by the table's own names
    others: Hidden[Mapping[str, bytes | None]] = field(default_factory=dict)

    @property
    def text(self) -> str | None:
        """The stored value as text; None where it is NULL."""
        return None if self.stored is None else text_of(self.stored)

    @property
    def is_binary(self) -> bool:
        """Whether the stored value is bytes that are no text: never a password as typed."""
        return self.stored is not None and text_of(self.stored).encode("utf-8") != self.stored

    def content(self, column: str, *, role: str = "") -> bytes | None:
        """Give what stands in a column, by role where it has one of the three, else by name."""
        if role == STORED:
            return self.stored
        if role == SALT:
            return self.salt
        if role == LOGIN:
            return None if self.login is None else self.login.encode("utf-8", "replace")
        return self.others.get(column)


def account_name(key: int | str | bytes | Sequence[str]) -> str:
    """Write what names a row as one text: several columns as a JSON list of their texts.

    Args:
        key: of the row; a JSON list for several columns, whatever the types of its items.
    """
    if isinstance(key, int | bytes):
        return text_of(key) if isinstance(key, bytes) else str(key)
    parts: object = key
    if isinstance(key, str):
        try:
            parts = json.loads(key) if key.startswith("[") else None
        except ValueError:
            parts = None
        if not isinstance(parts, list):
            return key
    texts = [str(part) for part in parts]  # type: ignore[attr-defined]
    return json.dumps(texts, ensure_ascii=False, separators=(",", ":"))


def given_row(
    *,
    stored: str | bytes | None,
    salt: str | bytes | None = None,
    login: str | None = None,
    account: str | None = None,
    columns: Mapping[str, str | bytes | None] = MappingProxyType({}),
) -> Row:
    """Make a row of what an application brings along.

    Raises:
        TypeError: a content is neither text nor bytes.
    """
    return Row(
        stored=_raw(stored),
        salt=_raw(salt),
        login=login,
        account=None if account is None else account_name(account),
        others={name: _raw(content) for name, content in columns.items()},
    )


def _raw(content: object) -> bytes | None:
    if not isinstance(content, str | bytes | None):
        kind = type(content).__name__
        raise TypeError(f"a stored value, salt or column must be text, bytes or None, not {kind}")
    if isinstance(content, str):
        return content.encode("utf-8", "surrogatepass")
    return content if isinstance(content, bytes) else None
