"""Auditing beyond one plain column: documents in columns, schemas, likely passwords, many frames."""

import base64
import hashlib
import json
import sqlite3
from collections.abc import Callable
from contextlib import closing
from html.parser import HTMLParser
from pathlib import Path

import bcrypt
import pytest

from conftest import Program


@pytest.fixture
def program(in_process: Program) -> Program:
    """Many short runs: in this process. Other modules run the built program."""
    return in_process


@pytest.fixture
def harbour(tmp_path: Path) -> sqlite3.Connection:
    return sqlite3.connect(tmp_path / "harbour.db")


def test_credentials_in_a_document_in_a_column_are_found(
    harbour: sqlite3.Connection, program: Program
) -> None:
    """A JSON text column is looked into; a row without the field has no value."""
    documents = [
        json.dumps({"name": "Ada", "auth": {"secret": hashlib.md5(b"%d" % n).hexdigest()}})
        for n in range(6)
    ]
    with closing(harbour) as connection, connection:
        connection.execute("CREATE TABLE kiosk (id INTEGER PRIMARY KEY, profile TEXT)")
        rows = [(text,) for text in (*documents, '{"name": "Ben"}', "not JSON", None)]
        connection.executemany("INSERT INTO kiosk (profile) VALUES (?)", rows)
    found = program("audit", "harbour.db", "--format", "json").document["stores"]
    assert [(store["table"], store["column"]) for store in found] == [
        ("kiosk", "profile.auth.secret")
    ]
    assert found[0]["grades"] == {"fast-unsalted": 6}
    assert found[0]["without_value"] == 3
    named = program("audit", "harbour.db", "--column", "profile.auth.secret", "--format", "json")
    assert named.document["stores"] == found


def test_sqlite_has_no_widths_but_collations(harbour: sqlite3.Connection, program: Program) -> None:
    """SQLite does not keep to a declared width, so none is complained of; NOCASE is."""
    with closing(harbour) as connection, connection:
        connection.execute(
            "CREATE TABLE crew (id INTEGER PRIMARY KEY, nick TEXT COLLATE NOCASE,"
            ' "pw" VARCHAR(20) COLLATE NOCASE, note TEXT)'
        )
        connection.execute(
            "INSERT INTO crew VALUES (1, 'ada', ?, '')", (hashlib.md5(b"x").hexdigest(),)
        )
    (store,) = program("audit", "harbour.db", "--format", "json").document["stores"]
    codes = {finding["code"] for finding in store["findings"]}
    assert "case-folding-collation" in codes
    assert "column-too-narrow" not in codes


SALTED: dict[str, Callable[[bytes, bytes], str]] = {
    "append salt, sha1, hex": lambda pw, salt: hashlib.sha1(pw + salt).hexdigest(),
    "prepend salt, md5, hex": lambda pw, salt: hashlib.md5(salt + pw).hexdigest(),
}


def test_salted_rows_are_tried_within_the_budget(tmp_path: Path, program: Program) -> None:
    """With --words and --budget salted rows are tried, the login too; and never named is what fits."""
    passwords = [b"Coldharbour2019", b"%s", b"no word at all", b"Bollard7!"]
    made = zip((*SALTED, *SALTED), passwords, strict=True)
    rows = [
        f"{n},p{n}@tidepost.example,"
        f"{SALTED[how](password.replace(b'%s', b'p%d' % n), b'salt%04d' % n)},salt{n:04}"
        for n, (how, password) in enumerate(made, start=1)
    ]
    (tmp_path / "export.csv").write_text("\n".join(["id,email,pw,pw_salt", *rows]) + "\n")
    (tmp_path / "more.txt").write_text("Bollard7!\n")
    without = program("audit", "export.csv", "--format", "json").document["stores"][0]
    assert "common-password" not in {finding["code"] for finding in without["findings"]}
    arguments = ("--words", "coldharbour, ferry", "--blocklist", "more.txt", "--budget", "60")
    finished = program("audit", "export.csv", *arguments, "--format", "json")
    (store,) = finished.document["stores"]
    (found,) = [f for f in store["findings"] if f["code"] == "common-password"]
    assert sorted(found["accounts"]) == ["1", "2", "4"]
    assert "4 salted rows" in found["evidence"]
    assert "Coldharbour2019" not in finished.out
    listed = program("audit", "export.csv", *arguments, "--format", "csv").out
    assert listed.count("common-password") == 3


