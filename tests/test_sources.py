"""Reading files of every kind: the same content gives the same report, and nothing is dropped."""

import base64
import csv
import gzip
import hashlib
import io
import json
import lzma
from collections.abc import Callable
from pathlib import Path
from typing import Any

import polars as pl
import pytest
import zstandard
from hypothesis import HealthCheck, given, settings
from hypothesis import strategies as st

from conftest import OPENABLE, Finished, run_in_process, stored_value
from lean_tumbler.errors import TumblerError
from lean_tumbler.stores.files import parquet as parquet_format
from lean_tumbler.stores.files.base import LINE, Unreadable
from lean_tumbler.stores.files.delimited.table import DelimitedTable
from lean_tumbler.stores.files.kinds import tables_of_file
from lean_tumbler.stores.files.sql_dump.dump import Dump
from lean_tumbler.stores.kinds import tables_at

COLUMNS = ("id", "email", "pw", "pw_salt", "is_admin")
Rows = list[dict[str, str | None]]


@pytest.fixture(scope="module")
def rows(foreign_values: list[dict[str, str]]) -> Rows:
    """Give one row for each foreign value and each cohort, two of them administrators."""
    values: list[tuple[str | None, str | None]] = [(row["stored"], None) for row in foreign_values]
    values += [stored_value(cohort, f"Möwe, „{n}“ 7", n) for n, cohort in enumerate(OPENABLE)]
    values += [("!", None), (None, None), ("tab\tbed; comma, quote\" and ' here", None)]
    return [
        {
            "id": str(number),
            "email": f"p{number}@tidepost.example",
            "pw": stored,
            "pw_salt": salt,
            "is_admin": str(int(number % 50 == 1)),
        }
        for number, (stored, salt) in enumerate(values, start=1)
    ]


def delimited(rows: Rows, **dialect: Any) -> bytes:
    buffer = io.StringIO()
    writer = csv.writer(buffer, **dialect)
    writer.writerow(COLUMNS)
    writer.writerows([["" if row[c] is None else row[c] for c in COLUMNS] for row in rows])
    return buffer.getvalue().encode()


def json_lines(rows: Rows) -> bytes:
    return "".join(
        json.dumps({"id": row["id"], "email": row["email"], "is_admin": row["is_admin"] == "1",
                    "profile": {"pw": row["pw"], "pw_salt": row["pw_salt"]}}) + "\n"
        for row in rows
    ).encode()  # fmt: skip


def parquet(rows: Rows) -> bytes:
    buffer = io.BytesIO()
    pl.DataFrame(rows, schema=dict.fromkeys(COLUMNS, pl.String)).write_parquet(buffer)
    return buffer.getvalue()


def copy_dump(rows: Rows) -> bytes:
    def cell(value: str | None) -> str:
        if value is None:
            return r"\N"
        return value.replace("\\", "\\\\").replace("\t", "\\t").replace("\n", "\\n")

    lines = ["\t".join(cell(row[c]) for c in COLUMNS) for row in rows]
    head = f"COPY public.passengers ({', '.join(COLUMNS)}) FROM stdin;\n"
    return ("--\n-- a dump\n--\n" + head + "\n".join(lines) + "\n\\.\n").encode()


def insert_dump(rows: Rows) -> bytes:
    def cell(value: str | None) -> str:
        if value is None:
            return "NULL"
        if value.isdigit() and len(value) < 10:
            return value
        if value.startswith("$2"):
            return "0x" + value.encode().hex()
        escaped = value.replace("\\", "\\\\").replace("'", "\\'").replace("\t", "\\t")
        return f"'{escaped}'"

    definitions = "".join(f"  `{c}` varchar(255) DEFAULT NULL,\n" for c in COLUMNS)
    create = f"CREATE TABLE `passengers` (\n{definitions}  PRIMARY KEY (`id`)\n) ENGINE=InnoDB;\n"
    tuples = [f"({','.join(cell(row[c]) for c in COLUMNS)})" for row in rows]
    half = len(tuples) // 2
    inserts = [
        f"INSERT INTO `passengers` VALUES {','.join(part)};\n"
        for part in (tuples[:half], tuples[half:])
    ]
    return (create + "".join(inserts)).encode()


