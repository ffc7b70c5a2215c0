"""Files as stores: one is read, another is written, and only the replaced values differ."""

import csv
import gzip
import hashlib
import io
import json
import signal
import sqlite3
import time
from base64 import b64encode
from collections.abc import Callable, Sequence
from contextlib import closing
from pathlib import Path

import pytest
from hypothesis import given, settings
from hypothesis import strategies as st

from conftest import Program, prove, run_program, start_program
from lean_tumbler import CredentialGateway, StoragePolicy
from lean_tumbler.errors import SourceError
from lean_tumbler.stores.files.base import LINE, Unreadable
from lean_tumbler.stores.files.kinds import open_export
from lean_tumbler.stores.kinds import tables_at

PEOPLE = [
    ("ada@tidepost.example", "Dunlin 42"),
    ("möwe@tidepost.example", "ebb, flow & “Flut”"),
    ("quay@tidepost.example", "plain, \"quoted\" and 'more'"),
]
POLICY = """
[target]
memory_kib = 64
passes = 1
[floor]
argon2id = { memory_kib = 64, passes = 1 }
[store.kiosk]
locator = "%(name)s"
readers_ready = 2026-01-01
%(more)s
[store.kiosk.columns]
login = "%(login)s"
stored = "%(stored)s"
[[store.kiosk.cohort]]
name = "old"
formula = "utf-8, md5, hex"
[[store.kiosk.cohort]]
name = "typed in"
plain_text = true
"""


def md5(password: str) -> str:
    return hashlib.md5(password.encode()).hexdigest()


def values() -> list[str]:
    """Give two digests and a plain text."""
    return [md5(PEOPLE[0][1]), md5(PEOPLE[1][1]), PEOPLE[2][1]]


def comma_lines() -> bytes:
    rows = io.StringIO(newline="")
    writer = csv.writer(rows)
    writer.writerow(["id", "mail", "pw", "note"])
    for number, ((login, _), value) in enumerate(zip(PEOPLE, values(), strict=True)):
        writer.writerow([number, login, value, 'a note, "quoted"\r\nover two lines'])
    return b"\xef\xbb\xbf" + rows.getvalue().encode()


def tab_lines() -> bytes:
    rows = [["mail", "pw"], *([p[0], v] for p, v in zip(PEOPLE[:2], values()[:2], strict=True))]
    return "\n".join("\t".join(row) for row in rows).encode()  # and no line end after the last


def json_lines() -> bytes:
    lines = [
        '{ "pw" : 1, "mail":' + json.dumps(login) + ', "amount": 1.50, "a": [ {"pw":"no"} ],'
        '"profile" :\t{"code": ' + json.dumps(value, ensure_ascii=number == 0) + ' , "n":null}}\r\n'
        for number, ((login, _), value) in enumerate(zip(PEOPLE, values(), strict=True))
    ]
    return "".join([*lines[:1], "\n", *lines[1:]]).encode()


def ldif() -> bytes:
    entries = ["version: 1\n"]
    for (login, _), value in zip(PEOPLE, values(), strict=True):
        encoded = b64encode(value.encode()).decode()
        entries.append(
            f"# an entry\ndn: uid={login.split('@')[0]},\n dc=example\nmail:: "
            f"{b64encode(login.encode()).decode()}\nuserPassword:: {encoded[:20]}\n"
            f" {encoded[20:]}\nuserPassword: !\n"
        )
    return "\n".join(entries).encode()


def shadow() -> bytes:
    lines = [f"{p[0].split('@')[0]}:{v}:15000:0:99999:7:::"
             for p, v in zip(PEOPLE[:2], values()[:2], strict=True)]  # fmt: skip
    return ("# crew\n" + "\n".join(lines) + "\ndaemon:*:15000:0:99999:7:::\n").encode()