def test_slow_schemes_are_tried_only_when_asked(tmp_path: Path, program: Program) -> None:
    """A bcrypt row with a likely password is found with --slow-schemes alone."""
    stored = bcrypt.hashpw(b"123456", bcrypt.gensalt(4)).decode()
    (tmp_path / "export.csv").write_text(f"id,pw\n1,{stored}\n")
    for extra, rows in (((), 0), (("--slow-schemes",), 1)):
        out = program("audit", "export.csv", "--budget", "20", *extra, "--format", "json").document
        found = [f for f in out["stores"][0]["findings"] if f["code"] == "common-password"]
        assert sum(f["rows"] for f in found) == rows


def test_many_frames_give_the_report_of_one(tmp_path: Path, program: Program) -> None:
    """Frames looked at side by side: counts, clusters and the CSV of accounts stay exact."""
    kinds = (
        lambda n: hashlib.md5(b"%d" % (n % 36_000)).hexdigest(),
        lambda n: f"$2b$05${base64.b64encode(hashlib.sha512(b'%d' % n).digest()).decode()[:53]}".replace("+", "."),
        lambda n: f"harbour {n}",
    )  # fmt: skip
    lines = [f"{n}\t{kinds[n % 3](n)}\t{int(n % 1000 == 0)}" for n in range(120_000)]
    (tmp_path / "export.tsv").write_text("id\tpw\tis_admin\n" + "\n".join(lines) + "\n")
    document = program("audit", "export.tsv", "--format", "json").document
    (store,) = document["stores"]
    assert store["rows"] == 120_000
    assert store["grades"] == {"readable": 40_000, "fast-unsalted": 40_000, "outdated": 40_000}
    found = {finding["code"]: finding for finding in store["findings"]}
    assert found["privileged-at-risk"]["rows"] == 120
    assert len(found["privileged-at-risk"]["accounts"]) == 10
    assert all(account.endswith("000") for account in found["privileged-at-risk"]["accounts"][1:])
    # n runs over multiples of three: those whose n mod 36,000 meets another's are in clusters.
    assert found["shared-digest"]["rows"] == 40_000
    listed = program("audit", "export.tsv", "--format", "csv").out
    assert listed.count(",shared-digest,") == 40_000
    assert listed.count(",plain-text,") == 40_000


def test_the_page_stands_alone_and_runs_nothing(tmp_path: Path, program: Program) -> None:
    """One file: no script, no link out; names from the store stay text; the numbers are JSON's."""
    with closing(sqlite3.connect(tmp_path / "harbour.db")) as connection, connection:
        connection.execute(
            "CREATE TABLE '<script>alert(1)</script>' (id TEXT, pw TEXT, seen_on TEXT, is_admin INT)"
        )
        rows = [
            (f"<b>{n}", hashlib.md5(b"%d" % (n % 40)).hexdigest(), f"2026-0{1 + n % 9}-03", n % 7)
            for n in range(60)
        ] + [("d", "$2b$05$" + "a" * 53, None, 0)]
        connection.executemany("INSERT INTO '<script>alert(1)</script>' VALUES (?, ?, ?, ?)", rows)
    (store,) = program("audit", "harbour.db", "--format", "json").document["stores"]
    finished = program("audit", "harbour.db", "--format", "html", "--output", "page.html")
    assert (finished.code, finished.out) == (0, "")
    page = (tmp_path / "page.html").read_text()
    assert (tmp_path / "page.html").stat().st_mode & 0o777 == 0o600
    seen = Page()
    seen.feed(page)
    assert "script" not in seen.tags
    assert not [link for link in seen.links if not link.startswith("#")]
    assert seen.tags.count("svg") == 4  # grades, costs, clusters, ages
    for finding in store["findings"]:
        assert finding["code"] in seen.text
        assert finding["evidence"] in seen.text
    assert "61 of 61 stored values are below the floor" in seen.text
    assert "<b>1" in seen.text  # an account's name, as text
    assert store["column"] == "pw"


class Page(HTMLParser):
    """Gathers what a browser would show, run and fetch."""

    def __init__(self) -> None:
        super().__init__()
        self.tags: list[str] = []
        self.links: list[str] = []
        self.text = ""

    def handle_starttag(self, tag: str, attrs: list[tuple[str, str | None]]) -> None:
        self.tags.append(tag)
        self.links += [v or "" for k, v in attrs if k in {"href", "src", "xlink:href", "action"}]

    def handle_data(self, data: str) -> None:
        self.text += data
