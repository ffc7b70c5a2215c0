"""Rows that a likely password opens: in a table of thousands, some people have chosen one.

Where dozens of rows of a class open under one simple formula, these rows do what known accounts do.
"""

from collections.abc import Callable, Iterable, Iterator, Sequence
from functools import cache

from msgspec import Struct

from lean_tumbler.core.audit.likely import likely_passwords
from lean_tumbler.core.formulas.evaluation import Inputs, prepared
from lean_tumbler.core.formulas.named import NamedFormula, named_by_itself
from lean_tumbler.core.formulas.steps import DIGESTS
from lean_tumbler.core.formulas.stored_digests import read_digest
from lean_tumbler.core.reading.fitting_ways import digest_and_salt
from lean_tumbler.core.reading.rows import Row
from lean_tumbler.core.records import Hidden, MaskedRecord
from lean_tumbler.core.schemes.catalogue import read_value
from lean_tumbler.errors import InputDoesNotFit

DOZENS = 12  # rows that must open under one formula
LEAST_BYTES = 8  # of a digest: a shorter one fits by chance
PASSWORDS, PASSWORDS_SALTED = 6_000, 80  # that are tried: once for all rows, or row by row
ROWS_SALTED = 2_000
ROWS_FIRST, PASSWORDS_FIRST = 400, 30  # by which most formulas are told to be none
_UNSALTED = ("utf-8, {0}, hex", "utf-8, {0}, hex, {0}, hex", "utf-8, md5, hex, {0}, hex",
             "utf-16le, {0}, hex")  # fmt: skip
_SALTED = ("utf-8, append salt, {0}, hex", "utf-8, prepend salt, {0}, hex",
           "utf-8, {0}, hex, append salt, {0}, hex", "utf-8, {0}, hex, prepend salt, {0}, hex",
           "utf-8, md5, hex, append salt, {0}, hex", "utf-8, hmac-{0} salt, hex")  # fmt: skip


class LikelyRow(MaskedRecord, Struct, frozen=True):
    """A row and the likely password that opens it."""

    place: int  # of the row, among those that were given
    password: Hidden[str]


@cache
def _tried() -> tuple[str, ...]:
    return tuple(likely_passwords()[:PASSWORDS])


def likely_texts() -> frozenset[str]:
    """Give all likely passwords, against which plain texts are held."""
    return frozenset(_tried())


def opened_by_likely(rows: Sequence[Row]) -> list[LikelyRow]:
    """Find rows of one class that likely passwords open, all under one formula or as plain text.

    Args:
        rows: of the class.

    Returns:
        The rows, or none where fewer than dozens open.
    """
    texts = likely_texts()
    plain = [LikelyRow(place, row.text) for place, row in enumerate(rows)
             if row.text is not None and row.text in texts]  # fmt: skip
    if len(plain) >= DOZENS:
        return plain
    unsalted: dict[bytes, list[int]] = {}
    salted: list[tuple[int, bytes, bytes]] = []
    for place, row in enumerate(rows):
        digest, salt = _digest_of(row)
        if digest is None:
            continue
        if salt:
            salted.append((place, digest, salt))
        else:
            unsalted.setdefault(digest, []).append(place)
    found = [*_unsalted(unsalted), *_salted(salted[:: max(1, len(salted) // ROWS_SALTED)])]
    best = max(found, key=len, default=[])
    return best if len(best) >= DOZENS else []


def opened_simply(rows: Sequence[tuple[Row, str]]) -> frozenset[int]:
    """Find the rows that passwords open under one simple formula, or as plain text.

    Args:
        rows: each with the password that may be its own.

    Returns:
        Their places.
    """
    plain = {place for place, (row, password) in enumerate(rows) if row.text == password}
    digests = [(*_digest_of(row), password) for row, password in rows]
    sizes = frozenset(len(digest) for digest, _, _ in digests if digest)
    found = [
        {
            place
            for place, (digest, salt, password) in enumerate(digests)
            if digest and run(Inputs(password=password, salt=salt or b"")) == digest
        }
        for run in map(_run_of, _formulas((*_UNSALTED, *_SALTED), sizes))
    ]
    return max(map(frozenset, (plain, *found)), key=len)


def _digest_of(row: Row) -> tuple[bytes | None, bytes | None]:
    text = row.text or ""
    parsed = read_value(text)
    printed, salt = digest_and_salt(parsed, parsed.inner_text or text, row.salt)
    read = read_digest(printed)
    whole = read is not None and read[2] and len(read[0]) >= LEAST_BYTES
    return (read[0] if read is not None and whole else None), salt


def _formulas(patterns: Iterable[str], sizes: frozenset[int]) -> Iterator[NamedFormula]:
    for name, digest in DIGESTS.items():
        if digest.size_bytes in sizes:
            for text in dict.fromkeys(pattern.format(name) for pattern in patterns):
                yield named_by_itself(text)


def _run_of(named: NamedFormula) -> Callable[[Inputs], bytes]:
    run = prepared(named.formula)

    def computed(inputs: Inputs) -> bytes:
        try:
            made = run(inputs)
        except InputDoesNotFit:
            return b""
        return bytes.fromhex(str(made))

    return computed


def _unsalted(places: dict[bytes, list[int]]) -> Iterator[list[LikelyRow]]:
    for named in _formulas(_UNSALTED, frozenset(map(len, places))):
        run = _run_of(named)
        yield [
            LikelyRow(place, password)
            for password in _tried()
            for place in places.get(run(Inputs(password=password)), ())
        ]


def _salted(rows: Sequence[tuple[int, bytes, bytes]]) -> Iterator[list[LikelyRow]]:
    for named in _formulas(_SALTED, frozenset(len(digest) for _, digest, _ in rows)):
        run = _run_of(named)
        some = rows[:: max(1, len(rows) // ROWS_FIRST)]
        if any(_opened(run, some, PASSWORDS_FIRST)):
            yield list(_opened(run, rows, PASSWORDS_SALTED))


def _opened(
    run: Callable[[Inputs], bytes], rows: Sequence[tuple[int, bytes, bytes]], passwords: int
) -> Iterator[LikelyRow]:
    for place, digest, salt in rows:
        for password in _tried()[:passwords]:
            if run(Inputs(password=password, salt=salt)) == digest:
                yield LikelyRow(place, password)
                break
