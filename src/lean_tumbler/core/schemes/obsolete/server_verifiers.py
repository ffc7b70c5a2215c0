"""What database servers store for their own users."""

import re
from functools import partial

from msgspec.structs import replace

from lean_tumbler.core.schemes import phc
from lean_tumbler.core.schemes.base import Contents, Kind, Layout, Says
from lean_tumbler.core.schemes.derivation import CryptScheme, Family
from lean_tumbler.core.schemes.guess_work import HMAC_COMPRESSIONS, Work, compressions_of, rounds_of
from lean_tumbler.core.schemes.obsolete import challenge_verifiers, crypt_digests

_POSTGRESQL = "PostgreSQL documentation, Password Authentication; RFC 5802, RFC 7677"
_MYSQL = "MariaDB and MySQL documentation, PASSWORD() and authentication plugins"
_BINARY_COLUMNS = "values of such servers, as their binary columns print them"
_WITH_LOGIN = "utf-8, append login, md5, hex"
_TWICE = "utf-8, sha1, sha1, hex"
_UTF16_SHA1 = "utf-16le, append salt, sha1, hex"
_UTF16_SHA512 = "utf-16le, append salt, sha512, hex"
_SALTED_SHA1 = "utf-8, append salt, sha1, hex"
_VERIFIER_COLUMNS = "values of such servers, as their verifier columns print them"


def _bare(formula: str, match: re.Match[str]) -> Contents:
    return Contents(digest=bytes.fromhex(match["digest"]), formulas=(formula,))


def _with_login(match: re.Match[str]) -> Contents:
    return Contents(
        digest=bytes.fromhex(match["digest"]),
        formulas=(_WITH_LOGIN,),
        salted_by_login=True,
        notes=("The login is the salt: renaming the user breaks it.",),
    )


def _with_salt(formula: str, match: re.Match[str]) -> Contents:
    return Contents(
        digest=bytes.fromhex(match["digest"]),
        salt=bytes.fromhex(match["salt"]),
        formulas=(formula,),
    )


def _with_faster(match: re.Match[str]) -> Contents:
    """Read several verifiers of one password as the fastest of them: an attacker would."""
    read = _with_salt(_SALTED_SHA1, match)
    note = "Several verifiers of one password: the fastest is what counts."
    return replace(read, notes=(note,))


def _old_mysql(match: re.Match[str]) -> Contents:
    return Contents(
        digest=bytes.fromhex(match["digest"]),
        whole=match.string,
        confidence=0.6,
        also_possible=("64 bits of a longer digest",),
        notes=("Two numbers of 31 bits; blanks in the password do not count.",),
        obsolete=True,
    )


def _scram(match: re.Match[str]) -> Contents | None:
    salt, server = phc.decode(match["salt"]), phc.decode(match["server"])
    rounds = int(match["rounds"])
    if not salt or not server or not 1 <= rounds < 2**31:
        return None
    return Contents(
        parameters={"rounds": rounds},
        salt=salt,
        digest=server,
        setting=match.string[: match.start("stored")],
        whole=match.string,
    )


def _labelled_key(match: re.Match[str]) -> Contents:
    return Contents(
        parameters={"rounds": challenge_verifiers.LABELLED_KEY_ROUNDS},
        salt=bytes.fromhex(match["salt"]),
        digest=bytes.fromhex(match["digest"]),
        setting=f"T:{match['salt']}",
        whole=match.string,
    )


def _caching(match: re.Match[str]) -> Contents | None:
    rounds = 1000 * int(match["rounds"], 16)
    if not rounds:
        return None
    return Contents(
        parameters={"rounds": rounds},
        salt=match["salt"].encode("utf-8"),
        digest=match["digest"].encode("ascii"),
        digest_bits=256,
        setting=match.string[: match.start("digest")],
        whole=match.string,
    )


