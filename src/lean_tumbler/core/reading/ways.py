"""Ways: one reading each of one row, by which scheme or formula it may have been made."""

import hmac
from collections.abc import Callable, Mapping
from enum import IntEnum
from functools import partial

from msgspec import Struct, field

from lean_tumbler.core.formulas.alternatives import Alternative
from lean_tumbler.core.formulas.evaluation import Inputs, input_of, prepared
from lean_tumbler.core.formulas.named import NamedFormula
from lean_tumbler.core.limits import Limits, require_within_limits
from lean_tumbler.core.records import Hidden, MaskedRecord
from lean_tumbler.core.schemes.base import ParsedValue
from lean_tumbler.core.schemes.catalogue import CRYPT_SCHEMES, DERIVATIONS, read_value
from lean_tumbler.core.schemes.derivation import Derivation
from lean_tumbler.errors import CheckImpossible, InputDoesNotFit

PLAIN_TEXT = "plain-text"


class Certainty(IntEnum):
    """How sure a way is."""

    SAID = 0  # by the value itself
    DECLARED = 1  # by a cohort of the policy
    POSSIBLE = 2  # by nothing but the shape


class Bounds(MaskedRecord, Struct, frozen=True, kw_only=True):
    """What a check may spend, and the legacy system's secrets."""

    limits: Limits = field(default_factory=Limits)
    keys: Hidden[Mapping[str, bytes]] = field(default_factory=dict)


class FormulaWay(MaskedRecord, Struct, frozen=True, kw_only=True):
    """A formula over the row's inputs."""

    name: str  # the cohort's, or the scheme's where the value names the formula itself
    certainty: Certainty  # how sure it is
    formula: NamedFormula  # the formula
    layout: str = ""  # the cohort's own layout; empty where the text is the digest
    # which one it is, where a cohort's formula has alternatives
    alternative: Alternative | None = None
    cohort: str = ""  # the identity of the cohort that declares it; empty where none does
    # the row's digest as the formula prints it; empty below a layer, where it is not known
    canonical: Hidden[str] = ""
    salt: Hidden[bytes | None] = None  # raw, where the formula takes it
    login: str | None = None  # where the formula takes it
    parts: Hidden[Mapping[str, bytes]] = field(default_factory=dict)  # further inputs, raw

    @property
    def origin(self) -> str:
        """What a layered head calls it."""
        return self.formula.fingerprint

    @property
    def rests_on(self) -> str:
        """What evidence calls it."""
        return self.cohort or self.origin

    @property
    def lossy(self) -> tuple[str, ...]:
        """Why other passwords open the same value too."""
        return self.formula.lossy

    def computed(self, password: str, bounds: Bounds) -> str | None:
        """Give the canonical text of a password; None where the formula has none for it."""
        return self.computing(bounds)(password)

    def computing(self, bounds: Bounds) -> Callable[[str], str | None]:
        """Prepare `computed` for many passwords."""
        limits, canonical = bounds.limits, self.formula.output.canonical
        inputs = partial(
            Inputs, salt=self.salt, login=self.login, keys=bounds.keys, parts=self.parts
        )
        run = prepared(
            self.formula.formula,
            limit_work=limits.formula_work,
            limit_bytes=limits.formula_bytes,
        )

        def computed(password: str) -> str | None:
            try:
                return canonical(run(inputs(password=password)))
            except InputDoesNotFit:
                return None

        return computed


class Before(MaskedRecord, Struct, frozen=True, kw_only=True):
    """What a password went through before a slow scheme took it."""

    formula: NamedFormula  # its steps
    salt: Hidden[bytes | None] = None  # raw, where the formula takes it
    login: str | None = None  # where the formula takes it
    parts: Hidden[Mapping[str, bytes]] = field(default_factory=dict)  # further inputs, raw

    def of(self, password: str, bounds: Bounds) -> bytes | None:
        """Give the bytes that the scheme took; None where the formula has none for a password."""
        inputs = Inputs(
            password=password, salt=self.salt, login=self.login, keys=bounds.keys, parts=self.parts
        )
        try:
            return input_of(
                self.formula.formula,
                inputs,
                limit_work=bounds.limits.formula_work,
                limit_bytes=bounds.limits.formula_bytes,
            )
        except InputDoesNotFit:
            return None


def _taken(before: Before | None, password: str, bounds: Bounds) -> tuple[bytes, bool]:
    """Give what a scheme takes; and whether a password makes that, for refusals are no quicker."""
    taken = password.encode("utf-8") if before is None else before.of(password, bounds)
    return taken or b"", taken is not None


