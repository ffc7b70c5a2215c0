"""The crypt(3) family: what Unix systems and their relatives have stored since 1979.

Sources: crypt(5) for the layouts; the SHA-crypt specification (Drepper, 2007) for
sha256-crypt and sha512-crypt; RFC 6234 and RFC 1320 for the digests.
"""

import re
from collections.abc import Callable, Iterable, Mapping
from functools import partial

from lean_tumbler.core.likelihood import human_bits
from lean_tumbler.core.schemes import crypt64
from lean_tumbler.core.schemes.base import Contents, Kind, Layout, Parameters, Says
from lean_tumbler.core.schemes.current import scrypt
from lean_tumbler.core.schemes.derivation import CryptScheme, Family
from lean_tumbler.core.schemes.guess_work import (
    DES,
    HMAC_COMPRESSIONS,
    Work,
    compressions_of,
    rounds_of,
)
from lean_tumbler.core.schemes.obsolete import crypt_digests
from lean_tumbler.core.schemes.obsolete.system_crypt import system_crypt

_SOURCE = "crypt(5)"
_SHA_SOURCE = "Drepper, Unix crypt using SHA-256 and SHA-512, 2007"
_C = crypt64.CHARACTERS
# Eleven digits hold sixty-six bits; a block has sixty-four, so the last digit ends in two zeros.
_BLOCK = rf"{_C}{{10}}[.26AEIMQUYcgkosw]"
_SHA_ROUNDS = 5000
_SUN_ROUNDS = 4096
_NT_FORMULA = "utf-16le, md4, hex"


def _fixed(rounds: int, bits: int, match: re.Match[str]) -> Contents:
    return Contents(
        parameters={"rounds": rounds},
        salt=match["salt"].encode("ascii"),
        digest=match["digest"].encode("ascii"),
        digest_bits=bits,
        setting=match.string[: match.start("digest")],
        whole=match.string,
    )


def _sha(bits: int, match: re.Match[str]) -> Contents | None:
    rounds = int(match["rounds"] or _SHA_ROUNDS)
    return _fixed(rounds, bits, match) if 1000 <= rounds <= 999_999_999 else None


def _sha1(match: re.Match[str]) -> Contents | None:
    rounds = int(match["rounds"])
    return _fixed(rounds, 160, match) if 1 <= rounds < 2**32 else None


def _sun(match: re.Match[str]) -> Contents | None:
    rounds = int(match["rounds"] or 0)
    return _fixed(_SUN_ROUNDS + rounds, 128, match) if rounds < 2**32 else None


def _yescrypt(match: re.Match[str]) -> Contents | None:
    try:
        _, rest = crypt64.variable_number(match["costs"], 0)  # which flavour
        cost, rest = crypt64.variable_number(rest, 1)
        block_size, rest = crypt64.variable_number(rest, 1)
    except (ValueError, KeyError):
        return None
    # What may follow (parallelism, more time, a read-only memory) is not read.
    known = {"cost_log2": cost, "block_size": block_size} if not rest else {}
    return Contents(
        parameters=known,
        variant=match["costs"],
        salt=match["salt"].encode("ascii"),
        digest=match["digest"].encode("ascii"),
        digest_bits=256,
        setting=match.string[: match.start("digest")],
        whole=match.string,
        notes=("Slow and memory-hard, but outside the guidance that sets the floor.",),
    )


def _bsdi(match: re.Match[str]) -> Contents | None:
    rounds = crypt64.number(match["rounds"])
    return _fixed(rounds, 64, match) if rounds else None