KINDS: dict[str, tuple[Callable[[], bytes], str, str]] = {
    "export.csv": (comma_lines, "mail", "pw"),
    "export.tsv": (tab_lines, "mail", "pw"),
    "export.jsonl": (json_lines, "mail", "profile.code"),
    "export.ldif": (ldif, "mail", "userPassword"),
    "crew.shadow": (shadow, "login", "value"),
}


def prepare(folder: Path, name: str, *, more: str = "checked_by_application = true") -> bytes:
    write, login, stored = KINDS[name]
    (folder / name).write_bytes(write())
    policy = POLICY % {"name": name, "login": login, "stored": stored, "more": more}
    (folder / "tumbler.toml").write_text(policy)
    prove(folder, StoragePolicy.from_toml(policy))
    return write()


def read(folder: Path, name: str) -> list[tuple[object, ...]]:
    """Read all fields as the audit does."""
    _, (table,) = tables_at(name, base=folder)
    unreadable = Unreadable()
    frames = [frame.drop(LINE) for frame in table.frames(table.columns, unreadable)]
    assert unreadable == Unreadable()
    return [row for frame in frames for row in frame.iter_rows()]


@pytest.mark.parametrize("name", KINDS)
def test_a_copy_is_layered_and_opens(tmp_path: Path, program: Program, name: str) -> None:
    """Every account opens by its password in the copy; the file itself stays byte for byte."""
    before = prepare(tmp_path, name)
    _, login, stored = KINDS[name]
    finished = program("layer", "--into", "copy", "--format", "json")
    assert (finished.code, finished.err) == (0, "")
    assert finished.document["copy"] == "copy"
    assert (tmp_path / name).read_bytes() == before
    assert sorted(path.name for path in tmp_path.iterdir()) == sorted(
        [name, "copy", "tumbler.evidence.json", "tumbler.toml"]
    )
    assert (tmp_path / "copy").stat().st_mode & 0o777 == 0o600
    (tmp_path / "copy").rename(tmp_path / f"copy-{name}")
    old, new = read(tmp_path, name), read(tmp_path, f"copy-{name}")
    _, (table,) = tables_at(name, base=tmp_path)
    position = table.columns.index(stored)
    gateway = CredentialGateway(StoragePolicy.from_toml((tmp_path / "tumbler.toml").read_text()))
    opened = 0
    for one, other in zip(old, new, strict=True):
        assert [*one[:position], *one[position + 1 :]] == [
            *other[:position],
            *other[position + 1 :],
        ]
        account = str(one[table.columns.index(login)])
        for person, password in PEOPLE:
            if one[position] in {md5(password), password}:
                assert other[position] != one[position]
                assert account.split("@", maxsplit=1)[0] == person.split("@")[0]
                assert gateway.admit(
                    stored=str(other[position]), password=password, login=account, store="kiosk"
                ).admitted
                opened += 1
    assert opened == finished.document["layered"] + finished.document["replaced"] >= 2


@pytest.mark.parametrize("name", KINDS)
def test_what_was_layered_is_put_back_byte_for_byte(
    tmp_path: Path, program: Program, name: str
) -> None:
    """`undo` makes the old file of the copy: but for LDIF's folds, the very same bytes."""
    before = prepare(tmp_path, name)
    assert program("keys", "new", "recovery").code == 0
    public = next(path.name for path in tmp_path.glob("recovery*public*"))
    private = next(path.name for path in tmp_path.glob("recovery*") if path.name != public)
    layered = program("layer", "--into", f"copy-{name}", "--backup", "b.sealed", "--to", public)
    assert (layered.code, layered.err) == (0, "")
    policy = (tmp_path / "tumbler.toml").read_text().replace(f'"{name}"', f'"copy-{name}"')
    (tmp_path / "tumbler.toml").write_text(policy)
    undone = program("undo", "b.sealed", "--key", private, "--into", f"again-{name}")
    assert (undone.code, undone.err) == (0, "")
    again = (tmp_path / f"again-{name}").read_bytes()
    if name == "export.ldif":
        again, before = again.replace(b"\n ", b""), before.replace(b"\n ", b"")
    assert again == before