WRITERS: dict[str, Callable[[Rows], bytes]] = {
    "export.csv": delimited,
    "export.tsv": lambda rows: delimited(rows, delimiter="\t"),
    "semicolons.txt": lambda rows: delimited(rows, delimiter=";", lineterminator="\n"),
    "all-quoted.csv": lambda rows: delimited(rows, quoting=csv.QUOTE_ALL),
    "marked.csv": lambda rows: b"\xef\xbb\xbf" + delimited(rows),
    "wide.csv": lambda rows: delimited(rows).decode().encode("utf-16"),
    "export.csv.gz": lambda rows: gzip.compress(delimited(rows)),
    "export.csv.xz": lambda rows: lzma.compress(delimited(rows)),
    "export.csv.zst": lambda rows: zstandard.compress(delimited(rows)),
    "export.jsonl": json_lines,
    "export.parquet": parquet,
    "copy.sql": copy_dump,
    "insert.sql": insert_dump,
    "insert.sql.gz": lambda rows: gzip.compress(insert_dump(rows)),
}


def audited(monkeypatch: pytest.MonkeyPatch, folder: Path, *arguments: str) -> Finished:
    monkeypatch.chdir(folder)
    return run_in_process("audit", *arguments, "--format", "json")


def told(document: dict[str, Any]) -> tuple[Any, ...]:
    """What must be the same whatever the source; what the schema says is the server's alone."""
    (store,) = document["stores"]
    groups = sorted(json.dumps(group, sort_keys=True) for group in store["groups"])
    found = {
        (f["code"], f["rows"], f["privileged_rows"], *f["accounts"])
        for f in store["findings"]
        if f["code"] not in {"column-too-narrow", "case-folding-collation"}
    }
    return (document["rows"], document["unreadable_rows"], store["without_value"],
            store["grades"], groups, found)  # fmt: skip


@pytest.mark.parametrize("name", WRITERS)
def test_the_same_content_gives_the_same_report(
    rows: Rows, tmp_path: Path, monkeypatch: pytest.MonkeyPatch, name: str
) -> None:
    """Whatever the kind of file, the column is found, and the report is that of plain CSV."""
    (tmp_path / name).write_bytes(WRITERS[name](rows))
    (tmp_path / "reference.csv").write_bytes(delimited(rows))
    document = audited(monkeypatch, tmp_path, name).document
    reference = audited(monkeypatch, tmp_path, "reference.csv").document
    assert told(document) == told(reference)
    assert document["rows"] == len(rows)
    assert document["stores"][0]["without_value"] == 1


def test_long_files_are_read_a_part_at_a_time(
    tmp_path: Path, monkeypatch: pytest.MonkeyPatch
) -> None:
    """Of Parquet and of UTF-16, no frame holds more than a part; lines and values are all there."""
    monkeypatch.setattr(parquet_format, "ROWS_PER_FRAME", 1000)
    values = [None if n % 7 == 0 else hashlib.md5(b"%d" % n).hexdigest() for n in range(20_500)]
    table = pl.DataFrame({"id": range(20_500), "pw": values})
    table.write_parquet(tmp_path / "export.parquet", row_group_size=700)
    text = "id,pw,note\n" + "".join(f"{n},{v or ''},Læsø\n" for n, v in enumerate(values))
    for encoding in ("utf-16-le", "utf-16-be"):
        wide = ("\ufeff" + text).encode(encoding)
        (tmp_path / f"{encoding}.csv").write_bytes(wide)
        (tmp_path / f"{encoding}.csv.gz").write_bytes(gzip.compress(wide))
    for path in sorted(tmp_path.iterdir()):
        _, (found,) = tables_at(path.name, base=tmp_path)
        unreadable = Unreadable()
        frames = list(found.frames(["id", "pw"], unreadable))
        assert unreadable == Unreadable()
        assert len(frames) > 1, path.name
        whole = pl.concat(frames)
        assert whole["pw"].to_list() == values
        assert whole["id"].to_list() == [str(n) for n in range(20_500)]
        first = 1 if path.suffix == ".parquet" else 2
        assert whole[LINE].to_list() == list(range(first, 20_500 + first))


