"""The mistakes people make: each a tiny file or store, a command, and the sentence that helps."""

import base64
import csv
import hashlib
import json
import random
import re
import sqlite3
from collections import Counter
from collections.abc import Callable, Iterator, Sequence
from contextlib import closing
from pathlib import Path

import bcrypt
import pytest

from conftest import CHEAP_POLICY, Portal, Program, make_portal
from invented import mishaps, passwords
from lean_tumbler import CredentialGateway, StoragePolicy
from lean_tumbler.core.audit.discovery import ColumnContent, content_of
from lean_tumbler.core.schemes.catalogue import read_value, stored_value_scheme
from lean_tumbler.errors import PasswordRefused
from lean_tumbler.stores.files import json_cutting, json_documents
from lean_tumbler.stores.files.base import Unreadable
from lean_tumbler.stores.files.kinds import tables_of_file

PASSWORD = "Möwe & 7 Gull"
SALT = b"$2b$04$abcdefghijklmnopqrstuu"


def slow(text: str | bytes) -> str:
    raw = text if isinstance(text, bytes) else text.encode()
    return bcrypt.hashpw(raw[:72], SALT).decode()


BCRYPT = slow(PASSWORD)
MD5 = hashlib.md5(PASSWORD.encode()).hexdigest()
ARGON2 = CredentialGateway(
    StoragePolicy.from_toml(CHEAP_POLICY), randomness=lambda size: b"r" * size
).hash(password=PASSWORD)

WRAPPED = {
    "a blank behind bcrypt": (BCRYPT + " ", "bcrypt", "blanks around"),
    "a padded bcrypt": (BCRYPT + " " * 20, "bcrypt", "blanks around"),
    "a line end behind it": (BCRYPT + "\r\n", "bcrypt", "blanks around"),
    "NULs behind it": (BCRYPT + "\0\0", "bcrypt", "blanks around"),
    "a blank before md5": (" " + MD5, "md5", "blanks around"),
    "a tab behind md5": (MD5 + "\t", "md5", "blanks around"),
    "bcrypt in quotes": (f"'{BCRYPT}'", "bcrypt", "quotes around"),
    "md5 in double quotes": (f'"{MD5}"', "md5", "quotes around"),
    "argon2 in typographic quotes": (f"“{ARGON2}”", "argon2id", "quotes around"),
    "bcrypt as bytes": (f"b'{BCRYPT}'", "bcrypt", "a print of bytes"),
    "md5 as bytes": (f'b"{MD5}"', "md5", "a print of bytes"),
    "bcrypt as a server prints bytes": (
        "\\x" + BCRYPT.encode().hex(),
        "bcrypt",
        "a print of bytes",
    ),
    "md5 as a server prints bytes": ("0x" + MD5.encode().hex(), "md5", "a print of bytes"),
    "bcrypt in base64": (base64.b64encode(BCRYPT.encode()).decode(), "bcrypt", "base64 around"),
    "argon2 in base64": (base64.b64encode(ARGON2.encode()).decode(), "argon2id", "base64 around"),
    "bcrypt in hexadecimal": (BCRYPT.encode().hex(), "bcrypt", "hexadecimal around"),
    "bcrypt from a URL": (BCRYPT.replace("$", "%24"), "bcrypt", "percent escapes"),
    "bcrypt from a page": (BCRYPT.replace("$", "&#36;"), "bcrypt", "HTML escapes"),
    "bcrypt quoted and padded": (f" '{BCRYPT}' ", "bcrypt", "quotes around"),
    "bytes in quotes": (f"\"b'{BCRYPT}'\"", "bcrypt", "a print of bytes"),
}


def write_known(folder: Path, stored: str, password: str = PASSWORD, login: str = "ada") -> None:
    with (folder / "known.csv").open("w", newline="", encoding="utf-8") as file:
        rows = [("login", "password", "stored"), (login, password, stored)]
        csv.writer(file).writerows(rows)


@pytest.mark.parametrize("name", WRAPPED)
def test_what_stands_around_a_whole_value_comes_off(
    name: str, tmp_path: Path, in_process: Program
) -> None:
    """It is read by what is inside, opened, named with its remedy, and never to be reset."""
    stored, scheme, wrapper = WRAPPED[name]
    parsed = read_value(stored)
    assert (parsed.scheme, wrapper in parsed.wrappers) == (scheme, True)
    write_known(tmp_path, stored)
    assert in_process("verify", "known.csv").out.startswith("All 1 known account")
    gateway = CredentialGateway(StoragePolicy.from_toml(CHEAP_POLICY))
    outcome = gateway.admit(stored=stored, password=PASSWORD, store="passengers")
    assert outcome.admitted
    assert outcome.new_value is not None  # a clean one, even where the inside was current
    assert read_value(outcome.new_value).wrappers == ()
    for typed in (stored, parsed.inner_text):
        refused = gateway.admit(stored=stored, password=typed, store="passengers")
        assert not refused.admitted
        assert refused.refusal in {"stored-value-typed", "not-checkable"}
    if "\0" in stored:
        return  # no CSV file holds a NUL; a database may
    report = in_process("audit", "known.csv", "--column", "stored").out
    assert "quoted-or-encoded" in report
    assert wrapper in report
    assert "No reset is needed" in report
    assert "must be reset" not in report
    assert "not understood" not in report


REMNANTS = (
    "undefined", "null", "NULL", "None", "nil", "NaN", "\\N", "[object Promise]", "[object Object]",
    "Promise { <pending> }", "<coroutine object hash at 0x7f0a2b>", "Array", "System.Byte[]",
    "[B@1b6d3586", "*0", "*1", "********", "[REDACTED]", "Error: connect ECONNREFUSED",
    "<_asyncio.Future object at 0x7f>",
)  # fmt: skip