TEXT = st.text(st.characters(codec="utf-8", exclude_characters="\0"), max_size=12)


@settings(max_examples=60, deadline=None)
@given(
    rows=st.lists(st.tuples(TEXT, TEXT), min_size=1, max_size=5),
    delimiter=st.sampled_from(",;\t|"),
    quoting=st.sampled_from([csv.QUOTE_ALL, csv.QUOTE_MINIMAL]),
    new=TEXT.filter(lambda text: text not in {"", "\\N"} and not set(text) & set("\r\n")),
)
def test_any_csv_is_copied_and_changed(
    tmp_path_factory: pytest.TempPathFactory,
    rows: Sequence[tuple[str, str]],
    delimiter: str,
    quoting: int,
    new: str,
) -> None:
    """Records are all bytes of the file; a replaced value reads back, and nothing else changes."""
    path = tmp_path_factory.mktemp("csv") / "export.csv"
    text = io.StringIO(newline="")
    writer = csv.writer(text, delimiter=delimiter, quoting=quoting)  # type: ignore[arg-type]
    writer.writerows([("login", "pw", "id"), *((a, b, "7") for a, b in rows)])
    path.write_bytes(text.getvalue().encode())
    try:
        export = open_export(path)
    except SourceError as error:  # so much of a few lines may be control characters
        if "neither a database nor text" not in str(error):
            raise
        return
    if export.columns != ("login", "pw", "id"):
        return  # so few lines may look split by another delimiter
    records = list(export.records("pw"))
    assert b"".join(record.raw for record in records) == path.read_bytes()
    changed = b"".join(
        record.replaced([new] * len(record.rows)) if record.rows else record.raw
        for record in records
    )
    again = list(csv.reader(io.StringIO(changed.decode(), newline=""), delimiter=delimiter))
    assert again == [["login", "pw", "id"], *([a, new, "7"] for a, _ in rows)]


JSON = st.recursive(
    st.none() | st.booleans() | st.integers() | st.floats(allow_nan=False) | TEXT,
    lambda inner: st.lists(inner, max_size=3) | st.dictionaries(TEXT, inner, max_size=3),
    max_leaves=8,
)


@settings(max_examples=60, deadline=None)
@given(
    before=st.dictionaries(TEXT.filter(lambda name: not name.startswith("p")), JSON, max_size=3),
    value=TEXT,
    new=TEXT,
    ascii_only=st.booleans(),
    indent=st.sampled_from([(", ", ": "), (",", ":"), (" ,\t", " :  ")]),
)
def test_any_json_is_copied_and_changed(
    tmp_path_factory: pytest.TempPathFactory,
    before: dict[str, object],
    value: str,
    new: str,
    ascii_only: bool,
    indent: tuple[str, str],
) -> None:
    """A nested value is replaced in its place, and the object is otherwise what it was."""
    path = tmp_path_factory.mktemp("json") / "export.jsonl"
    document = {**before, "profile": {"x": before, "pw": value}, "z": 1}
    path.write_text(
        json.dumps(document, ensure_ascii=ascii_only, separators=indent) + "\n", "utf-8"
    )
    (record,) = open_export(path).records("profile.pw")
    assert record.raw == record.replaced([None]) == path.read_bytes()
    changed = json.loads(record.replaced([new]))
    document["profile"] = {"x": before, "pw": new}
    assert changed == document
    assert list(changed) == list(document)


