"""The derivation bcrypt in the variants of its tag (Provos and Mazières, USENIX 1999)."""

import base64
import re
from collections.abc import Iterator, Sequence

from lean_tumbler.core.schemes.base import Contents, Kind, Layout, Parameters, ParsedValue, Says
from lean_tumbler.core.schemes.derivation import (
    Derivation,
    Family,
    FixedForm,
    Parameter,
    Steps,
    Tuning,
)
from lean_tumbler.core.schemes.guess_work import Work
from lean_tumbler.errors import CheckImpossible

PASSWORD_BYTES = 72  # the cipher's key takes 18 words of 4 bytes; the rest is ignored
_SETTING_CHARACTERS = 29  # `$2b$12$` and 22 characters of salt

PARAMETERS = (Parameter(name="cost_log2", lowest=4, highest=31),)

_OWN = "./ABCDEFGHIJKLMNOPQRSTUVWXYZabcdefghijklmnopqrstuvwxyz0123456789"
_STANDARD = "ABCDEFGHIJKLMNOPQRSTUVWXYZabcdefghijklmnopqrstuvwxyz0123456789+/"
_TO_STANDARD = str.maketrans(_OWN, _STANDARD)
_FROM_STANDARD = str.maketrans(_STANDARD, _OWN, "=")

# Provos and Mazières 1999: rounds of Blowfish in a key schedule, and the four S-boxes.
_ROUNDS = 521 * 16
_BYTES = 4096
_STEPS_ABOVE_FLOOR = 7

# Of a password's first 72 bytes they compute the same; older programs know one of the later two.
_WRITTEN_VARIANTS = ("2b", "2y", "2a")

_NOTES = {
    "2": ("The first variant: it left out the NUL at the password's end.",),
    "2x": ("Written by software whose sign extension weakened non-ASCII passwords.",),
}


def _decode(text: str) -> bytes:
    return base64.b64decode(text.translate(_TO_STANDARD) + "=" * (-len(text) % 4))


def _encode(raw: bytes) -> str:
    return base64.b64encode(raw).decode("ascii").translate(_FROM_STANDARD)


def _build(match: re.Match[str]) -> Contents:
    return Contents(
        parameters={"cost_log2": int(match["cost"])},
        variant=match["variant"],
        salt=_decode(match["salt"]),
        digest=_decode(match["digest"]),
        setting=match.string[: match.start("digest")],
        notes=_NOTES.get(match["variant"], ()),
        obsolete=match["variant"] in _NOTES,
    )


LAYOUTS = (
    Layout(
        scheme="bcrypt",
        name="dollar fields",
        structure="$2b$cost$ and 22 characters of salt, 31 of digest; also 2, 2a, 2x, 2y",
        source="Provos and Mazières, USENIX 1999; crypt(5)",
        kind=Kind.DERIVATION,
        says=Says.ALL,
        starts=("$2$", "$2a$", "$2b$", "$2x$", "$2y$"),
        pattern=r"\$(?P<variant>2[abxy]?)\$(?P<cost>0[4-9]|[12][0-9]|3[01])\$"
        r"(?P<salt>[./A-Za-z0-9]{22})(?P<digest>[./A-Za-z0-9]{31})",
        key_groups=("variant", "cost"),
        lengths_count=False,
        lengths=(59, 60),
        build=_build,
    ),
)


def read_setting(setting: str) -> ParsedValue | None:
    """Read a setting, as layered values keep it."""
    return LAYOUTS[0].read(setting + "." * 31)


def whole_text(setting: str, digest: bytes) -> str:
    """Put a digest back into a setting."""
    return setting + _encode(digest)


def _recompute(parsed: ParsedValue, secret: bytes) -> bytes:
    import bcrypt  # noqa: PLC0415 - loads native code; reading does not need it

    # Older software truncated, and took a salt whose last character holds more bits than a salt
    # has, where this primitive raises; a check must do as they did.
    same_family = f"$2b${parsed.parameters['cost_log2']:02d}${_encode(parsed.salt or b'')}"
    key = _key(parsed.contents.variant, secret)
    whole = bcrypt.hashpw(key, same_family.encode("ascii"))
    return _decode(whole[_SETTING_CHARACTERS:].decode("ascii"))