LAYOUTS = (
    Layout(
        scheme="md5-with-login",
        name="md5 and hex",
        structure="md5 and 32 hexadecimal digits; the login is the salt",
        source=_POSTGRESQL,
        kind=Kind.FAST,
        says=Says.TAG,
        starts=("md5",),
        pattern=r"md5(?P<digest>[0-9a-f]{32})",
        build=_with_login,
    ),
    Layout(
        scheme="scram-sha-256",
        name="dollar and colon fields",
        structure="SCRAM-SHA-256$rounds:salt$stored key:server key",
        source=_POSTGRESQL,
        kind=Kind.ITERATED,
        says=Says.ALL,
        starts=("SCRAM-SHA-256$",),
        pattern=r"SCRAM-SHA-256\$(?P<rounds>[0-9]{1,10}):(?P<salt>[A-Za-z0-9+/]+)=*"
        r"\$(?P<stored>[A-Za-z0-9+/]{43})=:(?P<server>[A-Za-z0-9+/]{43})=",
        key_groups=("rounds",),
        build=_scram,
    ),
    Layout(
        scheme="double-sha1",
        name="star and upper hex",
        structure="* and 40 upper-case hexadecimal digits",
        source=_MYSQL,
        kind=Kind.FAST,
        says=Says.TAG,
        starts=("*",),
        pattern=r"\*(?P<digest>[0-9A-F]{40})",
        build=partial(_bare, _TWICE),
    ),
    Layout(
        scheme="two-sums-31-bit",
        name="16 hex digits",
        structure="16 lower-case hexadecimal digits",
        source=_MYSQL,
        kind=Kind.FAST,
        pattern=r"(?P<digest>[0-7][0-9a-f]{7}[0-7][0-9a-f]{7})",
        build=_old_mysql,
        lengths=(16,),
    ),
    Layout(
        scheme="sha256-crypt-20",
        name="dollar A tag",
        structure="$A$, rounds in thousands as 3 hex digits, 20 characters of salt, 43 of digest",
        source=_MYSQL,
        kind=Kind.ITERATED,
        says=Says.ALL,
        starts=("$A$",),
        pattern=r"\$A\$(?P<rounds>[0-9A-F]{3})\$(?P<salt>(?s:.){20})(?P<digest>[./0-9A-Za-z]{43})",
        key_groups=("rounds",),
        build=_caching,
    ),
    Layout(
        scheme="sha1",
        name="0x0100, 4-byte salt, SHA-1 of UTF-16LE",
        structure="0x0100 and 8 hexadecimal digits of salt, 40 of digest",
        source=_BINARY_COLUMNS,
        kind=Kind.FAST,
        says=Says.TAG,
        starts=("0x0100",),
        pattern=r"0x0100(?P<salt>[0-9a-fA-F]{8})(?P<digest>[0-9a-fA-F]{40})",
        build=partial(_with_salt, _UTF16_SHA1),
    ),
    Layout(
        scheme="sha512",
        name="0x0200, 4-byte salt, SHA-512 of UTF-16LE",
        structure="0x0200 and 8 hexadecimal digits of salt, 128 of digest",
        source=_BINARY_COLUMNS,
        kind=Kind.FAST,
        says=Says.TAG,
        starts=("0x0200",),
        pattern=r"0x0200(?P<salt>[0-9a-fA-F]{8})(?P<digest>[0-9a-fA-F]{128})",
        build=partial(_with_salt, _UTF16_SHA512),
    ),
    Layout(
        scheme="sha1",
        name="S:, SHA-1 then 10-byte salt, upper hex",
        structure="S: and 40 upper-case hexadecimal digits of digest, 20 of salt",
        source=_VERIFIER_COLUMNS,
        kind=Kind.FAST,
        says=Says.TAG,
        starts=("S:",),
        pattern=r"S:(?P<digest>[0-9A-F]{40})(?P<salt>[0-9A-F]{20})",
        build=partial(_with_salt, _SALTED_SHA1),
    ),
    Layout(
        scheme="sha1",
        name="S:, SHA-1 then 10-byte salt, with H: or T: behind",
        structure="S: as above; then ;H: and an MD5 digest, or ;T: and 160 digits, or both",
        source=_VERIFIER_COLUMNS,
        kind=Kind.FAST,
        says=Says.TAG,
        starts=("S:",),
        pattern=r"S:(?P<digest>[0-9A-F]{40})(?P<salt>[0-9A-F]{20})"
        r"(?:;H:[0-9A-F]{32}(?:;T:[0-9A-F]{160})?|;T:[0-9A-F]{160})",
        build=_with_faster,
    ),
    Layout(
        scheme="pbkdf2-sha512-verifier",
        name="T:, digest then 16-byte salt, upper hex",
        structure="T: and 128 upper-case hexadecimal digits of digest, 32 of salt",
        source=_VERIFIER_COLUMNS,
        kind=Kind.ITERATED,
        says=Says.TAG,
        starts=("T:",),
        pattern=r"T:(?P<digest>[0-9A-F]{128})(?P<salt>[0-9A-F]{32})",
        build=_labelled_key,
    ),
)

_OLD_LAYOUT = next(layout for layout in LAYOUTS if layout.scheme == "two-sums-31-bit")

CRYPT_SCHEMES = (
    CryptScheme(
        scheme="scram-sha-256",
        source=_POSTGRESQL,
        compute=challenge_verifiers.scram_sha256,
        filler=f"{'A' * 43}=:{'A' * 43}=",
    ),
    CryptScheme(
        scheme="sha256-crypt-20",
        source=_MYSQL,
        compute=crypt_digests.caching_sha256,
        filler="." * 43,
    ),
    CryptScheme(
        scheme="pbkdf2-sha512-verifier",
        source=_VERIFIER_COLUMNS,
        compute=challenge_verifiers.labelled_key,
    ),
    CryptScheme(
        scheme="two-sums-31-bit",
        source=_MYSQL,
        compute=challenge_verifiers.mysql_old,
        setting_of=lambda text: "" if _OLD_LAYOUT.match(text) else None,
        lossy=("blanks and tabs",),
    ),
)

FAMILY = Family(
    name="server verifiers",
    layouts=LAYOUTS,
    crypt_schemes=CRYPT_SCHEMES,
    formulas=(_WITH_LOGIN, _TWICE, _UTF16_SHA1, _UTF16_SHA512, _SALTED_SHA1),
    work={
        "scram-sha-256": rounds_of("sha256", HMAC_COMPRESSIONS),
        "pbkdf2-sha512-verifier": rounds_of("sha512", HMAC_COMPRESSIONS),
        "sha256-crypt-20": rounds_of("sha256", 1.5),
        "double-sha1": compressions_of("sha1", "sha1"),
        "md5-with-login": compressions_of("md5"),
        "two-sums-31-bit": lambda _: Work(operations=12 * 8.0),  # a few sums for each character
    },
)
