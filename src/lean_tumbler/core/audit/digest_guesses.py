"""Unsalted digests against likely passwords: who is affected, and what the digests are."""

from collections.abc import Callable, Iterable, Iterator, Sequence
from functools import lru_cache
from threading import RLock
from typing import NamedTuple

import polars as pl
from msgspec import Struct

from lean_tumbler.core.audit.tally import text_hash
from lean_tumbler.core.formulas import notation
from lean_tumbler.core.formulas.evaluation import Inputs, prepared
from lean_tumbler.core.formulas.steps import DIGESTS, TEXT_ENCODINGS, Digest, Encode, Formula
from lean_tumbler.core.schemes.base import ParsedValue
from lean_tumbler.core.schemes.catalogue import read_value
from lean_tumbler.errors import InputDoesNotFit

_FEW_ROWS = 2_000  # of one group and frame; below, a table of texts costs more than it saves
_Found = tuple[str, pl.DataFrame]
_NESTED_FIRST = ("md5", "sha1")
_GUESSED_PASSWORDS = 2_000  # enough to see what the digests are; the likeliest formula has them all


class _Encoding(NamedTuple):
    """How a value writes its digest: what stands around it, and in which digits."""

    before: str
    digits: str
    after: str

    def write(self, digest: bytes) -> str:
        """Write another digest the same way."""
        return self.before + TEXT_ENCODINGS[self.digits](digest) + self.after


class DigestTable(Struct, frozen=True):
    """Texts to look for: their hashes, and the formula that each comes from."""

    rows: pl.DataFrame  # `text`, the hash, and `formula`, the index in `formulas`
    formulas: tuple[str, ...]  # in canonical text


def is_folded(layout: str) -> bool:
    """Tell whether the letter case of a layout's values does not count."""
    return "hex" in layout


class LikelyMatcher:
    """Finds likely passwords in unsalted digests; what it computes, it computes once.

    Args:
        passwords: likely ones, the likeliest first.
    """

    def __init__(self, passwords: Sequence[str]) -> None:
        self.passwords = passwords
        self.plain = pl.DataFrame({"stored": pl.Series(passwords, dtype=pl.String)})
        self._digests: dict[tuple[str, int], frozenset[bytes]] = {}
        self._tables: dict[tuple[_Encoding, tuple[str, ...]], DigestTable] = {}
        self._lock = RLock()

    def find(self, rows: pl.DataFrame, stored: str, parsed: ParsedValue) -> list[_Found]:
        """Find rows of one group that hold a digest of a likely password.

        Args:
            rows: with `stored`, and `text`, the hash of its folded text.
            stored: a representative, without salt.
            parsed: what it was read as.

        Returns:
            For each formula that makes some of them, these rows.
        """
        formulas = _formulas_of(parsed)
        encoding = _encoding_of(stored, parsed) if rows.height > _FEW_ROWS else None
        if not formulas:
            return []
        if encoding is None:
            return self._one_by_one(rows, formulas)
        table = self._table(encoding, formulas)
        found = rows.join(table.rows, on="text")
        return [
            (table.formulas[number], found.filter(pl.col("formula") == number))
            for number in found["formula"].unique(maintain_order=True)
        ]

    def _one_by_one(self, rows: pl.DataFrame, formulas: tuple[str, ...]) -> list[_Found]:
        digests = [read_value(stored).digest for stored in rows["stored"]]
        found, left = [], [True] * len(digests)
        for number, formula in enumerate(formulas):
            known = self._known(formula, number)
            hits = [free and digest in known for free, digest in zip(left, digests, strict=True)]
            left = [free and not hit for free, hit in zip(left, hits, strict=True)]
            if any(hits):
                found.append((formula, rows.filter(pl.Series(hits))))
        return found

    def _known(self, formula: str, number: int) -> frozenset[bytes]:
        """Give the digests of the passwords; the formulas after the likeliest get fewer."""
        limit = len(self.passwords) if number == 0 else _GUESSED_PASSWORDS
        with self._lock:
            if (formula, limit) not in self._digests:
                digest = _digester(notation.parse(formula))
                made = map(digest, self.passwords[:limit])
                self._digests[formula, limit] = frozenset(found for found in made if found)
            return self._digests[formula, limit]

    def _table(self, encoding: _Encoding, formulas: tuple[str, ...]) -> DigestTable:
        with self._lock:
            if (encoding, formulas) not in self._tables:
                parts = [
                    pl.DataFrame({"text": [encoding.write(d) for d in self._known(text, number)]})
                    .select(text_hash(pl.col("text")), pl.lit(number).alias("formula"))
                    for number, text in enumerate(formulas)
                ]  # fmt: skip
                rows = pl.concat(parts).unique("text", keep="first", maintain_order=True)
                self._tables[encoding, formulas] = DigestTable(rows, formulas)
            return self._tables[encoding, formulas]


def own_digests(rows: pl.DataFrame, parsed: ParsedValue) -> Iterator[str]:
    """Give, for each row that holds a digest of its own login or of nothing, the formula.

    Args:
        rows: with `stored` and `login`; a few, for each is computed by itself.
        parsed: what a representative was read as.
    """
    digesters = [(text, _digester(notation.parse(text))) for text in _formulas_of(parsed)]
    of_nothing = {text: compute("") for text, compute in digesters}
    for stored, login in rows.select("stored", "login").iter_rows():
        digest = read_value(stored).digest
        names = {login, login.partition("@")[0]} if login else set()
        yield from (
            text
            for text, compute in digesters
            if digest == of_nothing[text] or any(compute(name) == digest for name in names)
        )


@lru_cache(maxsize=2)
def matcher_of(passwords: tuple[str, ...]) -> LikelyMatcher:
    """Give the matcher for a list; asked again for the same list, what it computed is kept."""
    return LikelyMatcher(passwords)


def _digester(formula: Formula) -> Callable[[str], bytes | None]:
    """Give what a formula that ends in hexadecimal computes, as bytes."""
    *before, digest, _ = formula.steps
    if isinstance(digest, Digest) and before in ([], [Encode("utf-8")]):
        compute = DIGESTS[digest.name].compute  # most of the work is this simple
        return lambda password: compute(password.encode("utf-8", "replace"))
    run = prepared(formula)

    def apart(password: str) -> bytes | None:
        try:
            return bytes.fromhex(run(Inputs(password=password)))
        except InputDoesNotFit:
            return None

    return apart


def _encoding_of(stored: str, parsed: ParsedValue) -> _Encoding | None:
    """Find where a value has its digest, and in which digits."""
    if not parsed.digest:
        return None
    text = stored.lower() if is_folded(parsed.layout) else stored
    for digits in TEXT_ENCODINGS:
        before, found, after = text.partition(TEXT_ENCODINGS[digits](parsed.digest))
        if found:
            return _Encoding(before, digits, after)
    return None


def _formulas_of(parsed: ParsedValue) -> tuple[str, ...]:
    """List what can have made an unsalted digest; each prints it in hexadecimal."""
    own = parsed.contents.formulas
    if not parsed.contents.also_possible:
        return own
    fitting = [name for name, digest in DIGESTS.items() if digest.size_bytes == len(parsed.digest)]
    alone = [f"{name}, hex" for name in fitting]
    if "md4" in fitting:
        alone.append("utf-16le, md4, hex")
    nested = [f"{first}, hex, {last}, hex" for last in fitting for first in _NESTED_FIRST]
    return tuple(dict.fromkeys((*own, *alone, *nested)))


def digests_of(texts: Iterable[str]) -> bytes:
    """Give the digests of stored values, in one piece; for counting."""
    return b"".join(read_value(text).digest for text in texts)
