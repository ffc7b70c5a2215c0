"""Judging columns: shapes against the parser, counts, duplicates and discovery."""

import base64
import csv
import hashlib
import io
import random
import sqlite3
from collections import Counter
from collections.abc import Callable
from contextlib import closing
from pathlib import Path
from typing import Any

import polars as pl
import pytest
from Crypto.Cipher import AES
from Crypto.Hash import MD4
from Crypto.Util.Padding import pad
from hypothesis import given, settings
from hypothesis import strategies as st

from conftest import Portal, Program, make_portal
from lean_tumbler.core.audit.detectors import Place
from lean_tumbler.core.audit.digest_guesses import LikelyMatcher
from lean_tumbler.core.audit.discovery import ColumnContent, content_of, password_attributes
from lean_tumbler.core.audit.findings import findings
from lean_tumbler.core.audit.opening import Opens
from lean_tumbler.core.audit.profile import Profiler
from lean_tumbler.core.audit.results import Profile
from lean_tumbler.core.audit.rules import RULES
from lean_tumbler.core.audit.shapes import with_shapes
from lean_tumbler.core.grades import Floor
from lean_tumbler.core.schemes.base import ParsedValue
from lean_tumbler.core.schemes.catalogue import read_value
from lean_tumbler.reports.terminal import new_table, result_console

BASES = [
    hashlib.md5(b"x").hexdigest(),
    hashlib.sha1(b"x").hexdigest().upper(),
    hashlib.sha512(b"x").hexdigest(),
    "FNzAF1pyYxdw+0LG97cVPg==",
    "tbTa59ESvVJEdVvk/q/C8HDQpp4=",
    "$2b$05$Bj71jXIzxD43Uq3VTt1rmucdgFNf2XOvkkyAq5vWOAlifqILUBgde",
    "$argon2id$v=19$m=19456,t=2,p=1$MmVjMDI4M2Q5NTNhYTFjOQ$QsCpqMVtjZBleBPhmHgO0y238dlZTNGzcsrP4j1GbdE",
    "$argon2i$m=64,t=1,p=1$MmVjMDI4M2Q5NTNhYTFjOQ$QsCpqMVtjZBleBPhmHgO0y238dlZTNGzcsrP4j1GbdE",
    "$scrypt$ln=14,r=8,p=1$f1fJI61KTfUZgUf1Dmy7Tg$HSWTbXoDdM/kxcUZf/3tEi1HbqwlNJNdD5HNQGfgbFc",
    "$pbkdf2-sha256$i=27500,l=32$0FMHsfvAfn1TI+DQ9x2TGg$7eOIGNYo/ouNmTGBlARXcBC0fFY4gk/qvxeCLDIq1zQ",
    "$over$from=2969c2908df4cece,salt=MGExYjJjM2Q$argon2id$v=19$m=64,t=1,p=1$QEFCQ0RFRk$uysazk7jLwp8zZ",
    "$over$from=bcrypt$scrypt$ln=4,r=1,p=1$QEFCQ0RFRkdISUpLTE1OTw$uysazk7jLwp8zZr/j1ckjW3H1fRAgkX1",
    "$6$rounds=1000$.iW5J6.KFrc2W.Sb$LNDvq0lzpW1KLDGWyLhpJO.HqnV0ftlwQHVn.1qzT3vyZP2rdtHrSjSVmBljOwKdCP7BeYIKVJa4KrS5Fq0wf.",
    "$7$CU..../....QvbhtiOq1Jdw4WNweu5ql/$HS8w4X3U3A6M1fNB9Yz0wv08rTK5VC2lVHfRO/jXerD",
    "$y$j9T$WtfvimkRYF3mmZnFqtGg51$UDgg/Uze.VRdFJeQekOPWIdE4ALBKziHljeWsWaPKu9",
    "$P$8GLczMCSCXFtrvVYfKRSzdRfWltSlx.",
    "44ryGE8cuUsJE",
    "{SSHA}gWXzFeQKT9D1C886r64IiHerTnmHJdrc",
    "{CRYPT}$2b$05$Bj71jXIzxD43Uq3VTt1rmucdgFNf2XOvkkyAq5vWOAlifqILUBgde",
    "{PBKDF2}1000$OVxXsqqxnH00ViFZ279REg$D5gZC.chIKnG0T.ygdW2vaVw.qM",
    "pbkdf2_sha256$260000$OsE1nYEZ9GlG$mTzpsmgzifqFkdBO7nL043Rn8DM2FQQuao78D2ceVUQ=",
    "AQAAAAEAACcQAAAAEAri8cfNJHMMGN4Vfo3P2unda7p1RMv+FozPff1uSEkrzPO8I87q2dWf/enNXJJ6ww==",
    "APl0KxP1WPu+buaGffb/xZyOmYqwFmeF7nkX1Ey8LW4K/NbcHblzFRiZJVgeselrOg==",
    "6d44a4abaffd8188bebcdbf09dae9a4e:0ce2c578a17c499f31a9962a6b2ad322",
    "sha1$sitI8uzF$24cd7e9111f61376a575030bdcdd6bb3d99b0c4a",
    "md584b5a2f1f67f3a5214ac4d8cdfef7f65",
    "SCRAM-SHA-256$4096:Yx8WmjxEkfHjUnWE2yBnWg==$pSJJO+yJ+I2XNyYisz7kzpj9h0qoOaK/y2kaxmJ7VPc=:DdQddVYZCF3442bssK8td7OU1oq2ilRSMVWDyREH4tM=",
    "*A9D7C9676DB5C73D8265506AFB3B3D0D13C43F70",
    "0x010085290EA440170F802EB77A0BF5C2FD71CEBF46EE7326EA28",
    "183fa39c72491f91",
    "!",
    "harbour1",
    "aGFyYm91ciBmZXJyeQ==",
    "correcthorsebatterystaple",
    "Gannet8110 tern",
]
_ALPHABET = "0123456789abcdefABCDEFzZ+/.=$,{}|: ö"


