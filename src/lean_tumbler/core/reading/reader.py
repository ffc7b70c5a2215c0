"""The one reading: a row goes in, and the ways in which it may have been made come out."""

from collections.abc import Callable, Iterator, Mapping, Sequence

from msgspec.structs import replace

from lean_tumbler.core.decryption import Decryption
from lean_tumbler.core.formulas.named import NamedFormula, named_by_itself
from lean_tumbler.core.formulas.steps import DIGESTS
from lean_tumbler.core.keyring import Closed, Keyring, OpenedValue
from lean_tumbler.core.reading.cohorts import Cohort, PlainText
from lean_tumbler.core.reading.fitting_ways import (
    bare_schemes,
    digest_and_salt,
    distinct,
    formula_way,
)
from lean_tumbler.core.reading.layers import BelowLayers
from lean_tumbler.core.reading.readings import Reading, State
from lean_tumbler.core.reading.rows import Row
from lean_tumbler.core.reading.survey import ALONE, Column
from lean_tumbler.core.reading.text_structure import structure_of
from lean_tumbler.core.reading.under_keys import is_sealable
from lean_tumbler.core.reading.ways import (
    Before,
    Certainty,
    CryptWay,
    DerivationWay,
    FormulaWay,
    LegacyWay,
    PasswordWay,
    Way,
)
from lean_tumbler.core.reasons import Reason
from lean_tumbler.core.schemes.base import Kind, ParsedValue, Says
from lean_tumbler.core.schemes.catalogue import (
    BARE_CRYPT_SCHEMES,
    own_formulas,
    read_value,
)
from lean_tumbler.core.schemes.obsolete import readable
from lean_tumbler.core.schemes.obsolete.remnants import REMNANT

# What a bare digest is tried with where no cohort says how it was made.
BARE_FORMULAS = tuple(
    named_by_itself(f"{name}, hex") for name in (*(f"utf-8, {d}" for d in DIGESTS), "utf-16le, md4")
)
DECRYPTABLE = "decryptable"


