"""Invented tables of known truth: generations of registration code in one column.

Stored values are made by primitives alone (hashlib, the system's libcrypt, bcrypt, argon2): nothing
of the tool takes part. Each table comes with the policy that says rightly how it came about.
"""

import base64
import hashlib
import hmac
import random
from collections.abc import Callable, Sequence
from dataclasses import dataclass, field
from itertools import pairwise

import bcrypt
from argon2 import low_level
from Crypto.Hash import MD4

from invented import passwords
from invented.libcrypt import crypt

_HEX = "0123456789abcdef"
_ALPHABET = "abcdefghijklmnopqrstuvwxyzABCDEFGHIJKLMNOPQRSTUVWXYZ0123456789"
_CRYPT_SIGNS = "./0123456789ABCDEFGHIJKLMNOPQRSTUVWXYZabcdefghijklmnopqrstuvwxyz"

Chance = random.Random


@dataclass(slots=True)
class Made:
    """What one account's registration left in its row."""

    stored: str
    salt: str | None = None
    rounds: int | None = None
    digest: str = ""  # the legacy digest alone, where it is not the whole text


@dataclass(frozen=True, slots=True)
class Kind:
    """One way in which registration code made values.

    Attributes:
        make: (password, login, chance) -> the row's part.
        cohort: TOML of the cohort, without name and condition; empty where values say it all.
        needs: what passwords must be: any, latin-1, short, storable.
        lossy: whether other passwords open the row too, so that it stays layered.
        current: whether it is as strong as the floor.
    """

    make: Callable[[str, str, Chance], Made]
    cohort: str = ""
    needs: str = "any"
    lossy: bool = False
    current: bool = False
    plain: bool = False
    shape: str = ""  # values of one shape in one table need conditions that tell them apart
    salted: bool = False


def _text(chance: Chance, length: int, alphabet: str = _ALPHABET) -> str:
    return "".join(chance.choices(alphabet, k=length))


def _digest(name: str, raw: bytes) -> bytes:
    return hashlib.new(name, raw).digest()


def _b64(raw: bytes) -> str:
    return base64.b64encode(raw).decode()


def _salted(
    name: str, join: Callable[[bytes, bytes], bytes], salts: Sequence[int] = (4, 8, 16)
) -> Callable[[str, str, Chance], Made]:
    def make(password: str, _: str, chance: Chance) -> Made:
        salt = _text(chance, chance.choice(salts))
        return Made(_digest(name, join(password.encode(), salt.encode())).hex(), salt)

    return make


def _twice_salted(password: str, _: str, chance: Chance) -> Made:
    salt = _text(chance, 5)
    inner = _digest("md5", password.encode()).hex()
    return Made(_digest("md5", (inner + salt).encode()).hex(), salt)


def _by_login(password: str, login: str, _: Chance) -> Made:
    return Made(_digest("sha1", (login.lower() + ":" + password).encode()).hex())


def _keyed(password: str, _: str, chance: Chance) -> Made:
    salt = _text(chance, 12)
    return Made(hmac.digest(salt.encode(), password.encode(), "sha256").hex(), salt)


def _kiosk(password: str, _: str, chance: Chance) -> Made:
    rounds, salt = chance.choice([3, 7, 20]), chance.randbytes(8)
    raw = hashlib.pbkdf2_hmac("sha1", password.encode(), salt, rounds, 20)
    salted = base64.b64encode(salt).decode()
    return Made(f"{salted}/{rounds}/{raw.hex()}", digest=raw.hex())


def _column_rounds(password: str, _: str, chance: Chance) -> Made:
    rounds, salt = chance.choice([5, 9, 30]), _text(chance, 8)
    raw = hashlib.pbkdf2_hmac("sha256", password.encode(), salt.encode(), rounds, 32)
    return Made(raw.hex(), salt, rounds)


