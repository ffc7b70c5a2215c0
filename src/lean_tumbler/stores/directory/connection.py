"""Connecting to LDAP directories (RFC 4511), for reading and for writing."""

import ssl
from collections.abc import Iterator
from contextlib import closing, contextmanager
from typing import Any
from urllib.parse import unquote, urlsplit

from msgspec import Struct

from lean_tumbler.core.policy import DIRECTORY_SCHEMES
from lean_tumbler.errors import SourceError, UsageError
from lean_tumbler.stores.credentials import PASSWORD_VARIABLE, server_login
from lean_tumbler.stores.transport import leaves_this_machine

_BIND_NAME = "bindname"  # RFC 2255 section 4
_SECONDS = 10
_HOW_TO_INSTALL = "pip install 'lean-tumbler[directory]'"


def is_directory_url(locator: str) -> bool:
    """Tell the URL of a directory (RFC 4516) from others."""
    return locator.partition("://")[0].lower() in DIRECTORY_SCHEMES


class DirectoryAddress(Struct, frozen=True, kw_only=True):
    """Where a directory is, and as whom to ask."""

    url: str
    host: str
    base: str
    bind_name: str

    @property
    def in_clear(self) -> bool:
        """Whether the connection has no encryption of its own, and leaves this machine."""
        return self.url.startswith("ldap://") and leaves_this_machine(self.host)


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
def connected(address: DirectoryAddress, *, writable: bool = False) -> Iterator[Any]:
    """Open a connection; every failure of it is one line.

    Raises:
        UsageError: the package for directories is not installed.
        SourceError: the directory cannot be reached, or refuses.
    """
    try:
        import ldap3  # noqa: PLC0415 - an extra
    except ModuleNotFoundError:
        raise UsageError(f"a directory needs one more package: {_HOW_TO_INSTALL}") from None
    password = server_login().password
    try:
        # The name in the certificate is compared with the host of the URL.
        tls = ldap3.Tls(validate=ssl.CERT_REQUIRED)
        server = ldap3.Server(address.url, connect_timeout=_SECONDS, get_info=ldap3.DSA, tls=tls)
        connection = ldap3.Connection(
            server,
            user=address.bind_name or None,
            password=password if address.bind_name else None,
            read_only=not writable,
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
        raise SourceError(f"{address.url}: {_reason(error)}") from None


class _Closing(Struct, frozen=True):
    """Unbinds at the end, whatever state the connection is in."""

    connection: Any

    def close(self) -> None:
        """End the connection."""
        self.connection.strategy.close()


def _reason(error: Exception) -> str:
    kind = type(error).__name__
    if kind in {"LDAPCertificateError", "LDAPStartTLSError"} or "certificate" in str(error).lower():
        return (
            "the server's certificate is not valid for this host, or is signed by no authority of "
            "this system; SSL_CERT_FILE names a file of others"
        )
    return answer_reason(getattr(error, "description", ""))


def answer_reason(result: str) -> str:
    """Say what went wrong without the server's own message, which may hold what was sent."""
    if result in {"sizeLimitExceeded", "timeLimitExceeded", "adminLimitExceeded"}:
        return f"the server ended the search early ({result}); bind as somebody without limits"
    if result == "invalidCredentials":
        return f"the bindname or the password in {PASSWORD_VARIABLE} is refused"
    if result:
        return f"the server answered {result}"
    return "the directory cannot be reached, or went away"
