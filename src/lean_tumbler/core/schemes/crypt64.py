"""The base64 of crypt(3): six bits a character, the lowest first (crypt(5))."""

ALPHABET = "./0123456789ABCDEFGHIJKLMNOPQRSTUVWXYZabcdefghijklmnopqrstuvwxyz"
CHARACTERS = r"[./0-9A-Za-z]"
_VALUES = {character: value for value, character in enumerate(ALPHABET)}


def number(text: str) -> int:
    """Read a number, its lowest six bits first."""
    return sum(_VALUES[character] << 6 * place for place, character in enumerate(text))


def decode(text: str) -> bytes:
    """Read bytes: four characters hold three, the lowest first; a rest below a byte is dropped."""
    raw = bytearray()
    for start in range(0, len(text), 4):
        part = text[start : start + 4]
        raw += number(part).to_bytes(3, "little")[: len(part) * 6 // 8]
    return bytes(raw)
