"""Does this password open this stored value? Everything that can be read is checked here."""

import hmac
from collections.abc import Iterator, Mapping, Sequence
from dataclasses import dataclass, field, replace
from functools import lru_cache

from lean_tumbler.core import layered
from lean_tumbler.core.decryption import Decryption
from lean_tumbler.core.formulas import notation
from lean_tumbler.core.formulas.analysis import digests_used
from lean_tumbler.core.formulas.evaluation import Inputs, evaluate
from lean_tumbler.core.limits import Limits, require_within_limits
from lean_tumbler.core.passwords import forms
from lean_tumbler.core.policy import NamedFormula
from lean_tumbler.core.schemes.base import (
    BARE_LAYOUTS,
    PREFIXED_HEX,
    Derivation,
    Kind,
    ParsedValue,
)
from lean_tumbler.core.schemes.catalogue import DERIVATIONS, SETTING_SCHEMES, read_value
from lean_tumbler.errors import CheckImpossible, InputDoesNotFit

# What a bare digest is tried with when nothing is known of where it came from.
BARE_FORMULAS = tuple(
    NamedFormula(name, notation.parse(f"{name}, hex"))
    for name in ("md5", "sha1", "sha224", "sha256", "sha384", "sha512", "sha3-256", "sha3-512")
)


@lru_cache(maxsize=64)
def _own_formula(text: str) -> NamedFormula:
    """A formula that a layout itself names."""
    return NamedFormula(text, notation.parse(text))


@dataclass(frozen=True, slots=True, kw_only=True)
class Rules:
    """What a check needs to know beside the row.

    Attributes:
        formulas: tried in this order on values that do not describe themselves.
        by_fingerprint: what layered values may refer to.
        accept_plain_text: whether unrecognised text is compared as the password itself.
        limits: bounds on the work.
        keys: secrets of the legacy system, by name.
        decryption: how the store's values are decrypted, where they are.
    """

    formulas: Sequence[NamedFormula] = ()
    by_fingerprint: Mapping[str, NamedFormula] = field(default_factory=dict)
    accept_plain_text: bool = False
    limits: Limits = field(default_factory=Limits)
    keys: Mapping[str, bytes] = field(default_factory=dict, repr=False)
    decryption: Decryption | None = None


@dataclass(frozen=True, slots=True, kw_only=True)
class Verdict:
    """The answer, and what it rests on.

    Attributes:
        accepted: whether the password opens the value.
        parsed: what the value was read as.
        formula: the formula that fitted, or the layered value's own.
        form: which form of the password fitted: as typed, nfc or nfd.
        refusal: for the operator, why not; empty where accepted.
    """

    accepted: bool
    parsed: ParsedValue
    formula: NamedFormula | None = None
    form: str = ""
    refusal: str = ""

    @property
    def lossy(self) -> tuple[str, ...]:
        """Why other passwords open the same value too; empty where none does."""
        if self.formula is not None:
            return self.formula.lossy
        below = self.parsed.contents.origin or self.parsed.scheme
        return SETTING_SCHEMES[below].lossy if below in SETTING_SCHEMES else ()

    @property
    def scheme(self) -> str:
        """What is stored; for a bare digest, what the formula that fitted ends in."""
        if self.formula is None or self.parsed.kind is Kind.LAYERED:
            return self.parsed.scheme
        return (digests_used(self.formula.formula) or (self.parsed.scheme,))[-1]


def recompute(parsed: ParsedValue, secret: bytes, limits: Limits) -> tuple[Derivation, bytes]:
    """Run a self-describing value's own derivation on a secret."""
    derivation = DERIVATIONS[parsed.scheme]
    require_within_limits(parsed, limits)
    return derivation, derivation.recompute(parsed, secret)


def legacy_digest_below(
    parsed: ParsedValue, password: str, rules: Rules
) -> tuple[str, NamedFormula | None]:
    """Compute what lies below a layered value, in canonical text."""
    origin, login = parsed.contents.origin, parsed.contents.login
    setting = (parsed.salt or b"").decode("utf-8", "replace")
    if origin in SETTING_SCHEMES:
        return _whole_again(origin, setting, password, rules.limits), None
    if origin in DERIVATIONS:
        below = DERIVATIONS[origin].read_setting(setting)
        if below is None or below.scheme != origin:
            raise CheckImpossible("a layered value's head holds a setting that cannot be read")
        derivation, digest = recompute(below, password.encode("utf-8"), rules.limits)
        return derivation.whole_text(setting, digest), None
    named = rules.by_fingerprint.get(origin)
    if named is None:
        raise CheckImpossible(
            f"a layered value refers to the formula {origin}, which the policy lacks"
        )
    login_text = None if login is None else login.decode("utf-8", "replace")
    return _evaluate(named, password, parsed.salt, login_text, rules), named


def _whole_again(scheme: str, setting: str, password: str, limits: Limits) -> str:
    """Compute a value of a setting scheme from the setting that a layered value kept."""
    found = SETTING_SCHEMES[scheme]
    if found.filler:
        below = read_value(setting + found.filler)
        if below.scheme != scheme:
            raise CheckImpossible("a layered value's head holds a setting that cannot be read")
        require_within_limits(below, limits)
    return found.compute(setting, password.encode("utf-8"))