def _looped(password: str, _: str, chance: Chance) -> Made:
    salt = _text(chance, 6)
    value = _digest("sha256", (salt + password).encode())
    for _round in range(9):
        value = _digest("sha256", value + salt.encode())
    return Made(value.hex(), salt)


def _ssha(password: str, _: str, chance: Chance) -> Made:
    salt = chance.randbytes(4)
    raw = _digest("sha1", password.encode() + salt)
    return Made("{SSHA}" + _b64(raw + salt), digest=raw.hex())


def _smd5(password: str, _: str, chance: Chance) -> Made:
    salt = chance.randbytes(8)
    raw = _digest("md5", password.encode() + salt)
    return Made("{SMD5}" + _b64(raw + salt), digest=raw.hex())


def _dollar_sha1(password: str, _: str, chance: Chance) -> Made:
    salt = _text(chance, 5)
    raw = _digest("sha1", (salt + password).encode())
    return Made(f"sha1${salt}${raw.hex()}", digest=raw.hex())


def _colon(password: str, _: str, chance: Chance) -> Made:
    salt = _text(chance, 8)
    raw = _digest("md5", (password + salt).encode())
    return Made(f"{raw.hex()}:{salt}", digest=raw.hex())


def _star(password: str, _: str, __: Chance) -> Made:
    raw = _digest("sha1", _digest("sha1", password.encode()))
    return Made("*" + raw.hex().upper(), digest=raw.hex())


def _login_md5(password: str, login: str, _: Chance) -> Made:
    raw = _digest("md5", (password + login).encode())
    return Made("md5" + raw.hex(), digest=raw.hex())


def _old_server(password: str, _: str, chance: Chance) -> Made:
    salt = chance.randbytes(4)
    raw = _digest("sha1", password.encode("utf-16-le") + salt)
    return Made("0x0100" + (salt + raw).hex().upper(), digest=raw.hex())


def _nt(password: str, _: str, __: Chance) -> Made:
    raw = MD4.new(password.encode("utf-16-le")).digest()
    return Made("$3$$" + raw.hex(), digest=raw.hex())


def _crypted(setting: Callable[[Chance], str]) -> Callable[[str, str, Chance], Made]:
    return lambda password, _, chance: Made(crypt(setting(chance), password.encode()))


def _bcrypt(password: str, _: str, chance: Chance) -> Made:
    salt = b"$2b$04$" + _text(chance, 21, _CRYPT_SIGNS).encode() + b"O"
    return Made(bcrypt.hashpw(password.encode()[:72], salt).decode())


def _argon2(memory: int) -> Callable[[str, str, Chance], Made]:
    def make(password: str, _: str, chance: Chance) -> Made:
        value = low_level.hash_secret(
            password.encode(), chance.randbytes(16), time_cost=1, memory_cost=memory,
            parallelism=1, hash_len=32, type=low_level.Type.ID,
        )  # fmt: skip
        return Made(value.decode())

    return make


def _plain(password: str, _: str, __: Chance) -> Made:
    return Made(password)


