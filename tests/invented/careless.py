"""Careless users: tables of known truth, known accounts as people draw them, commands as they come.

What a world holds is fixed by its number. The ranges below were written before the code that they
test; `worlds` names those that the tests run, and the benchmark takes the numbers after these.
"""

import base64
import hashlib
import json
import random
from collections.abc import Callable, Mapping, Sequence
from dataclasses import dataclass, replace
from enum import StrEnum
from types import MappingProxyType

from invented import passwords
from invented.tables import fits

Chance = random.Random
FIRST_OF_BENCHMARK = 1_000
FIRST_OF_SISTERS = 5_000  # from here on, a world has equal tables
OF_TESTS = (*range(12), *range(FIRST_OF_SISTERS, FIRST_OF_SISTERS + 3))
ROWS = (60, 900)
YEARS = (2003, 2024)
COMMON = ("123456", "password", "qwerty", "iloveyou", "sunshine", "dragon", "letmein", "monkey")
COMMON_SHARE = 0.03
CAPITAL_SHARE = 0.5
TABLES = (3, 6)  # equal ones
OTHERWISE_SHARE = 0.4  # of worlds with equal tables, in which one of these is of another make
TWICE_SHARE = 0.1  # of people, who have an account of the same login in another table
SALT_SIGNS = "abcdefghijklmnopqrstuvwxyzABCDEFGHIJKLMNOPQRSTUVWXYZ0123456789"


@dataclass(frozen=True, slots=True)
class Made:
    """What registration left: the stored text, and the salt column where it has one."""

    stored: str
    salt: str | None = None


@dataclass(frozen=True, slots=True)
class Make:
    """One way in which registration code stored passwords.

    Attributes:
        make: (password, login, chance) -> what it left.
        typed: what the old check made of a typed text before it compared.
        encodes: in which encoding the password must fit.
        is_plain: whether the text is the password.
    """

    make: Callable[[str, Chance], Made]
    typed: Callable[[str], str] = str
    encodes: str = "utf-8"
    is_plain: bool = False


def _hex(name: str, raw: bytes) -> str:
    return hashlib.new(name, raw).hexdigest()


def _salt(chance: Chance, length: int = 8) -> str:
    return "".join(chance.choices(SALT_SIGNS, k=length))


def _salted(join: Callable[[str, str], str], name: str) -> Callable[[str, Chance], Made]:
    def make(password: str, chance: Chance) -> Made:
        salt = _salt(chance)
        return Made(_hex(name, join(password, salt).encode()), salt)

    return make


def _within(form: str, name: str = "md5") -> Callable[[str, Chance], Made]:
    def make(password: str, chance: Chance) -> Made:
        salt = _salt(chance)
        return Made(form.format(salt=salt, digest=_hex(name, (salt + password).encode())))

    return make


def _colon(password: str, chance: Chance) -> Made:
    salt = _salt(chance)
    return Made(f"{_hex('md5', (password + salt).encode())}:{salt}")


def _numbers(password: str, chance: Chance) -> Made:
    rounds, salt = chance.choice((3, 9)), chance.randbytes(9)
    raw = hashlib.pbkdf2_hmac("sha1", password.encode(), salt, rounds, 20)
    return Made(f"{rounds}:{base64.b64encode(salt).decode()}:{base64.b64encode(raw).decode()}")


def _document(password: str, chance: Chance) -> Made:
    salt = _salt(chance)
    return Made(json.dumps({"h": _hex("md5", (salt + password).encode()), "s": salt}))


MAKES: Mapping[str, Make] = MappingProxyType({
    "md5": Make(lambda p, _: Made(_hex("md5", p.encode()))),
    "md5, case ignored": Make(lambda p, _: Made(_hex("md5", p.lower().encode())), str.lower),
    "md5, blanks cut": Make(lambda p, _: Made(_hex("md5", p.strip().encode())), str.strip),
    "sha1, case ignored, salted": Make(
        lambda p, c: _salted(lambda word, salt: word + salt, "sha1")(p.lower(), c), str.lower),
    "md5 of windows-1252": Make(
        lambda p, _: Made(_hex("md5", p.encode("cp1252"))), encodes="cp1252"),
    "sha1, salt behind": Make(_salted(lambda word, salt: word + salt, "sha1")),
    "sha1, salt before": Make(_salted(lambda word, salt: salt + word, "sha1")),
    "md5:salt": Make(_colon),
    "salt and md5": Make(_within("{salt} {digest}")),
    "[md5]": Make(lambda p, _: Made(f"[md5]{_hex('md5', p.encode())}")),
    "{x-md5}": Make(_within("{{x-md5}}{salt}|{digest}")),
    "v1|digest": Make(_within("v1|{digest}|{salt}", "sha256")),
    "numbers": Make(_numbers),
    "a document": Make(_document),
    "plain": Make(lambda p, _: Made(p), is_plain=True),
    "plain of managers": Make(lambda p, _: Made(p), is_plain=True),
})  # fmt: skip