@pytest.mark.parametrize("stored", REMNANTS)
def test_what_a_failed_write_left_opens_nothing(
    stored: str, tmp_path: Path, in_process: Program
) -> None:
    """A finding of its own; never compared, layered or replaced, whatever a cohort says."""
    write_known(tmp_path, stored, password=stored)
    finished = in_process("verify", "known.csv")
    assert finished.code == 1
    assert "a failed write left the stored value: no password opens it" in finished.out
    if stored == "\\N":
        return  # a CSV file writes NULL so
    report = in_process("audit", "known.csv", "--column", "stored").out
    assert "1 of 1 value is not understood, and nobody may be able to log in" in report
    assert "a missing await" in report
    every = CHEAP_POLICY.replace("plain_text = true", 'plain_text = "all"')
    for policy in (CHEAP_POLICY, every):
        gateway = CredentialGateway(StoragePolicy.from_toml(policy))
        assert not gateway.admit(stored=stored, password=stored, store="passengers").admitted


@pytest.mark.parametrize("word", ["changeme", "password", "secret", "default", "letmein"])
def test_words_that_people_choose_are_passwords(word: str) -> None:
    """A lazy password is one all the same."""
    assert read_value(word).scheme == "plain-text"


SLOW: dict[str, tuple[str | bytes, str]] = {
    "a line end hashed in": (PASSWORD + "\n", "with a line end behind it"),
    "a blank hashed in": (PASSWORD + " ", "with a blank behind it"),
    "a blank before it": (" " + PASSWORD, "with a blank before it"),
    "in lower case": (PASSWORD.lower(), "in lower case"),
    "in upper case": (PASSWORD.upper(), "in upper case"),
    "in Latin-1": (PASSWORD.encode("latin-1"), "in Latin-1"),
    "in UTF-16": (PASSWORD.encode("utf-16-le"), "in UTF-16"),
    "escaped for a page": (PASSWORD.replace("&", "&amp;"), "escaped for a page"),
    "md5 first": (MD5, "digested with MD5 first"),
    "sha1 first": (hashlib.sha1(PASSWORD.encode()).hexdigest(), "digested with SHA-1 first"),
    "sha256 first": (hashlib.sha256(PASSWORD.encode()).hexdigest(), "digested with SHA-256 first"),
    "sha512 first": (hashlib.sha512(PASSWORD.encode()).hexdigest(), "digested with SHA-512 first"),
    "sha384 in base64 first": (
        base64.b64encode(hashlib.sha384(PASSWORD.encode()).digest()), "SHA-384 first, in base64"),
    "cut to eight": (PASSWORD[:8], "cut to 8 characters"),
    "an empty password": ("", "the hash of an empty password"),
    "as bytes": (f"b'{PASSWORD}'", "printed as bytes"),
    "in quotes": (f'"{PASSWORD}"', "in double quotes"),
}  # fmt: skip


@pytest.mark.parametrize("name", SLOW)
def test_near_misses_on_slow_values_are_named(
    name: str, tmp_path: Path, in_process: Program
) -> None:
    """What old code did to the password is found, and offered as a formula that a cohort takes."""
    hashed, meaning = SLOW[name]
    write_known(tmp_path, slow(hashed))
    finished = in_process("verify", "known.csv", "--format", "json")
    assert finished.code == 1
    (account,) = finished.document["accounts"]
    assert meaning in account["near_miss"]
    formula = account["near_miss"].rpartition(": “")[2].rstrip("”")
    assert formula.endswith(", then bcrypt")
    assert in_process("verify", "known.csv", "--formula", formula).code == 0
    text = CHEAP_POLICY + (
        f"[[store.passengers.cohort]]\nname = 'late'\nformula = '''{formula}'''\n"
    )
    gateway = CredentialGateway(StoragePolicy.from_toml(text))
    outcome = gateway.admit(stored=slow(hashed), password=PASSWORD, store="passengers")
    assert outcome.admitted
    assert not gateway.admit(stored=slow(hashed), password="x", store="passengers").admitted or (
        "the hash of" in meaning
    )


@pytest.mark.parametrize("word", ["undefined", "null", "None", "[object Promise]"])
def test_a_word_for_nothing_becomes_no_formula(
    word: str, tmp_path: Path, in_process: Program
) -> None:
    """It was hashed in the password's place, for many accounts: any password would open them."""
    write_known(tmp_path, slow(word))
    (account,) = in_process("verify", "known.csv", "--format", "json").document["accounts"]
    assert f"it fits “{word}”, which was hashed in the password's place" in account["near_miss"]
    assert "formula" not in account["near_miss"]


def test_a_value_that_was_hashed_twice_is_proven(tmp_path: Path, in_process: Program) -> None:
    """An older dump tells; without it, the sentence names the test that would."""
    once = ARGON2
    write_known(tmp_path, slow(once))
    alone = in_process("verify", "known.csv").out
    assert "if the value was hashed twice, give an older dump with --earlier" in " ".join(
        alone.split()
    )
    (tmp_path / "old.csv").write_text(f'login,stored\nada,"{once}"\n')
    proven = in_process("verify", "known.csv", "--earlier", "old.csv", "--format", "json")
    assert "it was hashed twice" in proven.document["accounts"][0]["near_miss"]
    assert in_process("verify", "known.csv", "--earlier", "known.txt").code == 3


@pytest.mark.parametrize(
    ("password", "stored", "expected"),
    [
        (BCRYPT, "Gull 7 harbour", "the columns password and stored are the wrong way round"),
        (BCRYPT, slow("another"), "the same password gives another value each time"),
        (MD5, MD5, "the column password holds the stored value itself (md5)"),
        ("Gull 7", MD5, "`lean-tumbler formula solve` searches further"),
        ("Gull 7", BCRYPT, "no known transformation fits"),
        ("Gull 7", "!", "the account is locked"),
        ("Gull 7", "$9$what$ever", "not understood"),
    ],
)
def test_what_verify_says_where_nothing_fits(
    password: str, stored: str, expected: str, tmp_path: Path, in_process: Program
) -> None:
    """Columns swapped, hashes compared, another password: each is named, with the next step."""
    write_known(tmp_path, stored, password=password)
    finished = in_process("verify", "known.csv", "--format", "json")
    assert finished.code == 1
    assert expected in finished.document["accounts"][0]["near_miss"]
    assert "none found" not in in_process("verify", "known.csv").out


@pytest.mark.parametrize("value", [BCRYPT, ARGON2, MD5, "{SSHA}" + "A" * 32, f"'{BCRYPT}'",
                                   "$1$abc$" + "a" * 22, "md5" + MD5])  # fmt: skip
