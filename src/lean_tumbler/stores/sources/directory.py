"""A live LDAP directory (RFC 4511): each naming context is a table, each entry's password a row."""

from collections.abc import Iterator, Mapping, Sequence
from contextlib import closing, contextmanager
from dataclasses import dataclass, field
from functools import cached_property
from itertools import islice
from typing import Any
from urllib.parse import unquote, urlsplit

from lean_tumbler.core.audit.discovery import SAMPLE_ROWS
from lean_tumbler.errors import SourceError, UsageError
from lean_tumbler.stores.locators import PASSWORD_VARIABLE, password_from_environment
from lean_tumbler.stores.sources.base import (
    Frames,
    Rows,
    Schemaless,
    Unreadable,
    entry_rows,
    frames_of_rows,
)

_SCHEMES = ("ldap", "ldaps", "ldapi")
_BIND_NAME = "bindname"  # RFC 2255 section 4
_LOOPBACK = frozenset({"localhost", "127.0.0.1", "::1", ""})
_PAGE_ENTRIES = 500  # RFC 2696; servers commonly allow 500 or 1000
_PAGES = "1.2.840.113556.1.4.319"  # RFC 2696 section 2
_SECONDS = 10
_ALL = ("*", "+")  # all user attributes, and all operational ones (RFC 3673)
_HOW_TO_INSTALL = "pip install 'lean-tumbler[directory]'"


def is_directory_url(locator: str) -> bool:
    """Tell the URL of a directory (RFC 4516) from others."""
    return locator.partition("://")[0].lower() in _SCHEMES


@dataclass(frozen=True, slots=True, kw_only=True)
class DirectoryAddress:
    """Where a directory is, and as whom to ask."""

    url: str
    host: str
    base: str
    bind_name: str

    @property
    def in_clear(self) -> bool:
        """Whether the connection has no encryption of its own, and leaves this machine."""
        return self.url.startswith("ldap://") and self.host not in _LOOPBACK


def read_address(locator: str) -> DirectoryAddress:
    """Read `ldap://host:port/base????bindname=NAME` (RFC 4516).

    Raises:
        UsageError: it holds a password, or asks for what is not supported.
    """
    parts = urlsplit(locator)
    if parts.username is not None or parts.password is not None:
        raise UsageError(
            f"the URL holds a user; write ????bindname=NAME, and put the password into "
            f"{PASSWORD_VARIABLE}"
        )
    fields = parts.query.split("?")
    extensions = dict(
        extension.partition("=")[::2] for extension in ",".join(fields[3:]).split(",") if extension
    )
    if any(fields[:3]) or set(extensions) - {_BIND_NAME}:
        raise UsageError(
            "the URL of a directory has a base and a bindname alone: "
            "ldap://HOST/BASE????bindname=NAME"
        )
    return DirectoryAddress(
        url=f"{parts.scheme.lower()}://{parts.netloc}",
        host=parts.hostname or "",
        base=unquote(parts.path.lstrip("/")),
        bind_name=unquote(extensions.get(_BIND_NAME, "")),
    )


@contextmanager
def _connected(address: DirectoryAddress) -> Iterator[Any]:
    """Open a connection that may only read; every failure of it is one line."""
    try:
        import ldap3  # noqa: PLC0415 - an extra
    except ModuleNotFoundError:
        raise UsageError(f"a directory needs one more package: {_HOW_TO_INSTALL}") from None
    password = password_from_environment()
    try:
        server = ldap3.Server(address.url, connect_timeout=_SECONDS, get_info=ldap3.DSA)
        connection = ldap3.Connection(
            server,
            user=address.bind_name or None,
            password=password if address.bind_name else None,
            read_only=True,
            raise_exceptions=True,
            auto_referrals=False,
            receive_timeout=60,
        )
        with closing(_Closing(connection)):
            connection.open()
            if address.in_clear:
                connection.start_tls()
            connection.bind()
            yield connection
    except ldap3.core.exceptions.LDAPException as error:
        raise SourceError(f"{address.url}: {_reason(getattr(error, 'description', ''))}") from None


