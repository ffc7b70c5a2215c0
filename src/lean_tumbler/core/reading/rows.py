"""One row as it was read, whatever store it comes from."""

from collections.abc import Mapping
from dataclasses import dataclass, field

# The roles whose content a row carries by itself; others stand under the table's own name.
STORED, SALT, LOGIN = "stored", "salt", "login"


@dataclass(frozen=True, slots=True, kw_only=True)
class Row:
    """One row, in the store's own bytes.

    Attributes:
        stored: the stored value; None where it is NULL.
        salt: the salt column; None where it is NULL or there is none.
        login: the login.
        others: further columns, by the table's own names.
    """

    stored: bytes | None = field(repr=False)
    salt: bytes | None = field(default=None, repr=False)
    login: str | None = None
    others: Mapping[str, bytes | None] = field(default_factory=dict, repr=False)

    def content(self, column: str, *, role: str = "") -> bytes | None:
        """Give what stands in a column, by role where it has one of the three, else by name."""
        if role == STORED:
            return self.stored
        if role == SALT:
            return self.salt
        if role == LOGIN:
            return None if self.login is None else self.login.encode("utf-8", "replace")
        return self.others.get(column)