def _key(variant: str, secret: bytes) -> bytes:
    """Give the key that a variant makes of a password, for the primitive of 2b.

    All of them fill 72 bytes with the password, again and again, a NUL after each; 2 left out the
    NUL, and 2x let the sign of each byte above 127 run over those before it in its word.
    """
    if variant == "2" and secret:
        return (secret * PASSWORD_BYTES)[:PASSWORD_BYTES]
    if variant != "2x":
        return secret[:PASSWORD_BYTES]
    stream = ((secret + b"\0") * PASSWORD_BYTES)[:PASSWORD_BYTES]
    key = bytearray()
    for start in range(0, PASSWORD_BYTES, 4):
        word = 0
        for byte in stream[start : start + 4]:
            word = (word << 8 | (byte | 0xFFFFFF00 if byte > 127 else byte)) & 0xFFFFFFFF
        key += word.to_bytes(4, "big")
    return bytes(key)


def _create(secret: bytes, salt: bytes, parameters: Parameters) -> str:
    setting = f"$2b${parameters['cost_log2']:02d}${_encode(salt)}"
    parsed = read_setting(setting)
    if parsed is None:
        raise CheckImpossible("bcrypt: the salt must be 16 bytes and the cost from 4 to 31")
    return whole_text(setting, _recompute(parsed, secret))


def as_variant(value: str, variant: str) -> str:
    """Write a value of the usual variant as another one: the same digest under another name."""
    return f"${variant}${value[4:]}"


def _costs_of(number: int) -> Iterator[Parameters]:
    """Give the costs that together make a number of key schedules, its binary digits."""
    for cost in range(PARAMETERS[0].lowest, number.bit_length()):
        if number >> cost & 1:
            yield {"cost_log2": cost}


def _work(parameters: Parameters) -> Work:
    """Count 2^c times two key schedules, one Blowfish round after the other."""
    return Work(on_chip_rounds=2.0 ** (parameters["cost_log2"] + 1) * _ROUNDS, on_chip_bytes=_BYTES)


def _work_in_words(parameters: Parameters) -> str:
    cost = parameters["cost_log2"]
    return f"2^{cost} = {2**cost:,} rounds; one more doubles the time"


def _above(alternatives: Sequence[Parameters]) -> Iterator[Parameters]:
    for point in alternatives:
        for step in range(_STEPS_ABOVE_FLOOR):
            yield {"cost_log2": point["cost_log2"] + step}


def _as_strong(parameters: Parameters, others: Parameters) -> bool:
    return parameters["cost_log2"] >= others["cost_log2"]


FAMILY = Family(
    name="bcrypt",
    layouts=LAYOUTS,
    derivations=(
        Derivation(
            scheme="bcrypt",
            source="Provos and Mazières, A Future-Adaptable Password Scheme, USENIX 1999",
            parameters=PARAMETERS,
            defaults={"cost_log2": 12},
            salt_bytes=16,
            recompute=_recompute,
            create=_create,
            whole_text=whole_text,
            read_setting=read_setting,
            memory_kib=lambda _: 4,
            work_kib=lambda _: 0,
            as_strong=_as_strong,
            on_top=None,  # it would cut the input at 72 bytes
            in_words=lambda parameters: f"cost {parameters['cost_log2']}",
            work_in_words=_work_in_words,
            limits={"cost_log2": "bcrypt_cost_log2"},
            # OWASP Password Storage Cheat Sheet (2023 edition)
            floors={"owasp": ({"cost_log2": 10},)},
            tuning=Tuning(
                points=tuple({"cost_log2": cost} for cost in range(6, 14)),
                grows_with=lambda parameters: 2.0 ** parameters["cost_log2"],
                above=_above,
            ),
            fixed_form=FixedForm(
                start="$2[aby]$", cost="cost_log2", alphabet="[A-Za-z0-9./]", characters=53
            ),
            digest_multiple=0,
            password_bytes=PASSWORD_BYTES,
            variants=_WRITTEN_VARIANTS,
            as_variant=as_variant,
            steps=Steps(number=lambda costs: 1 << costs["cost_log2"], costs=_costs_of),
        ),
    ),
    work={"bcrypt": _work},
)