KINDS: dict[str, Kind] = {
    "md5": Kind(lambda p, _, __: Made(_digest("md5", p.encode()).hex()),
                'formula = "utf-8, md5, hex"', shape="32"),
    "md5, latin-1": Kind(lambda p, _, __: Made(_digest("md5", p.encode("latin-1")).hex()),
                         'formula = "latin-1, md5, hex"', needs="latin-1", shape="32"),
    "sha1, upper": Kind(lambda p, _, __: Made(_digest("sha1", p.encode()).hex().upper()),
                        'formula = "utf-8, sha1, hex-upper"', shape="40"),
    "sha256, base64": Kind(lambda p, _, __: Made(_b64(_digest("sha256", p.encode()))),
                           'formula = "utf-8, sha256, base64"', shape="44"),
    "md5, base64 unpadded": Kind(lambda p, _, __: Made(_b64(_digest("md5", p.encode()))[:22]),
                                 'formula = "utf-8, md5, base64-unpadded"', shape="22"),
    "md5, salt behind": Kind(_salted("md5", lambda p, s: p + s),
                             'formula = "utf-8, append salt, md5, hex"', shape="32", salted=True),
    "md5, salt before": Kind(_salted("md5", lambda p, s: s + p),
                             'formula = "utf-8, prepend salt, md5, hex"', shape="32", salted=True),
    "md5 of md5 and salt": Kind(_twice_salted,
                                'formula = "utf-8, md5, hex, append salt, md5, hex"',
                                shape="32", salted=True),
    "sha1, salt around": Kind(_salted("sha1", lambda p, s: s + p + s),
                              'formula = "utf-8, surround salt, sha1, hex"',
                              shape="40", salted=True),
    "hmac-sha256": Kind(_keyed,
        'formula = "utf-8, hmac-sha256 salt, hex"', shape="64", salted=True),
    "sha1 of login": Kind(_by_login,
                          "formula = 'utf-8, prepend \":\", prepend login:lower, sha1, hex'",
                          shape="40"),
    "looped sha256": Kind(_looped, 'formula = "utf-8, prepend salt, sha256, 9 times (append salt, '
                          'sha256), hex"', shape="64", salted=True),
    "md5 cut to 13": Kind(lambda p, _, __: Made(_digest("md5", p.encode()).hex()[:13]),
                          'formula = "utf-8, md5, hex, first 13"', shape="13"),
    "lower, md5": Kind(lambda p, _, __: Made(_digest("md5", p.lower().encode()).hex()),
                       'formula = "lower, utf-8, md5, hex"', lossy=True, shape="32"),
    "kiosk": Kind(_kiosk, 'layout = "{salt:base64}/{rounds}/{digest:hex}"\n'
                  'formula = "utf-8, pbkdf2-sha1 rounds 20 salt, hex"', shape="kiosk"),
    "rounds in a column": Kind(_column_rounds,
                               'formula = "utf-8, pbkdf2-sha256 rounds 32 salt, hex"',
                               shape="64", salted=True),
    "colon": Kind(_colon, 'layout = "{digest:hex}:{salt}"\n'
                  'formula = "utf-8, append salt, md5, hex"', shape="colon"),
    "{SSHA}": Kind(_ssha),
    "{SMD5}": Kind(_smd5),
    "sha1$salt$": Kind(_dollar_sha1, 'layout = "sha1${salt}${digest:hex}"\n'
                       'formula = "utf-8, prepend salt, sha1, hex"', shape="sha1$"),
    "star": Kind(_star),
    "md5 and login": Kind(_login_md5),
    "0x0100": Kind(_old_server),
    "$3$": Kind(_nt),
    "des-crypt": Kind(_crypted(lambda c: _text(c, 2, _CRYPT_SIGNS)), 'scheme = "des-crypt"',
                      lossy=True, needs="ascii", shape="13"),
    "md5-crypt": Kind(_crypted(lambda c: f"$1${_text(c, 8)}$")),
    "sha512-crypt": Kind(_crypted(lambda c: f"$6$rounds=1000${_text(c, 8)}$")),
    "bcrypt": Kind(_bcrypt),
    "argon2id, weak": Kind(_argon2(16)),
    "argon2id, current": Kind(_argon2(64), current=True),
    "plain, unexplained": Kind(_plain, "plain_text = true", needs="typed", plain=True),
    "plain, all": Kind(_plain, 'plain_text = "all"', needs="typed", plain=True),
}  # fmt: skip

MARKERS = ("!", "*", "!!", "*LK*")


@dataclass(slots=True)
class Person:
    """One row, and the truth about it."""

    number: int
    login: str
    password: str
    kind: str
    stored: str | None
    salt: str | None
    rounds: int | None
    created: str
    made_by: str
    digest: str = ""


