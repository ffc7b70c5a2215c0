"""What became of a first password; the value is not in it."""

from __future__ import annotations

from typing import TYPE_CHECKING

from lean_tumbler.reports.documents import Document, new_document

if TYPE_CHECKING:
    from lean_tumbler.jobs.set_password.setting import PasswordSet


def set_password_document(found: PasswordSet) -> Document:
    """Give it as a document."""
    return new_document(
        "set-password",
        account=found.key,
        was=str(found.was),
        written=found.written,
        to=found.scheme if found.written else None,
    )


def set_password_text(found: PasswordSet) -> str:
    """Give it as a line."""
    if not found.written:
        return f"Account {found.key!r} was changed meanwhile; nothing was written.\n"
    return f"Account {found.key!r} now has a password ({found.scheme}); it was: {found.was}.\n"
