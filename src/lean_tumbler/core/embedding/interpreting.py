"""Reads a row as a written check does, and compares that with the one reading.

What the languages write out is this, step by step; so a column can be gone through before a file is
written, and rows that it would read otherwise are known.
"""

import re
from collections.abc import Iterator
from enum import StrEnum

from msgspec.structs import replace

from lean_tumbler.core.embedding.check import CohortForm, StoreCheck
from lean_tumbler.core.embedding.making import is_direct
from lean_tumbler.core.embedding.own_layouts import OWN_LAYOUTS, formulas_of
from lean_tumbler.core.embedding.plain_texts import is_typed
from lean_tumbler.core.formulas.named import NamedFormula, named_by_itself
from lean_tumbler.core.keyring import Keyring, OpenedValue
from lean_tumbler.core.reading.fitting_ways import bare_schemes, formula_way
from lean_tumbler.core.reading.layouts import ValueLayout
from lean_tumbler.core.reading.readings import Reading, State
from lean_tumbler.core.reading.rows import Row
from lean_tumbler.core.reading.ways import (
    Before,
    Certainty,
    CryptWay,
    DerivationWay,
    FormulaWay,
    PasswordWay,
    Way,
)
from lean_tumbler.core.schemes import layered
from lean_tumbler.core.schemes.base import Kind, ParsedValue
from lean_tumbler.core.schemes.catalogue import CRYPT_SCHEMES, DERIVATIONS, read_value
from lean_tumbler.core.schemes.lock_markers import LAYOUTS as LOCKED
from lean_tumbler.core.schemes.obsolete.remnants import LAYOUTS as REMNANTS

BLANKS = " \t\r\n\v\f\0\ufeff\xa0"


class ReadDifference(StrEnum):
    """How a row is read otherwise by a written check than by the library."""

    NONE = "read alike"
    LACKING = "not read"  # the file cannot check it
    MORE = "read in a way that the library does not"  # it must never


