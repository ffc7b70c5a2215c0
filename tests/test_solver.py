"""Recovering formulas: puzzles, diagnoses, near misses, and what bad files get."""

import csv
import hashlib
import io
import json
import time
from pathlib import Path
from typing import Any

import pytest

from conftest import Program
from invented.puzzles import Puzzle, puzzles
from lean_tumbler.core.formulas import notation
from lean_tumbler.core.formulas.evaluation import Inputs, evaluate
from lean_tumbler.core.formulas.loops import LoopSearch
from lean_tumbler.core.formulas.near_misses import fits
from lean_tumbler.core.formulas.search_space import Constants, Form, Piece
from lean_tumbler.core.formulas.solutions import Narrowed, Solution, SolvedAccount
from lean_tumbler.core.formulas.solver import Solver
from lean_tumbler.jobs.formula.solving_files import read_hint

WORDS = (
    "Tern <7> Gull", "möwe 12 Äste", "Long harbour 99 o'clock", " Skua & petrel", "razor\"bill\\5",
)  # fmt: skip


def accounts(formula: str, numbers: range, words: tuple[str, ...] = WORDS) -> list[SolvedAccount]:
    """Make known accounts, by the notation's own evaluation."""
    parsed = notation.parse(formula)
    made = []
    for number in numbers:
        inputs = Inputs(
            password=words[number % len(words)] + "x" * (number % 7) + str(number // 5),
            salt=f"{number * 2654435761 % 2**32:08x}".encode(),
            login=f"Ada{number}@tidepost.example",
        )
        made.append(SolvedAccount(inputs=inputs, stored=evaluate(parsed, inputs)))
    return made


def solved(known: list[SolvedAccount], hint: str = "", **options: Any) -> Solution:
    return Solver(
        known,
        narrowed=read_hint(hint) if hint else Narrowed(),
        budget_seconds=options.pop("budget", 120),
        clock=time.monotonic,
        progress=lambda _: None,
        **options,
    ).solve()


# Every kind of step, join, text encoding and filter; hints where the plain search would take long.
PUZZLES = [
    ("utf-8, md5, hex", ""),
    ("latin-1, sha1, hex-upper", ""),
    ("windows-1252, append salt, sha256, base64", ""),
    ("utf-16le, md4, hex", ""),
    ("utf-16le, append salt, sha512, base64", ""),
    ("append salt, utf-16le, sha1, hex", ""),
    ("utf-8, append salt, md5, hex", ""),
    ("utf-8, prepend salt, sha1, hex", ""),
    ("utf-8, surround salt, sha256, hex", ""),
    ('utf-8, append ":", append salt, sha1, base64-unpadded', ""),
    ('utf-8, prepend "-", prepend login:lower, md5, hex', ""),
    ("utf-8, append login, append salt, md5, hex", ""),
    ("utf-8, append salt:unhex, sha256, hex", ""),
    ("utf-8, prepend salt:upper, md5, hex", ""),
    ('utf-8, append salt, append "\\n", md5, hex', ""),
    ("trim, utf-8, append salt, md5, hex", ""),
    ("lower, utf-8, sha1, hex", ""),
    ("upper, utf-8, prepend salt, md5, hex", ""),
    ("first 8, utf-8, md5, hex", ""),
    ("lower, first 10, utf-8, append salt, sha1, hex", ""),
    ("escape-html, utf-8, md5, hex", ""),
    ("escape-quotes, utf-8, append salt, sha1, hex", ""),
    ("nfd, utf-8, sha256, hex", ""),
    ("utf-8, append password, sha1, hex", ""),
    ('utf-8, append "berth-17", append salt, md5, hex', ""),
    ("utf-8, md5, hex, append salt, md5, hex", ""),
    ("utf-8, sha1, append salt, sha1, hex", ""),
    ("utf-8, md5, hex-upper, sha256, hex", ""),
    ("utf-8, append salt, md5, base64, sha1, hex", ""),
    ("utf-8, md5, hex, prepend (take salt, md5, hex), md5, hex", ""),
    ("utf-8, append salt, sha256, hex, first 40", "sha256"),
    ("utf-8, md5, hex, append salt, sha1, hex, first 30", "md5, sha1, cut"),
    ("utf-8, hmac-sha256 salt, hex", ""),
    ("take login, utf-8, hmac-sha1 password, hex", ""),
    ("utf-8, pbkdf2-sha256 2000 32 salt, base64", "pbkdf2"),
    ("utf-8, ripemd160, hex", ""),
    ("utf-8, md5, hex, sha1, hex, md5, hex", "three"),
    ("utf-8, append salt, md5, hex, prepend login, md5, hex", "md5"),
    ("utf-8, append salt, sha256, 99 times (append salt, sha256), hex", "sha256, loop"),
    ("utf-8, md5, hex, 500 times (md5, hex)", "md5, loop"),
    ("utf-8, append salt, 1000 times (sha1), hex", "sha1, loop"),
    ("utf-8, append salt, md5, 4096 times (prepend salt, md5), hex", "md5, loop"),
    ("utf-8, md5, hex, append salt, sha1, hex, prepend login, md5, hex", "md5, sha1, three"),
    ("utf-8, prepend salt, append login, sha1, hex-upper, append salt, md5, hex", "md5, sha1, two"),
]


@pytest.mark.parametrize(("formula", "hint"), PUZZLES)
def test_a_puzzle_is_solved_from_three_accounts_and_holds_on_twenty(
    formula: str, hint: str
) -> None:
    """Whatever the formula, what is found explains accounts that the search never saw."""
    solution = solved(
        accounts(formula, range(1, 4)), hint, constants=Constants(literals=("berth-17",))
    )
    assert solution.formulas, solution
    fresh = accounts(formula, range(5, 25))
    explaining = [
        text
        for text in solution.formulas
        if all(fits(notation.parse(text), row.stored, row.inputs) for row in fresh)
    ]
    assert explaining
    if not hint:  # the plausible comes first
        assert explaining[0] == solution.formulas[0]


@pytest.mark.parametrize("puzzle", puzzles(11, seed=3), ids=lambda puzzle: str(puzzle.formula))
def test_habits_of_old_code_are_found(puzzle: Puzzle) -> None:
    """Reversed, sliced, counted and coded texts, rare digests, HMAC, loops and PBKDF2."""
    solution = solved(list(puzzle.accounts), budget=60)
    fresh = [
        Inputs(password=password, salt=b"a1b2c3d4", login="x.y@tidepost.example")
        for password in ("Puffin Nest 3", "kittiwake", "Zz9!storm")
    ]
    meant = [evaluate(notation.parse(puzzle.formula), inputs) for inputs in fresh]
    assert meant in [
        [evaluate(notation.parse(found), inputs) for inputs in fresh] for found in solution.formulas
    ]


def test_formulas_that_read_alike_are_all_listed() -> None:
    """ASCII passwords do not tell encodings apart, and a login that is the salt tells no source."""
    plain = ("Tern 7 Gull", "Skua 12", "Dunlin 5")
    found = solved(accounts("utf-8, md5, hex", range(3), plain)).formulas
    assert set(found) >= {"utf-8, md5, hex", "latin-1, md5, hex", "windows-1252, md5, hex"}
    same = [
        SolvedAccount(
            inputs=Inputs(password=row.inputs.password, salt=b"Ada%d" % n, login=f"Ada{n}"),
            stored=evaluate(
                notation.parse("utf-8, append login, sha1, hex"),
                Inputs(password=row.inputs.password, login=f"Ada{n}"),
            ),
        )
        for n, row in enumerate(accounts("utf-8, md5, hex", range(3)))
    ]
    assert {"utf-8, append salt, sha1, hex", "utf-8, append login, sha1, hex"} <= set(
        solved(same).formulas
    )


def test_the_search_ends_within_its_budget() -> None:
    """Digests of nothing: no formula, an honest account of how far it got, in time."""
    known = accounts("utf-8, sha256, hex", range(2))
    random = [SolvedAccount(inputs=row.inputs, stored=row.stored[::-1]) for row in known]
    started = time.monotonic()
    solution = solved(random, budget=1)
    assert time.monotonic() - started < 20  # generous: machines are shared
    assert not solution.formulas
    assert not solution.exhausted
    assert solution.tried > 0
    assert solution.reached


Known = list[tuple[str, str, str, str]]


def write_known(folder: Path, rows: Known, head: str = "login,password,stored,salt") -> None:
    buffer = io.StringIO()
    writer = csv.writer(buffer)
    writer.writerow(head.split(","))
    writer.writerows(rows)
    (folder / "known.csv").write_text(buffer.getvalue())


def rows_of(formula: str, number: int = 3) -> Known:
    return [
        (row.inputs.login or "", row.inputs.password, row.stored, (row.inputs.salt or b"").decode())
        for row in accounts(formula, range(number))
    ]


def test_solve_writes_the_formula_down_and_it_verifies(tmp_path: Path, program: Program) -> None:
    """From the file to the policy, and from there through verify, with the values as they stand."""
    formula = 'utf-8, sha1, hex-upper, prepend ":", prepend login:lower, md5, hex'
    write_known(tmp_path, rows_of(formula))
    finished = program("formula", "solve", "known.csv", "--save", "desk", "--format", "json")
    document = finished.document
    assert (finished.code, document["solved"], document["formula"]) == (0, True, formula)
    assert document["fingerprint"] == notation.fingerprint(notation.parse(formula))
    assert document["accounts_explained"] == 3
    assert document["candidates_tried"] > 0
    assert f"desk = '{formula}'" in (tmp_path / "tumbler.toml").read_text().replace(
        '\\"', '"'
    ).replace(f'"{formula}"', f"'{formula}'")
    write_known(tmp_path, rows_of(formula, 20))
    assert program("verify", "known.csv", "--formula", "desk").code == 0
    text = program("formula", "solve", "known.csv").out
    assert text.startswith(f"Solved: {formula}\n")
    for row in rows_of(formula):
        assert row[1] not in text
        assert row[2] not in text


@pytest.mark.parametrize(
    ("change", "note"),
    [
        (lambda row: (row[0], row[2], row[1], row[3]), "wrong way round"),
        (lambda row: (row[0], row[1], row[2] + "\r", row[3]), "do not count"),
        (lambda row: (row[0], row[1], f" {row[2]} ", row[3]), "do not count"),
        (lambda row: (row[0], row[1], row[2].upper(), row[3]), ""),
        (lambda row: (row[0], row[1], f"{row[2]}:{row[3]}", ""), ""),
        (lambda row: (row[0], row[1], f"0x{row[2]}", row[3]), ""),
    ],
)
def test_what_is_odd_in_the_file_is_put_right(
    tmp_path: Path, program: Program, change: Any, note: str
) -> None:
    """Swapped columns, blanks around, letter case, a salt in the value, 0x: found by itself."""
    write_known(tmp_path, [change(row) for row in rows_of("utf-8, append salt, sha1, hex")])
    document = program("formula", "solve", "known.csv", "--format", "json").document
    assert document["solved"]
    assert document["formula"].startswith("utf-8, append salt, sha1, hex")
    assert any(note in text for text in document["notes"]) or not note


def test_a_near_miss_says_which_accounts_it_leaves(tmp_path: Path, program: Program) -> None:
    """All but the account with an umlaut: named by its line and by what it has."""
    rows = rows_of("utf-8, append salt, sha1, hex", 4)
    odd = rows_of('windows-1252, append salt, append "stays unknown", md5, hex', 2)[1]
    write_known(tmp_path, [rows[0], odd, rows[2], rows[3]])
    finished = program("formula", "solve", "known.csv", "--budget", "1", "--format", "json")
    assert finished.code == 1
    document = finished.document
    assert (document["solved"], document["formula"]) == (False, None)
    assert document["near_misses"][0] == {
        "formula": "utf-8, append salt, sha1, hex",
        "accounts_explained": 3,
        "leaves": "line 3: those with a letter beyond ASCII in the password",
    }
    assert any("--literal" in text for text in document["next_checks"])
    text = program("formula", "solve", "known.csv", "--budget", "1").out
    assert text.startswith("No formula explains all accounts.")
    assert "3 of 4" in text


DIGEST = "5f4dcc3b5aa765d61d8327deb882cf99"


@pytest.mark.parametrize(
    ("content", "arguments", "expected"),
    [
        ("login,password\na,b\n", (), "line 1: no column “stored”"),
        (f"login,password,stored\na,,{DIGEST}\n", (), "line 2: the column “password” is empty"),
        (f"login,password,stored\na,b,{DIGEST}\n", (), "line 2: one account is not enough"),
        (f"login,password,stored\na,b,{DIGEST}\na,b,{DIGEST[::-1]}\n", (),
         "lines 2 and 3 contradict each other"),
        ("login,password,stored\na,b,$2b$05$" + "a" * 53 + f"\nc,d,{DIGEST}\n", (),
         "line 2: the column “stored” holds bcrypt, which describes itself"),
        (f"login,password,stored\na,b,{DIGEST}\nc,d,{DIGEST}\n", ("--hint", "magic"),
         "--hint: no word of it is known"),
        (f"login,password,stored\na,b,{DIGEST}\nc,d,{DIGEST}\n", ("--literals-from", "none.txt"),
         "none.txt"),
    ],
)  # fmt: skip
def test_a_bad_file_gets_one_line(
    tmp_path: Path, program: Program, content: str, arguments: tuple[str, ...], expected: str
) -> None:
    """A missing column, an empty password, one row, a contradiction: line and column are named."""
    (tmp_path / "known.csv").write_text(content)
    finished = program("formula", "solve", "known.csv", *arguments)
    assert finished.code in {2, 3}
    assert finished.out == ""
    assert expected in finished.err
    assert finished.err.count("\n") == 1
    assert DIGEST not in finished.err


def test_show_reads_a_formula_aloud(tmp_path: Path, program: Program) -> None:
    """Canonical text, fingerprint, what it costs, and every value of an example on the way."""
    text = "lower,append salt,md5,hex, 3 times(append salt,md5,hex)"
    document = program("formula", "show", text, "--format", "json").document
    parsed = notation.parse(text)
    assert document["formula"] == notation.write(parsed)
    assert document["lossy"] == ["lower"]
    example = document["example"]
    inputs = Inputs(
        password=example["password"], salt=example["salt"].encode(), login=example["login"]
    )
    assert example["steps"][-1]["value"] == evaluate(parsed, inputs)
    steps = [line["step"] for line in example["steps"]]
    assert steps[:4] == ["lower", "append salt", "utf-8, md5", "hex"]
    assert [step.rpartition(", ")[2] for step in steps[4:]] == ["after 1", "after 2", "after 3"]
    shown = program("formula", "show", text).out
    assert shown.startswith(notation.write(parsed))
    assert "Lossy: lower." in shown
    (tmp_path / "tumbler.toml").write_text('[formulas]\ndesk = "utf-8, md5, hex"\n')
    assert "desk, fingerprint" in program("formula", "show", "desk").out
    wrong = program("formula", "show", "utf-8, md6")
    assert (wrong.code, wrong.err.count("\n")) == (2, 1)
    assert (
        json.loads(program("formula", "show", "desk", "--format", "json").out)["policy_name"]
        == "desk"
    )


def test_a_literal_of_dashes(program: Program, tmp_path: Path) -> None:
    """`--literal=--` is the text of two dashes, and the formula with it is found."""
    lines = ["login,password,stored,salt"]
    for number, password in enumerate(("Gannet 7", "Skua 40", "Tern 12")):
        salt = f"s{number}alt"
        stored = hashlib.sha1(f"{salt}--{password}--".encode()).hexdigest()
        lines.append(f"a{number},{password},{stored},{salt}")
    (tmp_path / "known.csv").write_text("\n".join(lines) + "\n")
    finished = program("formula", "solve", "known.csv", "--literal=--", "--format", "json")
    assert finished.code == 0, finished.err
    assert '"--"' in finished.document["formula"]


def test_one_time_is_no_loop() -> None:
    """A loop that is gone through once is printed as the steps that it is."""
    digest = hashlib.sha1(b"Skua").digest()
    hits: list[tuple[str, ...]] = []
    search = LoopSearch(
        pivot=0, prefix=hashlib.sha1(digest).digest(), most=3, hit=hits.append, count=lambda _: None
    )
    plain = Form(steps=(), before=(b"",), after=(b"",))
    final = ("sha1", lambda raw: hashlib.sha1(raw).digest(), ("hex",))
    search.of(Piece(("utf-8",), (b"Skua",)), plain, final, plain)
    assert hits == [("utf-8", "2 times (sha1)", "hex")]
    search = LoopSearch(pivot=0, prefix=digest, most=3, hit=hits.append, count=lambda _: None)
    search.of(Piece(("utf-8",), (b"Skua",)), plain, final, plain)
    assert hits[1:] == [("utf-8", "sha1", "hex")]
