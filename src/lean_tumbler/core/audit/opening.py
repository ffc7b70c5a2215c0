"""The column that opens the values of another: it holds the passwords, whatever it is named."""

from collections.abc import Mapping, Sequence

from msgspec import Struct

from lean_tumbler.core.login.checking import is_opened
from lean_tumbler.core.policy import Columns
from lean_tumbler.core.reading.fitting_ways import either_side
from lean_tumbler.core.reading.reader import RowReader
from lean_tumbler.core.reading.readings import Reading
from lean_tumbler.core.reading.rows import Row, bytes_of
from lean_tumbler.core.reading.ways import Bounds
from lean_tumbler.core.schemes.base import SLOW, Kind

_FAST_ROWS, _SLOW_ROWS = 50, 3  # of a sample, tried with each column
_SLOW_CHECKS = 30  # in all, for one column of stored values
_OPENED_SHARE = 0.2  # passwords were changed since; a name that is also a password is rarer
_LEAST_OPENED = 2
_LONGEST = 128  # characters; longer texts are prose
_DIFFERENT_SHARE = 0.3  # of a column's texts; one with fewer holds states and places
_BOUNDS = Bounds()


class Opens(Struct, frozen=True, kw_only=True):
    """What one column opens."""

    stored: str  # the column whose values it opens
    opened: int  # rows of the sample
    tried: int  # rows of the sample

    def __str__(self) -> str:
        return f"its content opens {self.opened:,} of {self.tried:,} values of {self.stored} tried"


class _Tried(Struct, frozen=True):
    row: Row
    reading: Reading
    place: int


def columns_that_open(
    sample: Mapping[str, Sequence[str | None]], columns: Columns
) -> dict[str, Opens]:
    """Try the content of each other column, trimmed, as the password of the same row's value.

    Fast digests are tried on fifty rows, slow values on three, within thirty derivations.

    Args:
        sample: for each column, its values in some rows.
        columns: one of them holds stored values, others have roles of their own.

    Returns:
        The columns that hold the passwords, with what they open.
    """
    stored = columns.stored or ""
    with_roles = {stored, columns.salt, columns.login, columns.account}
    fast, slow = _rows_to_try(sample, columns)
    found, left = {}, _SLOW_CHECKS
    for name, values in sample.items():
        if name in with_roles or not _may_hold_passwords(values):
            continue
        rows = fast or slow[:left]
        tried = [row for row in rows if values[row.place]]
        left -= 0 if fast else len(tried)
        opened = sum(_opens(row, (values[row.place] or "").strip()) for row in tried)
        if opened >= max(_LEAST_OPENED, _OPENED_SHARE * len(tried)):
            found[name] = Opens(stored=stored, opened=opened, tried=len(tried))
    return found


def _rows_to_try(
    sample: Mapping[str, Sequence[str | None]], columns: Columns
) -> tuple[list[_Tried], list[_Tried]]:
    """Read the rows whose values one password can open; the fast and the slow ones apart."""
    reader = RowReader()
    fast: list[_Tried] = []
    slow: list[_Tried] = []
    salts = sample.get(columns.salt or "")
    logins = sample.get(columns.login or "")
    for place, stored in enumerate(sample.get(columns.stored or "", ())):
        if len(fast) == _FAST_ROWS:
            break
        if stored is None:
            continue
        row = Row(
            stored=bytes_of(stored),
            salt=_raw(salts, place),
            login=logins[place] if logins else None,
        )
        reading = reader.read(row)
        kind = reading.parsed.kind
        if kind is not Kind.FAST and kind not in SLOW:
            continue
        slot, most = (fast, _FAST_ROWS) if kind is Kind.FAST else (slow, _SLOW_ROWS)
        if len(slot) < most:
            slot.append(_Tried(row, reading, place))
    return fast, slow


def _raw(values: Sequence[str | None] | None, place: int) -> bytes | None:
    text = values[place] if values else None
    return None if text is None else bytes_of(text)


def _may_hold_passwords(values: Sequence[str | None]) -> bool:
    texts = [text for text in values if text]
    return (
        len(texts) >= _LEAST_OPENED
        and max(map(len, texts)) <= _LONGEST
        and len(set(texts)) >= _DIFFERENT_SHARE * len(texts)
    )


def _opens(tried: _Tried, password: str) -> bool:
    joined = any(
        way.computed(password, _BOUNDS) == way.canonical
        for way in either_side(tried.reading, tried.row)
    )
    return joined or is_opened(tried.reading, password, bounds=_BOUNDS)
