"""What is asked of a new password (NIST SP 800-63B-4, section 3.1.1.2)."""

import re
import unicodedata
from collections.abc import Callable, Mapping, Set
from enum import StrEnum
from functools import cache
from types import MappingProxyType
from typing import Annotated, Literal

from msgspec import Meta, Struct

from lean_tumbler.core.audit.likely import likely_passwords
from lean_tumbler.core.schemes.catalogue import stored_value_scheme

SHORTEST = 8  # the standard's least where a password is not the only factor's rule
LEAST_LONGEST = 64  # a shorter bound than this may not be set
_NAME_LENGTH = 4  # a shorter part of a login stands in many good passwords by chance
_PART = re.compile(r"[^\W_]+")
_FOLDS_TO = 4  # code points, at most, that Unicode's NFKC makes one of by composition


class Objection(StrEnum):
    """Why a new password is not taken."""

    EMPTY = "empty"
    NOT_TEXT = "not-text"
    HOLDS_NUL = "holds-a-nul"
    TOO_MANY_BYTES = "too-many-bytes"
    TOO_SHORT = "too-short"
    TOO_LONG = "too-long"
    COMMON = "common"
    STORED_VALUE = "a-stored-value"
    LIKE_LOGIN = "like-the-login"
    LIKE_WORD = "like-a-word-of-the-organisation"
    NO_DIGIT = "needs-a-digit"
    NO_LOWER = "needs-a-lower-case-letter"
    NO_UPPER = "needs-an-upper-case-letter"
    NO_OTHER = "needs-another-character"


COMPOSITION: Mapping["CharacterKind", tuple[Objection, Callable[[str], bool]]] = MappingProxyType(
    {
        "digit": (Objection.NO_DIGIT, str.isdigit),
        "lower": (Objection.NO_LOWER, str.islower),
        "upper": (Objection.NO_UPPER, str.isupper),
        "other": (Objection.NO_OTHER, lambda character: not character.isalnum()),
    }
)


CharacterKind = Literal["digit", "lower", "upper", "other"]


class NewPasswords(Struct, frozen=True, kw_only=True):
    """The rules for new passwords.

    Attributes:
        min_length: the least length, in code points after Unicode's NFKC.
        max_length: the greatest length, in code points; at least 64.
        words: the organisation's own words, which are refused: its name, its products, its town.
        composition: kinds of characters that must occur; the standard advises against any.
    """

    min_length: Annotated[int, Meta(ge=1)] = SHORTEST
    max_length: Annotated[int, Meta(ge=LEAST_LONGEST)] = 256
    words: tuple[str, ...] = ()
    composition: tuple[CharacterKind, ...] = ()


@cache
def common_passwords() -> frozenset[str]:
    """Give likely passwords, in lower case, which no new password may be."""
    return frozenset(text.casefold() for text in likely_passwords())


def reasons_against(
    password: str, *, login: str | None, rules: NewPasswords, common: Set[str]
) -> list[Objection]:
    """Say what speaks against a new password; nothing where it may be taken.

    Args:
        password: as typed.
        login: whose it will be.
        rules: the policy's.
        common: likely passwords, in lower case.
    """
    if len(password) > _FOLDS_TO * rules.max_length:
        return [Objection.TOO_LONG]  # before anything is computed of it
    text = unicodedata.normalize("NFKC", password)
    folded = text.casefold()
    found = []
    if len(text) < rules.min_length:
        found.append(Objection.TOO_SHORT)
    if len(text) > rules.max_length:
        found.append(Objection.TOO_LONG)
    if stored_value_scheme(password):
        found.append(Objection.STORED_VALUE)
    if folded in common or len(set(folded)) <= 2:
        found.append(Objection.COMMON)
    if login and _is_made_of(folded, _parts(login)):
        found.append(Objection.LIKE_LOGIN)
    if _is_made_of(folded, {word.casefold() for word in rules.words}):
        found.append(Objection.LIKE_WORD)
    for name in rules.composition:
        reason, holds = COMPOSITION[name]
        if not any(map(holds, text)):
            found.append(reason)
    return found


def _parts(login: str) -> set[str]:
    whole = login.casefold()
    local = whole.partition("@")[0]
    parts = _PART.findall(local)
    named = {whole, local, "".join(parts), "".join(reversed(parts)), *parts}
    return {part for part in named if len(part) >= _NAME_LENGTH}


def _is_made_of(password: str, words: Set[str]) -> bool:
    """Tell a word by itself, doubled, or with digits and marks behind it."""
    end = len(password)
    while end and not password[end - 1].isalpha():
        end -= 1
    core = password[:end]
    plain = "".join(_PART.findall(core))
    return any(word and {core, plain, password} & {word, word * 2} for word in words)
