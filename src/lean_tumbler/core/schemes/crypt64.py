"""The base64 of crypt(3): six bits a character, the lowest first (crypt(5))."""

from collections.abc import Iterable

ALPHABET = "./0123456789ABCDEFGHIJKLMNOPQRSTUVWXYZabcdefghijklmnopqrstuvwxyz"
CHARACTERS = r"[./0-9A-Za-z]"
_VALUES = {character: value for value, character in enumerate(ALPHABET)}


def number(text: str) -> int:
    """Read a number, its lowest six bits first."""
    return sum(_VALUES[character] << 6 * place for place, character in enumerate(text))


def number_text(value: int, characters: int) -> str:
    """Write a number, its lowest six bits first."""
    return "".join(ALPHABET[value >> 6 * place & 63] for place in range(characters))


def decode(text: str) -> bytes:
    """Read bytes: four characters hold three, the lowest first; a rest below a byte is dropped."""
    raw = bytearray()
    for start in range(0, len(text), 4):
        part = text[start : start + 4]
        raw += number(part).to_bytes(3, "little")[: len(part) * 6 // 8]
    return bytes(raw)


def encode(raw: Iterable[int]) -> str:
    """Write bytes: three make four characters, the lowest bits first; a rest makes fewer."""
    data = bytes(raw)
    characters = []
    for start in range(0, len(data), 3):
        part = data[start : start + 3]
        value = int.from_bytes(part, "little")
        characters += [ALPHABET[value >> 6 * place & 63] for place in range(len(part) + 1)]
    return "".join(characters)


# Of a number of variable length: how many first characters say that none, one, two … others follow.
_FIRST_CHARACTERS = (48, 8, 4, 2, 1, 1)


def variable_number(text: str, lowest: int) -> tuple[int, str]:
    """Read a number of variable length, highest digits first, and give the rest (crypt(5)).

    Raises:
        ValueError: the text ends within it, or holds another character.
    """
    first = _VALUES.get(text[:1], -1)
    shorter = 0  # numbers that fewer characters write
    for behind, characters in enumerate(_FIRST_CHARACTERS):
        if 0 <= first < characters:
            digits = [first, *(_VALUES.get(character, -1) for character in text[1 : behind + 1])]
            if len(digits) <= behind or -1 in digits:
                raise ValueError("the number is not whole")
            value = sum(digit << 6 * place for place, digit in enumerate(reversed(digits)))
            return lowest + shorter + value, text[behind + 1 :]
        first -= characters
        shorter += characters << 6 * behind
    raise ValueError("not a character of this alphabet")
