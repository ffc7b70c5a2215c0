"""Does a text look drawn at random? Where a word and a digest share one alphabet."""

import re

# Letters and digits drawn at random change their class in two of three places; words hardly do.
RANDOM_CHANGES = 0.4
# A run of one class; frames are read by the same pattern.
CLASS_RUN = "[a-z]+|[A-Z]+|[0-9]+|[^A-Za-z0-9]+"
_CLASS_RUN = re.compile(CLASS_RUN, re.ASCII)


def looks_random(text: str) -> bool:
    """Tell whether neighbouring characters change between cases and digits as chance would."""
    changes = len(_CLASS_RUN.findall(text)) - 1
    return changes >= RANDOM_CHANGES * (len(text) - 1)
