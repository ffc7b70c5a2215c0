"""Whoever writes a file to be audited: no row of it goes by without a word."""

import hashlib
import json
import random
from pathlib import Path

import pytest

from conftest import Program

ADA, BEN = (hashlib.md5(name.encode()).hexdigest() for name in ("ada", "ben"))
HEAD = "CREATE TABLE guests (\n  id int,\n  login text,\n  pw text\n);\n"
FIRST = f"INSERT INTO guests VALUES (1,'ada','{ADA}');\n"
# Ways to write one more row, of the servers' own programs and of people.
MORE = {
    "another case": "insert into guests values (2,'ben','{0}');",
    "blanks before it": "   INSERT INTO guests VALUES (2,'ben','{0}');",
    "a comment before it": "/* more */ INSERT INTO guests VALUES (2,'ben','{0}');",
    "a comment of one server": "/*!50000 INSERT INTO guests VALUES (2,'ben','{0}') */;",
    "a replace": "REPLACE INTO guests VALUES (2,'ben','{0}');",
    "insert or replace": "INSERT OR REPLACE INTO guests VALUES (2,'ben','{0}');",
    "low priority": "INSERT LOW_PRIORITY IGNORE INTO guests VALUES (2,'ben','{0}');",
    "without into": "INSERT guests VALUES (2,'ben','{0}');",
    "value": "INSERT INTO guests VALUE (2,'ben','{0}');",
    "row": "INSERT INTO guests VALUES ROW(2,'ben','{0}');",
    "columns": "INSERT INTO guests (login, id, pw) VALUES ('ben',2,'{0}');",
    "columns over lines": "INSERT INTO guests\n  (login, id, pw)\nVALUES\n  ('ben',2,'{0}');",
    "a schema": "INSERT INTO \"main\".\"guests\" VALUES (2,'ben','{0}');",
    "three names": "INSERT INTO [desk].[dbo].[guests] VALUES (2,'ben','{0}');",
    "overriding": "INSERT INTO guests OVERRIDING SYSTEM VALUE VALUES (2,'ben','{0}');",
    "on conflict": "INSERT INTO guests VALUES (2,'ben','{0}') ON CONFLICT (id) DO NOTHING;",
    "on duplicate": "INSERT INTO guests VALUES (2,'ben','{0}') ON DUPLICATE KEY UPDATE login='x;y';",
    "a type": "INSERT INTO guests VALUES (2,'ben'::text,'{0}'::character varying(99));",
    "a character set": "INSERT INTO guests VALUES (2,_utf8mb4'ben',_latin1 '{0}');",
    "national text": "INSERT INTO guests VALUES (2,N'ben',N'{0}');",
    "escaped text": "INSERT INTO guests VALUES (2,E'b\\x65n',E'{0}');",
    "binary": "INSERT INTO guests VALUES (2,'ben',0x" + BEN.encode().hex() + ");",
    "a semicolon at a line's end": "INSERT INTO guests VALUES (2,'ben;\nbin','{0}');",
    "a quote within": "INSERT INTO guests VALUES (2,'b''e\\'n','{0}');",
    "a bracket within": "INSERT INTO guests VALUES (2,'b),(en','{0}');",
    "behind another on the line": "BEGIN; INSERT INTO guests VALUES (2,'ben','{0}'); COMMIT;",
    "two on a line": "INSERT INTO other VALUES (1); INSERT INTO guests VALUES (2,'ben','{0}');",
    "a copy": "COPY guests (id, login, pw) FROM stdin;\n2\tben\t{0}\n\\.",
}
# Forms that are not read: they are counted with line and reason.
COUNTED = {
    "a select": "INSERT INTO guests SELECT 2,'ben','{0}';",
    "set": "INSERT INTO guests SET id=2, login='ben', pw='{0}';",
    "with": "WITH n AS (SELECT 2) INSERT INTO guests SELECT 2,'ben','{0}';",
    "an update": "UPDATE guests SET pw='{0}' WHERE id=2;",
    "merge": "MERGE INTO guests USING x ON 1=1 WHEN NOT MATCHED THEN INSERT VALUES (2,'ben','{0}');",
    "load data": "LOAD DATA INFILE 'x' INTO TABLE guests;",
    "a copy of another form": "COPY guests FROM stdin WITH (FORMAT csv);\n2,ben,{0}\n\\.",
    "a function": "INSERT INTO guests VALUES (2,'ben',UPPER('{0}'));",
    "a call": "CALL add_row('guests', 2, 'ben', '{0}');",
    "execute": "EXECUTE add_row('guests', 2, 'ben', '{0}');",
    "bulk": "BULK INSERT guests FROM 'x';",
    "not written to its end": "INSERT INTO guests VALUES (2,'ben','{0}",
}


