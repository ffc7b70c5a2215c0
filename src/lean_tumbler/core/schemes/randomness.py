"""Does a text look drawn at random? Where a word and a digest share one alphabet."""

from itertools import pairwise

# Letters and digits drawn at random change their class in two of three places; words hardly do.
_RANDOM_CHANGES = 0.4


def _character_class(character: str) -> str:
    if character.isdigit():
        return "digit"
    if character.isalpha():
        return "upper" if character.isupper() else "lower"
    return "other"


def looks_random(text: str) -> bool:
    """Tell whether neighbouring characters change between cases and digits as chance would."""
    classes = [_character_class(character) for character in text]
    changes = sum(first != second for first, second in pairwise(classes))
    return changes >= _RANDOM_CHANGES * (len(text) - 1)