def _check_setting_scheme(parsed: ParsedValue, password: str, rules: Rules) -> Verdict:
    require_within_limits(parsed, rules.limits)
    compute = SETTING_SCHEMES[parsed.scheme].compute
    computed = compute(parsed.contents.setting, password.encode("utf-8"))
    accepted = hmac.compare_digest(computed.encode("utf-8"), parsed.contents.whole.encode("utf-8"))
    return Verdict(accepted=accepted, parsed=parsed)


def _evaluate(
    named: NamedFormula, password: str, salt: bytes | None, login: str | None, rules: Rules
) -> str:
    return evaluate(
        named.formula,
        Inputs(password=password, salt=salt, login=login, keys=rules.keys),
        limit_work=rules.limits.formula_work,
        limit_bytes=rules.limits.formula_bytes,
    )


def _candidates(
    stored: str, parsed: ParsedValue, salt: bytes | None, rules: Rules
) -> Iterator[tuple[NamedFormula, str]]:
    """Formulas that can have made a value, each with the value in its canonical form."""
    printed = parsed.formula_text(stored)
    for named in rules.formulas:
        canonical = named.output.canonical(printed)
        if canonical is not None and named.fits(printed, salt=salt):
            yield named, canonical
    text = parsed.digest.hex()
    if parsed.layout not in (*BARE_LAYOUTS, PREFIXED_HEX):
        yield from ((_own_formula(own), text) for own in parsed.contents.formulas)
    elif not rules.formulas:
        yield from ((named, text) for named in BARE_FORMULAS if named.fits(text, salt=None))


def check(
    stored: str,
    password: str,
    *,
    salt: bytes | None = None,
    login: str | None = None,
    rules: Rules,
) -> Verdict:
    """Check one password against one stored value.

    Args:
        stored: the value, as text.
        password: as typed; the caller has bounded its length.
        salt: the raw content of the salt column.
        login: the row's login, where a formula takes it.
        rules: formulas, limits and keys.

    Raises:
        CheckImpossible: the value refers to a formula or key that is not there, or asks for
            more than the limits allow.
    """
    parsed = read_value(stored)
    if parsed.salt is not None and parsed.kind is Kind.FAST:
        salt = parsed.salt  # a salt that stands in the value wins over a column
    if parsed.kind is Kind.LOCKED or parsed.scheme == "empty":
        refusal = "locked" if parsed.kind is Kind.LOCKED else "empty-value"
        return Verdict(accepted=False, parsed=parsed, refusal=refusal)
    for name, form in forms(password):
        try:
            verdict = _check_form(stored, parsed, form, salt, login, rules)
        except InputDoesNotFit:
            continue
        if verdict is None:
            return Verdict(accepted=False, parsed=parsed, refusal="not-understood")
        if verdict.accepted:
            return replace(verdict, form=name)
    return Verdict(accepted=False, parsed=parsed, refusal="wrong-password")


def _check_form(
    stored: str,
    parsed: ParsedValue,
    password: str,
    salt: bytes | None,
    login: str | None,
    rules: Rules,
) -> Verdict | None:
    """Check one form of the password; None where nothing known could have made the value."""
    if parsed.kind is Kind.LAYERED and parsed.inner is not None:
        legacy_digest, named = legacy_digest_below(parsed, password, rules)
        secret = layered.secret(parsed.contents.origin, legacy_digest)
        _, digest = recompute(parsed.inner, secret, rules.limits)
        accepted = hmac.compare_digest(digest, parsed.digest)
        return Verdict(accepted=accepted, parsed=parsed, formula=named)
    if parsed.contents.whole:
        verdict = _check_setting_scheme(parsed, password, rules)
        if verdict.accepted or parsed.contents.confidence == 1:
            return verdict
    if parsed.kind is Kind.DERIVATION:
        _, digest = recompute(parsed, password.encode("utf-8"), rules.limits)
        return Verdict(accepted=hmac.compare_digest(digest, parsed.digest), parsed=parsed)
    return _check_legacy(stored, parsed, password, salt, login, rules)


def _check_legacy(
    stored: str,
    parsed: ParsedValue,
    password: str,
    salt: bytes | None,
    login: str | None,
    rules: Rules,
) -> Verdict | None:
    """Check a value that does not say by itself how it came about."""
    if rules.decryption is not None:
        opens = rules.decryption.is_of(stored, password, rules.keys)
        if opens is not None:
            return Verdict(accepted=opens, parsed=replace(parsed, scheme="encrypted"))
    tried = bool(parsed.contents.whole)
    for named, canonical in _candidates(stored, parsed, salt, rules):
        tried = True
        try:
            computed = _evaluate(named, password, salt, login, rules)
        except InputDoesNotFit:
            continue
        if hmac.compare_digest(computed.encode("utf-8"), canonical.encode("utf-8")):
            return Verdict(accepted=True, parsed=parsed, formula=named)
    may_be_plain = "plain-text" in (parsed.scheme, *parsed.contents.also_possible)
    if may_be_plain and rules.accept_plain_text:
        accepted = hmac.compare_digest(password.encode("utf-8"), stored.encode("utf-8"))
        return Verdict(accepted=accepted, parsed=parsed)
    return Verdict(accepted=False, parsed=parsed) if tried else None
