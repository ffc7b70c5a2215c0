"""Invented passwords of the kinds that people have; nobody's own."""

import random
import string
from collections.abc import Callable

_WORDS = [
    "harbour",
    "gull",
    "tide",
    "anchor",
    "ferry",
    "marina",
    "lantern",
    "compass",
    "sailor",
    "island",
    "summer",
    "winter",
    "dragon",
    "monkey",
    "flower",
    "football",
    "master",
    "shadow",
    "purple",
    "orange",
    "coffee",
    "cookie",
    "banana",
    "princess",
    "sunshine",
    "london",
    "berlin",
    "madrid",
    "paris",
    "roma",
    "wasser",
    "hafen",
    "schiff",
    "sommer",
    "liebe",
    "engel",
    "blume",
    "katze",
    "hund",
    "bateau",
    "soleil",
    "amour",
    "chat",
    "maison",
    "plage",
    "barco",
    "playa",
    "amor",
    "gato",
    "casa",
    "isola",
    "mare",
    "nave",
    "sole",
    "cane",
    "elizabeth",
    "christopher",
    "michael",
    "jessica",
    "daniel",
    "martin",
    "sophia",
    "oliver",
    "charlotte",
    "benjamin",
]
_SIGNS = "!?.-_*#+"
_LEET = str.maketrans("aeios", "4310$")
_KEYBOARD = ("qwertyuiop", "asdfghjkl", "zxcvbnm", "1234567890", "qwertzuiop", "1q2w3e4r5t6y")
_MANAGER = (
    string.ascii_letters + string.digits,
    string.ascii_lowercase + string.digits,
    string.ascii_letters + string.digits + "!@#$%^&*-_",
    string.ascii_letters + string.digits + string.punctuation.replace("\\", ""),
)

Chance = random.Random


def word(chance: Chance) -> str:
    return chance.choice(_WORDS)


def _word_and_digits(chance: Chance) -> str:
    text = word(chance)
    if chance.random() < 0.3:
        text = text.capitalize()
    return text + str(chance.randrange(10 ** chance.randint(1, 4)))


def _two_words(chance: Chance) -> str:
    return word(chance) + chance.choice(["", "", "-", " ", "_", "."]) + word(chance)


def _leet(chance: Chance) -> str:
    return word(chance).translate(_LEET) + chance.choice(["", "1", "12", "123", "!"])


def _date(chance: Chance) -> str:
    day, month, year = chance.randint(1, 28), chance.randint(1, 12), chance.randint(1940, 2012)
    return chance.choice(
        [f"{day:02}{month:02}{year}", f"{year}{month:02}{day:02}", f"{day}.{month}.{year}"]
    )


def _walk(chance: Chance) -> str:
    row = chance.choice(_KEYBOARD)
    length = chance.randint(4, len(row))
    return row[:length] + chance.choice(["", "1", "123", row[:3]])


def _phone(chance: Chance) -> str:
    return "0" + "".join(chance.choices(string.digits, k=chance.randint(8, 10)))


def _phrase(chance: Chance) -> str:
    return " ".join(word(chance) for _ in range(chance.randint(3, 5)))


def _accented(chance: Chance) -> str:
    return chance.choice(["Möwe", "Grüße", "niño", "façade", "žluťoučký", "пароль", "密碼"]) + str(
        chance.randrange(1000)
    )


def _signed(chance: Chance) -> str:
    return _word_and_digits(chance) + chance.choice(_SIGNS)


def _hexlike(chance: Chance) -> str:
    """Words and numbers that are hexadecimal by accident."""
    return chance.choice(["deadbeef", "facade", "decade", "cafe", "babe", "abba", "feed"]) + str(
        chance.randrange(10_000)
    )


# Out of a hundred.
_MADE_UP: tuple[tuple[int, Callable[[Chance], str]], ...] = (
    (34, _word_and_digits), (16, _two_words), (8, _leet), (9, _date), (7, _walk), (3, _phone),
    (4, _phrase), (4, _accented), (12, _signed), (1, _hexlike), (2, word),
)  # fmt: skip


def made_up(chance: Chance) -> str:
    """A password that somebody thought of."""
    (make,) = chance.choices(
        [make for _, make in _MADE_UP], weights=[weight for weight, _ in _MADE_UP]
    )
    return make(chance)


def drawn(chance: Chance) -> str:
    """A password that a manager drew: 8 to 24 characters."""
    alphabet = chance.choice(_MANAGER)
    return "".join(chance.choices(alphabet, k=chance.choice([8, 10, 12, 14, 15, 16, 18, 20, 24])))


def human(chance: Chance, *, managers: float = 0.03) -> str:
    """Anybody's password."""
    return drawn(chance) if chance.random() < managers else made_up(chance)