def _des(match: re.Match[str]) -> Contents | None:
    # Beside its salt each block has sixty-four bits; a text that people would rather type is none.
    free_bits = 6 * 2 + 64 * (len(match["digest"]) // 11)
    if human_bits(match.string) < free_bits:
        return None
    blocks = len(match["digest"]) // 11
    note = "Only the first eight characters of the password count." if blocks == 1 else ""
    return Contents(
        parameters={"rounds": 25},
        salt=match["salt"].encode("ascii"),
        digest=match["digest"].encode("ascii"),
        digest_bits=64 * blocks,
        setting=_block_setting(match),
        whole=match.string,
        confidence=0.8,
        also_possible=("plain-text",),
        notes=(note,) if note else (),
    )


def _block_setting(match: re.Match[str]) -> str:
    # The library tells the method by the length, so the digest's place is kept.
    dots = len(match["digest"])
    return match["salt"] + ("" if dots == 11 else "." * dots)


def _nt(match: re.Match[str]) -> Contents:
    return Contents(digest=bytes.fromhex(match["digest"]), formulas=(_NT_FORMULA,))


def _iterated_md5(match: re.Match[str]) -> Contents | None:
    doublings = crypt64.number(match["count"])
    return _fixed(1 << doublings, 128, match) if 7 <= doublings <= 30 else None


_dollar_fields = partial(
    Layout,
    name="dollar fields",
    source=_SOURCE,
    kind=Kind.ITERATED,
    says=Says.ALL,
)
_bare = partial(
    Layout,
    source=_SOURCE,
    kind=Kind.ITERATED,
)

LAYOUTS = (
    _dollar_fields(
        scheme="md5-crypt",
        structure="$1$salt$ and 22 characters",
        starts=("$1$",),
        pattern=rf"\$1\$(?P<salt>[ -#%-9;-~]{{0,8}})\$(?P<digest>{_C}{{22}})",
        build=partial(_fixed, 1000, 128),
    ),
    Layout(
        scheme="apr1-crypt",
        name="dollar fields",
        structure="$apr1$salt$ and 22 characters",
        source="documentation of web servers' password files",
        kind=Kind.ITERATED,
        says=Says.ALL,
        starts=("$apr1$",),
        pattern=rf"\$apr1\$(?P<salt>[ -#%-9;-~]{{0,8}})\$(?P<digest>{_C}{{22}})",
        build=partial(_fixed, 1000, 128),
    ),
    Layout(
        scheme="sha256-crypt",
        name="dollar fields",
        structure="$5$[rounds=N$]salt$ and 43 characters",
        source=_SHA_SOURCE,
        kind=Kind.ITERATED,
        says=Says.ALL,
        starts=("$5$",),
        pattern=r"\$5\$(?:rounds=(?P<rounds>[0-9]{1,9})\$)?(?P<salt>[ -#%-9;-~]{0,16})"
        rf"\$(?P<digest>{_C}{{43}})",
        key_groups=("rounds",),
        build=partial(_sha, 256),
    ),
    Layout(
        scheme="sha512-crypt",
        name="dollar fields",
        structure="$6$[rounds=N$]salt$ and 86 characters",
        source=_SHA_SOURCE,
        kind=Kind.ITERATED,
        says=Says.ALL,
        starts=("$6$",),
        pattern=r"\$6\$(?:rounds=(?P<rounds>[0-9]{1,9})\$)?(?P<salt>[ -#%-9;-~]{0,16})"
        rf"\$(?P<digest>{_C}{{86}})",
        key_groups=("rounds",),
        build=partial(_sha, 512),
    ),
    _dollar_fields(
        scheme="sha1-crypt",
        structure="$sha1$rounds$salt$ and 28 characters",
        starts=("$sha1$",),
        pattern=rf"\$sha1\$(?P<rounds>[0-9]{{1,10}})\$(?P<salt>{_C}{{1,64}})\$(?P<digest>{_C}{{28}})",
        key_groups=("rounds",),
        build=_sha1,
    ),
    _dollar_fields(
        scheme="sun-md5",
        structure="$md5[,rounds=N]$salt$[$] and 22 characters",
        starts=("$md5",),
        pattern=rf"\$md5(?:,rounds=(?P<rounds>[0-9]{{1,10}}))?\$(?P<salt>{_C}{{1,64}})\$\$?"
        rf"(?P<digest>{_C}{{22}})",
        key_groups=("rounds",),
        build=_sun,
    ),
    *(
        _dollar_fields(
            scheme=scheme,
            structure=f"{tag}costs$salt$ and 43 characters",
            starts=(tag,),
            pattern=rf"\{tag[:-1]}\$(?P<costs>{_C}{{1,32}})\$(?P<salt>{_C}{{1,86}})"
            rf"\$(?P<digest>{_C}{{43}})",
            key_groups=("costs",),
            build=_yescrypt,
        )
        for scheme, tag in (("yescrypt", "$y$"), ("gost-yescrypt", "$gy$"))
    ),
    Layout(
        scheme="nt-hash",
        name="dollar fields",
        structure="$3$$ and 32 hexadecimal digits",
        source=_SOURCE,
        kind=Kind.FAST,
        says=Says.ALL,
        starts=("$3$$",),
        pattern=r"\$3\$\$(?P<digest>[0-9a-f]{32})",
        build=_nt,
    ),
    Layout(
        scheme="iterated-md5",
        name="dollar P or H tag, 8-character salt",
        structure="$P$ or $H$, one character of cost, 8 of salt, 22 of digest",
        source="this project's reading of such values",
        kind=Kind.ITERATED,
        says=Says.ALL,
        starts=("$P$", "$H$"),
        pattern=rf"\$[PH]\$(?P<count>{_C})(?P<salt>{_C}{{8}})(?P<digest>{_C}{{22}})",
        key_groups=("count",),
        build=_iterated_md5,
    ),
    _bare(
        scheme="bsdi-crypt",
        name="underscore and crypt base64",
        structure="_ and 4 characters of rounds, 4 of salt, 11 of digest",
        starts=("_",),
        pattern=rf"_(?P<rounds>{_C}{{4}})(?P<salt>{_C}{{4}})(?P<digest>{_C}{{11}})",
        key_groups=("rounds",),
        build=_bsdi,
    ),
    _bare(
        scheme="des-crypt",
        name="crypt base64",
        structure="2 characters of salt, 11 of digest",
        pattern=rf"(?P<salt>{_C}{{2}})(?P<digest>{_BLOCK})",
        build=_des,
        by_value=True,
        lengths=(13,),
    ),
    _bare(
        scheme="bigcrypt",
        name="crypt base64",
        structure="2 characters of salt, several times 11 of digest",
        pattern=rf"(?P<salt>{_C}{{2}})(?P<digest>(?:{_BLOCK}){{2,16}})",
        build=_des,
        by_value=True,
        lengths=tuple(2 + 11 * blocks for blocks in range(2, 17)),
    ),
)


def _matched(scheme: str, text: str) -> re.Match[str] | None:
    layout = next(layout for layout in LAYOUTS if layout.scheme == scheme)
    return layout.match(text) if len(text) in (layout.lengths or {len(text)}) else None


def _bare_setting(scheme: str, text: str) -> str | None:
    """Give the setting of a bare value, whatever it looks like."""
    match = _matched(scheme, text)
    return _block_setting(match) if match else None


_SEVEN_BITS = "the highest bit of each byte"


def _yescrypt_memory_kib(parameters: Parameters) -> int:
    """128 bytes times block size times N (yescrypt: cost_log2 is the logarithm of N)."""
    if not parameters:  # costs that are not read may be any
        return 1 << 40
    return parameters["block_size"] << min(parameters["cost_log2"], 60) >> 3


_WITH_ROUNDS: Mapping[str, Callable[[int], Iterable[str]]] = {
    "sha1-crypt": lambda rounds: (f"$sha1${rounds}$........$",),
    "sha256-crypt": lambda rounds: (f"$5$rounds={rounds}$................$",),
    "sha512-crypt": lambda rounds: (f"$6$rounds={rounds}$................$",),
}

CRYPT_SCHEMES = (
    CryptScheme(scheme="md5-crypt", source=_SOURCE, compute=crypt_digests.md5_crypt),
    CryptScheme(scheme="apr1-crypt", source=_SOURCE, compute=crypt_digests.md5_crypt),
    *(
        CryptScheme(
            scheme=scheme,
            source=_SOURCE,
            compute=compute,
            filler="." * characters,
            memory_kib=_yescrypt_memory_kib if "yescrypt" in scheme else lambda _: 0,
            settings_of_rounds=_WITH_ROUNDS.get(scheme),
        )
        for scheme, compute, characters in (
            ("sha1-crypt", crypt_digests.sha1_crypt, 28),
            ("sha256-crypt", crypt_digests.sha_crypt, 43),
            ("sha512-crypt", crypt_digests.sha_crypt, 86),
            ("iterated-md5", crypt_digests.iterated_md5, 22),
            ("sun-md5", system_crypt, 22),
            ("yescrypt", system_crypt, 43),
            ("gost-yescrypt", system_crypt, 43),
        )
    ),
    CryptScheme(
        scheme="bsdi-crypt",
        source=_SOURCE,
        compute=system_crypt,
        filler="." * 11,
        lossy=(_SEVEN_BITS,),
        setting_of=lambda text: text[:9] if _matched("bsdi-crypt", text) else None,
        settings_of_rounds=lambda rounds: (f"_{crypt64.number_text(rounds, 4)}....",),
    ),
    CryptScheme(
        scheme="des-crypt",
        source=_SOURCE,
        compute=system_crypt,
        lossy=("what comes after the eighth byte", _SEVEN_BITS),
        setting_of=partial(_bare_setting, "des-crypt"),
    ),
    CryptScheme(
        scheme="bigcrypt",
        source=_SOURCE,
        compute=system_crypt,
        lossy=("what comes after the 128th byte", _SEVEN_BITS),
        setting_of=partial(_bare_setting, "bigcrypt"),
    ),
)

FAMILY = Family(
    name="crypt(3)",
    layouts=LAYOUTS,
    crypt_schemes=CRYPT_SCHEMES,
    formulas=(_NT_FORMULA,),
    # Where a round digests one or two blocks by turns, the mean is taken.
    work={
        "yescrypt": scrypt.work,
        "gost-yescrypt": scrypt.work,
        "sha1-crypt": rounds_of("sha1", HMAC_COMPRESSIONS),
        "md5-crypt": rounds_of("md5"),
        "apr1-crypt": rounds_of("md5"),
        "iterated-md5": rounds_of("md5"),
        "sun-md5": rounds_of("md5", 2),
        "sha256-crypt": rounds_of("sha256", 1.5),
        "sha512-crypt": rounds_of("sha512"),
        "des-crypt": lambda _: Work(operations=25 * DES),
        "bigcrypt": lambda _: Work(operations=25 * DES),
        "bsdi-crypt": lambda costs: Work(operations=costs["rounds"] * DES),
        "nt-hash": compressions_of("md4"),
    },
)
