"""One stored value explained: what it is, what a check takes, and who verifies it."""

from collections.abc import Callable, Sequence
from typing import TYPE_CHECKING

from msgspec import Struct

from lean_tumbler.core.grades import Grade, grade
from lean_tumbler.core.limits import over_limits
from lean_tumbler.core.masked import Masked
from lean_tumbler.core.policy import StoragePolicy
from lean_tumbler.core.reading.of_stores import bounds_of, reader_of_files
from lean_tumbler.core.reading.readings import Reading
from lean_tumbler.core.reading.rows import Row
from lean_tumbler.core.reading.ways import (
    Bounds,
    CryptWay,
    recompute,
)
from lean_tumbler.core.records import Hidden, MaskedRecord
from lean_tumbler.core.schemes.base import Kind, ParsedValue
from lean_tumbler.core.schemes.catalogue import ValuePart, parts_of, read_value
from lean_tumbler.core.stock_functions import StockFunction, Version, readers_of

if TYPE_CHECKING:
    from lean_tumbler.stores.scans.verification import CheckedAccount

_INVENTED = "gull on a mast"


class ExplainedValue(MaskedRecord, Struct, frozen=True, kw_only=True):
    """One stored value explained."""

    parsed: ParsedValue  # what it was read as
    value: Hidden[Masked[str]]  # the text itself
    grade: Grade  # how well it protects
    salted: bool  # whether a salt goes in, inside or beside
    parts: Sequence[ValuePart]  # where its parts stand
    over_limit: str  # the cost that is above a limit, so that it is never run; or empty
    # of one check on this machine; None for what takes no time, or is not run
    milliseconds: float | None
    # the stock functions that verify it, and since which version of their language
    readers: Sequence[tuple[StockFunction, Version]]
    checked: "CheckedAccount | None" = (
        None  # whether a password opens it; None where none was given
    )


def explain_value(
    text: str,  # the value
    *,
    policy: StoragePolicy,  # its floor, limits and formulas
    salted: bool,  # whether a salt stands in a column beside it
    clock: Callable[[], float],  # in seconds, to time one check
    password: Masked[str] | None = None,  # to be checked against it; None for none
) -> ExplainedValue:
    """Explain one stored value."""
    parsed = read_value(text)
    salted = parsed.salted or salted
    bounds = bounds_of(policy)
    reader = reader_of_files(policy)
    row = Row(stored=text.encode("utf-8"))
    checked = None
    if password is not None:
        from lean_tumbler.stores.scans.verification import (  # noqa: PLC0415 - rarely asked for
            check_row,
        )

        checked = check_row(row, login="", password=password, reader=reader, bounds=bounds)
    over = over_limits(parsed, policy.limits)
    return ExplainedValue(
        parsed=parsed,
        value=Masked(text),
        grade=grade(parsed, policy.floor, salted=salted),
        salted=salted,
        parts=parts_of(text),
        over_limit=over,
        milliseconds=None if over else _milliseconds(reader.read(row), bounds, clock),
        readers=list(readers_of(parsed.scheme, parsed.contents.variant)),
        checked=checked,
    )


def _milliseconds(reading: Reading, bounds: Bounds, clock: Callable[[], float]) -> float | None:
    """Time one check of a slow value, with an invented password."""
    slow = reading.parsed.inner or reading.parsed
    setting = next((way for way in reading.ways if isinstance(way, CryptWay)), None)
    started = clock()
    if slow.kind is Kind.DERIVATION:
        recompute(slow, _INVENTED.encode("ascii"), bounds.limits)
    elif slow.kind is Kind.ITERATED and setting is not None:
        setting.computed(_INVENTED, bounds)
    else:
        return None
    return 1000 * (clock() - started)