def audited(folder: Path, text: str, program: Program, name: str = "dump.sql") -> tuple[int, int]:
    (folder / name).write_text(text, encoding="utf-8")
    document = program("audit", name, "--column", "pw", "--format", "json").document
    return document["rows"], document["unreadable_rows"]


@pytest.mark.parametrize("way", MORE)
def test_one_more_row_of_a_dump_is_read(way: str, tmp_path: Path, in_process: Program) -> None:
    """However it is written, and what stands behind it too."""
    behind = f"INSERT INTO guests VALUES (3,'eve','{ADA}');\n"
    text = HEAD + FIRST + MORE[way].replace("{0}", BEN) + "\n" + behind
    assert audited(tmp_path, text, in_process) == (3, 0)


@pytest.mark.parametrize("way", COUNTED)
def test_a_row_of_another_form_is_counted(way: str, tmp_path: Path, in_process: Program) -> None:
    """With its line and the reason; what stands behind it is read."""
    behind = (
        "" if way == "not written to its end" else f"INSERT INTO guests VALUES (3,'e','{ADA}');\n"
    )
    text = HEAD + FIRST + COUNTED[way].replace("{0}", BEN) + "\n" + behind
    rows, unreadable = audited(tmp_path, text, in_process)
    assert rows == 1 + bool(behind)
    assert unreadable >= 1


def test_bodies_of_functions_are_no_rows(tmp_path: Path, in_process: Program) -> None:
    """What a function or a trigger would write some day is neither read nor counted."""
    body = (
        "CREATE FUNCTION f() RETURNS trigger AS $body$\nBEGIN\n  INSERT INTO guests VALUES (9,'x','y');\n"
        "  RETURN NEW;\nEND;\n$body$ LANGUAGE plpgsql;\n"
        "DELIMITER ;;\nCREATE TRIGGER t BEFORE INSERT ON guests FOR EACH ROW BEGIN\n"
        "  INSERT INTO guests VALUES (9,'x','y');\nEND ;;\nDELIMITER ;\n"
    )
    assert audited(tmp_path, HEAD + body + FIRST, in_process) == (1, 0)


def test_any_values_come_through_a_dump(tmp_path: Path, in_process: Program) -> None:
    """Invented text of quotes, brackets and ends, as two dump programs would write it: no row is lost."""
    chance = random.Random(11)
    lines, number = [HEAD], 0
    for _ in range(300):
        rows = []
        for _ in range(chance.randint(1, 4)):
            number += 1
            login = "".join(chance.choices("a'\\;(),\n-#/*`\"é x", k=chance.randint(0, 12)))
            quoted = login.replace("\\", "\\\\").replace("'", chance.choice(["''", "\\'"]))
            rows.append(f"({number},'{quoted}','{ADA}')")
        lines.append("INSERT INTO guests VALUES " + chance.choice([",", ",\n"]).join(rows) + ";\n")
    assert audited(tmp_path, "".join(lines), in_process) == (number, 0)


# -- CSV and JSON -----------------------------------------------------------------------------


def test_two_stray_quotes_swallow_nothing(tmp_path: Path, in_process: Program) -> None:
    """The lines between them are counted; the others are read."""
    lines = [f'{n},"g{n},{ADA}' if n in {5, 30} else f"{n},g{n},{ADA}" for n in range(40)]
    rows, unreadable = audited(
        tmp_path, "id,login,pw\n" + "\n".join(lines) + "\n", in_process, "a.csv"
    )
    assert rows + unreadable >= 40
    assert rows >= 13


def test_a_quoted_text_of_several_lines_is_one_field(tmp_path: Path, in_process: Program) -> None:
    """An address over lines, with a comma in it, swallows nobody."""
    text = f'id,note,pw\n1,"12 Quay, 3rd\nHarbour",{ADA}\n2,"a\n\nb",{BEN}\n'
    assert audited(tmp_path, text, in_process, "a.csv") == (2, 0)


@pytest.mark.parametrize("name", ["a.jsonl", "a.json"])
def test_a_key_given_twice_is_counted(name: str, tmp_path: Path, in_process: Program) -> None:
    """Which of the values counts is anybody's guess, so the record is not read."""
    twice = f'{{"id": 1, "pw": "{ADA}", "pw": "{BEN}"}}'
    once = json.dumps({"id": 2, "pw": BEN})
    text = f"{twice}\n{once}\n" if name == "a.jsonl" else f"[{twice},\n{once}]"
    assert audited(tmp_path, text, in_process, name) == (1, 1)
