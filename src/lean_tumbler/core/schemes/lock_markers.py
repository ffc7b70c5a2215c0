"""Text that no password opens: how systems write "this account has no password login"."""

from lean_tumbler.core.schemes.base import Family, Kind, ParsedValue

# shadow(5): a field that holds no valid crypt result, customarily starting with `!` or `*`,
# closes password login; `x` says that the value stands in another file.
MARKERS = frozenset({"!", "!!", "*", "**", "x", "*LK*", "*NP*", "!*", "*!"})


def read(text: str) -> ParsedValue | None:
    """Read a lock marker, or an old value put out of use by a `!` before it."""
    if text in MARKERS:
        return ParsedValue(scheme="lock-marker", layout="marker", kind=Kind.LOCKED)
    if text.startswith(("!$", "*$", "!!$")):
        note = "An old value stands behind the marker; removing the marker opens the account."
        return ParsedValue(
            scheme="lock-marker", layout="marker and old value", kind=Kind.LOCKED, notes=(note,)
        )
    return None


FAMILY = Family(name="lock markers", read=read)
