"""What still holds old values: planted in places of every kind, and proven to be gone."""

import base64
import bz2
import gzip
import hashlib
import io
import json
import lzma
import os
import random
import sqlite3
import subprocess
import tarfile
import time
import uuid
import zipfile
from collections import Counter
from collections.abc import Callable, Iterator, Sequence
from contextlib import closing
from pathlib import Path
from typing import Any
from urllib.parse import quote

import polars as pl
import pytest
import zstandard
from hypothesis import given
from hypothesis import strategies as st

import servers
from conftest import CHEAP_POLICY, DATA, Program, in_process, make_portal
from lean_tumbler.core.residue import value_texts
from lean_tumbler.core.residue.finds import Encoding, Recognition
from lean_tumbler.core.residue.known_values import KnownValues, remembered
from lean_tumbler.core.residue.searching import finds_in
from lean_tumbler.core.schemes.base import Kind, Says
from lean_tumbler.core.schemes.catalogue import read_value
from lean_tumbler.jobs.residue.remedies import REMEDIES
from lean_tumbler.stores.files.base import LINE
from lean_tumbler.stores.residue.columns import ColumnSearch

__all__ = ["in_process"]
_FOUND = {Kind.FAST, Kind.ITERATED, Kind.DERIVATION, Kind.LAYERED}
MD5 = hashlib.md5(b"Fulmar 2009").hexdigest()


def foreign_values() -> Iterator[str]:
    """All stored values of the other systems' cases."""

    def walk(node: Any) -> Iterator[str]:
        for key, value in node.items() if isinstance(node, dict) else enumerate(node):
            if key in ("stored", "value") and isinstance(value, str):
                yield value
            elif isinstance(value, dict | list):
                yield from walk(value)

    yield from walk(json.loads((DATA / "foreign-values.json").read_text("utf-8")))


VALUES = sorted(set(foreign_values()))
SAID = [
    value
    for value in VALUES
    if (parsed := read_value(value)).says is Says.ALL and parsed.kind in _FOUND
    if not parsed.wrappers
]
WRITTEN: dict[str, tuple[Encoding, Callable[[str], bytes]]] = {
    "a shadow line": (Encoding.PLAIN, lambda v: f"ada:{v}:19000:0:99999:7:::".encode()),
    "SQL": (Encoding.PLAIN, lambda v: f"INSERT INTO t VALUES (1, '{v}', 'x');".encode()),
    "beside other columns": (Encoding.PLAIN, lambda v: b"\0\1ada\2\3" + v.encode() + b"salt7\0"),
    "JSON, slashes escaped": (
        Encoding.JSON,
        lambda v: b'{"pw":' + json.dumps(v).replace("/", "\\/").encode() + b"}",
    ),
    "JSON, signs escaped": (
        Encoding.JSON,
        lambda v: "".join(f"\\u{ord(c):04x}" if c in "$/+={" else c for c in v).encode(),
    ),
    "a URL": (Encoding.URL, lambda v: b"GET /x?h=" + quote(v, safe="").encode() + b"&b=1"),
    "a URL, in small letters": (
        Encoding.URL,
        lambda v: b"h=" + quote(v, safe="").replace("%3A", "%3a").encode(),
    ),
    "base64": (Encoding.BASE64, lambda v: b'"' + base64.b64encode(v.encode()) + b'"'),
    "base64 of more": (Encoding.BASE64, lambda v: base64.b64encode(b"ada:" + v.encode() + b"\n")),
    "hexadecimal": (Encoding.HEX, lambda v: b"x'" + v.encode().hex().encode() + b"'"),
    "capital hexadecimal": (Encoding.HEX, lambda v: b"0x" + v.encode().hex().upper().encode()),
    "UTF-16": (Encoding.UTF16, lambda v: f'"{v}"'.encode("utf-16-le")),
}