@pytest.mark.parametrize(
    ("content", "expected"),
    [
        (b"mail,pw\na@x.example,5f4d\nb@x.example,5f4d,more\n", "line 3: 3 fields, expected 2"),
        (b'mail,pw\na@x.example,"5f4d\n', "line 2: a quote that is never closed"),
        (b'mail,pw\na@x.example,"5f4d" x\n', "line 2: broken quotes"),
        (b"mail,pw\n" + b"a@x.example,5f4d\n" * 60 + b"b\xff@x.example,5f4d\n", "line 62: not utf-8"),
        (b"mail,pw\na@x.example,5f\0d\n", "line 2: holds a NUL"),
        (b"dn: uid=a,\n dc=x\nmail: a\npw: 5f4d\nbroken\n", "line 5: no attribute"),
        (b"dn: b\npw: 5f4d\n\ndn: a,\n dc=x\nmail: a\npw:: /w==\n", "line 7: a value of pw is not UTF-8"),
        (gzip.compress(comma_lines()), "compressed, or UTF-16"),
        (comma_lines().decode().encode("utf-16"), "compressed, or UTF-16"),
        (b"mail,login\na@x.example,5f4d\n", "has no column"),
        (b"CREATE TABLE t (a int);\nINSERT INTO t VALUES (1);\n", "copies are written of"),
    ],
)  # fmt: skip
def test_files_that_cannot_be_copied_whole(
    tmp_path: Path, program: Program, content: bytes, expected: str
) -> None:
    """A row that cannot be read ends the run before anything is written, and is named."""
    prepare(tmp_path, "export.csv")
    (tmp_path / "export.csv").write_bytes(content)
    finished = program("layer", "--into", "copy")
    assert finished.code in {2, 3}
    assert expected in finished.err
    assert not list(tmp_path.glob("copy*"))


@pytest.mark.parametrize(
    ("name", "more", "arguments", "expected"),
    [
        ("export.csv", "", ("layer",), "a file is never written in place"),
        ("export.csv", "", ("layer", "--into", "export.csv"), "is there already"),
        ("export.csv", "", ("admit", "ada@tidepost.example"), "logins need a database"),
        ("crew.shadow", "", ("layer", "--into", "copy"), "checked_by_application"),
        ("export.ldif", "", ("layer", "--into", "copy"), "directories check such values"),
    ],
)
def test_what_is_refused(
    tmp_path: Path,
    program: Program,
    name: str,
    more: str,
    arguments: Sequence[str],
    expected: str,
) -> None:
    """What would write in place, over a file, or lock people out is refused at once."""
    before = prepare(tmp_path, name, more=more)
    finished = program(*arguments, stdin=b"Dunlin 42\n")
    assert finished.code == 2
    assert expected in finished.err
    assert (tmp_path / name).read_bytes() == before
    assert sorted(path.name for path in tmp_path.iterdir()) == sorted(
        [name, "tumbler.evidence.json", "tumbler.toml"]
    )


def test_plan_and_rehearse_read_files(tmp_path: Path, program: Program) -> None:
    """Both work on a file as on a table, and leave nothing beside it."""
    prepare(tmp_path, "export.csv")
    known = io.StringIO(newline="")
    csv.writer(known).writerows([("login", "password"), *PEOPLE])
    (tmp_path / "known.csv").write_text(known.getvalue())
    names = sorted([*(path.name for path in tmp_path.iterdir()), "tumbler.history.jsonl"])
    planned = program("plan", "--format", "json")
    assert (planned.code, planned.err) == (0, "")
    rehearsed = program("rehearse", "known.csv", "--format", "json")
    assert (rehearsed.code, rehearsed.err) == (0, "")
    assert program("layer", "--dry-run").code == 0
    assert sorted(path.name for path in tmp_path.iterdir()) == names


def _is_begun(work: Path) -> bool:
    """Tell whether a first batch has been written."""
    if not work.exists():
        return False
    with closing(sqlite3.connect(f"file:{work}?mode=ro", uri=True)) as connection:
        (layered,) = connection.execute(
            "SELECT count(*) FROM accounts WHERE stored LIKE '$over$%'"
        ).fetchone()
    return bool(layered)


