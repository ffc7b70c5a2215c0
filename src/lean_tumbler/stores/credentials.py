"""The password for a server: from the environment, never from a locator."""

import os

PASSWORD_VARIABLE = "LEAN_TUMBLER_DATABASE_PASSWORD"  # noqa: S105 - the name of a variable


def password_from_environment() -> str | None:
    """Give the password of a server; None where none is set."""
    return os.environ.get(PASSWORD_VARIABLE) or None
