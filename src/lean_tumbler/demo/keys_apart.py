"""A key over the portal's values: naming it in the policy, and a value that somebody moves."""

import re
import sqlite3
from collections.abc import Callable
from contextlib import closing
from pathlib import Path

from msgspec import Struct

from lean_tumbler.stores.file_access import write_text

FIRST_KEY, SECOND_KEY = "pepper-2026", "pepper-2027"
REKEYED = "rekey-{}.sealed"
KEY_FILES = tuple(
    f"{name}.key{ending}" for name in (FIRST_KEY, SECOND_KEY) for ending in ("", ".sealed")
)
_REALM = 'realm = "coldharbour"'
_TARGET = re.compile(r"^lanes = 1\n", re.MULTILINE)
_NAMED = re.compile(r'^keyed_by = ".*"\n', re.MULTILINE)


def name_key(policy: Path, key: str) -> str:
    """Have a policy put new values under a key; give the lines that it has now."""
    text = policy.read_text("utf-8")
    keyed_by, source = f'keyed_by = "{key}"', f'{key} = {{ file = "{key}.key", form = "base64" }}'
    if _NAMED.search(text):
        text = _NAMED.sub(f"{keyed_by}\n", text)
        text = text.replace("[keys]\n", f"[keys]\n{source}\n")
    else:
        text = _TARGET.sub(f"lanes = 1\n{keyed_by}\n{_REALM}\n", text, count=1)
        text += f"\n[keys]\n{source}\n"
    write_text(policy, text)
    return f"{keyed_by}\n{_REALM}\n{source}"


class Moved(Struct, frozen=True, kw_only=True):
    """A value that was copied over another row's."""

    login: str  # whose row it is
    statement: str  # that did it
    put_back: Callable[[], None]  # writes what stood there before


def move_value(database: Path, own: str) -> Moved:
    """Copy the value of a login over an administrator's."""
    with closing(sqlite3.connect(database)) as connection, connection:
        key, login, before = connection.execute(
            "SELECT id, email, pw FROM passengers WHERE is_admin AND pw LIKE '$keyed$%' LIMIT 1"
        ).fetchone()
        statement = (
            f'UPDATE passengers SET pw = (SELECT pw FROM passengers WHERE email = "{own}") '  # noqa: S608 - the demo's own
            f"WHERE id = {key}"
        )
        connection.execute(statement.replace('"', "'"))

    def put_back() -> None:
        with closing(sqlite3.connect(database)) as connection, connection:
            connection.execute("UPDATE passengers SET pw = ? WHERE id = ?", (before, key))

    return Moved(login=login, statement=statement, put_back=put_back)
