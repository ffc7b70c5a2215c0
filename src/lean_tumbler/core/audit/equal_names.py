"""The names of equal tables, as the schemas of many tenants have them: what they share."""

from itertools import takewhile

FEWEST_EQUAL = 3  # tables; two may be a table and its copy
_FEWEST_SIGNS = 3  # that the names of equal tables share


def shared_name(names: set[str]) -> str:
    """Give what names share, with a star for what tells them apart; empty where that is nothing."""
    if len(names) < FEWEST_EQUAL:
        return ""
    digits = "0123456789"
    before = _common_start(names)
    behind = _common_start({name[len(before) :][::-1] for name in names})[::-1]
    before, behind = before.rstrip(digits), behind.lstrip(digits)
    is_copied = before + behind in names  # then the others are copies of that one
    is_told = len(before + behind) >= _FEWEST_SIGNS and not is_copied
    has_pattern = any(sign in name for name in names for sign in "*?[")
    return f"{before}*{behind}" if is_told and not has_pattern else ""


def _common_start(texts: set[str]) -> str:
    first, last = min(texts), max(texts)  # what these two share, all between them share
    same = takewhile(lambda pair: pair[0] == pair[1], zip(first, last, strict=False))
    return "".join(sign for sign, _ in same)