@pytest.fixture
def program(in_process: Program) -> Program:
    """Many short runs: in this process. Other modules run the built program."""
    return in_process


def same_alphabet(character: str, piece: str) -> str:
    """Replace a character by one of its own kind: the shape mostly stays."""
    for kind in ("0123456789", "abcdef", "ABCDEF"):
        if character in kind:
            return kind[ord(piece) % len(kind)]
    return character


@st.composite
def mutated(draw: st.DrawFn) -> str:
    """Give a stored value with a few characters changed, dropped or doubled."""
    text = list(draw(st.sampled_from(BASES)))
    for _ in range(draw(st.integers(0, 4))):
        place = draw(st.integers(0, max(0, len(text) - 1)))
        piece = draw(st.sampled_from(_ALPHABET))
        if draw(st.booleans()) and text:
            text[place] = same_alphabet(text[place], piece)
            continue
        text[place : place + draw(st.integers(0, 1))] = draw(
            st.sampled_from([[piece], [], [piece] * 2])
        )
    return "".join(text)


def shapes(values: list[str]) -> list[str | None]:
    frame = pl.DataFrame({"row": range(len(values)), "stored": values}).cast({"stored": pl.String})
    return with_shapes(frame, column="stored", shape="shape").sort("row")["shape"].to_list()


def reading(parsed: ParsedValue) -> tuple[Any, ...]:
    contents = parsed.contents
    told = (contents.variant, contents.formulas, contents.confidence, contents.origin)
    return (parsed.scheme, parsed.layout, parsed.kind, parsed.parameters, parsed.salted, told)


@settings(max_examples=120)
@given(st.lists(mutated(), min_size=10, max_size=60))
def test_values_of_one_shape_are_read_alike(values: list[str]) -> None:
    """A representative speaks for its whole shape: scheme, layout, parameters and grade."""
    seen: dict[str, tuple[Any, ...]] = {}
    for value, shape in zip(values, shapes(values), strict=True):
        if shape is not None:
            assert seen.setdefault(shape, reading(read_value(value))) == reading(read_value(value))


def test_structured_values_have_a_shape_without_their_salt() -> None:
    """A million values of one scheme and cost are one shape, layered ones with salt too."""
    chance = random.Random(7)

    def digits(characters: str, length: int) -> str:
        return "".join(chance.choice(characters) for _ in range(length))

    base64 = "ABCDEFGHabcdefgh0123+/"

    def argon2() -> str:
        return f"$argon2id$v=19$m=64,t=1,p=1${digits(base64, 22)}${digits(base64, 43)}"

    for values in (
        [digits("0123456789abcdef", 32) for _ in range(50)],
        ["$2b$05$" + digits("./ABCabc012", 53) for _ in range(50)],
        [argon2() for _ in range(50)],
        [f"$over$from=2969c2908df4cece,salt={digits(base64, 11)}{argon2()}" for _ in range(50)],
    ):
        found = set(shapes(values))
        assert len(found) == 1
        assert None not in found