def test_a_stored_value_is_no_new_password(value: str, tmp_path: Path, in_process: Program) -> None:
    """The library and the command refuse it with a reason of its own, unless forced."""
    gateway = CredentialGateway(StoragePolicy.from_toml(CHEAP_POLICY))
    with pytest.raises(PasswordRefused, match="reads as a stored value") as caught:
        gateway.hash(password=value)
    assert value not in str(caught.value)
    assert read_value(gateway.hash(password=value, force=True)).scheme == "argon2id"
    (tmp_path / "tumbler.toml").write_text(CHEAP_POLICY)
    refused = in_process("hash", stdin=value.encode())
    assert (refused.code, refused.out) == (2, "")
    assert "reads as a stored value" in refused.err
    assert in_process("hash", "--force", stdin=value.encode()).code == 0


def test_wrong_types_are_type_errors() -> None:
    """Bytes for a password, or a number for a value, are named; nothing is guessed."""
    gateway = CredentialGateway(StoragePolicy())
    for arguments, name in (
        ({"stored": MD5, "password": b"x"}, "password must be text"),
        ({"stored": 5, "password": "x"}, "must be text, bytes or None, not int"),
        ({"stored": MD5, "password": "x", "salt": 7}, "must be text, bytes or None"),
        ({"stored": MD5, "password": "x", "login": 7}, "login must be text"),
    ):
        with pytest.raises(TypeError, match=name):
            gateway.admit(**arguments)
    with pytest.raises(TypeError, match="password must be text"):
        gateway.hash(password=b"x")  # type: ignore[arg-type] # on purpose


CUT = (BCRYPT[:50], ARGON2[:34], "$6$rounds=5000$abc", BCRYPT[:59], "$argon2id$v=19$m=19456")


def test_truncated_values_stand_in_every_headline(tmp_path: Path, in_process: Program) -> None:
    """Five useless values: the audit, the progress and the report say so, and nothing is finished."""
    portal = make_portal(tmp_path, ["current"] * 5)
    _store(portal, CUT)
    audit = in_process("audit", "passengers").out
    assert audit.startswith(
        "passengers.pw: 5 of 5 values are damaged, and nobody can log in with them.\n"
    )
    assert in_process("audit", "passengers", "--fail-on", "not-understood").code == 1
    assert "5 not understood" in in_process("progress").out
    in_process("report", "--output", "report.html")
    assert "5 of 5 stored values are not understood" in (tmp_path / "report.html").read_text()
    assert in_process("enforce", "gate", "--state", "s", "--accept").code == 0
    _store(portal, [*CUT[:4], f"b'{ARGON2}'"])
    gate = in_process("enforce", "gate", "--state", "s")
    assert gate.code in {0, 1}


def test_new_wrapped_and_unknown_values_fail_the_gate(tmp_path: Path, in_process: Program) -> None:
    """A value that was current, and has something around it now, has gone backwards."""
    portal = make_portal(tmp_path, ["current"] * 4)
    assert in_process("enforce", "gate", "--state", "s").code == 0
    values = [portal.stored()[number] or "" for number in range(1, 5)]
    _store(portal, [values[0], f"b'{values[1]}'", "undefined", values[3] + " "])
    finished = in_process("enforce", "gate", "--state", "s")
    assert finished.code == 1
    assert "3 accounts weak or not understood appeared" in finished.out
    assert "account 2: current, inside other text, went backwards" in finished.out


def _store(portal: Portal, values: Sequence[str]) -> None:
    with closing(sqlite3.connect(portal.database)) as connection, connection:
        connection.executemany(
            "UPDATE passengers SET pw = ? WHERE id = ?",
            [(value, number) for number, value in enumerate(values, start=1)],
        )


def test_what_happened_to_invented_values_is_named(tmp_path: Path, in_process: Program) -> None:
    """Wrapped ones are opened by their passwords, cut ones and remnants by nothing; all are named."""
    chance = random.Random(5)
    every = CHEAP_POLICY.replace("plain_text = true", 'plain_text = "all"')
    policy = StoragePolicy.from_toml(every)

    def opens(stored: str, password: str) -> bool:
        gateway = CredentialGateway(policy)  # of its own: refusals cost what this value does
        return gateway.admit(stored=stored, password=password, store="passengers").admitted

    bank = mishaps.whole(chance, 24)
    wrapped = list(mishaps.wrapped(bank, chance))
    for name, value, stored in wrapped:
        assert read_value(stored).wrappers, (name, stored)
        assert opens(stored, value.password), (name, stored)
        assert not opens(stored, stored), (name, stored)
    cut = [stored for _, stored in mishaps.cut(bank, chance, of_each=30)]
    left = [make(chance) for make in mishaps.REMNANTS.values() for _ in range(50)]
    assert not any(opens(stored, stored) for stored in (*cut, *left))
    found = {}
    beside = [value.stored for value in bank if value.names_itself for _ in range(30)]
    for code, texts in (("truncated-value", cut), ("remnant", left)):
        mishaps.fill(tmp_path / "guests.db", [*texts, *beside])
        document = in_process("audit", "guests.db", "--column", "pw", "--format", "json").document
        rows = {one["code"]: one["rows"] for one in document["stores"][0]["findings"]}
        found[code] = rows[code] / len(texts)
    assert found == {"truncated-value": 1, "remnant": 1}


def test_ordinary_passwords_are_taken_for_nothing_else() -> None:
    """No password that people make up or a manager draws reads as a value, a wrapper or a remnant."""
    chance = random.Random(3)
    wrong = [
        text
        for text in (passwords.human(chance) for _ in range(20_000))
        if stored_value_scheme(text)
        or read_value(text).wrappers
        or read_value(text).scheme == "remnant"
    ]
    assert wrong == []


def _people(number: int = 40) -> list[tuple[str, str]]:
    return [(f"tern{n}", f"Dunlin {n * 7} gull{n}") for n in range(number)]


def _table(path: Path, create: str, rows: Sequence[tuple[object, ...]]) -> None:
    with closing(sqlite3.connect(path)) as connection, connection:
        connection.execute(f"CREATE TABLE guests ({create})")
        marks = ", ".join("?" * len(rows[0]))
        connection.executemany(f"INSERT INTO guests VALUES ({marks})", rows)