@pytest.mark.parametrize("written", WRITTEN)
def test_every_value_is_found_in_every_encoding(written: str) -> None:
    """Unmistakable ones by themselves, all others where they are known; at the right place."""
    assert len(SAID) > 60
    encoding, write = WRITTEN[written]
    before = b"some text before it, and some more of it, "
    known = KnownValues()
    known.add((value.encode() for value in VALUES), "crew")
    kept = KnownValues(key=b"k" * 32)  # by their fingerprints alone
    found_again = [remembered(value.encode(), kept.key) for value in VALUES]
    kept.add_remembered(filter(None, found_again), "crew")
    assert len(kept.stores) > 0.8 * len(set(VALUES))
    for value, again in zip(VALUES, found_again, strict=True):
        data = before + write(value) + b" and after\n"
        if value in SAID:
            (find, *_) = finds_in(data, KnownValues())
            assert (find.certainty, find.encoding) in {
                (Recognition.SAID, encoding), (Recognition.SAID, Encoding.PLAIN)
            }, value  # fmt: skip
            assert len(before) <= find.offset < len(before) + len(write(value))
        if len(value) >= 8:
            exact = [find for find in finds_in(data, known) if find.certainty is Recognition.EXACT]
            assert exact, value
        if again is not None:
            marks = {find.fingerprint for find in finds_in(data, kept)}
            assert again.mark in marks, value


NAMED = [
    ('{"password":"%s"}', True), ("password=%s&x=1", True), ('"passwordHash": "%s"', True),
    ("pw_hash: %s", True), ("user.pwd = '%s'", True), ('password_md5 => "%s"', True),
    ("<password>%s</password>", True), ('{\\"password\\":\\"%s\\"}', True), ("PASSWORD=%s", True),
    ("passwd,%s", True), ("passenger=%s", False), ("passport: %s", False), ("compass=%s", False),
    ("etag=%s", False), ("commit %s", False), ("password reset for trace=%s", False),
]  # fmt: skip


@pytest.mark.parametrize(("text", "is_found"), NAMED)
def test_a_bare_digest_needs_a_word_for_passwords(text: str, is_found: bool) -> None:
    """It may be anything; a word beside it tells, and words that only begin alike do not."""
    finds = finds_in((text % MD5).encode(), KnownValues())
    assert [find.certainty for find in finds] == [Recognition.NAMED] * is_found


def innocent(seed: int, length: int) -> tuple[bytes, int]:
    """Data with hashes of other kinds, and how many."""
    draw = random.Random(seed)

    def digits(number: int) -> str:
        return f"{draw.getrandbits(4 * number):0{number}x}"

    makes: list[Callable[[], str]] = [
        lambda: f"commit {digits(40)}\n    pass the password check in one place\n",
        lambda: f'ada@tidepost.example "GET /a" 200 etag="{digits(32)}" sha={digits(64)}\n',
        lambda: f"{digits(64)}  ./dist/passport.tar.gz\n",
        lambda: json.dumps({"id": str(uuid.UUID(hex=digits(32))), "avatar": digits(32)}) + "\n",
        lambda: f'"integrity": "sha512-{base64.b64encode(draw.randbytes(64)).decode()}"\n',
        lambda: f"Set-Cookie: session={digits(32)}\npassword changed, trace={digits(32)}\n",
        lambda: f"bypass key={digits(40)} passenger_id={digits(32)} compass={digits(32)}\n",
        lambda: f"INSERT INTO files VALUES (7, 'a.bin', '{digits(32)}', '{digits(64)}');\n",
        lambda: base64.b64encode(draw.randbytes(300)).decode() + "\n",
        lambda: f"$ git log {digits(40)} # $1 $2 ${digits(8)}\npasswd checksum: {digits(64)}\n",
    ]
    parts: list[str] = []
    size = 0
    while size < length:
        parts.append(draw.choice(makes)())
        size += len(parts[-1])
    text = "".join(parts)
    return text.encode(), sum(len(word) >= 32 for word in text.split())


def test_other_hashes_are_left_alone() -> None:
    """Commit ids, ETags, checksums, UUIDs, integrity: under one in a thousand is taken for a value."""
    data, hashes = innocent(11, 2_000_000)
    assert hashes > 10_000
    assert len(finds_in(data, KnownValues())) < hashes / 1000


# -- Places -----------------------------------------------------------------------------------

LOG = b'2026-11-27 GET /me 200 {"login":"ada@tidepost.example","password":"%s"}\n' % MD5.encode()