Value = tuple[str | None, str | None, bool]


def profile(
    rows: list[Value], frame_rows: int = 3, *, logins: str = "login{}", likely: tuple[str, ...] = ()
) -> Profile:
    """Profile rows (stored, salt, privileged) in several small frames."""
    profiler = Profiler(floor=Floor(), likely=LikelyMatcher(likely))
    for start in range(0, len(rows), frame_rows):
        part = rows[start : start + frame_rows]
        numbers = range(start, start + len(part))
        profiler.add(
            profiler.look(
                pl.DataFrame(
                    {
                        "account": [str(number) for number in numbers],
                        "stored": pl.Series([row[0] for row in part], dtype=pl.String),
                        "salt": pl.Series([row[1] for row in part], dtype=pl.String),
                        "login": pl.Series([logins.format(number) for number in numbers]),
                        "seen": pl.Series([None] * len(part), dtype=pl.String),
                        "privileged": [row[2] for row in part],
                    }
                ),
                number=start // frame_rows,
            )
        )
    return profiler.finish()


def test_equal_digests_are_counted_across_frames() -> None:
    """Letter case does not hide equal digests, another salt does tell them apart."""
    digest = hashlib.sha1(b"x").hexdigest()
    other = hashlib.sha1(b"y").hexdigest()
    rows: list[Value] = [
        (digest, None, False),
        (other, None, False),
        (digest.upper(), None, True),
        (None, None, False),
        (digest, "salt", False),
        (digest, "salt", False),
        (digest, "other", False),
        ("plain", None, False),
        ("plain", None, False),
    ]
    found = profile(rows)
    assert (found.rows, found.without_value) == (9, 1)
    assert (found.digests.number, found.digests.largest, found.digests.affected.rows) == (2, 2, 4)
    assert found.digests.affected.privileged_rows == 1
    assert found.digests.affected.accounts[0] == "2"  # the administrator stands for its cluster


def test_undecodable_values_are_counted_and_named(portal: Portal, program: Program) -> None:
    """A value that is no UTF-8 is not dropped: it is a row that nobody understands."""
    with closing(sqlite3.connect(portal.database)) as connection, connection:
        connection.execute("UPDATE passengers SET pw = x'fffe' WHERE id = 2")
    document = program("audit", "harbour.db", "--format", "json").document
    assert (document["rows"], document["unreadable_rows"]) == (27, 0)
    (found,) = [
        each for each in document["stores"][0]["findings"] if each["code"] == "not-understood"
    ]
    assert found["accounts"] == ["2"]


def test_administrators_come_first_and_ten_are_shown() -> None:
    """References are bounded, the administrators among them first."""
    rows: list[Value] = [("secret word", None, number % 7 == 6) for number in range(40)]
    found = {finding.code: finding for finding in findings(profile(rows), Floor())}
    finding = found["plain-text"]
    assert finding.rows == 40
    assert finding.accounts == ["6", "13", "20", "27", "34", "0", "1", "2", "3", "4"]
    assert finding.privileged_rows == 5


MD5 = hashlib.md5(b"x").hexdigest()
STRONG = "$2b$12$" + "aB" * 26 + "u"
BCRYPT = "$2b$05$" + "aB" * 26 + "u"


def strong(count: int, *, cost: int = 12, salt: str = "") -> list[str]:
    """Give different values of bcrypt that nobody computed."""
    return [
        f"$2b${cost:02d}${salt or f'{n:03d}' + 'aB' * 9 + 'u'}{'dE' * 14}{n:03d}"
        for n in range(count)
    ]


def slow(rounds: int, count: int) -> list[str]:
    """Give different values of PBKDF2 with so many rounds."""
    return [
        f"$pbkdf2-sha256$i={rounds}$" + f"{n:03d}" + "aBcDeFgHiJkLmNoPqRs$" + f"{n:03d}" + "aB" * 20
        for n in range(count)
    ]


def digests(count: int) -> list[str]:
    return [hashlib.sha1(b"%d" % number).hexdigest() for number in range(count)]


def cipher_texts(count: int) -> list[str]:
    """Encrypt words of different lengths block by block, as a loyalty scheme did."""
    cipher = AES.new(b"an invented key!", AES.MODE_ECB)
    words = [(b"%d " % number) * (number % 3 * 8 + 1) for number in range(count)]
    return [base64.b64encode(cipher.encrypt(pad(word, 16))).decode() for word in words]