class ToldBy(StrEnum):
    """What tells the makes of a table apart."""

    NOTHING = "nothing"
    DATE = "the year"
    SOURCE = "a column"


class Known(StrEnum):
    """How somebody draws accounts whose password is known."""

    OF_EACH = "three of each make"
    MANY = "twenty of each make"
    ONE = "one account"
    YOUNG = "ten, all of the last year"
    LOWER = "ten, all in small letters"
    ONE_MAKE = "ten, all of one make"
    SOME_WRONG = "ten, some with a wrong password"
    REPEATED = "five, each three times"
    BANNED = "ten, some of them banned"
    NONE = "none"


class Meanwhile(StrEnum):
    """What happens between the proof and the write."""

    NOTHING = "nothing"
    IMPORT = "rows of another make are imported"
    OTHER_DATABASE = "the locator is changed to a database of another make"
    COPY = "the locator is changed to a true copy"


ORDERS: Sequence[Sequence[str]] = (
    ("draft", "verify", "plan", "layer"),
    ("draft", "layer"),
    ("draft", "rehearse", "layer", "layer"),
    ("draft", "verify", "layer --share 10%", "layer"),
    ("draft", "layer --dry-run", "verify", "layer", "undo"),
    ("draft", "observe", "layer", "upgrade", "layer"),
    ("draft", "logins", "layer", "logins"),
    ("draft", "killed layer", "layer", "logins"),
)


@dataclass(slots=True)
class Person:
    """One row, and the truth about it.

    Attributes:
        deleted: when the row was deleted, as the program notes it; None for a live one.
        table: where it stands.
    """

    number: int
    login: str
    password: str
    make: str
    stored: str
    salt: str | None
    joined: str
    source: str
    role: str
    deleted: str | None = None
    banned: bool = False
    table: str = "guests"


@dataclass(slots=True)
class World:
    """A table or equal ones, what its operator knows of them, and what the operator does."""

    number: int
    people: list[Person]
    makes: list[str]
    told_by: ToldBy
    known_as: Known
    known: list[tuple[str, str]]
    meanwhile: Meanwhile
    later: list[Person]
    order: Sequence[str]
    has_deleted: bool
    tables: Sequence[str] = ("guests",)


def _password(make: Make, name: str, chance: Chance) -> str:
    while True:
        if name == "plain of managers":
            return "".join(chance.choices("0123456789abcdef", k=32))
        text = chance.choice(COMMON) if chance.random() < COMMON_SHARE else (
            passwords.human(chance)
        )  # fmt: skip
        text = text.capitalize() if chance.random() < CAPITAL_SHARE else text.lower()
        if name == "md5, blanks cut" and chance.random() < 0.05:
            text = f"{text} "
        elif text != text.strip():
            continue
        if text.strip() and len(text) < 60 and fits(text, make.encodes):
            return text


def world(number: int) -> World:
    """Invent one world; the same number gives the same one."""
    chance = random.Random(f"careless {number}")
    makes = chance.sample(sorted(MAKES), chance.choices((1, 2, 3, 4, 5), (6, 6, 4, 2, 1))[0])
    told_by = chance.choice(list(ToldBy))
    rows = chance.randint(*ROWS)
    people = [_person(place + 1, makes, told_by, chance) for place in range(rows)]
    has_deleted = chance.random() < 0.25
    if has_deleted:
        people += _deleted(people, makes, chance)
    meanwhile = chance.choices(list(Meanwhile), (6, 2, 2, 1))[0]
    other = chance.choice(sorted(MAKES))
    later = [
        _person(10_000 + place, [other], told_by, chance) for place in range(chance.randint(5, 80))
    ] if meanwhile in {Meanwhile.IMPORT, Meanwhile.OTHER_DATABASE} else []  # fmt: skip
    tables: Sequence[str] = ("guests",)
    if number >= FIRST_OF_SISTERS:
        tables = [f"pier{place}_guests" for place in range(1, 1 + chance.randint(*TABLES))]
        people += _spread(people, tables, other, chance)
        _spread(later, tables[-1:], other, chance)
    known_as = chance.choice(list(Known))
    return World(
        number=number, people=people, makes=makes, told_by=told_by, known_as=known_as,
        known=_known(people, makes, known_as, chance), meanwhile=meanwhile, later=later,
        order=chance.choice(ORDERS), has_deleted=has_deleted, tables=tables,
    )  # fmt: skip


