"""How likely people write a text, in bits: the model that digests are held against.

Letters follow each other as in words; case, digits and signs change as people change them; steps
and repetitions are likelier than chance. A share of all passwords is drawn by programs.
"""

from functools import lru_cache
from math import inf, log2

# Letter after letter in words of 3 to 12 letters, after the beginning first: half bits, a = 0.
# Source: Debian's word lists wamerican, wngerman, wspanish, wfrench, witalian and wdutch, equally
# weighted, accents taken off, 3 % spread evenly.
_LETTERS = "abcdefghijklmnopqrstuvwxyz"
_FIRST = "hihiikjkknlkjmliqihjmkmtrm"
_NEXT_LETTER = (
    "lkjiqmkoipnhigslqghhkkrron fjspeqoqhqqhrrgstglnirqtpq ftjshttehtjkssftqjpkjstqpt "
    "gppmdroqfqrnqqgrtjkpjqpspr mmkkknlokqnijfomregjmmporl gosnfhnqfrphqrhqthljiqpuqp "
    "gptodrklhsqjpjirthjlirquqr fpsrerqrgtrkmlgstjkiitnunr imikgljsqloijfimpkghpltrtm "
    "fpskemnrktinojgnusknhoruum gnrqeppninkipkhotiihjpmtoq fnolfooqfsognohosrkjjorrmp "
    "fjpofrqrgtqpipfhtrlnjrrsqr hojggmhpiqmoqkiqqphfmnqtrm olklkmkomqnhiekjpfijimoqpo "
    "fqrrfmqlgqrirrgiuglkjrsuqs sttutuuurutstttuttstattuuu fmmkfompgsmmllgorkjjkoptpo "
    "hnhpgoomhqomlpjjpqgekppupr gpqrdrplfoqoqrhrthkjkrpuon jkjkikkohqohihnlrghioonprn "
    "ettsdtttfttmttgtulqtnntust eorndrrlftpnqlhqumkokrrurs hrhsgprlftqlpskgrslgljqhlq "
    "gmkkhompksojjjiitkellrnqtq eppserprftropphrssokhskuph"
)
_ROWS = {"": _FIRST, **dict(zip(_LETTERS, _NEXT_LETTER.split(), strict=True))}
_PROBABILITY: dict[str, dict[str, float]] = {
    before: {
        letter: 2.0 ** -((ord(code) - ord("a")) / 2)
        for letter, code in zip(_LETTERS, row, strict=True)
    }
    for before, row in _ROWS.items()
}
# This project's judgement: what follows a character of one class.
_NEXT = {
    "": {"letter": 0.82, "digit": 0.15, "sign": 0.03},
    "letter": {"letter": 0.85, "digit": 0.12, "sign": 0.03},
    "digit": {"letter": 0.20, "digit": 0.75, "sign": 0.05},
    "sign": {"letter": 0.70, "digit": 0.25, "sign": 0.05},
}
_CAPITAL_FIRST, _CASE_KEPT = 0.25, 0.93
_SIGNS = 30
_STEP, _STEP_AGAIN, _STEP_KINDS = 0.15, 0.7, 5
# What programs draw from: letters and digits, small letters and digits, and with signs.
_DRAWN = ((62, 0.5), (36, 0.1), (78, 0.4))
_DRAWN_SHARE = 0.02
# Three ways of writing some 36,500 days, and one password in thirty is such a date.
_DATE_DIGITS, _DATE_BITS = 8, log2(3 * 36_500) + 5


def _class_of(character: str) -> str:
    if character.isdigit():
        return "digit"
    return "letter" if character.isalpha() else "sign"


def _length_bits(length: int) -> float:
    """How likely a password has so many characters; this project's judgement."""
    if length <= 12:
        return 3.3
    return 6.0 if length <= 16 else 8.0 + 0.5 * max(0, length - 20)


def _character(before: str, character: str) -> float:
    """The chance of a character after another, by class, case and letter."""
    kind = _class_of(character)
    last = _class_of(before) if before else ""
    chance = _NEXT[last][kind]
    if kind == "digit":
        return chance / 10
    if kind == "sign":
        return chance / _SIGNS
    if last == "letter":
        chance *= _CASE_KEPT if before.isupper() is character.isupper() else 1 - _CASE_KEPT
    else:
        chance *= _CAPITAL_FIRST if character.isupper() else 1 - _CAPITAL_FIRST
    pairs = _PROBABILITY[before.lower() if last == "letter" else ""]
    return chance * pairs.get(character.lower(), 2.0**-8)


def _is_step(text: str, place: int) -> bool:
    """Tell a character that repeats or continues one of the two before it."""
    code = ord(text[place])
    near = {ord(text[place - 1]) - 1}
    for back in text[max(0, place - 2) : place]:
        near |= {ord(back), ord(back) + 1}
    return code in near


@lru_cache(maxsize=65_536)
def typed_bits(text: str) -> float:
    """Give the bits of a text as one that somebody made up; less is likelier."""
    bits = _length_bits(len(text)) - log2(1 - _DRAWN_SHARE)
    stepped = False
    for place, character in enumerate(text):
        chance = _character(text[place - 1] if place else "", character)
        if place:
            share = _STEP_AGAIN if stepped else _STEP
            stepped = _is_step(text, place)
            chance = (1 - share) * chance + share * stepped / _STEP_KINDS
        bits -= log2(chance)
    return min(bits, _date_bits(text))


def _date_bits(text: str) -> float:
    """Give the bits of eight digits that are a day of somebody's life; else no few."""
    if len(text) != _DATE_DIGITS or not (text.isascii() and text.isdigit()):
        return inf
    for day, month, year in (
        (text[:2], text[2:4], text[4:]),
        (text[2:4], text[:2], text[4:]),
        (text[6:], text[4:6], text[:4]),
    ):
        if 1 <= int(day) <= 31 and 1 <= int(month) <= 12 and 1920 <= int(year) <= 2029:
            return _DATE_BITS
    return inf


def drawn_bits(text: str) -> float:
    """Give the bits of a text as a password that a program drew."""
    is_small = text == text.lower()
    is_signed = not text.isalnum()
    chance = sum(
        share * 2.0 ** (-len(text) * log2(size))
        for size, share in _DRAWN
        if (size == 78 or not is_signed) and (size != 36 or is_small)
    )
    return _length_bits(len(text)) - log2(chance)


def human_bits(text: str, *, drawn_share: float = _DRAWN_SHARE) -> float:
    """Give the bits of a text as anybody's password, made up or drawn."""
    typed, drawn = typed_bits(text), drawn_bits(text) - log2(max(drawn_share, 1e-9))
    least = min(typed, drawn)
    return least - log2(2.0 ** (least - typed) + 2.0 ** (least - drawn))