def test_equal_blocks_betray_the_mode() -> None:
    """Values that begin alike in plain text begin alike in cipher text: the evidence says so."""
    cipher = AES.new(b"an invented key!", AES.MODE_ECB)
    words = [b"coldharbour 2019" + b"%d" % number * (number % 20) for number in range(40)]
    rows: list[Value] = [
        (base64.b64encode(cipher.encrypt(pad(word, 16))).decode(), None, False) for word in words
    ]
    found = {finding.code: finding for finding in findings(profile(rows), Floor())}
    assert found["reversible-encryption"].rows == 40
    assert "40 share their first block" in found["reversible-encryption"].evidence


def test_a_column_of_one_digest_is_not_taken_for_cipher_text() -> None:
    """Base64 digests all have one length, and mixed digests are not whole blocks."""
    md5s = [base64.b64encode(hashlib.md5(b"%d" % n).digest()).decode() for n in range(20)]
    sha1s = [base64.b64encode(hashlib.sha1(b"%d" % n).digest()).decode() for n in range(20)]
    for values in (md5s, md5s + sha1s):
        codes = {f.code for f in findings(profile([(v, None, False) for v in values]), Floor())}
        assert "unsalted-digest" in codes
        assert "reversible-encryption" not in codes


@pytest.mark.parametrize(
    ("lengths", "is_encrypted", "also"),
    [((16, 32, 48), True, False), ((16, 80), True, False), ((16, 32), False, True), ((32,), False, False), ((20, 32), False, False)],
)  # fmt: skip
def test_cipher_text_in_hexadecimal(
    lengths: tuple[int, ...], is_encrypted: bool, also: bool
) -> None:
    """Whole blocks of three lengths, or of one that no digest has; two lengths leave it open."""
    chance = random.Random(4)
    values = [chance.randbytes(chance.choice(lengths)).hex() for _ in range(60)]
    found = profile([(value, None, False) for value in values])
    schemes = {reading.scheme for reading in found.groups}
    assert (schemes == {"encrypted"}) is is_encrypted
    assert all(("encrypted" in reading.also_possible) is also for reading in found.groups)


