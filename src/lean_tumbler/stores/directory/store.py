"""Entries of an LDAP directory as a store: logins are checked and upgraded, one by one.

A directory verifies binds by itself, so only values that it verifies are written, and layering is
refused.
"""

from collections.abc import Sequence
from typing import Any

from lean_tumbler.core.policy import Columns
from lean_tumbler.errors import SourceError, UsageError
from lean_tumbler.stores.directory.connection import connected, read_address
from lean_tumbler.stores.interface import Account, AccountKey, Swap, SwapResult

_ARGON2_TAG = "{ARGON2}"  # what OpenLDAP's Argon2 module verifies; slapd-pw-argon2(5)
_PHC = "$argon2id$"
_ASSERTION = "1.3.6.1.1.12"  # the assertion control, RFC 4528
_RESULTS = {
    "success": SwapResult.DONE,
    "noSuchAttribute": SwapResult.CHANGED,  # RFC 4511 section 4.6: the value is not there
    "noSuchObject": SwapResult.GONE,
    "assertionFailed": SwapResult.CHANGED,
}


class DirectoryStore:
    """The entries below one base.

    Args:
        locator: the URL, with its base.
        columns: the attributes for login and stored value.
        others: further attributes that readings need; of several values, the first counts.

    Raises:
        UsageError: the URL has no base, or an attribute is not named.
    """

    key_label = "entry"
    layering_refused = (
        "a directory verifies binds itself and cannot verify layered values: everybody who "
        "binds would be locked out; values are upgraded at login, in the form that it verifies"
    )

    def __init__(self, locator: str, columns: Columns, *, others: Sequence[str] = ()) -> None:
        self._others = tuple(others)
        self._address = read_address(locator)
        if not self._address.base:
            raise UsageError("the URL of a directory store needs its base: ldap://HOST/BASE")
        if not columns.login or not columns.stored:
            raise UsageError("a directory store needs [columns] login and stored: its attributes")
        self._login, self._stored = columns.login, columns.stored

    @property
    def table(self) -> str:
        """The base."""
        return self._address.base

    def fetch(self, login: str) -> list[Account]:
        """Read the values of the entry with a login; one for each."""
        from ldap3.utils.conv import escape_filter_chars  # noqa: PLC0415 - an extra

        with connected(self._address) as connection:
            connection.search(
                self._address.base,
                f"({self._login}={escape_filter_chars(login)})",
                attributes=[self._stored, *self._others],
                size_limit=3,
            )
            entries = [a for a in connection.response if a["type"] == "searchResEntry"]
        return [account for entry in entries for account in self._accounts(entry, login)]

    def _accounts(self, entry: Any, login: str) -> list[Account]:
        raw = entry["raw_attributes"]
        others = {name: next(iter(raw.get(name) or ()), None) for name in self._others}
        return [
            Account(key=entry["dn"], login=login, stored=value, others=others)
            for value in raw.get(self._stored) or [None]
        ]

    def find(self, key: str) -> Account | None:
        """Read the entry with a distinguished name; None where there is none."""
        from ldap3 import BASE  # noqa: PLC0415 - an extra

        with connected(self._address) as connection:
            connection.search(
                key, "(objectClass=*)", search_scope=BASE,
                attributes=[self._login, self._stored, *self._others],
            )  # fmt: skip
            entries = [a for a in connection.response if a["type"] == "searchResEntry"]
        for entry in entries:
            names = entry["raw_attributes"].get(self._login) or [b""]
            return self._accounts(entry, names[0].decode("utf-8", "replace"))[0]
        return None

    def swap(self, swap: Swap) -> SwapResult:
        """Take the old value out and put the new one in, in one operation of the server."""
        from ldap3 import MODIFY_ADD, MODIFY_DELETE  # noqa: PLC0415 - an extra

        new = _as_verified(str(swap.new)).encode("utf-8")
        return self._modify(swap.key, [(MODIFY_DELETE, [swap.old]), (MODIFY_ADD, [new])])

    def fill(self, key: AccountKey, new: str) -> SwapResult:
        """Add a first value; the server makes sure that none stands there."""
        from ldap3 import MODIFY_ADD  # noqa: PLC0415 - an extra
        from ldap3.operation.search import compile_filter, parse_filter  # noqa: PLC0415
        from pyasn1.codec.ber.encoder import encode  # noqa: PLC0415 - comes with ldap3

        parsed = parse_filter(f"(!({self._stored}=*))", None, False, False, None, False)
        empty = encode(compile_filter(parsed.elements[0]))
        added = [(MODIFY_ADD, [_as_verified(new).encode("utf-8")])]
        return self._modify(key, added, controls=[(_ASSERTION, True, empty)])

    def _modify(self, key: AccountKey, changes: Any, *, controls: Any = None) -> SwapResult:
        from ldap3.core.exceptions import LDAPOperationResult  # noqa: PLC0415 - an extra

        with connected(self._address, writable=True) as connection:
            try:
                connection.modify(key, {self._stored: changes}, controls=controls)
            except LDAPOperationResult as error:
                result = _RESULTS.get(error.description)
                if result is None:
                    raise
                return result
            return _RESULTS[connection.result["description"]]

    def require_answer(self) -> None:
        """Bind, and let go."""
        with connected(self._address):
            pass

    def close(self) -> None:
        """Let go of nothing: each call has a connection of its own."""


def _as_verified(value: str) -> str:
    """Write a new value as the server verifies it.

    Raises:
        SourceError: the target is none that it verifies.
    """
    if not value.startswith(_PHC):
        raise SourceError("a directory takes Argon2id values alone; set [target] to argon2id")
    return _ARGON2_TAG + value
