"""What the other lines left behind: each store with a trouble of its own."""

import base64
import csv
import hashlib
import io
import json
import random
import sqlite3
from collections.abc import Callable, Iterable, Sequence
from contextlib import closing
from pathlib import Path
from types import MappingProxyType

from lean_tumbler.core.schemes import crypt64
from lean_tumbler.core.schemes.catalogue import DERIVATIONS
from lean_tumbler.core.schemes.obsolete import crypt_digests
from lean_tumbler.demo.people import SEED, Person, people
from lean_tumbler.stores.file_access import write_text

BACKUP_TABLE = "passengers_2019_backup"
_PEOPLE = 240

Chance = random.Random


def _freight_desk(everybody: list[Person], chance: Chance) -> str:
    """A directory export: tags of four generations, some values folded or in base64."""
    entries = ["version: 1"]
    for number, person in enumerate(everybody[:80]):
        raw, salt = person.password.encode(), chance.randbytes(4)
        if number % 4 == 0:
            value = "{MD5}" + base64.b64encode(_md5(raw)).decode()
        elif number % 4 == 3:
            costs = {"cost_log2": 5}
            value = "{CRYPT}" + DERIVATIONS["bcrypt"].create(raw, chance.randbytes(16), costs)
        else:
            digest = hashlib.sha1(raw + salt, usedforsecurity=False).digest()
            value = "{SSHA}" + base64.b64encode(digest + salt).decode()
        name = person.login.split("@", 1)[0]
        entry = [f"dn: uid={name},ou=freight,dc=coldharbour,dc=example", f"uid: {name}"]
        coded = base64.b64encode(value.encode()).decode()
        entry.append(f"userPassword:: {coded[:60]}\n {coded[60:]}")
        entries.append("\n".join(entry))
    return "\n\n".join(entries) + "\n"


def _kiosk(everybody: list[Person], _: Chance) -> str:
    """An export of a document store: plain text, and base64 that somebody took for more."""
    lines = []
    for number, person in enumerate(everybody[80:140]):
        secret = person.password
        if number % 3 == 0:
            secret = base64.b64encode(secret.encode()).decode()
        document = {"_id": number, "user": person.login, "profile": {"passcode": secret}}
        lines.append(json.dumps(document, ensure_ascii=False))
    return "\n".join(lines) + "\n"


def _loyalty_cards(everybody: list[Person], _: Chance) -> str:
    """Encrypted block by block with one key: equal beginnings look equal."""
    from Crypto.Cipher import AES  # noqa: PLC0415 - the demo alone encrypts
    from Crypto.Util.Padding import pad  # noqa: PLC0415 - the same

    cipher = AES.new(hashlib.sha256(b"coldharbour loyalty").digest(), AES.MODE_ECB)
    rows: list[Sequence[str]] = [("card", "email", "secret")]
    for number, person in enumerate(everybody[140:]):
        # The card's type stood before the password: a whole block that is always the same.
        words = f"COLDHARBOUR-CARD{person.password}" if number % 2 else person.password
        coded = base64.b64encode(cipher.encrypt(pad(words.encode(), 16))).decode()
        rows.append((f"{70_000 + number}", person.login, coded))
    return _csv(rows)


def _crew_roster(everybody: list[Person], chance: Chance) -> str:
    """The crew's own machine, in shadow form: two generations, and accounts that are locked."""
    lines = []
    for number, person in enumerate(everybody[60:100]):
        salt = "".join(chance.choice(crypt64.ALPHABET) for _ in range(8))
        if number % 10 == 9:
            value = "!" if number % 20 == 9 else "*"
        elif number % 3 == 0:
            value = crypt_digests.md5_crypt(f"$1${salt}$", person.password.encode())
        else:
            value = crypt_digests.sha_crypt(f"$6${salt}$", person.password.encode())
        name = person.login.split("@", 1)[0]
        lines.append(f"{name}:{value}:{15000 + 97 * number}:0:99999:7:::")
    return "\n".join(lines) + "\n"


def agent_value(login: str, password: str) -> str:
    """What the freight agents' program of 1998 stored; nobody remembers how."""
    inner = hashlib.sha1(password.encode("latin-1"), usedforsecurity=False).hexdigest().upper()
    return _md5(f"{login.lower()}|{inner}".encode()).hex()


def _agents(everybody: list[Person], _: Chance) -> str:
    """The freight agents: bare digests of something."""
    rows = [
        (
            str(400 + number),
            _agent_login(person),
            agent_value(_agent_login(person), person.password),
        )
        for number, person in enumerate(everybody[100:160])
    ]
    return _csv([("agent", "login", "code"), *rows])


def _agents_known(everybody: list[Person], _: Chance) -> str:
    """Three agents whose password somebody knows: two test accounts, and a friendly one."""
    known = [(_agent_login(person), person.password) for person in everybody[100:102]]
    known.append(("Quay.Ö@freight.example", "Fähre 1998"))
    rows = [(login, password, agent_value(login, password)) for login, password in known]
    return _csv([("login", "password", "stored"), *rows])


def _agent_login(person: Person) -> str:
    name, _, domain = person.login.partition("@")
    return f"{name.title()}@{domain}"


def _csv(rows: Iterable[Sequence[str]]) -> str:
    buffer = io.StringIO()
    csv.writer(buffer, lineterminator="\n").writerows(rows)
    return buffer.getvalue()


def _md5(raw: bytes) -> bytes:
    return hashlib.md5(raw, usedforsecurity=False).digest()


# File name: what is in it, in a sentence, and how it is made.
OTHER_STORES: MappingProxyType[str, tuple[str, Callable[[list[Person], Chance], str]]] = (
    MappingProxyType(
        {
            "freight.ldif": ("The freight desk's directory, as an export", _freight_desk),
            "kiosk.jsonl": ("The kiosk's document store", _kiosk),
            "crew.shadow": ("The crew roster, in Unix form", _crew_roster),
            "agents.csv": ("The freight agents, made by an unknown formula", _agents),
            "loyalty.csv": ("The loyalty cards, “encrypted”", _loyalty_cards),
        }
    )
)


AGENTS_KNOWN = "agents-known.csv"


def write_other_stores(folder: Path, database: str) -> None:
    """Write the other stores' files, and the backup table that somebody forgot.

    Args:
        folder: where the demo's files are.
        database: the portal's database in it, which gets the table.
    """
    chance = random.Random(SEED + 1)  # noqa: S311 - invented data, the same at every run
    everybody = list(people(_PEOPLE, administrators=frozenset()))
    chance.shuffle(everybody)
    for name, (_, write) in OTHER_STORES.items():
        write_text(folder / name, write(everybody, chance))
    write_text(folder / AGENTS_KNOWN, _agents_known(everybody, chance))
    rows = [(n, person.login, _md5(person.password.encode()).hex())
            for n, person in enumerate(everybody)]  # fmt: skip
    with closing(sqlite3.connect(folder / database)) as connection, connection:
        connection.execute(f"CREATE TABLE {BACKUP_TABLE} (id INTEGER, email TEXT, pw TEXT)")
        connection.executemany(f"INSERT INTO {BACKUP_TABLE} VALUES (?, ?, ?)", rows)  # noqa: S608 - a name of ours
