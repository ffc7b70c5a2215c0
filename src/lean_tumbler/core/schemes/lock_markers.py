"""Text that no password opens: how systems write "this account has no password login"."""

import base64
import re
from collections.abc import Callable

from lean_tumbler.core.schemes.base import Contents, Kind, Layout
from lean_tumbler.core.schemes.derivation import Family

# shadow(5): a field that holds no valid crypt result, customarily starting with `!` or `*`,
# closes password login; `x` says that the value stands in another file.
_SOURCE = "shadow(5), passwd(5)"
MARKERS = ("!", "!!", "*", "**", "*LK*", "*NP*", "!*", "*!")  # those that say by themselves so
# What this tool writes: nobody can type it, and no two are alike, so that what one step wrote is
# told from what another wrote, and from what somebody set by hand.
START, RANDOM_BYTES = "!locked$", 16
RANDOM_CHARACTERS = 22
ALPHABET = "A-Za-z0-9_-"


def new_marker(randomness: Callable[[int], bytes]) -> str:
    """Make a marker with 128 random bits."""
    drawn = base64.urlsafe_b64encode(randomness(RANDOM_BYTES)).decode("ascii")
    return START + drawn.rstrip("=")


LAYOUTS = (
    Layout(
        scheme="lock-marker",
        name="marker",
        structure="! !! * ** x *LK* *NP* !* *!",
        source=_SOURCE,
        kind=Kind.LOCKED,
        pattern="|".join(map(re.escape, (*MARKERS, "x"))),
        build=lambda _: Contents(),
        longest=4,
    ),
    Layout(
        scheme="lock-marker",
        name="marker of a bulk step",
        structure=f"{START} and {RANDOM_CHARACTERS} random characters",
        source="docs/FORMATS.md",
        kind=Kind.LOCKED,
        starts=(START,),
        pattern=rf"!locked\$[{ALPHABET}]{{{RANDOM_CHARACTERS}}}",
        build=lambda _: Contents(),
        longest=len(START) + RANDOM_CHARACTERS,
    ),
    Layout(
        scheme="lock-marker",
        name="marker and old value",
        structure="! or * and an old value in dollar fields",
        source=_SOURCE,
        kind=Kind.LOCKED,
        starts=("!$", "*$", "!!$"),
        pattern=r"(?:!!?|\*)\$(?P<rest>[ -~]+)",
        lengths_count=False,
        build=lambda _: Contents(
            notes=("An old value follows the marker; removing the marker opens the account.",)
        ),
    ),
)

FAMILY = Family(name="lock markers", layouts=LAYOUTS)
