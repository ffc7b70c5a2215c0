"""Near misses on slow values: what a password may have gone through before the slow scheme took it.

A value that describes itself says everything but what it was made of. Old code trimmed it, digested
it first, escaped it for a page, read it in another encoding, or stored the name of nothing.
"""

from collections.abc import Iterator

from msgspec import Struct
from msgspec.structs import replace

from lean_tumbler.core.formulas import notation
from lean_tumbler.core.formulas.named import NamedFormula
from lean_tumbler.core.reading.readings import Reading, State
from lean_tumbler.core.reading.ways import Before, Bounds, CryptWay, DerivationWay, opens
from lean_tumbler.errors import CheckImpossible

MOST_DERIVATIONS = 400  # of one run, so that a long file of refused accounts ends

# What is tried, the likeliest first: the formula before the scheme, and what it means.
VARIANTS: tuple[tuple[str, str], ...] = (
    ("trim", "without the blanks around it"),
    ('append "\\n"', "with a line end behind it"),
    ('append " "', "with a blank behind it"),
    ('append "\\r\\n"', "with a line end of two characters behind it"),
    ('prepend " "', "with a blank before it"),
    ("utf-8, md5, hex", "digested with MD5 first"),
    ("utf-8, sha1, hex", "digested with SHA-1 first"),
    ("utf-8, sha256, hex", "digested with SHA-256 first"),
    ("utf-8, sha512, hex", "digested with SHA-512 first"),
    ("utf-8, md5, hex-upper", "digested with MD5 first, in capitals"),
    ("utf-8, sha256, base64", "digested with SHA-256 first, in base64"),
    ("utf-8, sha384, base64", "digested with SHA-384 first, in base64"),
    ("escape-html", "with its signs escaped for a page"),
    ("escape-quotes", "with its quotes escaped"),
    ("latin-1", "in Latin-1"),
    ("windows-1252", "in Windows-1252"),
    ("utf-16le", "in UTF-16"),
    ("lower", "in lower case"),
    ("upper", "in upper case"),
    ("double-utf-8", "in UTF-8 twice over"),
    *((f"first {length}", f"cut to {length} characters") for length in range(8, 73)),
    ("utf-8, first 72", "cut to 72 bytes"),
    ('prepend "b\'", append "\'"', "printed as bytes, b'…'"),
    ('surround "\\""', "in double quotes"),
    ('take ""', "left out: the value is the hash of an empty password"),
)


class SlowMiss(Struct, frozen=True):
    """What fits a slow value."""

    formula: str  # for a cohort, “FORMULA, then SCHEME”
    meaning: str  # in words


class SlowMisses:
    """Finds near misses, the variants that fitted before first; the whole run is bounded.

    Args:
        bounds: limits and keys.
        most: derivations in all.
    """

    def __init__(self, bounds: Bounds, *, most: int = MOST_DERIVATIONS) -> None:
        self._bounds = bounds
        self._left = most
        self._order = list(VARIANTS)

    @property
    def is_spent(self) -> bool:
        """Whether no derivation is left."""
        return self._left <= 0

    def takes_one(self) -> bool:
        """Take a derivation out of those of the run; tell whether one was left."""
        if self.is_spent:
            return False
        self._left -= 1
        return True

    def find(self, reading: Reading, password: str) -> SlowMiss | None:
        """Find what a password may have gone through; None where nothing that is tried fits."""
        ways = [way for way in reading.ways if isinstance(way, DerivationWay | CryptWay)]
        if not ways or reading.state is not State.VALUE:
            return None
        way = replace(ways[-1], before=None)  # the value's own, without what cohorts declare
        for text, meaning in self._tried(password):
            if not self.takes_one():
                return None
            if self._opens(replace(way, before=Before(formula=_named(text))), password):
                self._order.insert(0, self._order.pop(self._order.index((text, meaning))))
                return SlowMiss(f"{text}, then {way.origin}", meaning)
        return None

    def _tried(self, password: str) -> Iterator[tuple[str, str]]:
        """Give the variants that make other bytes of a password than it has itself."""
        seen = {password.encode("utf-8", "replace")}
        for text, meaning in tuple(self._order):
            made = Before(formula=_named(text)).of(password, self._bounds)
            if made is not None and made not in seen:
                seen.add(made)
                yield text, meaning

    def _opens(self, way: DerivationWay | CryptWay, password: str) -> bool:
        try:
            return opens(way, password, self._bounds)
        except CheckImpossible:
            return False


def _named(text: str) -> NamedFormula:
    return NamedFormula(text, notation.parse(text, may_end_in_bytes=True))