def _spread(
    people: Sequence[Person], tables: Sequence[str], other: str, chance: Chance
) -> list[Person]:
    """Put people into equal tables; give further accounts that some of them have in others."""
    of_login: dict[str, str] = {}
    otherwise = tables[-1] if chance.random() < OTHERWISE_SHARE else ""
    further = []
    for person in people:
        person.table = of_login.setdefault(person.login, chance.choice(tables))
        if person.table == otherwise and person.deleted is None:
            _make_anew(person, other, chance)
        if chance.random() < TWICE_SHARE and person.deleted is None:
            beside = [table for table in tables if table != person.table]
            again = replace(person, number=20_000 + person.number)
            again.table = chance.choice(beside or tables)
            _make_anew(again, again.make, chance)
            further += [again] if beside else []
    return further


def _make_anew(person: Person, make: str, chance: Chance) -> None:
    """Give a row another password, stored as a make does."""
    person.make, person.password = make, _password(MAKES[make], make, chance)
    made = MAKES[make].make(person.password, chance)
    person.stored, person.salt = made.stored, made.salt


def _person(number: int, makes: Sequence[str], told_by: ToldBy, chance: Chance) -> Person:
    first, last = YEARS
    year = chance.randint(first, last)
    place = chance.randrange(len(makes))
    if told_by is ToldBy.DATE:
        place = (year - first) * len(makes) // (last - first + 1)
    name = makes[place]
    made_by = f"s{place}" if told_by is ToldBy.SOURCE else f"s{chance.randrange(3)}"
    password = _password(MAKES[name], name, chance)
    made = MAKES[name].make(password, chance)
    return Person(
        number=number, login=f"{passwords.word(chance)}{number}@tidepost.example",
        password=password, make=name, stored=made.stored, salt=made.salt,
        joined=f"{year}-{chance.randint(1, 12):02}-{chance.randint(1, 28):02}",
        source=made_by, role=chance.choices(("guest", "clerk", "master"), (90, 8, 2))[0],
        banned=chance.random() < 0.05,
    )  # fmt: skip


def _deleted(people: Sequence[Person], makes: Sequence[str], chance: Chance) -> list[Person]:
    """Give older, deleted rows of some of the people, under the same login."""
    found = []
    for place, person in enumerate(chance.sample(list(people), max(1, len(people) // 20))):
        name = chance.choice(list(makes))
        password = _password(MAKES[name], name, chance)
        made = MAKES[name].make(password, chance)
        found.append(Person(
            number=5_000 + place, login=person.login, password=password, make=name,
            stored=made.stored, salt=made.salt, joined="2003-01-05", source=person.source,
            role="guest", deleted="2015-06-01 10:00:00",
        ))  # fmt: skip
    return found


def _known(
    people: Sequence[Person], makes: Sequence[str], known_as: Known, chance: Chance
) -> list[tuple[str, str]]:
    live = [p for p in people if p.deleted is None]
    of = {name: [p for p in live if p.make == name] for name in makes}
    of = {name: own for name, own in of.items() if own} or {live[0].make: live}

    def some(among: Sequence[Person], number: int) -> list[Person]:
        return chance.sample(list(among), min(number, len(among)))

    each = {Known.OF_EACH: 3, Known.MANY: 20}.get(known_as)
    if each:
        return [(p.login, p.password) for own in of.values() for p in some(own, each)]
    if known_as is Known.NONE:
        return []
    if known_as is Known.ONE:
        return [(p.login, p.password) for p in some(live, 1)]
    if known_as is Known.YOUNG:
        latest = max(p.joined[:4] for p in live)
        return [
            (p.login, p.password) for p in some([p for p in live if p.joined[:4] == latest], 10)
        ]
    if known_as is Known.LOWER:
        return [(p.login, p.password)
                for p in some([p for p in live if p.password == p.password.lower()], 10)]  # fmt: skip
    if known_as is Known.ONE_MAKE:
        return [(p.login, p.password) for p in some(of[chance.choice(list(of))], 10)]
    if known_as is Known.REPEATED:
        return [(p.login, p.password) for p in some(live, 5)] * 3
    if known_as is Known.BANNED:
        chosen = [*some([p for p in live if p.banned], 4), *some(live, 6)]
        return [(p.login, p.password) for p in chosen]
    wrong = [(p.login, p.password) for p in some(live, 10)]
    return [(login, password if place % 4 else password[::-1] + "x")
            for place, (login, password) in enumerate(wrong)]  # fmt: skip


def opens(person: Person, typed: str) -> bool:
    """Tell whether the old program would have let this text in."""
    make = MAKES[person.make]
    return make.typed(typed) == make.typed(person.password)
