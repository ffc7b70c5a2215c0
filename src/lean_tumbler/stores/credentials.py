"""User and password for servers: from the environment or an owner-only file, never a locator."""

import os
from pathlib import Path

from msgspec import Struct

from lean_tumbler.core.records import Hidden, MaskedRecord
from lean_tumbler.stores.file_access import read_secret

USER_VARIABLE = "LEAN_TUMBLER_DATABASE_USER"
PASSWORD_VARIABLE = "LEAN_TUMBLER_DATABASE_PASSWORD"  # noqa: S105 - the name of a variable
REDIS_PASSWORD_VARIABLE = "LEAN_TUMBLER_REDIS_PASSWORD"  # noqa: S105 - likewise
_FILE = "_FILE"  # behind either name, the path of a file that holds it
_LONGEST_BYTES = 4096


class ServerLogin(MaskedRecord, Struct, frozen=True):
    """Who logs in to a server; None for what the locator or the driver's own files say."""

    user: str | None
    password: Hidden[str | None]


def from_environment(variable: str) -> str | None:
    """Give what a variable holds, or the file that the variable with `_FILE` behind it names.

    The file's last line end is no part of it. None where neither variable is set.

    Raises:
        SourceError: the file cannot be read, or others than its owner can.
    """
    if os.environ.get(variable):
        return os.environ[variable]
    path = os.environ.get(variable + _FILE)
    if not path:
        return None
    what = f"the file that {variable}{_FILE} names"
    content = read_secret(Path(path), what=what, limit_bytes=_LONGEST_BYTES)
    return content.decode("utf-8", "surrogateescape").removesuffix("\n").removesuffix("\r")


def server_login() -> ServerLogin:
    """Give user and password of a database server, or a directory, as the environment has them.

    Raises:
        SourceError: a file that holds one cannot be read.
    """
    return ServerLogin(from_environment(USER_VARIABLE), from_environment(PASSWORD_VARIABLE))