@pytest.mark.parametrize(
    ("code", "rows", "expected", "place"),
    [
        ("plain-text", [("harbour", None, False), (STRONG, None, False)], 1, Place()),
        ("encoded-only", [("aGFyYm91ciBmZXJyeQ==", None, False), (STRONG, None, False)], 1, Place()),
        ("reversible-encryption", [(c, None, False) for c in cipher_texts(12)], 12, Place()),
        ("empty-password", [("", None, False), (hashlib.md5(b"").hexdigest(), None, False)], 2, Place()),
        ("unsalted-digest", [(MD5, None, False), (MD5, "12345678", False)], 1, Place()),
        ("shared-digest", [(MD5, None, False), (MD5, None, False), (MD5, "12345678", False)], 2, Place()),
        ("cost-below-floor", [(BCRYPT, None, False), (STRONG, None, False)], 1, Place()),
        ("privileged-at-risk", [(MD5, None, True), (STRONG, None, True), (MD5, None, False)], 1, Place()),
        ("column-too-narrow", [(MD5, None, False)], 1, Place(characters=60, needed=(97, 150))),
        ("case-folding-collation", [(MD5, None, False)], 1, Place(collation="latin1_general_ci")),
        ("digest-of-digest", [("*" + "A1" * 20, None, False), (MD5, None, False)], 1, Place()),
        ("password-in-log", [(MD5, None, False)], 1, Place(table="login_log")),
        ("leftover-table", [(MD5, None, False), ("!", None, False)], 1, Place(table="users_old")),
        ("leftover-column", [("harbour", None, False)], 1, Place(beside=("pw",))),
        ("password-beside-hash", [(STRONG, None, False)], 1, Place(opens=Opens(stored="pw", opened=9, tried=9))),
        ("static-salt", [(d, "same salt", False) for d in digests(12)], 12, Place()),
        ("static-salt", [(v, None, False) for v in strong(12, salt="aB" * 11)], 12, Place()),
        ("salt-reused", [(v, None, False) for v in [*strong(3, salt="aB" * 11), *strong(40)]], 3, Place()),
        ("copied-value", [(v, None, False) for v in [*strong(9), *strong(2)]], 4, Place()),
        ("folded-value", [(STRONG.lower(), None, False), (STRONG, None, True), (MD5, None, False)], 1, Place()),
        ("newest-weaker", [(v, None, False) for v in [*strong(9), *digests(4)]], 4, Place()),
        ("unusual-work", [(v, None, False) for v in [*slow(1000, 30), *slow(9_000_000, 2)]], 2, Place()),
        ("exchanged-columns", [("someone@coldharbour.example", None, False)], 1, Place(exchanged_with="email")),
        ("salt-reused", [(d, f"salt {n % 8} x", False) for n, d in enumerate(digests(12))], 8, Place()),
        ("salt-is-login", [(d, f"login{n}", False) for n, d in enumerate(digests(3))], 3, Place()),
        ("short-salt", [(digests(1)[0], "1234567", False), (digests(2)[1], "12345678", False)], 1, Place()),
        ("salt-with-blanks", [(MD5, "12345678 ", False), (MD5, "12345678", False)], 1, Place()),
        ("stray-blanks", [("a gull ", None, False), (MD5, None, False)], 1, Place()),
        ("quoted-or-encoded", [(MD5 + " ", None, False), (MD5, None, False), (f"b'{STRONG}'", None, True)], 2, Place()),
        ("remnant", [("undefined", None, False), ("[object Promise]", None, False), (MD5, None, True)], 2, Place()),
        ("not-understood", [("$9$unknown$scheme", None, False), ("*0", None, False)], 1, Place()),
        ("mixed-case-digest", [(MD5, None, False), (MD5, None, False), (MD5.upper(), None, False)], 1, Place()),
        ("mixed-case-digest", [(MD5.replace("d", "D", 1), None, False), (MD5, None, False)], 1, Place()),
        ("truncated-value", [(STRONG[:50], None, False), (STRONG, None, False)], 1, Place()),
        ("obsolete-variant", [("$2x" + STRONG[3:], None, False), (STRONG, None, False)], 1, Place()),
        ("no-credential", [(None, None, False), (STRONG, None, False)], 1, Place()),
        ("lock-marker", [("!", None, False), ("!$2b$12$x", None, False), (STRONG, None, False)], 2, Place()),
    ],
)  # fmt: skip
def test_each_finding_counts_its_rows_exactly(
    code: str, rows: list[Value], expected: int, place: Place
) -> None:
    """The rows that have the fault are counted, and their neighbours are not."""
    found = {finding.code: finding for finding in findings(profile(rows), Floor(), place)}
    assert found[code].rows == expected
    assert found[code].evidence
    assert len(found[code].accounts) <= 10


def test_a_clean_column_has_no_findings() -> None:
    """Nothing is found where nothing is wrong, and every rule of the table is tested above."""
    assert findings(profile([(value, None, True) for value in strong(3)]), Floor()) == []
    table = test_each_finding_counts_its_rows_exactly.pytestmark[0].args[1]  # type: ignore[attr-defined] # set by pytest
    assert {row[0] for row in table} == set(RULES) - {
        *("common-password", "login-not-unique"),
        "digests-among-texts",  # in the tests of generations: it takes a column
        "same-value-elsewhere",  # in the tests of mistakes: it takes two
        "moved-or-damaged",  # in the tests of rekeying: it takes a key
    }


@pytest.mark.parametrize(
    "values",
    [
        [*digests(9), *strong(20)],  # a migration that goes on
        [*strong(20), *digests(2)],  # two at the end are chance
        [*strong(5), *digests(6)],  # most rows
        [*strong(9), *digests(9), *strong(20)[19:]],  # and a better one behind them
    ],
)
def test_rows_that_are_no_worse_than_those_before(values: list[str]) -> None:
    """Newer rows are called weaker where all of them are, and all before are not."""
    found = findings(profile([(value, None, False) for value in values]), Floor())
    assert "newest-weaker" not in {finding.code for finding in found}


def test_likely_passwords_and_doubled_logins_are_found() -> None:
    """Plain or digested in whatever text encoding; and logins that differ in case and blanks alone."""
    sha1 = hashlib.sha1(b"ferry1").digest()
    rows: list[Value] = [
        ("ferry1", None, True),
        (hashlib.md5(b"ferry1").hexdigest().upper(), None, False),
        ("{SHA}" + base64.b64encode(sha1).decode(), None, False),
        (hashlib.md5(b"another").hexdigest(), None, False),
        (hashlib.md5(b"ferry1").hexdigest(), "12345678", False),  # salted: not what it looks like
    ]
    found = {f.code: f for f in findings(profile(rows, likely=("harbour", "ferry1")), Floor())}
    assert found["common-password"].rows == 3
    assert found["common-password"].accounts == ["0", "1", "2"]
    assert "login-not-unique" not in found
    doubled = {f.code: f for f in findings(profile(rows[:2], logins="Login"), Floor())}
    assert doubled["login-not-unique"].rows == 2