class RowReader:
    """Reads the rows of one store."""

    def __init__(
        self,
        *,
        cohorts: Sequence[Cohort] = (),  # of the store, in the policy's order
        # further inputs of formulas -> the table's own names of their columns
        parts: Mapping[str, str] | None = None,
        # by fingerprint, what layered values may refer to
        formulas: Mapping[str, NamedFormula] | None = None,
        # whether the store has a salt column: then NULL counts as a salt of no bytes
        has_salts: bool = True,
        decryption: Decryption | None = None,  # how values are decrypted, where they are
        keyring: Keyring | None = None,  # opens keyed values, and has the keys of decryption
        # gives what a survey says of the column; asked where a text may be a password
        column: Callable[[], Column] = lambda: ALONE,
    ) -> None:
        self.cohorts = tuple(cohorts)
        self._column = column
        self._parts = dict(parts or {})
        named = [formula for cohort in cohorts if (formula := cohort.formula)]
        self._formulas = {**own_formulas(), **(formulas or {})}
        self._formulas |= {formula.fingerprint: formula for formula in named}
        self._below_layers = BelowLayers(self._formulas)
        self._has_salts = has_salts
        self._decryption = decryption
        self.keyring = keyring or Keyring()
        self._declares = any((c.formula and not c.then) or c.scheme for c in self.cohorts)

    @property
    def formulas(self) -> tuple[NamedFormula, ...]:
        """The formulas of its cohorts."""
        return tuple(c.formula for c in self.cohorts if c.formula is not None and not c.then)

    @property
    def reads_by_shape(self) -> bool:
        """Whether rows of one shape, alike to all cohorts, are read alike."""
        return self._decryption is None and not self._parts

    @property
    def needs_column(self) -> bool:
        """Whether readings depend on the column as a whole."""
        return bool(self._plain_cohorts)

    def look_at_column(self) -> None:
        """Have the column surveyed, where readings depend on it."""
        if self.needs_column:
            self._column()

    def seen_with(self, column: Callable[[], Column]) -> "RowReader":
        """Give the same reader with what a survey says of the column."""
        return self._again(self.cohorts, column)

    def with_cohort(self, cohort: Cohort) -> "RowReader":
        """Give the same reader with one cohort in the place of all that are no plain text."""
        return self._again((cohort, *self._plain_cohorts), self._column)

    def _again(self, cohorts: Sequence[Cohort], column: Callable[[], Column]) -> "RowReader":
        return RowReader(
            cohorts=cohorts,
            parts=self._parts,
            formulas=self._formulas,
            has_salts=self._has_salts,
            decryption=self._decryption,
            keyring=self.keyring,
            column=column,
        )

    @property
    def _plain_cohorts(self) -> tuple[Cohort, ...]:
        return tuple(c for c in self.cohorts if c.plain_text is not PlainText.NONE)

    def read(self, row: Row) -> Reading:
        """Understand one row. Any row gives an answer; none raises but for a missing key.

        Raises:
            CheckImpossible: a key that the store's decryption needs is not there.
        """
        text = row.text
        if text is None:
            return Reading(state=State.NO_VALUE)
        parsed = read_value(text)
        if not text:
            return Reading(state=State.EMPTY, parsed=parsed)
        if parsed.scheme == REMNANT:
            return Reading(state=State.REMNANT, text=text, parsed=parsed, doubt=Reason.REMNANT)
        text = parsed.inner_text or text
        if parsed.kind is Kind.KEYED:
            return self._keyed(text, parsed, row)
        if parsed.kind is Kind.LOCKED:
            return Reading(state=State.LOCKED, text=text, parsed=parsed)
        if parsed.kind is Kind.LAYERED:
            return self._below_layers.read(text, parsed)
        ways, doubt, suspected = self._ways(text, parsed, row)
        return Reading(
            state=State.VALUE,
            text=text,
            parsed=parsed,
            ways=ways,
            cohorts=tuple([cohort.name for cohort in self.cohorts if cohort.holds(row)]),
            doubt=doubt,
            suspected=suspected,
        )

    def _keyed(self, text: str, parsed: ParsedValue, row: Row) -> Reading:
        """Read what stands under a key: a direct or a layered value, and nothing else."""
        found = self.keyring.open(text, account=row.account)
        if isinstance(found, OpenedValue):
            within = self.read(replace(row, stored=found.text.encode("utf-8")))
            if within.keyed is None and is_sealable(within):
                own = replace(within.parsed, wrappers=parsed.wrappers)
                return replace(within, parsed=own, keyed=found.head)
            found = Closed.MOVED
        return Reading(state=State.CLOSED, text=text, parsed=parsed, closed=found)

    def read_text(self, text: str) -> Reading:
        """Understand a stored text that nothing is known of beside it."""
        return self.read(Row(stored=text.encode("utf-8")))

    def may_be_plain_text(self, row: Row) -> bool:
        """Tell whether a survey of plain text has to see a row; says nothing of its text."""
        for cohort in self.cohorts:
            if cohort.condition and cohort.plain_text is PlainText.NONE and cohort.holds(row):
                return False
        return self._plain_cohort(row) is not None

    def _plain_cohort(self, row: Row) -> Cohort | None:
        """Give the cohort that calls a row plain text, if one does."""
        if row.is_binary:
            return None
        return next((cohort for cohort in self._plain_cohorts if cohort.holds(row)), None)

    def _ways(
        self, text: str, parsed: ParsedValue, row: Row
    ) -> tuple[tuple[Way, ...], Reason | None, str]:
        said = tuple(self._said(parsed, row))
        if parsed.says is Says.ALL:
            prepared = tuple(self._prepared(said, parsed, row))
            return (*prepared, *said), (None if said else Reason.NOT_UNDERSTOOD), ""
        if self._decryption is not None:
            opened = self._decryption.password_of(text, self.keyring.keys)
            if opened is not None:
                return (_password(DECRYPTABLE, opened, Certainty.DECLARED),), None, ""
        declared = tuple(self._declared(text, parsed, row))
        if parsed.says is Says.TAG:
            return distinct((*said, *declared)), None, ""
        plain = self._plain_cohort(row)
        if declared:
            return distinct(declared), self._contradiction(declared, plain), ""
        if plain is not None:
            return self._plain_text(text, parsed, plain, said)
        return self._undeclared(text, parsed, said)

    def _contradiction(self, ways: Sequence[Way], plain: Cohort | None) -> Reason | None:
        """Tell a row that a cohort of all rows calls a digest, and one of these rows a password."""
        if plain is None or plain.condition is None:
            return None
        of_all_rows = {c.name for c in self.cohorts if c.condition is None}
        return Reason.TWO_CLAIM_IT if any(way.name in of_all_rows for way in ways) else None

    def _undeclared(
        self, text: str, parsed: ParsedValue, said: tuple[Way, ...]
    ) -> tuple[tuple[Way, ...], Reason | None, str]:
        """Read a value that no cohort speaks of."""
        if said:  # digest and salt have their places, and may be joined in any of these ways
            return said, None, ""
        bare = tuple(bare_schemes(text))
        if bare:
            scheme = parsed.scheme in BARE_CRYPT_SCHEMES
            return bare, (None if scheme else Reason.ONLY_SHAPE), ""
        if not self._declares:
            possible = tuple(self._bare_formulas(parsed))
            if possible:
                return possible, Reason.NO_COHORT, ""
        if parsed.kind is Kind.UNKNOWN:
            return (), Reason.NOT_UNDERSTOOD, ""
        if parsed.scheme == "plain-text":
            return (), Reason.TEXT_UNDECLARED, ""
        return (), Reason.NO_COHORT, ""

    def _plain_text(
        self, text: str, parsed: ParsedValue, cohort: Cohort, said: tuple[Way, ...]
    ) -> tuple[tuple[Way, ...], Reason | None, str]:
        """Read a value of a cohort of plain text; what may be a digest is none."""
        if parsed.kind is Kind.UNKNOWN and parsed.contents.also_possible:
            return (), Reason.NOT_UNDERSTOOD, ""  # the beginning of a value of a known scheme
        structure = structure_of(text)
        suspected = self._column().suspects(text)
        text_class = structure or suspected
        if text_class in cohort.text_classes or (
            cohort.plain_text is PlainText.ALL and not text_class
        ):
            return (_plain_password(cohort, text),), None, ""
        explained = bool(said) or not _is_unexplained(text, parsed)
        if cohort.plain_text is PlainText.ALL or (text_class and not explained):
            return (_plain_password(cohort, text, text_class),), None, suspected
        if not explained:
            return (_plain_password(cohort, text),), None, ""
        ways: tuple[Way, ...] = said or tuple(bare_schemes(text))
        if not ways and not self._declares:
            ways = tuple(self._bare_formulas(parsed))
        by_column = self._column().rows > 0 and any(way.name == suspected for way in ways)
        confirmed = bool(said) or by_column
        return ways, (None if confirmed else _doubt_of(text, parsed)), suspected

    def _said(self, parsed: ParsedValue, row: Row) -> Iterator[Way]:
        """Give the ways that a value names itself."""
        contents = parsed.contents
        certainty = Certainty.POSSIBLE if parsed.says is Says.PLACES else Certainty.SAID
        if parsed.says is Says.NOTHING:
            return
        if contents.password is not None:
            yield _password(parsed.scheme, contents.password, certainty)
        elif parsed.kind is Kind.DERIVATION:
            yield DerivationWay(name=parsed.scheme, parsed=parsed)
        elif contents.whole:
            yield CryptWay(
                name=parsed.scheme,
                certainty=certainty,
                scheme=parsed.scheme,
                setting=contents.setting,
                canonical=contents.whole,
            )
        for text in contents.formulas:
            named = named_by_itself(text)
            way = formula_way(
                parsed.scheme, certainty, named, parsed.digest.hex(), contents.salt, row, {}
            )
            if way is not None:
                yield way

    def _prepared(
        self, said: Sequence[Way], parsed: ParsedValue, row: Row
    ) -> Iterator[DerivationWay | CryptWay]:
        """Give the ways of cohorts whose formula went on into the scheme that a value names."""
        for cohort in self.cohorts:
            if cohort.formula is None or cohort.then != parsed.scheme or not cohort.holds(row):
                continue
            named, parts = cohort.formula, self._parts_of(row)
            if not named.parts <= parts.keys() or (named.takes_login and not row.login):
                continue
            before = Before(formula=named, salt=row.salt or b"", login=row.login, parts=parts)
            for way in said:
                if isinstance(way, DerivationWay | CryptWay):
                    yield replace(
                        way,
                        name=cohort.name,
                        certainty=Certainty.DECLARED,
                        before=before,
                        cohort=cohort.identity,
                    )

    def _parts_of(self, row: Row) -> dict[str, bytes]:
        return {
            name: raw for name, column in self._parts.items()
            if (raw := row.others.get(column)) is not None
        }  # fmt: skip

    def _declared(self, text: str, parsed: ParsedValue, row: Row) -> Iterator[LegacyWay]:
        """Give the ways that the policy's cohorts declare for a row."""
        for cohort in self.cohorts:
            if not cohort.holds(row):
                continue
            if cohort.scheme:
                for bare in bare_schemes(text, only=cohort.scheme, name=cohort.name):
                    yield replace(bare, cohort=cohort.identity)
            elif not cohort.then:
                several = len(cohort.alternatives) > 1
                for each in cohort.alternatives:
                    way = self._by_formula(cohort, each.formula, text, parsed, row)
                    if way is not None:
                        alternative = each if several else None
                        yield replace(way, alternative=alternative, cohort=cohort.identity)

    def _by_formula(
        self, cohort: Cohort, named: NamedFormula, text: str, parsed: ParsedValue, row: Row
    ) -> FormulaWay | None:
        parts = self._parts_of(row)
        salt = row.salt if row.salt is not None or not self._has_salts else b""
        if cohort.layout is not None:
            found = cohort.layout.read(text)
            if found is None:
                return None
            parts |= found.others
            salt = parts.pop("salt", salt)
            way = formula_way(
                cohort.name, Certainty.DECLARED, named, found.digest, salt, row, parts
            )
            return None if way is None else replace(way, layout=cohort.layout.text)
        if parsed.says is Says.TAG:
            return None
        tried = [digest_and_salt(parsed, text, salt), (text, salt)]
        if parsed.wrappers:  # a formula may print what else would be something around a value
            tried.insert(0, (row.text or "", salt))
        for printed, own_salt in dict.fromkeys(tried):
            within = formula_way(
                cohort.name, Certainty.DECLARED, named, printed, own_salt, row, parts
            )
            if within is not None:
                return within
        return None

    def _bare_formulas(self, parsed: ParsedValue) -> Iterator[FormulaWay]:
        """Give what a bare digest may be where nobody says anything of the store."""
        if parsed.kind is not Kind.FAST:
            return
        for named in BARE_FORMULAS:
            canonical = named.output.canonical(parsed.digest.hex())
            if canonical is not None:
                name = named.name.removeprefix("utf-8, ").removesuffix(", hex")
                yield FormulaWay(
                    name=name, certainty=Certainty.POSSIBLE, formula=named, canonical=canonical
                )


def _password(name: str, password: str, certainty: Certainty) -> PasswordWay:
    return PasswordWay(name=name, certainty=certainty, password=password)


def _plain_password(cohort: Cohort, text: str, structure: str = "") -> PasswordWay:
    return PasswordWay(
        name=cohort.name,
        certainty=Certainty.DECLARED,
        password=text,
        text_class=structure,
        cohort=cohort.identity,
    )


def _doubt_of(text: str, parsed: ParsedValue) -> Reason:
    """Say why a text that a cohort calls plain text is not taken for it."""
    if parsed.kind is Kind.UNKNOWN and readable.names_a_scheme(text):
        return Reason.NOT_UNDERSTOOD
    return Reason.NO_COHORT if parsed.kind is Kind.FAST else Reason.MAY_BE_DIGEST


def _is_unexplained(text: str, parsed: ParsedValue) -> bool:
    """Tell a text that no layout explains: the column decides what it is."""
    is_unknown = parsed.kind is Kind.UNKNOWN and not readable.names_a_scheme(text)
    return parsed.scheme == "plain-text" or is_unknown
