"""What became of a first password; the value is not in it."""

from __future__ import annotations

from typing import Annotated

from lean_tumbler.reports.documents import Document, Key, named


class SetPasswordDocument(Document, tag=named("set-password")):
    """What became of a first password."""

    account: Key
    was: Annotated[str, "what the account had before"]
    written: Annotated[bool, "whether the password was set"]
    to: Annotated[str | None, "the scheme that it was written with; null where nothing was"]


def set_password_text(found: SetPasswordDocument) -> str:
    """Give it as a line."""
    if not found.written:
        return f"Account {found.account!r} was changed meanwhile; nothing was written.\n"
    return f"Account {found.account!r} now has a password ({found.to}); it was: {found.was}.\n"
