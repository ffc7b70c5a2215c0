"""The column that holds the stored values where a program wrote two columns the wrong way round."""

import re
from collections.abc import Mapping, Sequence

from lean_tumbler.core.schemes.base import HASHED, Says
from lean_tumbler.core.schemes.catalogue import read_value

_NAMES_PEOPLE = re.compile(r"(mail|login|user|name|nick|account)")
_SHARE = 0.8
_LEAST_ROWS = 3


def exchanged_with(stored: str, sample: Mapping[str, Sequence[str | None]]) -> str:
    """Name the column that was exchanged with one of stored values; empty where none was.

    It is named for people and holds values that say what they are; or digests, where the other
    holds mail addresses.

    Args:
        stored: a column that is named for passwords.
        sample: for each column of its table, its values in some rows.
    """
    texts = [text for text in sample[stored] if text]
    if len(texts) < _LEAST_ROWS or _share_of_digests(texts)[0] > 0:
        return ""
    are_mails = sum("@" in text for text in texts) >= _SHARE * len(texts)
    for name, values in sample.items():
        others = [text for text in values if text]
        if name == stored or len(others) < _LEAST_ROWS or not _NAMES_PEOPLE.search(name.lower()):
            continue
        digests, say_so = _share_of_digests(others)
        if say_so >= _SHARE or (are_mails and digests >= _SHARE):
            return name
    return ""


def _share_of_digests(texts: Sequence[str]) -> tuple[float, float]:
    """Give the share of digests, and of those that say what they are."""
    read = [parsed for parsed in map(read_value, texts) if parsed.kind in HASHED]
    say_so = sum(parsed.says is not Says.NOTHING for parsed in read)
    return len(read) / len(texts), say_so / len(texts)