def packed_in(kind: str, name: str, content: bytes) -> bytes:
    if kind == "gz":
        return gzip.compress(content)
    if kind == "xz":
        return lzma.compress(content)
    if kind == "bz2":
        return bz2.compress(content)
    if kind == "zst":
        return zstandard.compress(content)
    buffer = io.BytesIO()
    if kind == "zip":
        with zipfile.ZipFile(buffer, "w", zipfile.ZIP_DEFLATED) as archive:
            archive.writestr(name, content)
    else:
        with tarfile.open(fileobj=buffer, mode="w") as tar:
            member = tarfile.TarInfo(name)
            member.size = len(content)
            tar.addfile(member, io.BytesIO(content))
    return buffer.getvalue()


NESTINGS = [("gz",), ("bz2",), ("xz",), ("zst",), ("zip",), ("tar",), ("tar", "gz"), ("zip", "tar", "xz"),
            ("gz", "zip", "tar")]  # fmt: skip


@pytest.mark.parametrize("kinds", NESTINGS, ids=" in ".join)
def test_archives_and_their_nestings(
    kinds: tuple[str, ...], tmp_path: Path, in_process: Program
) -> None:
    """The member is named, with its line; a value at the end of a piece is found once."""
    content = b"quay\n" * 3 + LOG
    for number, kind in enumerate(kinds):
        content = packed_in(kind, f"level{number}.log", content)
    (tmp_path / "old.bin").write_bytes(content)
    found = in_process("residue", "old.bin", "--format", "json").document
    (find,) = found["finds"]
    assert (find["values"], find["certainty"], find["first"]) == (1, "named", "line 4")
    assert len(find["members"]) == sum(kind in {"zip", "tar"} for kind in kinds)
    assert MD5 not in json.dumps(found)


@pytest.mark.parametrize("kind", ["gz", "bz2", "xz", "zst"])
@pytest.mark.parametrize("damage", ["rubbish behind", "cut off"])
def test_what_comes_before_the_damage_is_searched(
    kind: str, damage: str, tmp_path: Path, in_process: Program
) -> None:
    """A find is told, the place counts as not searched to its end, and no headline is green."""
    chance = random.Random(3)
    noise = b"".join(b"%x\n" % chance.getrandbits(64) for _ in range(200_000))
    packed = packed_in(kind, "", LOG + noise)
    broken = packed + b"rubbish" if damage == "rubbish behind" else packed[:-9000]
    (tmp_path / "old.log").write_bytes(broken)
    found = in_process("residue", "old.log", "--format", "json").document
    assert [find["values"] for find in found["finds"]] == [1]
    if damage == "cut off" or kind in {"gz", "zst"}:  # the others take no notice of what follows
        assert len(found["unread"]) == 1


def test_a_named_pipe_is_not_waited_for(tmp_path: Path, in_process: Program) -> None:
    """Nobody may ever write to it."""
    os.mkfifo(tmp_path / "queue")
    told = in_process("residue", "queue")
    assert told.out.startswith(
        "No stored value was found; 0 places (0.0 MiB) searched, and 1 place"
    )


def test_what_cannot_be_searched_is_counted(tmp_path: Path, in_process: Program) -> None:
    """Damaged, encrypted and too deep archives are named with the reason; links are not followed."""
    (tmp_path / "cut.gz").write_bytes(gzip.compress(LOG * 500)[:-20])
    deep = LOG
    for number in range(7):
        deep = packed_in("zip", f"{number}", deep)
    (tmp_path / "deep.zip").write_bytes(deep)
    (tmp_path / "link").symlink_to("cut.gz")
    found = in_process("residue", str(tmp_path), "--format", "json").document
    reasons = {Path(each["place"].split(" › ")[0]).name: each["reason"] for each in found["unread"]}
    assert "damaged, cut off" in reasons["cut.gz"]
    assert "archives within each other" in reasons["deep.zip"]
    assert set(reasons) == {"cut.gz", "deep.zip"}


def test_a_stream_is_said_line_by_line(tmp_path: Path, in_process: Program) -> None:
    """Each find is told as it comes; the value is not."""
    told = in_process("residue", "-", "--fail-on", "medium", stdin=b"quay\n" + LOG + b"quay\n")
    assert told.code == 1
    assert "line 2: named, md5" in told.err
    assert "1 stored value in 1 place" in told.out
    assert MD5 not in told.out + told.err


