"""Which texts of a plain-text cohort a written check takes for passwords.

It has no survey of the column, so its rule is narrower than the one of `RowReader`: what it is not
sure of, it does not check. The patterns are in the part of regular expressions that all languages
read alike.
"""

import re

LONGEST = 128  # characters
# Nobody types these: tags, documents, control characters, serialised data, lists of bytes.
NEVER = (
    r"^[$\[{<]",
    r"[\x00-\x08\x0e-\x1f\x7f]",
    r"^[abdiOs]:[0-9]+[:;]",
    r"(?:[0-9]{1,3}[,; ] ?){7}",
    r"(?:[0-9a-fA-F]{2}[: -]){3}",
    r"[0-9a-fA-F]{16}",
)
# A run in the alphabets of digests looks drawn where its class changes this often.
RUN = r"[A-Za-z0-9+/=._-]{12,}"
CLASS_RUN = r"[a-z]+|[A-Z]+|[0-9]+|[^A-Za-z0-9]+"
CHANGES, EACH = 2, 5  # changes for so many characters: RANDOM_CHANGES of `randomness`

_NEVER = tuple(re.compile(pattern) for pattern in NEVER)
_RUN, _CLASS_RUN = re.compile(RUN), re.compile(CLASS_RUN)


def is_typed(text: str) -> bool:
    """Tell whether a text is one that somebody typed, as a written check judges it."""
    if not 0 < len(text) <= LONGEST or any(pattern.search(text) for pattern in _NEVER):
        return False
    return not any(
        (len(_CLASS_RUN.findall(run)) - 1) * EACH >= CHANGES * (len(run) - 1)
        for run in _RUN.findall(text)
    )
