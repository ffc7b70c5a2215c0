"""What is asked of a password before anything is computed from it."""

import unicodedata
from collections.abc import Iterator

from lean_tumbler.core.limits import Limits
from lean_tumbler.core.login.new_passwords import Objection
from lean_tumbler.core.policy import Target
from lean_tumbler.errors import PasswordRefused


def utf8(password: str) -> bytes | None:
    """Encode a password; None where it holds a lone surrogate, which UTF-8 cannot write."""
    try:
        return password.encode("utf-8")
    except UnicodeEncodeError:
        return None


AS_TYPED = "as typed"


def forms(password: str) -> Iterator[tuple[str, str]]:
    """Give a password as typed, then in Unicode's NFC and NFD where these differ, with their names.

    Keyboards and operating systems differ in how they compose accents; the legacy system stored
    whichever it was given.
    """
    seen: set[str] = set()
    for name, form in (
        (AS_TYPED, password),
        ("nfc", unicodedata.normalize("NFC", password)),
        ("nfd", unicodedata.normalize("NFD", password)),
    ):
        if form not in seen:
            seen.add(form)
            yield name, form


def checkable(password: str, limits: Limits) -> bool:
    """Tell whether a typed password may be checked at all."""
    raw = utf8(password)
    return raw is not None and 0 < len(raw) <= limits.password_bytes


def new_form(password: str) -> str:
    """Give the form in which a new password is stored: Unicode's NFC."""
    return unicodedata.normalize("NFC", password)


def require_storable(password: str, *, limits: Limits, target: Target) -> bytes:
    """Give the bytes of a password that may be stored.

    Raises:
        PasswordRefused: it is empty, too long, or not text that every verifier reads alike.
    """
    if password == "":
        raise PasswordRefused("the password is empty", reasons=[Objection.EMPTY])
    raw = utf8(password)
    if raw is None:
        raise PasswordRefused(
            "the password holds a lone surrogate, which is not a character",
            reasons=[Objection.NOT_TEXT],
        )
    if "\0" in password:
        raise PasswordRefused(
            "the password holds a NUL, which many verifiers take for its end",
            reasons=[Objection.HOLDS_NUL],
        )
    if len(raw) > limits.password_bytes:
        raise PasswordRefused(
            f"the password is longer than {limits.password_bytes} bytes (limits.password_bytes)",
            reasons=[Objection.TOO_MANY_BYTES],
        )
    taken_in = target.derivation.password_bytes
    if 0 < taken_in < len(raw):
        raise PasswordRefused(
            f"the password is longer than the {taken_in} bytes that {target.scheme} takes in",
            reasons=[Objection.TOO_MANY_BYTES],
        )
    return raw