class CheckReader:
    """Reads rows by a check."""

    def __init__(self, check: StoreCheck, keyring: Keyring) -> None:
        self._check, self._keyring = check, keyring
        self._formulas = {form.key: form for form in check.formulas}

    @property
    def store_name(self) -> str:
        """Whose rows they are."""
        return self._check.store

    def read(self, row: Row) -> Reading:
        """Read one row."""
        text = row.text
        if text is None:
            return Reading(state=State.NO_VALUE)
        if not text:
            return Reading(state=State.EMPTY)
        if any(layout.match(text) for layout in LOCKED):
            return Reading(state=State.LOCKED, text=text)
        bare = text.strip(BLANKS)
        if self._check.is_keyed and bare.startswith("$keyed$"):
            return self._opened(bare, row)
        return self._valued(text, bare, row)

    def _opened(self, text: str, row: Row) -> Reading:
        found = self._keyring.open(text, account=row.account)
        if isinstance(found, OpenedValue):
            within = self._valued(found.text, found.text, row)
            is_slow = within.state is State.LAYERED or (
                within.state is State.VALUE and within.parsed.kind is Kind.DERIVATION
            )
            if is_slow:
                return within
        return Reading(state=State.CLOSED, text=text)

    def _valued(self, text: str, bare: str, row: Row) -> Reading:
        parsed = read_value(bare)
        if parsed.kind is Kind.LAYERED and not parsed.wrappers:
            return self._layered(bare, parsed)
        ways = tuple(self._ways(text, bare, parsed, row))
        return Reading(state=State.VALUE, text=bare, parsed=parsed, ways=ways)

    def _layered(self, text: str, parsed: ParsedValue) -> Reading:
        origins = layered.origins_of(parsed.contents.origin)
        ways = tuple(way for origin in origins if (way := self._below(origin, parsed)) is not None)
        is_whole = len(ways) == len(origins) and parsed.scheme in self._check.on_top
        missing = () if is_whole else origins
        return Reading(state=State.LAYERED, text=text, parsed=parsed, ways=ways, missing=missing)

    def _below(self, origin: str, parsed: ParsedValue) -> Way | None:
        form = self._formulas.get(origin)
        setting = (parsed.salt or b"").decode("utf-8", "replace")
        if form is not None:
            login = parsed.contents.login
            return FormulaWay(
                name=form.named.name,
                certainty=Certainty.SAID,
                formula=form.named,
                salt=parsed.salt,
                login=None if login is None else login.decode("utf-8", "replace"),
                parts=parsed.contents.parts,
            )
        if origin in self._check.below and origin in CRYPT_SCHEMES:
            return CryptWay(name=origin, certainty=Certainty.SAID, scheme=origin, setting=setting)
        if origin in self._check.below:
            below = DERIVATIONS[origin].read_setting(setting)
            if below is not None and below.scheme == origin:
                return DerivationWay(name=origin, parsed=below)
        return None

    def _ways(self, text: str, bare: str, parsed: ParsedValue, row: Row) -> Iterator[Way]:
        if is_direct(parsed) and not parsed.wrappers and parsed.scheme in self._check.computed:
            yield from self._direct(parsed, row)
            return
        own = next(
            (OWN_LAYOUTS[name] for name in sorted(self._check.holds.layouts)
             if OWN_LAYOUTS[name].layout.read(bare)),
            None,
        )  # fmt: skip
        if own is not None and own.says_all:
            yield from self._own(own.name, parsed, row)
            return
        found = list(self._declared(text, bare, own is not None, parsed, row))
        if not found and own is not None:
            found = list(self._own(own.name, parsed, row))
        if not found and not row.is_binary and is_typed(text):
            found = list(self._plain(text, row))
        yield from found

    def _direct(self, parsed: ParsedValue, row: Row) -> Iterator[Way]:
        way: CryptWay | DerivationWay
        if parsed.scheme in DERIVATIONS:
            way = DerivationWay(name=parsed.scheme, parsed=parsed)
        else:
            way = CryptWay(
                name=parsed.scheme, certainty=Certainty.SAID, scheme=parsed.scheme,
                setting=parsed.contents.setting, canonical=parsed.contents.whole,
            )  # fmt: skip
        for cohort in self._check.cohorts:
            if cohort.then != parsed.scheme or not self._holds(cohort, row):
                continue
            named = self._named(cohort.formulas[0])
            parts = self._parts(row)
            if named.parts <= parts.keys() and (row.login or not named.takes_login):
                before = Before(formula=named, salt=row.salt or b"", login=row.login, parts=parts)
                yield _with(way, before, cohort.name)
        yield way

    def _own(self, name: str, parsed: ParsedValue, row: Row) -> Iterator[Way]:
        own = OWN_LAYOUTS[name]
        for text in formulas_of(own):
            if text in parsed.contents.formulas:
                named = named_by_itself(text)
                way = formula_way(
                    parsed.scheme, Certainty.SAID, named, parsed.digest.hex(),
                    parsed.contents.salt, row, {},
                )  # fmt: skip
                if way is not None:
                    yield way

    def _holds(self, cohort: CohortForm, row: Row) -> bool:
        return cohort.condition is None or cohort.condition.holds(row)

    def _named(self, key: str) -> NamedFormula:
        return self._formulas[key].named

    def _parts(self, row: Row) -> dict[str, bytes]:
        return {
            part: raw
            for part, column in self._check.parts.items()
            if (raw := row.others.get(column)) is not None
        }

    def _tried(
        self, text: str, bare: str, is_apart: bool, parsed: ParsedValue, row: Row
    ) -> Iterator[tuple[str, bytes | None]]:
        """Give what a formula may have printed, each with its salt."""
        salt = row.salt if row.salt is not None or not self._check.has_salts else b""
        if bare != text:
            yield text, salt
        if is_apart:
            yield parsed.digest.hex(), parsed.salt
        prefix = re.fullmatch(r"(?:0x|\\x)((?:[0-9a-fA-F]{2})+)", bare)
        if prefix:
            yield prefix[1].lower(), salt
        yield bare, salt

    def _declared(
        self, text: str, bare: str, is_apart: bool, parsed: ParsedValue, row: Row
    ) -> Iterator[Way]:
        for cohort in self._check.cohorts:
            if cohort.is_plain or cohort.then or not self._holds(cohort, row):
                continue
            if cohort.scheme:
                yield from bare_schemes(bare, only=cohort.scheme, name=cohort.name)
            elif cohort.layout is not None:
                yield from self._by_layout(cohort, cohort.layout, bare, row)
            else:
                tried = list(self._tried(text, bare, is_apart, parsed, row))
                for key in cohort.formulas:
                    ways = (
                        formula_way(
                            cohort.name, Certainty.DECLARED, self._named(key), printed, salt, row,
                            self._parts(row),
                        )
                        for printed, salt in tried
                    )  # fmt: skip
                    yield from ([way] if (way := next(filter(None, ways), None)) else [])

    def _by_layout(
        self, cohort: CohortForm, layout: ValueLayout, bare: str, row: Row
    ) -> Iterator[Way]:
        found = layout.read(bare)
        if found is None:
            return
        parts = {**self._parts(row), **found.others}
        salt = row.salt if row.salt is not None or not self._check.has_salts else b""
        salt = parts.pop("salt", salt)
        for key in cohort.formulas:
            way = formula_way(
                cohort.name, Certainty.DECLARED, self._named(key), found.digest, salt, row, parts
            )
            if way is not None:
                yield way

    def _plain(self, text: str, row: Row) -> Iterator[Way]:
        cohort = next((c for c in self._check.cohorts if c.is_plain and self._holds(c, row)), None)
        if cohort is not None and not any(layout.match(text) for layout in REMNANTS):
            yield PasswordWay(name=cohort.name, certainty=Certainty.DECLARED, password=text)


def _with(way: CryptWay | DerivationWay, before: Before, name: str) -> Way:
    return replace(way, before=before, name=name)


def difference(own: Reading, one: Reading) -> ReadDifference:
    """Compare how a check reads a row with the one reading of it."""
    mine, theirs = set(_facts(own)), set(_facts(one))
    if own.state is not one.state:
        opens_more = own.state in {State.VALUE, State.LAYERED} and mine
        closed = {State.VALUE, State.LAYERED, State.REMNANT}
        if one.state in closed or opens_more:
            return ReadDifference.MORE if mine - theirs else ReadDifference.LACKING
        return ReadDifference.NONE
    if mine - theirs:
        return ReadDifference.MORE
    is_unproven = any(isinstance(way, PasswordWay) and way.text_class for way in one.ways)
    return ReadDifference.LACKING if theirs - mine or own.missing != one.missing or is_unproven \
        else ReadDifference.NONE  # fmt: skip


def _facts(reading: Reading) -> Iterator[tuple[object, ...]]:
    for way in reading.ways:
        if isinstance(way, PasswordWay):
            yield "plain", way.password
        elif isinstance(way, FormulaWay):
            parts = tuple(sorted(way.parts.items()))
            yield way.formula.fingerprint, way.canonical, way.salt, way.login, parts
        else:
            before = way.before.formula.fingerprint if way.before else ""
            yield way.origin, way.canonical if reading.state is State.VALUE else "", before