BASE64 = base64.b64encode


@pytest.mark.parametrize(
    ("make", "scheme", "confidence", "twice"),
    [
        (lambda word: hashlib.md5(word).hexdigest(), "md5", 0.99, False),
        (lambda word: MD4.new(word).hexdigest(), "md4", 0.99, False),
        (lambda word: MD4.new(word.decode().encode("utf-16le")).hexdigest(), "nt-hash", 0.99, False),
        (lambda word: hashlib.md5(hashlib.sha1(word).hexdigest().encode()).hexdigest(), "md5", 0.99, True),
        (lambda word: "0x" + hashlib.sha3_256(word).hexdigest().upper(), "sha3-256", 0.99, False),
        (lambda word: BASE64(hashlib.sha1(word).digest()).decode(), "sha1", 0.99, False),
        (lambda word: hashlib.md5(b"?" + word).hexdigest(), "md5", 0.9, False),  # none is known
        (lambda word: bytes(128 | byte for byte in (word * 16)[:16]).hex(), "md5", 0.3, False),
    ],
)  # fmt: skip
def test_the_whole_column_says_what_one_value_cannot(
    make: Callable[[bytes], str], scheme: str, confidence: float, twice: bool
) -> None:
    """Digests of likely passwords name the scheme; uneven bytes say that it is no digest."""
    words = [f"Tern {number} gull".encode() for number in range(200)]
    rows: list[Value] = [(make(word), None, False) for word in words]
    likely = tuple(word.decode() for word in words[:3])
    (reading,) = profile(rows, 90, likely=likely).groups
    assert (reading.scheme, reading.confidence, reading.twice) == (scheme, confidence, twice)
    assert reading.because


@pytest.mark.parametrize("known", ["login3", ""])
def test_a_digest_of_the_login_or_of_nothing_names_the_scheme(known: str) -> None:
    """One account that has its login as password, or none, tells md4 from md5."""
    rows: list[Value] = [(MD4.new(b"%d" % n).hexdigest(), None, False) for n in range(30)]
    rows[3] = (MD4.new(known.encode()).hexdigest(), None, False)
    (reading,) = profile(rows, 30).groups
    assert (reading.scheme, reading.confidence) == ("md4", 0.99)
    assert "login" in reading.because


def test_a_short_value_among_words_is_rather_a_word() -> None:
    """Thirteen characters alone among plain text are not taken for a crypt value."""
    rows: list[Value] = [(f"tern {number} gull", None, False) for number in range(99)]
    readings = profile([*rows, ("aZ3kQ9mTx4LwE", None, False)], 50).groups
    (crypt,) = [reading for reading in readings if reading.scheme == "des-crypt"]
    assert (crypt.confidence, crypt.also_possible[0]) == (0.2, "plain-text")


@pytest.mark.parametrize(
    ("name", "values", "expected"),
    [
        ("pw", ["harbour1", "ferry"], True),
        ("user_password", ["harbour1"], True),
        ("col7", [hashlib.md5(b"%d" % n).hexdigest() for n in range(5)], True),
        ("col7", ["$2b$05$" + "a" * 53, "harbour", "$2b$05$" + "b" * 53], True),
        ("pw_salt", ["0a1b2c3d"], False),
        ("password_changed_at", ["2026-01-02", "2026-02-03"], False),
        ("passenger_name", ["Ada Hawserholt"], False),
        ("compass", ["north"], False),
        ("pw", [None, ""], False),
        ("shadow", ["$6$saltsalt$" + "a" * 86, "$1$saltsalt$" + "a" * 22], True),
        ("notes", ["ferry", "late"], False),
    ],
)
def test_credential_columns_are_found(name: str, values: list[str | None], expected: bool) -> None:
    """Columns are found by what they hold and by their name, their neighbours are not."""
    assert (content_of(name, values) is not ColumnContent.OTHER) is expected