def test_account_files_and_directories_give_their_values(
    rows: Rows, tmp_path: Path, monkeypatch: pytest.MonkeyPatch
) -> None:
    """Shadow form, a web server's file and LDIF: every value is read, folded lines too."""
    values = [row["pw"] or "" for row in rows if row["pw"] and ":" not in row["pw"]]
    values = [value for value in values if not value.startswith("tab")]
    shadow = "".join(f"crew{n}:{value}:19000:0:99999:7:::\n" for n, value in enumerate(values))
    (tmp_path / "shadow").write_text("# crew\n" + shadow)
    web = "".join(f"crew{n}:{value}\n" for n, value in enumerate(values))
    (tmp_path / "users").write_text(web)
    entries = []
    for number, value in enumerate(values):
        coded = base64.b64encode(value.encode()).decode()
        attribute = f"userPassword:: {coded}"
        folded = attribute[:60] + "\n " + attribute[60:] if len(attribute) > 60 else attribute
        entries.append(
            f"dn: uid=crew{number},dc=coldharbour,dc=example\nuid: crew{number}\n{folded}\n"
        )
    (tmp_path / "crew.ldif").write_text("version: 1\n\n" + "\n".join(entries))
    grades = []
    for name in ("shadow", "users", "crew.ldif"):
        document = audited(monkeypatch, tmp_path, name).document
        assert (document["rows"], document["unreadable_rows"]) == (len(values), 0)
        grades.append(document["stores"][0]["grades"])
    assert grades[0] == grades[1] == grades[2]


DIGEST = "5f4dcc3b5aa765d61d8327deb882cf99"
ARGON2 = "$argon2id$v=19$m=19456,t=2,p=1$MmVjMDI4M2Q5NTNhYTFjOQ$QsCpqMVtjZBleBPhmHgO0y238dlZTNGzcsrP4j1GbdE"


@pytest.mark.parametrize(
    ("name", "content", "rows", "unreadable"),
    [
        ("commas.csv", f"id,pw,x\n1,{DIGEST},a\n2,{ARGON2},a\n", 1,
         [(3, "5 fields, expected 3: an Argon2 value holds commas and needs quotes")]),
        ("short.csv", f"id,pw,x\n1,{DIGEST},a\n2,{DIGEST}\n3,{DIGEST},c\n", 2,
         [(3, "2 fields, expected 3: is this line cut off?")]),
        ("half.csv", f"id,pw,x\n1,{DIGEST},a\n2,{DIGEST[:9]}", 1,
         [(3, "2 fields, expected 3: is this line cut off?")]),
        ("nul.csv", f"id,pw\n1,{DIGEST}\n2,a\0b\n3,{DIGEST}\n", 2, [(3, "holds a NUL")]),
        ("latin.csv", f"id,pw\n1,{DIGEST}\n2,M\udcf6we\n3,{DIGEST}\n", 2,
         [(3, "not utf-8 at byte 4 of the line")]),
        ("quotes.csv", f'id,pw\n1,{DIGEST}\n2,"a"b\n3,{DIGEST}\n', 2, [(3, "broken quotes")]),
        ("open.csv", f'id,pw\n1,{DIGEST}\n2,"{DIGEST}\n3,x\n', 1,
         [(3, "a quote that is never closed")]),
        ("long.csv", f"id,pw\n1,{DIGEST}\n2,{'x' * 1_000_000}\n3,{DIGEST}\n", 2,
         [(3, "a value of more than 131,072 characters")]),
        ("bad.jsonl", f'{{"pw": "{DIGEST}"}}\n{{"pw": \n[1]\n{{"pw": "{DIGEST}"}}\n', 2,
         [(2, "no JSON object: not JSON at character 8"), (3, "JSON, but not an object")]),
        ("bad.ldif", f"dn: uid=a\nuserPassword:: !!!\n\ndn: uid=b\njpegPhoto:: /9j/\nuserPassword: {DIGEST}\nodd\n: x\n", 1,
         [(2, "base64 that does not decode to UTF-8 text"), (7, "no attribute's name before a colon"),
          (8, "no attribute's name before a colon")]),
        ("bad.sql", f"COPY kiosk (id, pw) FROM stdin;\n1\t{DIGEST}\n2\n3\t{DIGEST}\n\\.\n", 2,
         [(3, "1 fields, expected 2")]),
    ],
)  # fmt: skip
def test_rows_that_cannot_be_read_are_counted_and_named(
    tmp_path: Path,
    monkeypatch: pytest.MonkeyPatch,
    name: str,
    content: str,
    rows: int,
    unreadable: list[tuple[int, str]],
) -> None:
    """Nothing is dropped silently: each bad row is listed by its line and the reason."""
    (tmp_path / name).write_bytes(content.encode("utf-8", "surrogateescape"))
    column = "userPassword" if name.endswith("ldif") else "pw"
    document = audited(monkeypatch, tmp_path, name, "--column", column).document
    assert document["rows"] == rows
    assert document["unreadable_rows"] == len(unreadable)
    listed = [(entry["line"], entry["reason"]) for entry in document["unreadable"]]
    assert listed == unreadable