@pytest.mark.parametrize("name", ["remark", "hint", "zusatz", "userPassword2"])
@pytest.mark.parametrize("hashed", ["bcrypt", "md5", "salted"])
def test_a_column_that_opens_the_hash_holds_the_passwords(
    name: str, hashed: str, tmp_path: Path, in_process: Program
) -> None:
    """Whatever its name and however it is padded; and the columns beside it are not accused."""
    made: dict[str, Callable[[str], str]] = {
        "bcrypt": slow,
        "md5": lambda word: hashlib.md5(word.encode()).hexdigest(),
        "salted": lambda word: hashlib.sha1(f"salt{word}".encode()).hexdigest(),
    }
    rows = [
        (number, login, made[hashed](word), "salt", f" {word} ", f"Wick {number}")
        for number, (login, word) in enumerate(_people())
    ]
    create = f"id int, LoginName text, passHash text, pwSalt text, {name} text, town text"
    _table(tmp_path / "guests.db", create, rows)
    document = in_process("audit", "guests.db", "--format", "json").document
    codes = {
        column["column"]: {finding["code"] for finding in column["findings"]}
        for column in document["stores"]
    }
    assert set(codes) == {"passHash", name}
    assert "password-beside-hash" in codes[name]
    assert "plain-text" not in codes[name]  # emptied, never layered
    assert "password-beside-hash" not in codes["passHash"]


def test_passwords_that_were_changed_since_still_betray_the_column(
    tmp_path: Path, in_process: Program
) -> None:
    """Half of the copies are old; a first name that is somebody's password is no such column."""
    rows = [
        (login, hashlib.md5(password.encode()).hexdigest(), password if n % 2 else f"old {n}",
         password if n == 3 else f"Ada{n}")
        for n, (login, password) in enumerate(_people())
    ]  # fmt: skip
    _table(tmp_path / "guests.db", "login text, pw text, note text, first text", rows)
    out = in_process("audit", "guests.db").out
    assert "its content opens 20 of 40 values of pw tried" in " ".join(out.split())
    assert "guests.first" not in out


@pytest.mark.parametrize(
    ("name", "values", "found"),
    [
        ("plain", ["gull 7", "tern 9"], True),
        ("passwordPlain", ["gull 7", "tern 9"], True),
        ("clear_text", ["gull 7", "tern 9"], True),
        ("passwort", ["4711", "0815"], True),
        ("mot_de_passe", ["01.02.1980", "28.11.1975"], True),
        ("passwordAge", ["47", "15"], False),
        ("userPassword2", ["gull 7", "tern 9"], True),
        ("ENCRYPTED-PASSWORD", ["gull 7", "tern 9"], True),
        ("spinCode", ["4711", "0815"], False),
        ("explain", ["gull 7", "tern 9"], False),
        ("passwordChangedAt", ["2026-01-02", "2026-02-03"], False),
        ("PasswordSalt", ["gull 7", "tern 9"], False),
    ],
)
def test_names_are_compared_without_case_and_separators(
    name: str, values: list[str | None], found: bool
) -> None:
    """However a schema writes a name; what only looks alike is left alone."""
    assert (content_of(name, values) is not ColumnContent.OTHER) is found


def test_roles_are_seen_however_they_are_written(tmp_path: Path, in_process: Program) -> None:
    """`isAdmin`, `LoginName` and `lastLogin` are what they say."""
    rows = [(login, slow(word), str(n == 1)) for n, (login, word) in enumerate(_people(3))]
    _table(tmp_path / "guests.db", "LoginName text, pw text, isAdmin text", rows)
    assert "1 administrator among them" in in_process("audit", "guests.db").out