def test_a_killed_run_is_continued(tmp_path: Path) -> None:
    """After SIGKILL the same command goes on; a file that changed meanwhile is begun anew."""
    prepare(tmp_path, "export.csv")
    rows = [(f"p{n}@tidepost.example", md5(f"Skua {n}")) for n in range(400)]
    text = "mail,pw\n" + "".join(f"{login},{value}\n" for login, value in rows)
    (tmp_path / "export.csv").write_text(text)
    policy = (tmp_path / "tumbler.toml").read_text()
    slower = policy.replace("memory_kib = 64\n", "memory_kib = 16384\n", 1)
    (tmp_path / "tumbler.toml").write_text(slower)
    command = ("layer", "--into", "copy.csv", "--format", "json")
    running = start_program(*command, cwd=tmp_path)
    work = tmp_path / "copy.csv.work"
    while not _is_begun(work):
        assert running.poll() is None
        time.sleep(0.02)
    running.send_signal(signal.SIGKILL)
    assert running.wait(timeout=60) == -signal.SIGKILL
    assert not (tmp_path / "copy.csv").exists()
    (tmp_path / "tumbler.toml").write_text(policy)
    again = run_program(*command, cwd=tmp_path).document
    assert 0 < again["layered"] < 400
    assert len(read(tmp_path, "copy.csv")) == 400
    assert not any(value in (tmp_path / "copy.csv").read_text() for _, value in rows)
    assert not work.exists()


LINES = {
    "csv": ["login,pw,id", 'ada,old,7', '"a,b","x ""y""",8', "ben,,9", 'cleo,"two\nlines",1'],
    "jsonl": ['{"login": "ada", "pw": "old"}', '{"pw": null, "login": "b"}', '{"login": "ü"}'],
    "htpasswd": ["ada:$apr1$x", "ben:{SHA}abc=", "# a comment", "cleo:a:b", "dora:x:1:2::/:/sh"],
    "ldif": ["version: 1", "", "dn: uid=ada", "userPassword:: e1NTSEF9", " IQ==", "uid: ada", ""],
}  # fmt: skip
STORED = {"csv": "pw", "jsonl": "pw", "htpasswd": "value", "ldif": "userPassword"}


@settings(max_examples=150, deadline=None)
@given(kind=st.sampled_from(sorted(LINES)), data=st.data())
def test_what_a_copy_reads_is_what_an_audit_reads(
    tmp_path_factory: pytest.TempPathFactory, kind: str, data: st.DataObject
) -> None:
    """Of a file with a mark, odd line ends or broken lines: the same rows, or a copy is refused."""
    lines = data.draw(st.permutations(LINES[kind]) if kind != "ldif" else st.just(LINES[kind]))
    if kind == "csv":
        lines = [LINES["csv"][0], *(line for line in lines if line != LINES["csv"][0])]
    odd = data.draw(st.lists(st.text("a:\"'{},=# \t\\\x01é", max_size=6), max_size=2))
    at = data.draw(st.integers(1, len(lines)))
    lines = [*lines[:at], *odd, *lines[at:]]
    text = data.draw(st.sampled_from(["", "\ufeff"])) + data.draw(
        st.sampled_from(["\n", "\r\n"])
    ).join(lines)
    path = tmp_path_factory.mktemp("alike") / "export"
    path.write_bytes((text + data.draw(st.sampled_from(["", "\n"]))).encode())
    try:
        _, (table, *_) = tables_at(str(path), base=path.parent)
    except SourceError:
        return  # so much of a few lines may be control characters
    stored = STORED[kind]
    if stored not in table.columns:
        return  # too much of it is odd: taken for another format
    unreadable = Unreadable()
    wanted = list(table.columns)
    audited = [
        row for frame in table.frames(wanted, unreadable) for row in frame.select(wanted).rows()
    ]
    try:
        records = list(open_export(path).records(stored))
    except SourceError:
        return  # a copy must hold every row
    assert b"".join(record.raw for record in records) == path.read_bytes()
    copied = [tuple(row.get(name) for name in wanted) for each in records for row in each.rows]
    place = wanted.index(stored)
    valued = [row for row in copied if row[place] not in {None, ""}]
    assert valued == [row for row in audited if row[place] not in {None, ""}]
    assert not unreadable.rows
