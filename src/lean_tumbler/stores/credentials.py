"""Passwords for servers: from the environment, never from a locator."""

import os

PASSWORD_VARIABLE = "LEAN_TUMBLER_DATABASE_PASSWORD"  # noqa: S105 - the name of a variable
REDIS_PASSWORD_VARIABLE = "LEAN_TUMBLER_REDIS_PASSWORD"  # noqa: S105 - likewise


def password_from_environment(variable: str = PASSWORD_VARIABLE) -> str | None:
    """Give the password of a server; None where none is set."""
    return os.environ.get(variable) or None
