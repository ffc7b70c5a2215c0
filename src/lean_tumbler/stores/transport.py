"""Connections to other machines: encrypted, the server's certificate verified against its name.

Certificates are verified against the authorities of the system; SSL_CERT_FILE names others.
"""

import ssl
from collections.abc import Iterable

from lean_tumbler.errors import UsageError

_LOOPBACK = frozenset({"localhost", "127.0.0.1", "::1", ""})
# What drivers call a secret among the settings behind a URL's question mark.
_SECRETS = frozenset({"password", "passwd", "pwd", "sslpassword", "auth", "token"})


def leaves_this_machine(host: str | None) -> bool:
    """Tell whether a connection goes over a network; a socket's folder is no host."""
    name = (host or "").strip("[]").lower()
    return name not in _LOOPBACK and not name.startswith("/")


def verifying_context() -> ssl.SSLContext:
    """Give what verifies a server: its certificate, its name, and TLS 1.2 or later."""
    context = ssl.create_default_context()
    context.minimum_version = ssl.TLSVersion.TLSv1_2
    return context


def require_no_secret(settings: Iterable[str], instead: str) -> None:
    """Refuse a URL whose settings hold a secret, whatever its driver would do with it.

    Args:
        settings: the names of its settings.
        instead: where the secret belongs.

    Raises:
        UsageError: naming the setting, never what it holds.
    """
    for name in settings:
        if name.lower() in _SECRETS:
            raise UsageError(
                f"the URL holds “{name.lower()}”, which others can see; put it into {instead}"
            )
