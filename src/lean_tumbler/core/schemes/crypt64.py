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


def variable_number(text: str, lowest: int) -> tuple[int, str]:
    """Read a number of variable length and give the rest (libxcrypt, alg-yescrypt-common.c).

    Raises:
        ValueError: the text ends within it, or holds another character.
    """
    start, end, characters, bits = 0, 47, 1, 0
    value, number_so_far = _VALUES.get(text[:1], -1), lowest
    if value < 0:
        raise ValueError("not a character of this alphabet")
    while value > end:
        number_so_far += (end + 1 - start) << bits
        start = end + 1
        end = start + (62 - end) // 2
        characters += 1
        bits += 6
    number_so_far += (value - start) << bits
    for character in text[1:characters]:
        bits -= 6
        number_so_far += _VALUES[character] << bits
    if len(text) < characters:
        raise ValueError("the number is not whole")
    return number_so_far, text[characters:]
