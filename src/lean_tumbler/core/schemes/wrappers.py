"""What stands around a whole stored value: blanks, quotes, prints of bytes, one more coding.

A copy, an export or a bug put it there. The value inside is what counts: it is read, graded and
checked; what is written is clean.
"""

import base64
import binascii
import html
import json
import re
from collections.abc import Callable, Iterator
from urllib.parse import unquote

_BLANKS = " \t\r\n\v\f\0\ufeff\xa0"
_QUOTES = {"'": "'", '"': '"', "`": "`", "‘": "’", "“": "”", "«": "»"}
# How languages print bytes: b'…', and the same with other prefixes.
_PRINT = re.compile(r"""[bB](?P<quote>['"])(?P<text>.*)(?P=quote)""", re.DOTALL)
_HEX_PRINT = re.compile(r"(?:\\x|0x|[xX]')(?P<digits>(?:[0-9a-fA-F]{2})+)'?", re.ASCII)
_ESCAPED_BYTES = re.compile(r"(?:\\x[0-9a-fA-F]{2})+", re.ASCII)
_BASE64 = re.compile(r"[A-Za-z0-9+/_-]{16,}={0,2}", re.ASCII)
_DIGITS = re.compile(r"[0-9a-f]{32,128}|[0-9A-F]{32,128}", re.ASCII)
_HEX = re.compile(r"(?:[0-9a-fA-F]{2}){8,}", re.ASCII)
# How languages print a list of bytes: in decimal with blanks or commas between, in hexadecimal, or
# each beside its place; a word or a key may stand before the list.
_NUMBER, _COMMA = r"[0-9]{1,3}+", r"(?:\s*+,\s*+|\s++)"  # possessive: nothing is tried twice
_LIST = re.compile(
    r"""(?:\{\s*+"type"\s*+:\s*+"Buffer"\s*+,\s*+"data"\s*+:\s*+|[A-Za-z]\w*+(?:\(\d++\))?+\s*+)?+"""
    rf"""[\[{{(]?+\s*+(?P<numbers>{_NUMBER}(?:{_COMMA}{_NUMBER}){{15,}}+)\s*+[\])}}]?+\s*+\}}?+""",
    re.ASCII,
)
_PAIR = rf'"[0-9]++"\s*+:\s*+{_NUMBER}'
_PLACED = re.compile(
    rf"""\{{\s*+(?P<pairs>"0"\s*+:\s*+{_NUMBER}(?:\s*+,\s*+{_PAIR}){{15,}}+)\s*+\}}""", re.ASCII
)
_DUMP = re.compile(r"<Buffer(?P<digits>(?: [0-9a-fA-F]{2}){8,})>", re.ASCII)
LONGEST = 2048  # a value that is longer wraps nothing that anybody would miss
MOST = 3  # of them, one in another

BLANKS, QUOTES, PRINT = "blanks around", "quotes around", "a print of bytes"
LIST = "a list of bytes"
# These are taken off only where what is inside names its scheme without doubt: a digest's own
# digits could be a coding of something by chance.
CODED_BASE64, CODED_HEX = "base64 around", "hexadecimal around"
ESCAPED_JSON, ESCAPED_URL, ESCAPED_HTML = "JSON escapes", "percent escapes", "HTML escapes"
_CERTAIN_ONLY = frozenset({CODED_BASE64, CODED_HEX, ESCAPED_JSON, ESCAPED_URL, ESCAPED_HTML})


def needs_certainty(wrapper: str, inner: str) -> bool:
    """Tell whether a wrapper is taken off only around a value that names its scheme.

    Digits of a digest in base64 did not come about by chance: 32 bytes that all are digits.
    """
    is_digits = wrapper == CODED_BASE64 and _DIGITS.fullmatch(inner)
    return wrapper in _CERTAIN_ONLY and not is_digits


def _blanks(text: str) -> str | None:
    return text.strip(_BLANKS)


def _quotes(text: str) -> str | None:
    is_quoted = len(text) > 2 and _QUOTES.get(text[0]) == text[-1]
    return text[1:-1] if is_quoted else None


def _print(text: str) -> str | None:
    match = _PRINT.fullmatch(text)
    if match:
        return match["text"].replace("\\\\", "\\")
    match = _HEX_PRINT.fullmatch(text)
    if match:
        return _ascii(bytes.fromhex(match["digits"]))
    if _ESCAPED_BYTES.fullmatch(text):
        return _ascii(bytes.fromhex(text.replace("\\x", "")))
    return None


def _list(text: str) -> str | None:
    """Read a list of bytes: of a value's characters, or of a digest, which is given in digits."""
    raw = _listed(text)
    return None if raw is None else _ascii(raw) or raw.hex()


def is_listed(text: str) -> bool:
    """Tell a list of bytes, as JSON too, from a document."""
    try:
        return _listed(text.strip()) is not None
    except ValueError:
        return False


def _listed(text: str) -> bytes | None:
    dump = _DUMP.fullmatch(text)
    if dump:
        return bytes.fromhex(dump["digits"])
    placed, listed = _PLACED.fullmatch(text), _LIST.fullmatch(text)
    if placed:
        numbers = [pair.partition(":")[2] for pair in placed["pairs"].split(",")]
    elif listed:
        numbers = re.split(r"[,\s]+", listed["numbers"])
    else:
        return None
    return bytes(map(int, numbers))  # above 255: no bytes, and a ValueError


def _ascii(raw: bytes) -> str | None:
    try:
        text = raw.decode("ascii").strip(_BLANKS)
    except UnicodeDecodeError:
        return None
    return text if text.isprintable() else None


def _base64(text: str) -> str | None:
    if not _BASE64.fullmatch(text):
        return None
    body = text.rstrip("=").replace("-", "+").replace("_", "/")
    try:
        return _ascii(base64.b64decode(body + "=" * (-len(body) % 4), validate=True))
    except (binascii.Error, ValueError):
        return None


def _hex(text: str) -> str | None:
    return _ascii(bytes.fromhex(text)) if _HEX.fullmatch(text) else None


def _json(text: str) -> str | None:
    if "\\" not in text or '"' in text:
        return None
    try:
        return str(json.loads(f'"{text}"'))
    except ValueError:
        return None


def _url(text: str) -> str | None:
    return unquote(text, errors="strict") if "%" in text else None


def _html(text: str) -> str | None:
    return html.unescape(text) if "&" in text else None


_TAKES_OFF: tuple[tuple[str, Callable[[str], str | None]], ...] = (
    (BLANKS, _blanks),
    (QUOTES, _quotes),
    (PRINT, _print),
    (LIST, _list),
    (ESCAPED_JSON, _json),
    (ESCAPED_URL, _url),
    (ESCAPED_HTML, _html),
    (CODED_BASE64, _base64),
    (CODED_HEX, _hex),
)


def unwrapped(text: str, *, depth: int = MOST) -> Iterator[tuple[str, tuple[str, ...]]]:
    """Give what may stand inside a text, with the wrappers that are taken off, outermost first.

    Args:
        text: the stored text.
        depth: how many wrappers may stand in each other.
    """
    if depth == 0 or len(text) > LONGEST:
        return
    for name, take_off in _TAKES_OFF:
        try:
            inner = take_off(text)
        except (UnicodeError, ValueError):
            continue
        if inner and inner != text:
            yield inner, (name,)
            for deeper, names in unwrapped(inner, depth=depth - 1):
                yield deeper, (name, *names)