class CryptWay(MaskedRecord, Struct, frozen=True, kw_only=True):
    """A legacy scheme whose setting and password give the whole text again."""

    name: str
    certainty: Certainty
    scheme: str
    setting: Hidden[str]
    canonical: Hidden[str] = ""
    before: Before | None = None
    cohort: str = ""

    @property
    def origin(self) -> str:
        """What a layered head calls it."""
        return self.scheme

    @property
    def rests_on(self) -> str:
        """What evidence calls it."""
        return self.cohort or self.origin

    @property
    def salt(self) -> bytes:
        """What a layered head keeps of it."""
        return self.setting.encode("utf-8")

    @property
    def lossy(self) -> tuple[str, ...]:
        """Why other passwords open the same value too."""
        own = self.before.formula.lossy if self.before else ()
        return (*own, *CRYPT_SCHEMES[self.scheme].lossy)

    @property
    def parsed(self) -> ParsedValue | None:
        """The value, or one of its setting; None where the setting makes none."""
        found = CRYPT_SCHEMES[self.scheme]
        if not found.filler and not self.canonical:
            return None
        value = read_value(self.canonical or self.setting + found.filler)
        if value.scheme == self.scheme:
            return value
        if not found.setting_of:
            raise CheckImpossible("a layered value's head holds a setting that cannot be read")
        return None

    def computed(self, password: str, bounds: Bounds) -> str | None:
        """Give the whole text of a password."""
        found, value = CRYPT_SCHEMES[self.scheme], self.parsed
        if value is not None:
            require_within_limits(value, bounds.limits)
        taken, is_made = _taken(self.before, password, bounds)
        try:
            whole = found.compute(self.setting, taken)
        except InputDoesNotFit:
            found.compute(self.setting, b"")
            return None
        except ValueError:
            raise CheckImpossible(
                "a layered value's head holds a setting that cannot be read"
            ) from None
        return whole if is_made else None


class DerivationWay(Struct, frozen=True, kw_only=True):
    """A slow scheme with parameters, which says all of itself."""

    name: str
    parsed: ParsedValue
    certainty: Certainty = Certainty.SAID
    before: Before | None = None
    cohort: str = ""

    @property
    def origin(self) -> str:
        """What a layered head calls it."""
        return self.parsed.scheme

    @property
    def rests_on(self) -> str:
        """What evidence calls it."""
        return self.cohort or self.origin

    @property
    def canonical(self) -> str:
        """The whole value in its own canonical layout."""
        return DERIVATIONS[self.origin].whole_text(self.parsed.contents.setting, self.parsed.digest)

    @property
    def salt(self) -> bytes:
        """What a layered head keeps of it."""
        return self.parsed.contents.setting.encode("ascii")

    @property
    def lossy(self) -> tuple[str, ...]:
        """Why other passwords open it too: the scheme itself takes any text for what it is."""
        return self.before.formula.lossy if self.before else ()

    def computed(self, password: str, bounds: Bounds) -> str | None:
        """Give the whole text of a password."""
        taken, is_made = _taken(self.before, password, bounds)
        derivation, digest = recompute(self.parsed, taken, bounds.limits)
        return derivation.whole_text(self.parsed.contents.setting, digest) if is_made else None


class PasswordWay(MaskedRecord, Struct, frozen=True, kw_only=True):
    """The row holds the password itself: as plain text, or decrypted."""

    name: str
    certainty: Certainty
    password: Hidden[str]
    text_class: str = ""  # the text's structure, where only proof makes such a text a password
    cohort: str = ""
    lossy: tuple[str, ...] = ()

    @property
    def rests_on(self) -> str:
        """What evidence calls it."""
        return f"{self.cohort or PLAIN_TEXT} {self.text_class}".rstrip()


LegacyWay = FormulaWay | CryptWay | DerivationWay
Way = LegacyWay | PasswordWay


def recompute(parsed: ParsedValue, secret: bytes, limits: Limits) -> tuple[Derivation, bytes]:
    """Run a self-describing value's own derivation on a secret.

    Raises:
        OverLimit: it asks for more than the limits allow.
    """
    derivation = DERIVATIONS[parsed.scheme]
    require_within_limits(parsed, limits)
    return derivation, derivation.recompute(parsed, secret)


def opens(way: Way, password: str, bounds: Bounds) -> bool:
    """Tell whether a password is the one that a way was made from, in constant time.

    Raises:
        CheckImpossible: a key is not there, or more work is asked for than the limits allow.
    """
    if isinstance(way, PasswordWay):
        computed, wanted = password, way.password
    else:
        made = way.computed(password, bounds)
        if made is None:
            return False
        computed, wanted = made, way.canonical
    return hmac.compare_digest(computed.encode("utf-8"), wanted.encode("utf-8"))
