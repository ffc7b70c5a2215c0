"""Values that something happened to: wrapped, cut off, never written; of known truth."""

import base64
import html
import random
import sqlite3
from collections.abc import Callable, Iterator, Mapping
from contextlib import closing
from dataclasses import dataclass
from pathlib import Path
from types import MappingProxyType
from urllib.parse import quote

from invented import passwords
from invented.libcrypt import crypt
from invented.tables import KINDS

Chance = random.Random
_SALT = "abcdefghijklmnopqrstuvwxyzABCDEFGHIJKLMNOPQRSTUVWXYZ0123456789./"


@dataclass(frozen=True, slots=True)
class Value:
    """A whole value of an invented password; `names_itself` where its beginning leaves no doubt."""

    password: str
    stored: str
    names_itself: bool


def _crypted(setting: str) -> Callable[[str, Chance], str]:
    return lambda word, chance: crypt(
        setting + "".join(chance.choices(_SALT, k=8)) + "$", word.encode()
    )


def _of_tables(name: str) -> Callable[[str, Chance], str]:
    return lambda word, chance: KINDS[name].make(word, "", chance).stored


_MAKERS: Mapping[str, tuple[Callable[[str, Chance], str], bool]] = MappingProxyType(
    {
        "bcrypt": (_of_tables("bcrypt"), True),
        "argon2id": (_of_tables("argon2id, weak"), True),
        "md5-crypt": (_crypted("$1$"), True),
        "sha256-crypt": (_crypted("$5$rounds=1000$"), True),
        "sha512-crypt": (_crypted("$6$rounds=1000$"), True),
        "salted sha1 of directories": (_of_tables("{SSHA}"), False),
        "star": (_of_tables("star"), False),
    }
)
# A tag that only some columns use is not enough for one more coding around it.
WRAPPERS: Mapping[str, Callable[[str, Chance], str]] = MappingProxyType(
    {
        "blanks behind": lambda text, chance: text + " " * chance.randint(1, 200),
        "blanks before": lambda text, chance: " " * chance.randint(1, 9) + text,
        "a tab": lambda text, _: f"\t{text}\t",
        "a line end": lambda text, chance: text + chance.choice(("\n", "\r\n", "\r", "\n\n")),
        "single quotes": lambda text, _: f"'{text}'",
        "double quotes": lambda text, _: f'"{text}"',
        "other quotes": lambda text, chance: chance.choice(("“{}”", "«{}»", "`{}`")).format(text),
        "bytes": lambda text, chance: chance.choice(("b'{}'", 'b"{}"', "B'{}'")).format(text),
        "bytes of a server": lambda text, _: "\\x" + text.encode().hex(),
        "bytes in hexadecimal": lambda text, _: "0x" + text.encode().hex().upper(),
        "escaped bytes": lambda text, _: "".join(f"\\x{byte:02x}" for byte in text.encode()),
        "quotes and blanks": lambda text, _: f" '{text}' \n",
        "bytes in quotes": lambda text, _: f"\"b'{text}'\"",
    }
)
CODINGS: Mapping[str, Callable[[str, Chance], str]] = MappingProxyType(
    {
        "base64": lambda text, _: base64.b64encode(text.encode()).decode(),
        "base64 without padding": lambda text, _: (
            base64.b64encode(text.encode()).decode().rstrip("=")
        ),
        "base64 for URLs": lambda text, _: base64.urlsafe_b64encode(text.encode()).decode(),
        "hexadecimal": lambda text, _: text.encode().hex(),
        "percent escapes": lambda text, _: quote(text, safe=""),
        "page escapes": lambda text, _: html.escape(text.replace("$", "&#36;")),
    }
)
REMNANTS: Mapping[str, Callable[[Chance], str]] = MappingProxyType(
    {
        "nothing": lambda chance: chance.choice(
            ("undefined", "null", "NULL", "None", "nil", "NaN", "<null>", "(null)", "#N/A")
        ),
        "an object": lambda chance: chance.choice(
            ("[object Promise]", "[object Object]", "[object Undefined]", "Promise { <pending> }",
             "Array", "System.Byte[]", "System.String")
        ),
        "an address": lambda chance: chance.choice(
            ("[B@{:08x}", "<coroutine object make_hash at 0x7f{:010x}>",
             "<_asyncio.Future object at 0x7f{:010x}>", "<function digest at 0x7f{:010x}>",
             "org.ferry.Hash@{:07x}")
        ).format(chance.getrandbits(28)),
        "a failure": lambda chance: chance.choice(("*0", "*1")),
        "a mask": lambda chance: chance.choice("*•") * chance.randint(4, 20),
        "an error": lambda chance: chance.choice(
            ("Error: connect ECONNREFUSED 10.0.0.{}:5432", "TypeError: hash is not a function ({})",
             "ValueError: Invalid salt {}", "java.lang.NullPointerException: line {}")
        ).format(chance.randint(1, 200)),
    }
)  # fmt: skip


def whole(chance: Chance, number: int) -> list[Value]:
    """Make whole values of all kinds in turn."""
    makers = list(_MAKERS.values())
    made = []
    for place in range(number):
        make, names_itself = makers[place % len(makers)]
        word = passwords.human(chance)
        while "\0" in word or len(word.encode()) > 70 or word != word.strip():
            word = passwords.human(chance)
        made.append(Value(word, make(word, chance), names_itself))
    return made


def wrapped(bank: list[Value], chance: Chance) -> Iterator[tuple[str, Value, str]]:
    """Give each value in each wrapper: the wrapper's name, the value, and what is stored."""
    for value in bank:
        for name, wrap in WRAPPERS.items():
            yield name, value, wrap(value.stored, chance)
        if value.names_itself:
            for name, code in CODINGS.items():
                yield name, value, code(value.stored, chance)


def cut(bank: list[Value], chance: Chance, *, of_each: int) -> Iterator[tuple[Value, str]]:
    """Cut values that name themselves, as a narrow column does: behind the beginning of a salt."""
    for value in bank:
        if value.names_itself:
            for _ in range(of_each):
                yield value, value.stored[: chance.randint(8, len(value.stored) - 1)]


def fill(path: Path, texts: list[str]) -> None:
    """Write a table of these texts as stored values."""
    path.unlink(missing_ok=True)
    with closing(sqlite3.connect(path)) as connection, connection:
        connection.execute("CREATE TABLE guests (id integer PRIMARY KEY, pw text)")
        connection.executemany("INSERT INTO guests VALUES (?, ?)", enumerate(texts))