def test_pieces_overlap_and_count_once(tmp_path: Path, in_process: Program) -> None:
    """Values across the border of two pieces, in a file of several, by other processes too."""
    size = 1 << 23
    value = SAID[0].encode()
    content = bytearray(b"x\n" * (5 * size // 2))
    for border in (size, 2 * size, 3 * size):
        content[border - 20 : border - 20 + len(value)] = value
        content[border + 4096 : border + 4096 + len(value)] = value
    (tmp_path / "large.log").write_bytes(content)
    found = in_process("residue", "large.log", "--format", "json").document
    assert sum(find["values"] for find in found["finds"]) == 6
    (tmp_path / "larger.log").write_bytes(bytes(content) * 2)
    found = in_process("residue", "larger.log", "--format", "json").document
    assert sum(find["values"] for find in found["finds"]) == 12


def test_columns_of_files_that_hold_tables(tmp_path: Path, in_process: Program) -> None:
    """A column for passwords tells its bare digests; one for ETags does not."""
    rows = "".join(f"{n},u{n}@tidepost.example,{MD5},{MD5}\n" for n in range(20))
    (tmp_path / "users.csv").write_text(f"id,login,pw,etag\n{rows}")
    found = in_process("residue", "users.csv", "--format", "json").document
    assert [(f["column"], f["values"]) for f in found["finds"]] == [("users.csv.pw", 20)]


def one_of_its_shape(value: str, draw: random.Random) -> str:
    """Change a few letters and digits of a value for others, in whatever place."""
    signs = list(value)
    for place in draw.sample(range(len(signs)), min(len(signs), draw.randrange(9))):
        for kind in ("0123456789", "abcdef", "ghijklmnopqrstuvwxyz", "ABCDEF"):
            if signs[place] in kind:
                signs[place] = draw.choice(kind)
    return "".join(signs)


@pytest.mark.parametrize("is_named", [True, False])
def test_a_column_counts_by_shapes_what_its_rows_hold_each(is_named: bool) -> None:
    """In a column of values of all kinds, changed in places, with some that are known."""
    draw = random.Random(7)
    texts = [one_of_its_shape(value, draw) for value in VALUES]
    texts += [f"ada;{draw.choice(VALUES)};{draw.choice(VALUES)}" for _ in range(20)]
    draw.shuffle(texts)
    known = KnownValues()
    known.add((text.encode() for text in draw.sample(texts, 30)), "users", live=True)
    frame = pl.DataFrame({LINE: range(1, len(texts) + 1), "pw": texts})

    def counted(frames: Sequence[pl.DataFrame]) -> tuple[Counter[tuple[str, ...]], set[bytes]]:
        search, found = ColumnSearch(known, keeps_marks=True), Counter[tuple[str, ...]]()
        for part in frames:
            for alike in search.values(part, "pw", is_named=is_named):
                find = alike.find
                told = (
                    find.certainty,
                    find.scheme,
                    find.encoding,
                    str(find.fingerprint in known.live),
                )
                found[told] += alike.count
        return found, search.held

    at_once, one_by_one = counted([frame]), counted(list(frame.iter_slices(1)))
    assert at_once == one_by_one
    assert at_once[0].total() > len(texts) / 2


# -- From the replaced value to the proof ------------------------------------------------------


def test_exactly_what_was_replaced_is_found_and_proven_gone(
    tmp_path: Path, program: Program
) -> None:
    """A dump, a log, a history table and freed pages are found by the backup; remedies prove it."""
    portal = make_portal(tmp_path, ["md5"] * 6 + ["sha1"] * 6)
    with closing(sqlite3.connect(portal.database)) as db, db:
        db.execute("CREATE TABLE passengers_log (at text, was text)")
        db.execute("INSERT INTO passengers_log SELECT '2026-01-01', pw FROM passengers LIMIT 4")
        dump = "\n".join(db.iterdump())
        db.execute("PRAGMA secure_delete = OFF")
        db.execute("CREATE TABLE copied AS SELECT * FROM passengers")
        db.execute("DROP TABLE copied")
        first = db.execute("SELECT pw FROM passengers ORDER BY id LIMIT 1").fetchone()[0]
    (tmp_path / "dump.sql.gz").write_bytes(gzip.compress(dump.encode()))
    (tmp_path / "api.log").write_text(f"debug: row=[1, 'x', '{first}']\n")
    before = program("residue", "api.log", "dump.sql.gz", "harbour.db", "--format", "json")
    assert {find["severity"] for find in before.document["finds"]} == {"critical"}
    (tmp_path / "found.json").write_text(before.out)
    report = program("report", "--residue", "found.json")
    assert report.code == 0, report.err
    assert "api.log" in report.out
    assert "Nothing was named with" not in report.out
    told = program("report", "--residue", "found.json", "--format", "json").document["residue"]
    assert told[0]["result"]["values"] == before.document["values"]
    assert program("report", "--residue", "tumbler.toml").code == 2
    assert program("keys", "new", "k").code == 0
    sealed = ("--backup", "b.sealed", "--fingerprints", "r.sealed", "--to", "k.public.pem")
    assert (
        program("layer", "--unproven", "portal-2004", "--unproven", "portal-2011", *sealed).code
        == 0
    )
    command = ("residue", "api.log", "dump.sql.gz", "harbour.db", "--backup", "b.sealed",
               "--key", "k.private.pem", "--format", "json")  # fmt: skip
    after = program(*command).document
    exact: Counter[tuple[str, str | None]] = Counter()
    for find in after["finds"]:
        if find["certainty"] == "exact":
            exact[Path(find["place"]).name, find["column"]] += find["values"]
    assert exact["api.log", ""] == 1
    assert exact["harbour.db", "passengers_log.was"] == 4
    assert sum(n for (place, _), n in exact.items() if place == "dump.sql.gz") == 16
    assert exact["harbour.db", "bytes that no row holds"] > 0
    assert after["still_held"] == 0
    by_marks = program(*command[:4], "--fingerprints", "r.sealed", *command[6:]).document
    assert by_marks["finds"] == after["finds"]
    for value in (first, json.dumps(first), base64.b64encode(first.encode()).decode()):
        assert value.encode() not in (tmp_path / "r.sealed").read_bytes()
    swapped = program(*command[:4], "--fingerprints", "b.sealed", *command[6:])
    assert (swapped.code, "not a file of remembered values" in swapped.err) == (2, True)
    with closing(sqlite3.connect(portal.database)) as db:
        db.execute("PRAGMA secure_delete = ON")
        db.execute("DROP TABLE passengers_log")
        db.execute("VACUUM")
    (tmp_path / "api.log").unlink()
    (tmp_path / "dump.sql.gz").unlink()
    clean = program("residue", "harbour.db", *command[4:]).document
    assert clean["values"] == 0


def test_a_copy_of_the_store_is_no_place_of_its_own(tmp_path: Path, program: Program) -> None:
    """What tells the live column is its file, not its name; a copy holds all that it holds."""
    make_portal(tmp_path, ["md5"] * 6 + ["sha1"] * 6)
    (tmp_path / "staging.db").write_bytes((tmp_path / "harbour.db").read_bytes())
    (tmp_path / "link.db").symlink_to("harbour.db")
    for own in ("harbour.db", "./harbour.db", "link.db", "sqlite:///harbour.db"):
        assert program("residue", own, "--fail-on", "critical").code == 0, own
    for copy in ("staging.db", "sqlite:///staging.db"):
        copied = program("residue", copy, "--fail-on", "critical", "--format", "json")
        assert copied.code == 1
        assert copied.document["still_held"] == copied.document["values"] == 12
        assert copied.document["finds"][0]["column"] == "passengers.pw"


_LOGS = ("--log-bin", "--skip-networking")


@pytest.fixture(scope="module")
def running() -> Iterator[dict[str, servers.Server]]:
    with servers.postgresql() as one, servers.mariadb(*_LOGS) as other:
        yield {"postgresql": one, "mysql": other}


@pytest.mark.parametrize("kind", ["postgresql", "mysql"])
def test_bytes_of_a_servers_own_files(
    kind: str, running: dict[str, servers.Server], tmp_path: Path, in_process: Program
) -> None:
    """Old values stand in heap, logs and definitions after layering; the remedy takes them away."""
    server = running[kind]
    makers = ((n, hashlib.md5(f"Fulmar {n}s{n}".encode()).hexdigest()) for n in range(300))
    rows = ", ".join(f"({n}, 'u{n}@tidepost.example', '{text}', 's{n}')" for n, text in makers)
    server.run(
        "DROP TABLE IF EXISTS crew; CREATE TABLE crew (id int PRIMARY KEY, login varchar(90),"
        f" pw varchar(255), salt varchar(20)); INSERT INTO crew VALUES {rows};"
        f" CREATE VIEW odd AS SELECT '{SAID[0]}' AS leaked;"
    )
    policy = f"""{CHEAP_POLICY.partition("[store.passengers]")[0]}
[store.crew]
locator = "{server.url}"
table = "crew"
readers_ready = 2026-01-01
[store.crew.columns]
login = "login"
stored = "pw"
salt = "salt"
[[store.crew.cohort]]
name = "log"
formula = "utf-8, append salt, md5, hex"
"""
    (tmp_path / "tumbler.toml").write_text(policy)
    in_process("keys", "new", "k")
    sealed = ("--backup", "b.sealed", "--fingerprints", "r.sealed", "--to", "k.public.pem")
    assert in_process("layer", "--unproven", "log", *sealed).code == 0
    looked = ("--backup", "b.sealed", "--key", "k.private.pem", "--format", "json")
    asked = in_process("residue", server.url, *looked).document
    assert [(f["column"], f["certainty"]) for f in asked["finds"]] == [("view odd", "unmistakable")]
    if kind == "postgresql":
        server.run("CHECKPOINT")
    files = tmp_path / "copy"
    old = exact_in(server, files, in_process, looked)
    assert old.total() >= 300
    live = in_process("residue", str(files / "base" if kind == "postgresql" else files), *looked)
    assert live.document["still_held"] >= 300  # copied files of a server are a copy, too
    server.run("DROP VIEW odd")
    deadline = time.monotonic() + 30
    while True:  # the binary log's last part can be purged once the engine has noted its end
        for statement in REMEDIES[kind].statements:
            server.run(statement.format(table="crew"))
        left = exact_in(server, files, in_process, looked)
        if not left or time.monotonic() > deadline:
            break
    assert left == {}
    assert in_process("residue", server.url, *looked).document["values"] == 0
    here = in_process("residue", str(server.folder / "data"), *looked).document
    assert here["still_held"] == 0


def exact_in(
    server: servers.Server, copy: Path, in_process: Program, looked: tuple[str, ...]
) -> Counter[str]:
    """Count old values in each file of a server."""
    subprocess.run(("rm", "-rf", str(copy)), check=True)
    subprocess.run(("cp", "-r", str(server.folder / "data"), str(copy)), check=True)
    return exact_of(in_process("residue", str(copy), *looked))


def exact_of(told: Any) -> Counter[str]:
    counted: Counter[str] = Counter()
    for find in told.document["finds"]:
        old = find["values"] - find["still_held"]  # it is a copy, and says what is held too
        counted[find["place"]] += old if find["certainty"] == "exact" else 0
    return +counted


HOSTILE = {
    "marks": b"$1$", "names": b"pass=", "marks in base64": base64.b64encode(b"$2y$"),
    "words in base64": base64.b64encode(b"password"), "escaped marks": b"\\u0024",
    "marks for URLs": b"%24", "tags": b"{SSHA}", "a numbered blob": b"AQAAAA",
    "in hexadecimal": b"70617373", "in UTF-16": "pass".encode("utf-16-le"), "slashes": b"\\/",
}  # fmt: skip


@pytest.mark.parametrize("sign", HOSTILE)
def test_repeated_marks_cost_no_reading_each(sign: str, monkeypatch: pytest.MonkeyPatch) -> None:
    """Whoever fills a file with marks makes the search read few texts, and find nothing."""
    read = 0

    def counted(text: str) -> Any:
        nonlocal read
        read += 1
        return read_value(text)

    monkeypatch.setattr(value_texts, "read_value", counted)
    data = HOSTILE[sign] * (100_000 // len(HOSTILE[sign]))
    assert finds_in(data, KnownValues()) == []
    assert read < 3_000


@given(st.binary(max_size=400), st.sampled_from(SAID), st.sampled_from(sorted(WRITTEN)))
def test_any_bytes_around_a_value(around: bytes, value: str, written: str) -> None:
    """Bytes of any kind raise nothing; behind a sign that ends it, the value is found."""
    finds_in(around, KnownValues())
    finds = finds_in(around + b"\n" + WRITTEN[written][1](value) + b"\n", KnownValues())
    assert any(find.offset > len(around) for find in finds)