@pytest.mark.parametrize(
    ("name", "expected"),
    [
        ("password_hash", ColumnContent.CREDENTIALS),
        ("data.passwordDigest", ColumnContent.CREDENTIALS),
        ("hash", ColumnContent.DIGESTS),
        ("content_hash", ColumnContent.DIGESTS),
        ("data.hash", ColumnContent.DIGESTS),
        ("sha256", ColumnContent.DIGESTS),
    ],
)
def test_digests_are_of_passwords_where_the_name_says_so(
    name: str, expected: ColumnContent
) -> None:
    """A hash may be of anything: logins beside it decide."""
    values = [hashlib.md5(b"%d" % n).hexdigest() for n in range(20)]
    assert content_of(name, values) is expected


@pytest.mark.parametrize(
    ("columns", "rows", "texts"),
    [
        ("username attribute value", "ada MD5-Password 9f|ada Reply 2|ben Password x7", None),
        ("key value note", "smtp_password harbour x|theme dark x", ()),
        (
            "user_id field_name field_value",
            "1 password_hint_shown on|2 password_hint_shown off|1 nick ada",
            (),
        ),
        ("user_id field_name field_value", "1 app_password tern|1 nick ada", ("app_password",)),
        ("person_id kind data", "1 token ab12|1 pw 0a1b|2 pw ferry", ("pw",)),
        ("login name value", "ada a 1|ben b 2", ()),
    ],
)
def test_passwords_among_attributes(columns: str, rows: str, texts: tuple[str, ...] | None) -> None:
    """Rows that hold one attribute each are of people, and some attributes are passwords."""
    names, lines = columns.split(), [line.split() for line in rows.split("|")]
    found = password_attributes({name: [line[n] for line in lines] for n, name in enumerate(names)})
    wanted = ("MD5-Password", "Password") if texts is None else texts
    assert (found.texts if found else ()) == wanted


def test_audit_finds_the_column_by_itself(portal: Portal, program: Program) -> None:
    """Without a mapping, every grade of the store is counted exactly."""
    (portal.folder / "tumbler.toml").unlink()
    document = program("audit", "sqlite:///harbour.db", "--format", "json").document
    assert document == program("audit", "harbour.db", "--format", "json").document
    assert document["document"] == "lean-tumbler/audit/1"
    assert (document["rows"], document["unreadable_rows"]) == (27, 0)
    (store,) = document["stores"]
    assert (store["table"], store["column"], store["without_value"]) == ("passengers", "pw", 3)
    assert store["grades"] == {
        "readable": 6,  # plain text and empty
        "fast-unsalted": 3,
        "fast-salted": 3,
        "outdated": 9,  # bcrypt 4, and both Argon2 below the published floor
        "locked": 3,
    }
    assert sum(group["rows"] for group in store["groups"]) == 24
    assert sum(group["share"] for group in store["groups"]) == pytest.approx(1, abs=1e-5)
    weak = {finding["code"]: finding for finding in store["findings"]}
    assert weak["unsalted-digest"]["rows"] == 3
    assert weak["unsalted-digest"]["severity"] == "critical"
    assert weak["plain-text"]["accounts"][0] == "1"  # the administrator


def test_audit_of_a_policy_store_knows_its_formulas(portal: Portal, program: Program) -> None:
    """Where the policy's formula fits, the scheme is certain and the floor is the policy's."""
    document = program("audit", "passengers", "--format", "json").document
    groups = {group["scheme"]: group for group in document["stores"][0]["groups"]}
    assert groups["md5"]["confidence"] == 1.0
    assert groups["md5"]["also_possible"] == []
    assert document["stores"][0]["grades"]["current"] == 3


def test_text_and_json_tell_the_same(portal: Portal, program: Program) -> None:
    """The first line of the text says how many are weak, the administrators among them."""
    text = program("audit", "harbour.db").out
    assert text.startswith("passengers.pw: 18 of 27 accounts are below the floor, 3 administrators")
    for code in ("plain-text", "unsalted-digest", "cost-below-floor"):
        assert code in text


def test_reports_written_to_a_file_are_the_owners_alone(portal: Portal, program: Program) -> None:
    """--output writes a file that nobody else can read, and nothing to standard output."""
    finished = program("audit", "harbour.db", "--format", "json", "--output", "report.json")
    report = portal.folder / "report.json"
    assert (finished.code, finished.out) == (0, "")
    assert report.stat().st_mode & 0o777 == 0o600


