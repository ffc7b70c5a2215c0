"""Likely passwords, made by pattern: walks over a keyboard, runs, dates, and words with endings.

Nobody's leaked list is in here. The organisation's own words make the difference: people take the
name of what is in front of them.
"""

from collections.abc import Iterable, Iterator, Sequence
from functools import cache
from itertools import chain, permutations

_ROWS = ("1234567890", "qwertyuiop", "qwertzuiop", "azertyuiop", "asdfghjkl", "zxcvbnm", "yxcvbnm",
         "abcdefghijklmnopqrstuvwxyz")  # fmt: skip
_COLUMNS = ("1qaz", "2wsx", "3edc", "4rfv", "5tgb", "6yhn", "7ujm")
_RUN_LENGTHS = range(4, 13)
_WORDS = (
    *("password", "passwort", "passphrase", "secret", "letmein", "welcome", "access", "login"),
    *("admin", "administrator", "root", "user", "guest", "test", "testing", "default", "changeme"),
    *("master", "system", "server", "office", "company", "service", "internet", "computer"),
    *("hello", "iloveyou", "sunshine", "spring", "summer", "autumn", "winter", "christmas"),
    *("january", "february", "march", "april", "may", "june", "july", "august", "september"),
    *("october", "november", "december", "monday", "tuesday", "wednesday", "thursday", "friday"),
    *("saturday", "sunday", "football", "flower", "orange", "purple", "yellow", "silver", "golden"),
)
_YEARS = range(1950, 2031)
_BIRTH_YEARS = range(1965, 2013)
_ENDINGS = ("", "1", "2", "7", "12", "123", "1234", "12345", "!", "1!", "123!", "01", "00", "99")
_LOOK_ALIKE = str.maketrans({"a": "@", "o": "0", "e": "3", "i": "1", "s": "$"})
_ONLY_ZERO = str.maketrans({"o": "0"})


def likely_passwords(words: Sequence[str] = ()) -> list[str]:
    """Make the list, the likeliest first and each once.

    Args:
        words: the organisation's own: its name, its products, its town.
    """
    own = [word.strip().lower() for word in words if word.strip()]
    made = chain(
        _runs(),
        _decorated(own, years=_YEARS),
        (first + second for first, second in permutations(own, 2)),
        _of_anywhere(),
    )
    return list(dict.fromkeys(made))


@cache
def _of_anywhere() -> tuple[str, ...]:
    """Give what does not depend on the organisation; several audits in one process share it."""
    return (*_walks(), *_decorated(_WORDS, years=range(2000, 2031)), *_dates())


def _runs() -> Iterator[str]:
    """Give runs along a row and repeated characters: 123456, qwerty, 111111."""
    for length in (6, 8, *_RUN_LENGTHS):
        for row in _ROWS:
            if length <= len(row):
                yield row[:length]
                yield row[:length].capitalize()
    for length in _RUN_LENGTHS:
        for character in "0123456789abcxyz":
            yield character * length


def _walks() -> Iterator[str]:
    """Give backward runs, doubled runs, runs with digits, and columns of the keyboard."""
    for row in _ROWS:
        for length in _RUN_LENGTHS:
            if length <= len(row):
                yield row[::-1][:length]
                yield row[::-1][-length:]
        yield from (row[:length] * times for length in (2, 3, 4) for times in (2, 3, 4))
        starts = [row[:length] for length in (3, 4, 6)]
        for start in (*starts, *(text.capitalize() for text in starts)):
            yield from (start + digits for digits in ("1", "12", "123", "1234", "!"))
    for first in range(len(_COLUMNS)):
        for number in range(2, 5):
            yield "".join(_COLUMNS[first : first + number])
    for pair in range(100):
        yield f"{pair:02}" * 2
        yield f"{pair:02}" * 3
    yield from ("123321", "112233", "121212", "102030", "147258369", "159753", "789456123")


def _decorated(words: Iterable[str], *, years: Iterable[int]) -> Iterator[str]:
    """Give each word as people change it when a rule asks for it."""
    years = tuple(years)
    for word in words:
        forms = (word, word.capitalize(), word.upper(), word.translate(_ONLY_ZERO))
        altered = (word.translate(_LOOK_ALIKE), word.capitalize().translate(_LOOK_ALIKE))
        for form in (*forms, *altered):
            for ending in _ENDINGS:
                yield form + ending
        for form in forms[:2]:
            for year in years:
                yield f"{form}{year}"
                yield f"{form}{year}!"
            for year in range(100):
                yield f"{form}{year:02}"


def words_and_altered() -> tuple[tuple[str, ...], tuple[str, ...]]:
    """Give the words of anywhere, and the same with digits and signs for letters."""
    altered = [
        form.translate(table).lower()
        for word in _WORDS
        for form in (word, word.capitalize())
        for table in (_ONLY_ZERO, _LOOK_ALIKE)
    ]
    return _WORDS, tuple(dict.fromkeys(text for text in altered if text not in _WORDS))


def _dates() -> Iterator[str]:
    """Give years, and days of birth in the orders that people write them."""
    yield from (str(year) * times for year in _YEARS for times in (1, 2))
    for year in _BIRTH_YEARS:
        for month in range(1, 13):
            for day in range(1, 32):
                yield f"{day:02}{month:02}{year}"
                yield f"{day:02}{month:02}{year % 100:02}"