@dataclass(slots=True)
class Table:
    """A table, the policy of its store, and who is in it."""

    people: list[Person]
    cohorts: str
    kinds: list[str] = field(default_factory=list)
    told_by: str = ""


def _password(kind: Kind, chance: Chance) -> str:
    while True:
        text = passwords.human(chance, managers=0.1)
        if kind.needs == "latin-1" and not fits(text, "latin-1"):
            continue
        if kind.needs == "ascii" and not (text.isascii() and len(text) <= 8):
            text = text.encode("ascii", "ignore").decode()[:8]
        if kind.lossy and kind.needs == "any":
            text = text.lower()
        if kind.needs == "typed" and chance.random() < 0.3:
            text = passwords.drawn(chance)
        if text and text == text.strip():
            return text


def fits(text: str, encoding: str) -> bool:
    """Tell whether an encoding has all signs of a text."""
    try:
        text.encode(encoding)
    except UnicodeEncodeError:
        return False
    return True


def _conditions(kinds: Sequence[str], told_by: str) -> list[str]:
    if told_by == "date":
        years = [2000 + 2 * place for place in range(len(kinds) + 1)]
        return [f"created from {a}-01-01 and created before {b}-01-01"
                for a, b in pairwise(years)]  # fmt: skip
    if told_by == "column":
        return [f'made_by = "v{place}"' for place in range(len(kinds))]
    return [""] * len(kinds)


def _choose(chance: Chance, told_by: str) -> list[str]:
    """Choose kinds; without anything that tells them apart, shapes may agree for digests alone."""
    names = chance.sample(sorted(KINDS), chance.randint(1, 5))
    chosen: list[str] = []
    for name in names:
        kind = KINDS[name]
        others = [KINDS[other] for other in chosen]
        if told_by == "nothing" and any(
            (kind.plain and other.plain)
            or (kind.shape == "13" and other.shape == "13")
            or (kind.plain and (other.shape == "13"))
            or (other.plain and kind.shape == "13")
            for other in others
        ):
            continue
        chosen.append(name)
    return chosen


def table(seed: int, *, rows: int = 60) -> Table:
    """Invent one table; the same seed gives the same table."""
    chance = random.Random(seed)
    told_by = chance.choice(["nothing", "date", "column"])
    kinds = _choose(chance, told_by)
    conditions = _conditions(kinds, told_by)
    people: list[Person] = []
    for number in range(1, rows + 1):
        place = chance.randrange(len(kinds))
        people.append(person(number, kinds[place], place, chance))
    cohorts = ""
    # Where nothing tells generations apart, what is a digest comes before what is plain.
    for name, condition in zip(kinds, conditions, strict=True):
        if KINDS[name].cohort:
            when = f"when = '{condition}'\n" if condition else ""
            cohorts += (
                f"[[store.kiosk.cohort]]\nname = '{name.replace('+', ' ')}'\n"
                f"{KINDS[name].cohort}\n{when}\n"
            )
    return Table(people, cohorts, kinds, told_by)


def person(number: int, name: str, place: int, chance: Chance, *, odd: bool = True) -> Person:
    """Invent one row of a kind; one in twenty-five is a marker, a blank or NULL."""
    kind = KINDS[name]
    login = f"{passwords.word(chance).title()}{number}@tidepost.example"
    password = _password(kind, chance)
    created = f"{2000 + 2 * place + chance.randint(0, 1)}-{chance.randint(1, 12):02}-11 08:15:00"
    made_by = f"v{place}"
    dice = chance.random()
    if odd and dice < 0.04:
        stored = chance.choice([*MARKERS, "", None])
        return Person(number, login, password, "nobody", stored, None, None, created, made_by)
    made = kind.make(password, login, chance)
    salt = made.salt
    if salt is None and chance.random() < 0.3:
        salt = ""  # an empty text where another row has NULL
    return Person(
        number, login, password, name, made.stored, salt, made.rounds, created, made_by, made.digest
    )