@pytest.mark.parametrize("form", ["array", "indented", "under a name", "one after the other"])
@pytest.mark.parametrize("ending", ["", "\n", "\n\n"])
def test_json_that_is_not_one_object_a_line(
    form: str, ending: str, tmp_path: Path, in_process: Program
) -> None:
    """Arrays on one line, pretty-printed documents, a list under one name: all rows are read."""
    people: list[dict[str, object]] = [
        {"login": login, "key": {"hash": f'a}}"{{\\{word}'}, "town": ["{", "Wick"]}
        for login, word in _people(500)
    ]
    text = {
        "array": lambda: json.dumps(people),
        "indented": lambda: json.dumps(people, indent=2),
        "under a name": lambda: json.dumps({"guests": people}, indent=1),
        "one after the other": lambda: "\n".join(json.dumps(one, indent=4) for one in people),
    }[form]()
    (tmp_path / "guests.json").write_text("\ufeff" + text + ending)
    document = in_process("audit", "guests.json", "--format", "json").document
    assert (document["rows"], document["unreadable_rows"]) == (500, 0)
    assert document["stores"][0]["column"] == "key.hash"
    (tmp_path / "cut.json").write_text(text[: len(text) // 2])
    cut = in_process("audit", "cut.json", "--format", "json").document
    assert 200 < cut["rows"] < 300
    assert cut["unreadable_rows"] == 1


def test_a_role_alone_is_taken(tmp_path: Path, in_process: Program) -> None:
    """`--salt-column` without `--column` counts for the columns found, or is refused by name."""
    rows = [
        (login, hashlib.sha1(f"salt{n:04d}{word}".encode()).hexdigest(), f"salt{n:04d}")
        for n, (login, word) in enumerate(_people())
    ]
    _table(tmp_path / "guests.db", "login text, pw text, extra text", rows)
    assert "unsalted-digest" in in_process("audit", "guests.db").out
    assert "unsalted-digest" not in in_process("audit", "guests.db", "--salt-column", "extra").out
    refused = in_process("audit", "guests.db", "--salt-column", "nowhere")
    assert refused.code == 2
    assert "no table has a column “nowhere”" in refused.err
    slashes = in_process("audit", "sqlite://guests.db")
    assert slashes.code == 2
    assert "is sqlite:///PATH, with three slashes" in slashes.err


BCRYPT_POLICY = CHEAP_POLICY.replace(
    'scheme = "argon2id"\nmemory_kib = 256\npasses = 1\nlanes = 1',
    'scheme = "bcrypt"\ncost_log2 = 10',
)


def test_a_picture_beside_the_password_hides_nothing(tmp_path: Path, in_process: Program) -> None:
    """A table with bytes in another column is found, and bytes under a name of credentials too."""
    with closing(sqlite3.connect(tmp_path / "guests.db")) as connection, connection:
        connection.execute(
            "CREATE TABLE guests (id blob, email text, pw text, face blob, access_hash blob, t blob)"
        )
        connection.executemany(
            "INSERT INTO guests VALUES (?, ?, ?, ?, ?, ?)",
            [
                (bytes([255]) * 15 + bytes([n]), f"g{n}@quay.example", BCRYPT, bytes([200, n] * 90),
                 bytes([250, n] * 12), bytes([251, n] * 8))
                for n in range(20)
            ],
        )  # fmt: skip
    document = in_process("audit", "guests.db", "--format", "json").document
    found = {store["column"]: store for store in document["stores"]}
    assert set(found) == {"pw", "access_hash"}  # a key or an address of 16 bytes is no digest
    assert found["pw"]["grades"] == {"outdated": 20}
    codes = {each["code"]: each["rows"] for each in found["access_hash"]["findings"]}
    assert codes["not-understood"] == 20
    assert document["unreadable_rows"] == 0


def test_one_value_in_two_tables_is_named(tmp_path: Path, in_process: Program) -> None:
    """A copy of a login's value elsewhere is a finding in both columns; markers say nothing."""
    values = [hashlib.md5(b"%d" % n).hexdigest() for n in range(6)] + ["!", "", "undefined"]
    with closing(sqlite3.connect(tmp_path / "quay.db")) as connection, connection:
        for name, edit in (("guests", str), ("members", str.upper)):
            connection.execute(f"CREATE TABLE {name} (id integer, login text, pw text)")
            connection.executemany(
                f"INSERT INTO {name} VALUES (?, ?, ?)",
                [(n, edit(f"g{n}"), value) for n, value in enumerate(values)],
            )
        connection.execute("UPDATE members SET pw = ? WHERE id > 3", (values[0],))
    document = in_process("audit", "quay.db", "--format", "json").document
    for store, other in zip(document["stores"], ("members.pw", "guests.pw"), strict=True):
        (found,) = [f for f in store["findings"] if f["code"] == "same-value-elsewhere"]
        assert found["accounts"] == ["0", "1", "2", "3"]
        assert found["evidence"] == f"equal values for the same login: 4 in {other}"


def test_a_target_that_lies_over_no_digest_does_what_it_can(
    tmp_path: Path, in_process: Program
) -> None:
    """With bcrypt plain text becomes current at once; digests are replaced as people log in."""
    portal = make_portal(tmp_path, ["md5", "sha1", "plain", "plain", "current"])
    (tmp_path / "tumbler.toml").write_text(BCRYPT_POLICY)
    before = portal.stored()
    planned = " ".join(in_process("plan").out.split())
    assert "2 of 5 rows can be layered or replaced now" in planned
    assert "replaced at login" in planned
    assert "with layer_with in [target] they are layered now" in planned
    finished = in_process("layer", "--no-backup")
    assert finished.code == 0
    assert "0 rows layered, 2 replaced; 5 considered" in " ".join(finished.out.split())
    after = portal.stored()
    assert [number for number in after if after[number] != before[number]] == [3, 4]
    gateway = CredentialGateway(StoragePolicy.from_toml(BCRYPT_POLICY))
    for row in portal.openable:
        outcome = gateway.admit(
            stored=after[row.number], password=row.password, salt=row.salt, store="passengers"
        )
        assert outcome.admitted
        new = outcome.new_value or after[row.number] or ""
        assert read_value(new).scheme == "bcrypt"


@pytest.mark.parametrize("cost_log2", [10, 12])
def test_without_a_target_nothing_current_is_rewritten(cost_log2: int) -> None:
    """The application may check bcrypt alone: who wants another scheme says so in the policy."""
    raw = bcrypt.hashpw(PASSWORD.encode(), bcrypt.gensalt(cost_log2)).decode()
    silent = CredentialGateway(StoragePolicy.from_toml(""))
    outcome = silent.admit(stored=raw, password=PASSWORD)
    assert (outcome.admitted, outcome.new_value) == (True, None)
    weak = bcrypt.hashpw(PASSWORD.encode(), bcrypt.gensalt(6)).decode()
    assert silent.admit(stored=weak, password=PASSWORD).new_value is not None
    chosen = StoragePolicy.from_toml(CHEAP_POLICY)
    told = CredentialGateway(chosen).admit(stored=raw, password=PASSWORD)
    assert read_value(told.new_value or "").scheme == "argon2id"


@pytest.mark.parametrize(
    ("stored", "sentences"),
    [
        (BCRYPT, ("variant 2–3, cost 5–6, salt 8–29, digest 30–60", "ms on one core of this machine",
                  "as it is, from: php 8.2 (password_verify)", "2^4 = 16 rounds", "it needs no column, and no key", "another value each time",
                  "a second on one", "`tune` chooses a target")),
        (ARGON2, ("0.25 MiB of memory", "nothing to do", "php 7.3 (password_verify)",
                  "node 24.7 (crypto.argon2)")),
        (MD5, ("take under a second", "none in the value itself", "`formula solve`")),
        ("gull harbour", ("can be read", "plain_text = true")),
        ("undefined", ("A failed write left it", "needs a reset")),
        (ARGON2[:40], ("begins like argon2id but is not whole", "if there is none, reset the account")),
    ],
)  # fmt: skip
def test_explain_teaches(
    stored: str, sentences: Sequence[str], tmp_path: Path, in_process: Program
) -> None:
    """What the cost means, where the salt is, what a guess costs, and what comes next."""
    (tmp_path / "tumbler.toml").write_text(CHEAP_POLICY)
    finished = in_process("explain", stdin=stored.encode())
    assert finished.err == ""
    said = " ".join(finished.out.split())
    assert [sentence for sentence in sentences if sentence not in said] == []
    assert stored not in said
    as_argument = in_process("explain", stored)
    timed = re.compile(r"[0-9.,]+ ms on")
    assert timed.sub("", as_argument.out) == timed.sub("", finished.out)
    assert "others on this machine can read an argument" in as_argument.err
    document = in_process("explain", "--format", "json", stdin=stored.encode()).document
    assert document["next"] in said


@pytest.mark.parametrize(
    ("stored", "typed", "code", "sentence"),
    [
        (BCRYPT, PASSWORD, 0, "The password opens it."),
        (BCRYPT, PASSWORD + " ", 1, "The password does not open it: it fits after one change"),
        (MD5, PASSWORD, 0, "The password opens it."),
        (MD5, PASSWORD + " ", 1, "it fits"),
        (BCRYPT, BCRYPT, 1, "holds the stored value itself"),
        ("undefined", "undefined", 1, "a failed write left the stored value"),
        (ARGON2, "another one", 1, "otherwise check the password"),
    ],
)
def test_explain_checks_one_password(
    stored: str, typed: str, code: int, sentence: str, tmp_path: Path, in_process: Program
) -> None:
    """It says first whether the password opens the value, or what is near; neither is printed."""
    (tmp_path / "tumbler.toml").write_text(CHEAP_POLICY)
    given = f"{stored}\n{typed}\n".encode()
    finished = in_process("explain", "--check", stdin=given)
    assert finished.code == code
    first = finished.out.splitlines()[0]
    assert first.startswith("The password ")
    assert sentence in " ".join(finished.out.split())
    assert stored == typed == "undefined" or typed not in finished.out
    document = in_process("explain", "--check", "--format", "json", stdin=given).document
    assert document["opens"] is not bool(code)


def test_parts_are_shown_only_where_asked_for(tmp_path: Path, in_process: Program) -> None:
    """Where salt and digest stand is said always, what they are with --show-values alone."""
    stored = "$2b$04$abcdefghijklmnopqrstuuEu7C/hks6KophxvfPkllOlYLV2dl/fK"
    hidden = in_process("explain", stdin=stored.encode())
    shown = in_process("explain", "--show-values", stdin=stored.encode())
    assert tmp_path.exists()
    assert "abcdefghijklmnopqrstuu" not in hidden.out
    assert "abcdefghijklmnopqrstuu (characters 8–29)" in shown.out
    document = in_process("explain", "--format", "json", stdin=stored.encode()).document
    assert [(part["part"], part["first"], part["last"]) for part in document["parts"]] == [
        ("variant", 2, 3), ("cost", 5, 6), ("salt", 8, 29), ("digest", 30, 60)
    ]  # fmt: skip
    assert not any(part["text"] for part in document["parts"])


def test_an_account_is_explained_by_its_login(tmp_path: Path, in_process: Program) -> None:
    """With one password checked against its row; a login that is not there is said."""
    portal = make_portal(tmp_path, ["sha1", "md5"])
    person = portal.passengers[0]
    of = ("explain", "--store", "passengers", "--login", person.login)
    assert in_process(*of).out.startswith("Account 1 of passengers: portal-2011")
    right = in_process(*of, "--check", stdin=person.password.encode())
    assert (right.code, right.out.splitlines()[0]) == (0, "The password opens it.")
    wrong = in_process(*of, "--check", stdin=(person.password + "\t").encode())
    assert wrong.code == 1
    assert wrong.out.startswith("The password does not open it: ")
    missing = in_process("explain", "--store", "passengers", "--login", "nobody")
    assert "no account has the login that --login names" in missing.err
    both = in_process(*of, "--account", "1")
    assert "give one of --account, --login and --newest" in both.err


def _any_text(chance: random.Random) -> str:
    return "".join(chance.choices('ab{}[]",\\ \n\té𝄞:$', k=chance.randint(0, 9)))


def _any_json(chance: random.Random, depth: int = 0) -> object:
    kind = chance.randint(0, 7) if depth < 3 else 7
    if kind == 0:
        return [_any_json(chance, depth + 1) for _ in range(chance.randint(0, 3))]
    if kind == 1:
        return {_any_text(chance): _any_json(chance, depth + 1) for _ in range(3)}
    if kind == 2:
        return [{"name": _any_text(chance), "of": [{}]} for _ in range(chance.randint(1, 3))]
    return chance.choice([None, True, 3, -1.5, _any_text(chance)])


def test_every_account_is_listed_where_asked_for(tmp_path: Path, in_process: Program) -> None:
    """One line each, with scheme, grade and findings; their sums are those of the report."""
    make_portal(tmp_path, ["md5", "sha1", "plain", "bcrypt", "current", "md5"])
    with closing(sqlite3.connect(tmp_path / "harbour.db")) as connection, connection:
        connection.execute("UPDATE passengers SET pw = NULL WHERE id = 2")
    (store,) = in_process("audit", "harbour.db", "--format", "json").document["stores"]
    listed = in_process("audit", "harbour.db", "--format", "csv", "--all-accounts").out
    rows = list(csv.DictReader(listed.splitlines()))
    assert sorted(row["account"] for row in rows) == ["1", "2", "3", "4", "5", "6"]
    grades = Counter(row["grade"] for row in rows if row["grade"])
    assert grades == store["grades"]
    codes = Counter(code for row in rows for code in row["findings"].split())
    assert codes == {found["code"]: found["rows"] for found in store["findings"]}
    assert "goes with --format csv" in in_process("audit", "harbour.db", "--all-accounts").err


def test_a_formula_is_worked_through_a_known_account(tmp_path: Path, in_process: Program) -> None:
    """Step by step, and whether it gives what is stored; values only where they are asked for."""
    (tmp_path / "tumbler.toml").write_text(CHEAP_POLICY)
    write_known(tmp_path, MD5)
    of = ("formula", "show", "portal-2004", "--known", "known.csv")
    hidden = in_process(*of)
    assert hidden.code == 0
    assert hidden.out.startswith("For the known account ada it gives what is stored.")
    assert PASSWORD not in hidden.out
    assert MD5 not in hidden.out
    assert PASSWORD not in in_process(*of, "--format", "json").out
    shown = in_process(*of, "--show-values").out
    assert PASSWORD in shown
    assert MD5 in shown
    other = in_process("formula", "show", "utf-8, sha1, hex", "--known", "known.csv")
    assert other.code == 1
    assert "gives something else than what is stored" in other.out
    assert "no account has the login" in in_process(*of, "--login", "ben").err
    assert "go with --known" in in_process("formula", "show", "md5, hex", "--login", "ada").err


def test_a_padded_file_of_known_accounts(tmp_path: Path, in_process: Program) -> None:
    """Blanks that a program put around all fields come off, and it is said; a password keeps its own."""
    path = tmp_path / "known.csv"
    path.write_text(f"login , password , stored\nada   , {PASSWORD}, {MD5} \n", encoding="utf-8")
    finished = in_process("verify", "known.csv")
    assert finished.out.startswith("All 1 known account")
    assert "blanks around all fields were removed" in finished.err
    blank = hashlib.md5(b"gull ").hexdigest()
    path.write_text(f"login,password,stored\nada,gull ,{blank}\n")
    finished = in_process("verify", "known.csv")
    assert (finished.code, finished.err) == (0, "")


def test_what_solve_says_is_whole_sentences(tmp_path: Path, in_process: Program) -> None:
    """No question ends with a full stop, and no stage is without a name."""
    rows = "\n".join(f"a{n},Dunlin {n} gull,no digest {n}" for n in range(3))
    (tmp_path / "known.csv").write_text(f"login,password,stored\n{rows}\n")
    said = in_process("formula", "solve", "known.csv", "--budget", "2s")
    assert "is it the right column?\n" in said.out
    assert "?." not in said.out
    assert "“”" not in said.out


def test_any_json_is_read_in_any_form(tmp_path: Path) -> None:
    """Braces in strings, lists of objects first, one line or many: each record is one row."""
    chance = random.Random(7)
    path = tmp_path / "guests.json"
    for _ in range(300):
        rows = [
            {"first": _any_json(chance), "pw": _any_text(chance) + "x", "n": str(number)}
            for number in range(chance.choice([1, 2, 3, 30, 400]))
        ]
        indent = chance.choice([None, 0, 1, 4])
        path.write_text(
            chance.choice(
                [
                    "\n".join(json.dumps(row, indent=indent or None) for row in rows),
                    json.dumps(rows, indent=indent, ensure_ascii=False),
                    json.dumps({_any_text(chance): rows}, indent=indent),
                ]
            )
            + chance.choice(["", "\n", "\n\n"]),
            encoding="utf-8",
        )
        (table,) = tables_of_file(path)
        unreadable = Unreadable()
        read = [row for frame in table.frames(["pw", "n"], unreadable) for row in frame.iter_rows()]
        assert [(pw, n) for _, pw, n in read] == [(row["pw"], row["n"]) for row in rows]
        assert unreadable.rows == 0


def test_json_in_pieces_of_any_size(tmp_path: Path, monkeypatch: pytest.MonkeyPatch) -> None:
    """Wherever one ends, in a string or an escape: too long objects are counted, all others read."""
    chance = random.Random(9)
    monkeypatch.setattr(json_documents, "LINE_BYTES", 300)
    monkeypatch.setattr(json_cutting, "_HELD_CHARACTERS", 600)
    monkeypatch.setattr(json_cutting, "_TOO_LONG", " " * 301)

    def cut(path: Path, _: Unreadable) -> Iterator[bytes]:
        raw = path.read_bytes()
        while raw:
            size = chance.choice([1, 2, 7, 40, 500])
            yield raw[:size]
            raw = raw[size:]

    monkeypatch.setattr(json_cutting, "pieces", cut)
    path = tmp_path / "guests.json"
    for _ in range(200):
        texts = [
            json.dumps({"pw": "".join(chance.choices('\\"{}[],:ab\n€', k=size)), "n": n})
            for n, size in enumerate(chance.choices([1, 9, 60, 400, 3000], k=12))
        ]
        path.write_text(f"[{', '.join(texts)}]", encoding="utf-8")
        unreadable = Unreadable()
        read = [row["n"] for _, row in json_documents.document_rows(path, (), unreadable)]
        assert read == [str(n) for n, text in enumerate(texts) if len(text) <= 300]
        assert unreadable.rows == len(texts) - len(read)


_PEOPLE = [
    f"{name}.{number}@coldharbour.example" for number in range(10) for name in ("ann", "bob")
]
_BCRYPT = [
    bcrypt.hashpw(name.encode(), bcrypt.gensalt(4)).decode().replace("$04$", "$12$")
    for name in _PEOPLE
]
_SHA = [hashlib.sha256(name.encode()).digest() for name in _PEOPLE]
_SLOW = list(zip(_PEOPLE, _BCRYPT, strict=True))
_FAST = list(zip(_PEOPLE, _SHA, strict=True))


def _printed(raw: bytes) -> str:
    return json.dumps({"type": "Buffer", "data": list(raw)})


@pytest.mark.parametrize(
    ("header", "rows", "first", "code"),
    [
        ("email,password", [(p, v.lower()) for p, v in _SLOW], "20 of 20 values are damaged, and nobody can log in with them.", "folded-value"),
        ("email,password", [(p, v.upper() if n < 3 else v) for n, (p, v) in enumerate(_SLOW)], "3 of 20 values are damaged, and nobody can log in with them; no other account of 20 is below the floor.", "not-understood"),
        ("email,password", [(p, v[:59]) for p, v in _SLOW], "20 of 20 values are damaged, and nobody can log in with them.", "truncated-value"),
        ("email,password", [(p, _BCRYPT[0] if n < 3 else v) for n, (p, v) in enumerate(_SLOW)], "1 value occurs more than once, the commonest 3 times (copied-value); no account of 20 is below the floor.", "copied-value"),
        ("email,password", [(p, v[:7] + _BCRYPT[0][7:29] + v[29:]) for p, v in _SLOW], "one salt is in 20 of 20 salted rows (static-salt); no account of 20 is below the floor.", "static-salt"),
        ("email,password", [(p, v if n < 15 else f"gannet {n}") for n, (p, v) in enumerate(_SLOW)], "5 of 20 accounts are below the floor.", "newest-weaker"),
        ("name,password", [(v, p) for p, v in _SLOW], "the stored values are in name, and password holds what belongs there.", "exchanged-columns"),
        ("email,password", [(s.hex(), p) for p, s in _FAST], "the stored values are in email, and password holds what belongs there.", "exchanged-columns"),
        ("email,password", [(p, _printed(s)) for p, s in _FAST], "20 of 20 accounts are below the floor.", "unsalted-digest"),
        ("email,password", [(p, _printed(v.encode())) for p, v in _SLOW], "no account of 20 is below the floor.", "quoted-or-encoded"),
        ("email,password", [(p, f"[{' '.join(map(str, v.encode()))}]") for p, v in _SLOW], "no account of 20 is below the floor.", "quoted-or-encoded"),
        ("email,password", [(p, base64.b64encode(s.hex().encode()).decode()) for p, s in _FAST], "20 of 20 accounts are below the floor.", "unsalted-digest"),
    ],
)  # fmt: skip
def test_what_a_whole_column_shows(
    tmp_path: Path,
    in_process: Program,
    header: str,
    rows: list[tuple[str, str]],
    first: str,
    code: str,
) -> None:
    """Values that say what they are can be useless as a column: the first line says so."""
    with (tmp_path / "people.csv").open("w", newline="") as file:
        writer = csv.writer(file)
        writer.writerow(("id", *header.split(",")))
        writer.writerows((number, *row) for number, row in enumerate(rows))
    done = in_process("audit", "people.csv")
    text = " ".join(done.out.split())
    assert text.startswith(f"people.csv.password: {first} ")
    assert code in text
    assert "plain_text = true" not in text or code == "newest-weaker"


@pytest.mark.parametrize(
    "printed",
    [
        lambda raw: f"[{' '.join(map(str, raw))}]",
        lambda raw: str(list(raw)),
        lambda raw: f"<Buffer {raw.hex(' ')}>",
        _printed,
        lambda raw: json.dumps({str(place): number for place, number in enumerate(raw)}),
        lambda raw: f"Uint8Array({len(raw)}) {list(raw)}",
        lambda raw: base64.b64encode(raw.hex().encode()).decode(),
    ],
)
def test_printed_bytes_are_opened(printed: Callable[[bytes], str]) -> None:
    """A login opens a digest and a whole value, however a language has printed its bytes."""
    gateway = CredentialGateway(StoragePolicy.from_toml(CHEAP_POLICY))
    whole = bcrypt.hashpw(PASSWORD.encode(), SALT)
    assert read_value(printed(hashlib.sha256(PASSWORD.encode()).digest())).scheme == "sha256"
    for stored in (whole, hashlib.sha256(PASSWORD.encode()).digest()):
        assert gateway.admit(stored=printed(stored), password=PASSWORD).admitted or stored == whole


def test_a_header_that_names_a_column_twice(tmp_path: Path, in_process: Program) -> None:
    """The names are told apart, no header is taken for a row, and the copy keeps both columns."""
    rows = [f"{n},p{n}@coldharbour.example,gannet {n},{hashlib.md5(b'gannet %d' % n).hexdigest()}"
            for n in range(8)]  # fmt: skip
    (tmp_path / "people.csv").write_text("\n".join(["id,email,password,password", *rows]) + "\n")
    found = in_process("audit", "people.csv", "--format", "json").document["stores"]
    assert {(each["column"], each["rows"]) for each in found} == {
        ("password", 8),
        ("password_2", 8),
    }
    (tmp_path / "tumbler.toml").write_text(
        CHEAP_POLICY.split("[store.")[0]
        + '[store.people]\nlocator = "people.csv"\nmode = "upgrade"\nreaders_ready = 2026-01-01\n'
        '[store.people.columns]\nlogin = "email"\nstored = "password_2"\n'
        '[[store.people.cohort]]\nname = "old"\nformula = "utf-8, md5, hex"\n'
    )
    layer = ("layer", "--store", "people", "--unproven", "old", "--no-backup", "--into", "new.csv")
    assert in_process(*layer).code == 0
    copied = list(csv.reader((tmp_path / "new.csv").open()))
    assert copied[0] == ["id", "email", "password", "password"]
    assert copied[3][2] == "gannet 2"
    assert read_value(copied[3][3]).kind.value == "layered"


def test_a_server_that_ignores_writes_is_no_success(tmp_path: Path, in_process: Program) -> None:
    """A trigger that keeps old values, without an error: the run ends, says so, and writes nothing."""
    portal = make_portal(tmp_path, ["md5"] * 6)
    with closing(sqlite3.connect(portal.database)) as connection, connection:
        connection.execute(
            "CREATE TRIGGER kept BEFORE UPDATE ON passengers WHEN new.id = 4 "
            "BEGIN SELECT RAISE(IGNORE); END"
        )
    before = portal.stored()
    done = in_process("layer", "--no-backup", "--unproven", "portal-2004")
    assert done.code == 3
    assert "accepted the write of a row and kept the old value" in done.err
    assert portal.stored() == before


@pytest.mark.parametrize(
    ("shape", "people"),
    [
        *((shape, people) for shape in ("objects", "under a name", "indented") for people in (5, 3_000)),
        *(("values", people) for people in (5, 1_000)),
    ],
)  # fmt: skip
def test_documents_keyed_by_login_are_rows(
    tmp_path: Path, in_process: Program, shape: str, people: int
) -> None:
    """A JSON object with a member a person is a table with a row a person, and the name its login."""
    digests = {
        f"p{n}@coldharbour.example": hashlib.md5(b"%d" % n).hexdigest() for n in range(people)
    }
    keyed: dict[str, object] = {name: {"pw": digest, "age": 7} for name, digest in digests.items()}
    document = {"values": digests, "under a name": {"people": keyed}}.get(shape, keyed)
    indent = 1 if shape == "indented" else None
    (tmp_path / "people.json").write_text(json.dumps(document, indent=indent))
    (found,) = in_process("audit", "people.json", "--format", "json").document["stores"]
    assert (found["column"], found["rows"]) == ("value" if shape == "values" else "pw", people)


@pytest.mark.parametrize(
    "record",
    [
        {"profile": {"name": "ann"}, "login": {"email": "a@coldharbour.example", "pw": "x" * 32}},
        {"id": "1", "email": "a@coldharbour.example", "pw": hashlib.md5(b"1").hexdigest(), "a": "b", "c": "d"},
    ],
)  # fmt: skip
def test_a_record_is_no_set_of_records(tmp_path: Path, in_process: Program, record: object) -> None:
    """One object with objects or texts in it stays one row."""
    (tmp_path / "people.json").write_text(json.dumps(record))
    found = in_process("audit", "people.json", "--format", "json").document["stores"]
    assert {each["rows"] for each in found} == {1}