@pytest.mark.parametrize(
    "name", ["cut.csv.gz", "cut.csv.xz", "cut.csv.zst", "copy.sql", "insert.sql"]
)
def test_a_source_that_is_cut_off_says_so(
    tmp_path: Path, monkeypatch: pytest.MonkeyPatch, name: str
) -> None:
    """What stands before the cut is read, and the report says that it is not all."""
    lines = [{"id": str(n), "email": f"p{n}", "pw": f"{n:032x}", "pw_salt": None, "is_admin": "0"}
             for n in range(15_000)]  # fmt: skip
    writer = {"copy.sql": copy_dump, "insert.sql": insert_dump}.get(name, delimited)
    content = writer(lines)
    if name.endswith(("gz", "xz", "zst")):
        pack: dict[str, Callable[[bytes], bytes]] = {
            "gz": gzip.compress,
            "xz": lzma.compress,
            "zst": zstandard.compress,
        }
        content = pack[name.rsplit(".", 1)[1]](content)
    (tmp_path / name).write_bytes(content[: len(content) * 2 // 3])
    finished = audited(monkeypatch, tmp_path, name)
    assert finished.document["cut_off"] is True
    assert 0 < finished.document["rows"] < 15_000
    text = run_in_process("audit", name).out
    assert text.startswith("The source is cut off, damaged")


@pytest.mark.parametrize(
    ("content", "expected"),
    [
        (b"", "holds no data"),
        (b"\n\n  \n", "holds no data"),
        (b"\x7fELF" + bytes(range(256)) * 40, "neither a database nor text"),
        (b"name,town\nada,harbour\n", "no column that holds credentials was found"),
    ],
)
def test_files_that_hold_nothing(
    tmp_path: Path, monkeypatch: pytest.MonkeyPatch, content: bytes, expected: str
) -> None:
    """An empty file, a program and a table without credentials each get their one line."""
    (tmp_path / "file").write_bytes(content)
    monkeypatch.chdir(tmp_path)
    finished = run_in_process("audit", "file")
    assert finished.code in {2, 3}
    assert expected in finished.err
    assert finished.out == ""


@settings(suppress_health_check=[HealthCheck.function_scoped_fixture], max_examples=150)
@given(
    st.lists(
        st.tuples(
            *[st.text(st.characters(codec="utf-8", exclude_characters="\0"), max_size=12)] * 2
        ),
        max_size=12,
    ),
    st.sampled_from(",;\t|"),
)
def test_any_csv_that_python_writes_is_read_back(
    tmp_path: Path, values: list[tuple[str, str]], delimiter: str
) -> None:
    """Quotes, line ends and delimiters inside values survive; the quick and careful ways agree."""
    buffer = io.StringIO()
    writer = csv.writer(buffer, delimiter=delimiter)
    writer.writerow(["id", "login", "pw"])
    rows = [(str(number), *pair) for number, pair in enumerate(values)]
    writer.writerows(rows)
    path = tmp_path / "values.csv"
    path.write_bytes(buffer.getvalue().encode())
    unreadable = Unreadable()
    read: list[tuple[str | None, ...]] = []
    for frame in DelimitedTable(path).frames(["id", "login", "pw"], unreadable):
        read += frame.select("id", "login", "pw").rows()
    expected = [tuple(None if text in {"", r"\N"} else text for text in row) for row in rows]
    assert unreadable.rows == 0
    assert read == expected


@settings(suppress_health_check=[HealthCheck.function_scoped_fixture], max_examples=200)
@given(
    st.binary(max_size=300)
    | st.text(max_size=200).map(lambda text: text.encode("utf-8", "replace"))
    | st.from_regex(r"(INSERT INTO `?t`? VALUES \([^;]{0,40}\);?\n|COPY t \(a, b\) FROM stdin;\n"
                    r"|[a-z]\t[a-z\\]{0,5}\n|dn: [a-z]{1,5}\n|userPassword:: ?[a-zA-Z]{0,9}\n|\n){0,8}",
                    fullmatch=True).map(str.encode)
)  # fmt: skip
def test_no_file_makes_a_reader_raise(tmp_path: Path, content: bytes) -> None:
    """Any bytes are read, or refused with an error of this project."""
    path = tmp_path / "file"
    path.write_bytes(content)
    try:
        for table in tables_of_file(path):
            for frame in table.frames(table.columns, Unreadable()):
                assert frame.height > 0
    except TumblerError as error:
        message = str(error)
    else:
        return
    assert str(path) in message


def test_dumps_with_several_tables(tmp_path: Path) -> None:
    """Each table of a dump has its own columns and rows."""
    path = tmp_path / "dump.sql"
    path.write_text(
        "CREATE TABLE a (\n  id int,\n  `pw` text,\n  KEY k (id)\n);\n"
        "INSERT INTO a VALUES (1,'it''s; (a) \\'test\\''),(2,NULL),\n(3,0x6162);\n"
        "INSERT INTO b (x, y) VALUES (1, 2);\n"
        'COPY "c" (id, raw) FROM stdin;\n1\t\\\\x616263\n2\ta\\tb\n\\.\n'
    )
    read = {
        table.name: next(
            frame.select(table.columns).rows()
            for frame in table.frames(table.columns, Unreadable())
        )
        for table in Dump(path).tables
    }
    assert read == {
        "a": [("1", "it's; (a) 'test'"), ("2", None), ("3", "ab")],
        "b": [("1", "2")],
        "c": [("1", "abc"), ("2", "a\tb")],
    }


FIELDS = [
    "a",
    '"x"',
    '"x,y"',
    '"x""y"',
    "",
    '""',
    "q r",
    "\\N",
    '"',
    'a"b',
    '"a"b',
    '"\n"',
    "é",
    "\r",
]
LINES = st.lists(
    st.lists(st.sampled_from(FIELDS), min_size=1, max_size=3).map(",".join), min_size=1, max_size=6
)


@settings(max_examples=150)
@given(LINES, st.sampled_from(["\n", "\r\n"]), st.booleans())
def test_the_quick_way_reads_what_the_careful_one_does(
    tmp_path_factory: pytest.TempPathFactory, lines: list[str], end: str, ended: bool
) -> None:
    """Whatever the quoting, blocks read at once and lines read one by one give the same rows."""
    path = tmp_path_factory.mktemp("csv") / "export.csv"
    path.write_bytes((end.join(["id,pw", *lines]) + (end if ended else "")).encode())
    tables = (DelimitedTable(path), CarefulTable(path))
    read = []
    for table in tables:
        unreadable = Unreadable()
        frames = list(table.frames(table.columns, unreadable))
        read.append(([row for frame in frames for row in frame.rows()], unreadable.rows))
    assert read[0] == read[1]


class CarefulTable(DelimitedTable, frozen=True):
    def _quick(self, *_: object, **__: object) -> None:
        return None