@dataclass(frozen=True, slots=True)
class _Closing:
    """Unbinds at the end, whatever state the connection is in."""

    connection: Any

    def close(self) -> None:
        """End the connection."""
        self.connection.strategy.close()


def _reason(result: str) -> str:
    """Say what went wrong without the server's own message, which may hold what was sent."""
    if result in {"sizeLimitExceeded", "timeLimitExceeded", "adminLimitExceeded"}:
        return f"the server ended the search early ({result}); bind as somebody without limits"
    if result == "invalidCredentials":
        return f"the bindname or the password in {PASSWORD_VARIABLE} is refused"
    if result:
        return f"the server answered {result}"
    return "the directory cannot be reached, or went away"


@dataclass(frozen=True)
class DirectoryTable(Schemaless):
    """All entries below one base."""

    address: DirectoryAddress
    name: str = field()

    @cached_property
    def columns(self) -> tuple[str, ...]:
        """The attributes of the first entries, in order of appearance."""
        names: dict[str, None] = {}
        with closing(self._rows(_ALL, Unreadable())) as rows:
            for _, row in islice(rows, SAMPLE_ROWS):
                names.update(dict.fromkeys(row))
        return tuple(names)

    def frames(self, wanted: Sequence[str], unreadable: Unreadable) -> Frames:
        """Read the wanted attributes as text."""
        return frames_of_rows(self._rows(wanted, unreadable), wanted, unreadable)

    def _rows(self, wanted: Sequence[str], unreadable: Unreadable) -> Rows:
        number = 0
        with _connected(self.address) as connection:
            for answer in self._answers(connection, wanted):
                number += 1
                entry, undecodable = _entry(answer)
                # Of all attributes some are pictures and certificates; one asked for is a fault.
                if undecodable and wanted is not _ALL:
                    unreadable.add(number, f"{undecodable} is not UTF-8 text")
                    continue
                yield from entry_rows(number, entry)

    def _answers(self, connection: Any, wanted: Sequence[str]) -> Iterator[Mapping[str, Any]]:
        """Ask page by page (RFC 2696); a search that the server ends early is no answer."""
        cookie: bytes | None = None
        attributes = [name for name in wanted if name != "dn"]
        while True:
            connection.search(
                self.name,
                "(objectClass=*)",
                attributes=attributes,
                paged_size=_PAGE_ENTRIES,
                paged_cookie=cookie,
            )
            yield from (a for a in connection.response if a["type"] == "searchResEntry")
            result = connection.result
            if result["result"] != 0:
                raise SourceError(f"{self.address.url}: {_reason(result['description'])}")
            cookie = result.get("controls", {}).get(_PAGES, {}).get("value", {}).get("cookie")
            if not cookie:
                return


def _entry(answer: Mapping[str, Any]) -> tuple[dict[str, list[str]], str]:
    """Give an entry's attributes as text, and the name of one that is none."""
    entry: dict[str, list[str]] = {"dn": [answer["dn"]]}
    undecodable = ""
    for described, values in answer["raw_attributes"].items():
        name = described.split(";")[0]
        for value in values:
            try:
                entry.setdefault(name, []).append(value.decode("utf-8"))
            except UnicodeDecodeError:
                undecodable = name
    return {name: texts for name, texts in entry.items() if texts}, undecodable


def tables_of_directory(locator: str) -> tuple[str, list[DirectoryTable]]:
    """Find what a directory holds: the base of the URL, or all its naming contexts.

    Returns:
        What messages call the directory, and its tables.

    Raises:
        UsageError: the URL is not one of a directory.
        SourceError: it cannot be reached.
    """
    address = read_address(locator)
    if address.base:
        return address.url, [DirectoryTable(address, address.base)]
    with _connected(address) as connection:
        contexts = connection.server.info.naming_contexts or ()
    return address.url, [DirectoryTable(address, context) for context in contexts]
