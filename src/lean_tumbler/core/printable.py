"""Text that others wrote, as a terminal may be given it: nothing in it steers anything."""

import re

# Controls but tabs and line ends (ECMA-48: C0, DEL and C1), and marks that turn the direction of
# what follows (UAX 9, section 2), which make a name look like another.
_STEERS = re.compile("[\x00-\x08\x0b-\x1f\x7f-\x9f\u061c\u200e\u200f\u202a-\u202e\u2066-\u2069]")


def printable(text: str) -> str:
    """Write what steers a terminal as its escape; all else stays as it is."""
    return _STEERS.sub(lambda match: f"\\u{ord(match[0]):04x}", text)
