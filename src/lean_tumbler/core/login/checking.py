"""Does this password open this row? The reading says what is tried, and nothing else is."""

import hmac
from collections.abc import Iterator, Sequence

from msgspec import Struct

from lean_tumbler.core.formulas.alternatives import Alternative
from lean_tumbler.core.formulas.analysis import digests_used
from lean_tumbler.core.formulas.named import NamedFormula
from lean_tumbler.core.login.passwords import forms
from lean_tumbler.core.reading.reader import DECRYPTABLE
from lean_tumbler.core.reading.readings import Reading, State
from lean_tumbler.core.reading.ways import (
    Bounds,
    CryptWay,
    FormulaWay,
    PasswordWay,
    Way,
    opens,
    recompute,
)
from lean_tumbler.core.records import Hidden, MaskedRecord
from lean_tumbler.core.schemes import layered
from lean_tumbler.core.schemes.base import ParsedValue
from lean_tumbler.errors import CheckImpossible, KeyMissing

_REFUSALS = {
    State.NO_VALUE: "unknown",
    State.EMPTY: "empty-value",
    State.LOCKED: "locked",
    State.REMNANT: "remnant",
    State.CLOSED: "moved-or-damaged",
}


class Verdict(MaskedRecord, Struct, frozen=True, kw_only=True):
    """The answer, and what it rests on."""

    accepted: bool  # whether the password opens the row
    reading: Reading  # what the row was read as
    way: Way | None = None  # the one that fitted
    form: str = ""  # which form of the password fitted: as typed, nfc or nfd
    fitted: Hidden[str] = ""  # that form's text, which an upgrade stores
    refusal: str = ""  # for the operator, why not; empty where accepted

    @property
    def parsed(self) -> ParsedValue:
        """What the stored text was read as."""
        return self.reading.parsed

    @property
    def formula(self) -> NamedFormula | None:
        """The formula that fitted, where one did."""
        return self.way.formula if isinstance(self.way, FormulaWay) else None

    @property
    def lossy(self) -> tuple[str, ...]:
        """Why other passwords open the same row too; empty where none does."""
        return self.way.lossy if self.way is not None else ()

    @property
    def opened_too(self) -> tuple[Alternative, ...]:
        """The alternatives, beside the one that fitted, that take what was typed for the same."""
        return tuple(each for each, is_same in self._beside() if is_same)

    @property
    def ruled_out(self) -> frozenset[str]:
        """The alternatives, by fingerprint, that would not have opened the row."""
        return frozenset(
            each.formula.fingerprint for each, is_same in self._beside() if not is_same
        )

    def _beside(self) -> Iterator[tuple[Alternative, bool]]:
        own = self.way.alternative if isinstance(self.way, FormulaWay) else None
        if own is None:
            return
        taken = own.spelling.of(self.fitted)
        for way in self.reading.ways:
            other = way.alternative if isinstance(way, FormulaWay) else None
            if other is not None and other.main == own.main and other != own:
                yield other, other.spelling.of(self.fitted) == taken

    @property
    def scheme(self) -> str:
        """What is stored; for a bare digest, what the formula that fitted ends in."""
        if self.reading.state is State.LAYERED or self.way is None:
            return self.parsed.scheme
        if isinstance(self.way, PasswordWay):
            return "encrypted" if self.way.name == DECRYPTABLE else "plain-text"
        if isinstance(self.way, CryptWay):
            return self.way.scheme
        if isinstance(self.way, FormulaWay):
            return (digests_used(self.way.formula.formula) or (self.parsed.scheme,))[-1]
        return self.parsed.scheme


def check(reading: Reading, password: str, *, bounds: Bounds) -> Verdict:
    """Check one password against one row.

    Args:
        reading: the row, as `RowReader` gives it.
        password: as typed; the caller has bounded its length.
        bounds: limits and keys.

    Raises:
        CheckImpossible: the value refers to a formula or key that is not there, or asks for
            more than the limits allow.
    """
    refusal = _REFUSALS.get(reading.state, "")
    if reading.closed is not None and reading.closed.is_the_operators:
        name = reading.parsed.contents.variant
        raise KeyMissing(f"a stored value is under the key “{name}”: {reading.closed}; see [keys]")
    if reading.missing:
        raise CheckImpossible(
            f"a layered value refers to the formula {reading.missing[0]}, which the policy lacks"
        )
    if not refusal and not reading.ways:
        refusal = "not-understood"
    if refusal:
        return Verdict(accepted=False, reading=reading, refusal=refusal)
    for name, form in forms(password):
        for way in distinct_for(reading.ways, form):
            if _opens(reading, way, form, bounds):
                return Verdict(accepted=True, reading=reading, way=way, form=name, fitted=form)
    return Verdict(accepted=False, reading=reading, refusal="wrong-password")


def distinct_for(ways: Sequence[Way], text: str) -> Iterator[Way]:
    """Give the ways that a typed text must be tried on: of alternatives that agree on it, one."""
    seen: set[object] = set()
    for way in ways:
        beside = way.alternative if isinstance(way, FormulaWay) else None
        if beside is not None:
            spelled = (way.name, beside.main, beside.spelling.of(text))
            if spelled in seen:
                continue
            seen.add(spelled)
        yield way


def is_opened(reading: Reading, password: str, *, bounds: Bounds) -> bool:
    """Tell whether a password opens a row; one that cannot be checked is not opened."""
    try:
        return check(reading, password, bounds=bounds).accepted
    except CheckImpossible:
        return False


def _opens(reading: Reading, way: Way, password: str, bounds: Bounds) -> bool:
    inner = reading.parsed.inner
    if reading.state is not State.LAYERED or inner is None or isinstance(way, PasswordWay):
        return opens(way, password, bounds)
    legacy_digest = way.computed(password, bounds)
    head = layered.Head(origin=reading.parsed.contents.origin)
    # A password that the formula does not take is refused no sooner than others.
    _, digest = recompute(inner, head.secret(legacy_digest or ""), bounds.limits)
    return legacy_digest is not None and hmac.compare_digest(digest, inner.digest)