@pytest.mark.parametrize(
    ("fail_on", "code"),
    [("critical", 1), ("low", 1), ("plain-text", 1), ("shared-digest", 0), ("nonsense", 2)],
)
def test_fail_on_sets_the_exit_code(
    portal: Portal, program: Program, fail_on: str, code: int
) -> None:
    """A severity counts from there upwards, a code counts alone, anything else is a mistake."""
    assert program("audit", "harbour.db", "--fail-on", fail_on).code == code


def test_sarif_names_a_rule_and_a_place_for_each_finding(portal: Portal, program: Program) -> None:
    """CI gets every finding with its level, its rule's index and a fingerprint that stays."""
    document = program("audit", "harbour.db", "--format", "sarif").document
    reference = program("audit", "harbour.db", "--format", "json").document
    assert document["version"] == "2.1.0"
    (run,) = document["runs"]
    rules = [rule["id"] for rule in run["tool"]["driver"]["rules"]]
    assert rules == [*RULES, "readable-credential"]
    told = {(result["ruleId"], result["properties"]["rows"]) for result in run["results"]}
    assert told == {(f["code"], f["rows"]) for f in reference["stores"][0]["findings"]}
    for result in run["results"]:
        assert rules[result["ruleIndex"]] == result["ruleId"]
        assert result["level"] in {"error", "warning", "note"}
        (location,) = result["locations"]
        assert location["physicalLocation"]["artifactLocation"]["uri"] == "harbour.db"
    prints = {result["partialFingerprints"]["finding/v1"] for result in run["results"]}
    assert len(prints) == len(run["results"])


def test_csv_lists_accounts_and_runs_in_no_spreadsheet(portal: Portal, program: Program) -> None:
    """Every account of every finding is a line; what a spreadsheet would run is made harmless."""
    with closing(sqlite3.connect(portal.database)) as connection, connection:
        connection.execute("ALTER TABLE passengers RENAME TO '=cmd'")
    document = program("audit", "harbour.db", "--format", "json").document
    lines = list(csv.DictReader(io.StringIO(program("audit", "harbour.db", "--format", "csv").out)))
    assert {line["table"] for line in lines} == {"'=cmd"}
    plain = [line for line in lines if line["finding"] == "plain-text"]
    assert [line["account"] for line in plain] == ["1", "10", "19"]
    assert [line["administrator"] for line in plain] == ["yes", "no", "no"]
    listed = Counter(line["finding"] for line in lines)
    assert listed == {f["code"]: f["rows"] for f in document["stores"][0]["findings"]}


def test_an_audit_leaves_the_database_as_it_is(tmp_path: Path, program: Program) -> None:
    """Reading needs no write permission and changes no byte."""
    portal = make_portal(tmp_path, ["md5", "plain"])
    before = portal.database.read_bytes()
    portal.database.chmod(0o400)
    assert program("audit", "harbour.db").code == 0
    assert portal.database.read_bytes() == before


def test_values_kept_as_blobs_and_numbers_are_read(tmp_path: Path, program: Program) -> None:
    """SQLite keeps any type in any column; what is stored is read all the same."""
    with closing(sqlite3.connect(tmp_path / "kiosk.db")) as connection, connection:
        connection.execute("CREATE TABLE kiosk (id INTEGER PRIMARY KEY, secret)")
        digest = hashlib.md5(b"x").hexdigest()
        connection.executemany(
            "INSERT INTO kiosk (secret) VALUES (?)", [(digest,), (digest,), (1234,)]
        )
    document = program("audit", "kiosk.db", "--format", "json").document
    grades = document["stores"][0]["grades"]
    assert grades == {"readable": 1, "fast-unsalted": 2}
    assert document["stores"][0]["findings"][0]["code"] in {"unsalted-digest", "plain-text"}


@pytest.mark.parametrize("columns", [40, 60, 80, 120])
def test_a_table_leaves_nothing_out(columns: int) -> None:
    """Labels and numbers are broken over lines where a terminal is narrow, and stay whole."""
    table = new_table("what you do", "in 30 days", "in 90 days", "in 365 days", right=(1, 2, 3))
    cells = ("wait-for-everybody-to-log-in", "1,234,567", "12,345,678", "123,456,789")
    table.add_row(*cells)
    out = io.StringIO()
    result_console(out, columns=columns).print(table)
    signs = Counter("".join(cells))
    seen = Counter(out.getvalue())
    assert not [sign for sign, number in signs.items() if seen[sign] < number]
    assert "…" not in out.getvalue()
