"""What the tool itself doubts, it does not write: careless users, through the documented commands."""

import ast
import hashlib
import random
import sqlite3
from collections.abc import Sequence
from contextlib import closing
from pathlib import Path
from typing import Any

import pytest

from conftest import Program, make_portal
from invented.careless import OF_TESTS, world
from invented.careless_trial import HEAD, on_sqlite
from lean_tumbler.core.reasons import Reason
from lean_tumbler.core.warrant import NOT_ASKED, Check, Step

SOURCE = Path(__file__).parent.parent / "src" / "lean_tumbler"
READY = 'mode = "upgrade"\nreaders_ready = 2026-01-31'
LAYER = ("layer", "--no-backup", "--format", "json")


def md5(text: str) -> str:
    return hashlib.md5(text.encode()).hexdigest()


def table(folder: Path, create: str, rows: Sequence[Sequence[object]], name: str = "a.db") -> None:
    """Write a table of guests."""
    with closing(sqlite3.connect(folder / name)) as db, db:
        db.execute(f"CREATE TABLE guests ({create})")
        db.executemany(f"INSERT INTO guests VALUES ({', '.join('?' * len(rows[0]))})", rows)


def stored(folder: Path, name: str = "a.db") -> dict[int, str]:
    with closing(sqlite3.connect(folder / name)) as db:
        return dict(db.execute("SELECT id, pw FROM guests"))


def known(folder: Path, people: Sequence[tuple[str, str]]) -> None:
    lines = [f"{login},{password}" for login, password in people]
    (folder / "known.csv").write_text("\n".join(["login,password", *lines, ""]))


def draft(folder: Path, run: Program, *more: str) -> dict[str, Any]:
    """Draft with a cheap target, and say that readers are ready."""
    policy = folder / "tumbler.toml"
    policy.write_text(HEAD)
    done = run("draft", "a.db", *more, "--merge", "--format", "json")
    assert done.code == 0, done.err
    policy.write_text(policy.read_text().replace("# readers_ready = 2026-01-31", READY))
    (store,) = done.document["stores"] or [{}]
    return dict(store)


def opens(run: Program, login: str, password: str) -> bool:
    return run("admit", login, stdin=password.encode()).code == 0


LOGIN = "id INTEGER PRIMARY KEY, login TEXT, pw TEXT"


def test_letter_case_that_no_known_password_tests(tmp_path: Path, in_process: Program) -> None:
    """Known in small letters alone: both are tried, nobody is locked out, and rows stay layered."""
    words = [f"Gannet{n}" if n >= 20 else f"gannet{n}" for n in range(40)]
    table(tmp_path, LOGIN, [(n, f"u{n}", md5(word.lower())) for n, word in enumerate(words)])
    known(tmp_path, [(f"u{n}", words[n]) for n in range(20)])
    (cohort,) = draft(tmp_path, in_process, "known.csv")["cohorts"]
    assert cohort["untested"] == ["letter case", "blanks", "encoding"]
    assert in_process(*LAYER).document["layered"] == 40
    assert all(opens(in_process, f"u{n}", words[n]) for n in (0, 1, 20, 21, 39))
    assert not opens(in_process, "u20", "another20")
    assert all(value.startswith("$over$") for value in stored(tmp_path).values())
    assert opens(in_process, "u0", "GANNET0")  # as the old program would


def test_a_capital_settles_that_letter_case_counts(tmp_path: Path, in_process: Program) -> None:
    """A login with a capital is upgraded at once, and settles it for those in small letters."""
    words = [f"Gannet{n}" if n >= 20 else f"gannet{n}" for n in range(40)]
    table(tmp_path, LOGIN, [(n, f"u{n}", md5(word)) for n, word in enumerate(words)])
    known(tmp_path, [(f"u{n}", words[n]) for n in range(20)])
    draft(tmp_path, in_process, "known.csv")
    assert in_process(*LAYER).document["layered"] == 40
    assert "left as it is" in in_process("admit", "u0", stdin=b"gannet0").out
    assert "argon2id" in in_process("admit", "u30", stdin=b"Gannet30").out
    assert stored(tmp_path)[30].startswith("$argon2id$")
    in_process("admit", "u0", stdin=b"gannet0")
    assert stored(tmp_path)[0].startswith("$argon2id$")


COMPOSITES = {
    "salt and digest": lambda n: f"{n:08x} {md5(f'{n:08x}gull {n}')}",
    "numbers and base64": lambda n: (
        f"3:{'QUJDREVGR0hJSktM' + str(n)}x9Yz==:QUJDREVGR0hJSktMTU5P{n}Zz9="
    ),
    "a tag": lambda n: f"[md5]{md5(f'gull {n}')}",
    "a document": lambda n: f'{{"h": "{md5(f"gull {n}")}", "s": "{n}"}}',
    "serialised": lambda n: f'a:2:{{s:1:"h";s:32:"{md5(f"gull {n}")}";}}',
    "bars": lambda n: f"v1|{md5(f'gull {n}')}|{n}",
}


@pytest.mark.parametrize("form", COMPOSITES)
def test_a_plain_cohort_takes_no_structure_that_nobody_proved(
    form: str, tmp_path: Path, in_process: Program
) -> None:
    """Plain text is proven, composites beside it are not: left, and no stored text opens."""
    rows: list[tuple[object, ...]] = [(n, f"u{n}", f"gull {n} on a mast") for n in range(40)]
    rows += [(n, f"u{n}", COMPOSITES[form](n)) for n in range(40, 105)]
    table(tmp_path, LOGIN, rows)
    known(tmp_path, [(f"u{n}", f"gull {n} on a mast") for n in range(15)])
    if not draft(tmp_path, in_process, "known.csv"):  # a column of documents: by hand
        policy = WRITING.replace('"observe"', '"upgrade"').replace(*NO_MOVE).partition("[[")[0]
        plain = '[[store.guests.cohort]]\nname = "typed"\nplain_text = true\n'
        (tmp_path / "tumbler.toml").write_text(HEAD + policy + plain)
        assert in_process("verify", "known.csv", "--store", "guests").code == 0
    before = stored(tmp_path)
    document = in_process(*LAYER).document
    assert (document["replaced"], document["layered"]) == (40, 0)
    after = stored(tmp_path)
    assert all(after[n] == before[n] for n in range(40, 105))
    assert not any(opens(in_process, f"u{n}", before[n]) for n in (40, 41, 104))


def test_passwords_of_hexadecimal_digits_beside_digests(
    tmp_path: Path, in_process: Program
) -> None:
    """Managers drew 32 digits, others stand as digest:salt: a layout tells them apart."""
    chance = random.Random(1)
    drawn = ["".join(chance.choices("0123456789abcdef", k=32)) for _ in range(30)]
    rows: list[tuple[object, ...]] = [
        (n, f"u{n}", f"{md5(f'Möwe {n}s{n}')}:s{n}", "shop") for n in range(60)
    ]
    rows += [(60 + n, f"u{60 + n}", text, "desk") for n, text in enumerate(drawn)]
    table(tmp_path, LOGIN + ", source TEXT", rows)
    known(tmp_path, [(f"u{n}", f"Möwe {n}") for n in range(20)])
    (cohort,) = draft(tmp_path, in_process, "known.csv")["cohorts"]
    assert cohort["layout"] == "{digest}:{salt}"
    assert in_process(*LAYER).document["layered"] == 60
    assert all(stored(tmp_path)[60 + n] == text for n, text in enumerate(drawn))


def test_proof_is_of_the_rows_that_were_looked_at(tmp_path: Path, in_process: Program) -> None:
    """Another database under the same policy is not proven, a true copy is, an import is left."""
    rows = [(n, f"u{n}", md5(f"Möwe {n}")) for n in range(30)]
    others = [(n, f"u{n}", md5(f"x{n}Möwe")) for n in range(12)]
    table(tmp_path, LOGIN, rows)
    table(tmp_path, LOGIN, others, "b.db")
    table(tmp_path, LOGIN, rows, "copy.db")
    known(tmp_path, [(f"u{n}", f"Möwe {n}") for n in range(20)])
    draft(tmp_path, in_process, "known.csv")
    policy = tmp_path / "tumbler.toml"
    text = policy.read_text()
    policy.write_text(text.replace('"a.db"', '"b.db"'))
    elsewhere = in_process(*LAYER)
    assert (elsewhere.code, elsewhere.document["layered"]) == (1, 0)
    assert "another database" in elsewhere.document["proof_lapsed"]
    policy.write_text(text.replace('"a.db"', '"copy.db"'))
    assert in_process(*LAYER).document["layered"] == 30
    policy.write_text(text)
    with closing(sqlite3.connect(tmp_path / "a.db")) as db, db:
        db.executemany(
            "INSERT INTO guests VALUES (?, ?, ?)",
            [(100 + n, f"i{n}", md5(f"y{n}")) for n in range(5)],
        )
    imported = in_process(*LAYER).document
    assert imported["layered"] == 30
    assert imported["left"][str(Reason.CAME_LATER)] == 5


def test_one_known_account_is_too_few_and_a_way_back_is_asked_for(
    tmp_path: Path, in_process: Program
) -> None:
    """The step stops before it begins a file, and says how a key pair is made."""
    table(tmp_path, LOGIN, [(n, f"u{n}", md5(f"Möwe {n}")) for n in range(30)])
    known(tmp_path, [("u1", "Möwe 1")])
    draft(tmp_path, in_process, "known.csv")
    before = stored(tmp_path)
    refused = in_process("layer")
    assert refused.code == 2
    assert "lean-tumbler keys new recovery" in refused.err
    assert "Keep recovery.private.pem off this machine" in refused.err
    left = in_process(*LAYER)
    assert (left.code, left.document["left"]) == (1, {str(Reason.TOO_FEW): 30})
    assert left.document["proofs"]["md5"]["more_people_needed"] == 9
    assert stored(tmp_path) == before


def test_a_plan_says_how_long_observing_takes(tmp_path: Path, in_process: Program) -> None:
    """Two people log in a day: nine more take five days of logins."""
    days = [f"2026-01-{31 - n // 2:02} 08:00:00" for n in range(30)]
    rows = [(n, f"u{n}", md5(f"Möwe {n}"), day) for n, day in enumerate(days)]
    table(tmp_path, LOGIN + ", last_login text", rows)
    known(tmp_path, [("u1", "Möwe 1")])
    draft(tmp_path, in_process, "known.csv")
    proof = in_process("plan", "--format", "json").document["proofs"]["md5"]
    assert (proof["more_people_needed"], proof["days_of_logins"]) == (9, 5)
    out = in_process("plan").out
    assert "9 more accounts came, about 5 days at the recent rate, rarely more than 18" in out


def test_rows_that_nobody_speaks_for_are_named(tmp_path: Path, in_process: Program) -> None:
    """Known guests who came by the web, all of late: years, an import, a role and an origin."""
    create = f"{LOGIN}, created TEXT, role TEXT, imported_from TEXT"
    rows: list[tuple[object, ...]] = []
    for n in range(400):
        early, staff = n < 60, 60 <= n < 90
        created = "2009-05-04" if early else f"20{20 + n % 4}-0{1 + n % 9}-11"
        kind, origin = ("staff" if staff else "guest"), ("harbour office" if early else "web")
        rows.append((n, f"u{n}", md5(f"Gannet{n}"), created, kind, origin))
    table(tmp_path, create, rows)
    known(tmp_path, [(f"u{n}", f"Gannet{n}") for n in range(100, 130)])
    columns = draft(tmp_path, in_process, "known.csv")["columns"]
    roles = {role: column["column"] for role, column in columns.items()}
    assert roles["origin"] == "imported_from"
    del roles["privileged"]
    written = ", ".join(f'{role} = "{own}"' for role, own in roles.items())
    (tmp_path / "tumbler.toml").write_text(f"""{HEAD}
[store.guests]
locator = "a.db"
table = "guests"
mode = "upgrade"
columns = {{ {written}, privileged = {{ column = "role", values = ["staff"] }} }}
cohort = [{{ name = "of the shop", formula = "utf-8, md5, hex" }}]
""")
    assert in_process("verify", "known.csv", "--store", "guests").code == 0
    (proof,) = in_process("plan", "--format", "json").document["proofs"].values()
    assert proof["not_spoken_for"] == [
        "60 rows made in 2009",
        "60 rows made on 2009-05-04, as by an import",
        "60 rows with the origin “harbour office”",
        "30 rows with the role “staff”",
    ]


def test_a_person_counts_once(tmp_path: Path, in_process: Program) -> None:
    """Known, and observed at a login: one person."""
    table(tmp_path, LOGIN, [(n, f"u{n}", md5(f"Möwe {n}")) for n in range(30)])
    known(tmp_path, [(f"u{n}", f"Möwe {n}") for n in range(5)])
    draft(tmp_path, in_process, "known.csv")
    policy = tmp_path / "tumbler.toml"
    policy.write_text(policy.read_text().replace('"upgrade"', '"observe"'))
    for n in range(7):
        assert opens(in_process, f"U{n}" if n == 9 else f"u{n}", f"Möwe {n}")
    proof = in_process("plan", "--format", "json").document["proofs"]["md5"]
    assert (proof["known_accepted"], proof["observed_agreed"], proof["people"]) == (5, 7, 7)


WRITING = """
[store.guests]
locator = "a.db"
table = "guests"
mode = "observe"
readers_ready = 2026-01-01
[store.guests.columns]
account = "id"
login = "login"
stored = "pw"
write_to = { column = "new", empty_stored = true }
[[store.guests.cohort]]
name = "old"
formula = "utf-8, md5, hex"
"""


SHOP = "when = 'source = \"shop\"'\n"
DESK = """
[[store.guests.cohort]]
name = "desk"
plain_text = %s
when = 'source = "desk"'
"""
NO_MOVE = ('write_to = { column = "new", empty_stored = true }\n', "")


@pytest.mark.parametrize(("mode", "share"), [("observe", "100%"), ("upgrade", "0%")])
def test_observing_writes_nothing_anywhere(
    mode: str, share: str, tmp_path: Path, in_process: Program
) -> None:
    """No login moves a value to another column; bulk steps and new passwords are refused."""
    table(tmp_path, LOGIN + ", new TEXT", [(n, f"u{n}", md5(f"Möwe {n}"), None) for n in range(5)])
    policy = WRITING.replace('"observe"', f'"{mode}"\nshare = "{share}"')
    (tmp_path / "tumbler.toml").write_text(HEAD + policy)
    with closing(sqlite3.connect(tmp_path / "a.db")) as db:
        before = list(db.execute("SELECT * FROM guests ORDER BY id"))
        assert "left as it is" in in_process("admit", "u1", stdin="Möwe 1".encode()).out
        assert list(db.execute("SELECT * FROM guests ORDER BY id")) == before
        if mode == "observe":
            for words in (
                ("layer", "--no-backup"),
                ("set-password", "u1"),
                ("lock-dormant", "--include-never-seen", "--before", "2026-01-01", "--no-backup"),
            ):
                refused = in_process(*words, stdin=b"Dunlin 42 gulls")
                assert refused.code == 2, words
            assert list(db.execute("SELECT * FROM guests ORDER BY id")) == before


def test_rows_that_were_deleted_softly(tmp_path: Path, in_process: Program) -> None:
    """A column explains the repeated logins: the draft names it, and the live owner is admitted."""
    rows: list[tuple[object, ...]] = [(n, f"u{n}", md5(f"Möwe {n}"), None) for n in range(40)]
    rows += [(100 + n, f"u{n}", md5(f"old {n}"), "2015-06-01") for n in range(6)]
    table(tmp_path, LOGIN + ", deleted_at TEXT", rows)
    known(tmp_path, [(f"u{n}", f"Möwe {n}") for n in range(20)])
    assert draft(tmp_path, in_process, "known.csv")["rows_when"] == "deleted_at null"
    before = stored(tmp_path)
    assert in_process(*LAYER).document["layered"] == 40
    assert opens(in_process, "u1", "Möwe 1")
    assert {n: value for n, value in stored(tmp_path).items() if n >= 100} == {
        n: value for n, value in before.items() if n >= 100
    }


def test_repeated_logins_that_nothing_explains_are_left(
    tmp_path: Path, in_process: Program
) -> None:
    """Both rows stay, each step says so, and the others are written."""
    rows = [(n, f"u{n % 38}", md5(f"Möwe {n}")) for n in range(40)]
    table(tmp_path, LOGIN, rows)
    known(tmp_path, [(f"u{n}", f"Möwe {n}") for n in range(5, 30)])
    assert draft(tmp_path, in_process, "known.csv")["logins_repeated"] == 2
    document = in_process(*LAYER).document
    assert document["layered"] == 36
    assert document["left"][str(Reason.LOGIN_REPEATED)] == 4
    dry = in_process("layer", "--dry-run", "--format", "json").document
    assert dry["left"][str(Reason.LOGIN_REPEATED)] == 4


def test_drawn_passwords_are_proven_by_those_who_know_theirs(
    tmp_path: Path, in_process: Program
) -> None:
    """A store whose digests have a condition: 32 digits beside it are passwords once proven."""
    chance = random.Random(2)
    drawn = ["".join(chance.choices("0123456789abcdef", k=32)) for _ in range(60)]
    rows: list[tuple[object, ...]] = [(n, f"u{n}", md5(f"Möwe {n}"), "shop") for n in range(60)]
    rows += [(60 + n, f"u{60 + n}", text, "desk") for n, text in enumerate(drawn)]
    table(tmp_path, LOGIN + ", source TEXT", rows)
    policy = WRITING.replace('"observe"', '"upgrade"').replace(*NO_MOVE)
    told = HEAD + policy + SHOP
    (tmp_path / "tumbler.toml").write_text(told + DESK % "true")
    assert not opens(in_process, "u100", drawn[40])
    assert 'declare plain_text = "all"' in " ".join(in_process("plan").out.split())
    (tmp_path / "tumbler.toml").write_text(told + DESK % '"all"')
    assert not opens(in_process, "u100", drawn[40])
    known(tmp_path, [(f"u{60 + n}", text) for n, text in enumerate(drawn[:20])])
    assert in_process("verify", "known.csv", "--store", "guests").code == 0
    assert opens(in_process, "u100", drawn[40])
    assert not opens(in_process, "u1", md5("Möwe 1"))


def test_a_dry_run_promises_what_the_run_does(tmp_path: Path, in_process: Program) -> None:
    """The same rows, the same reasons; and the same command line continues in the same backup."""
    portal = make_portal(tmp_path, ["md5", "sha1", "plain", "bcrypt", "current", "locked"] * 6)
    dry = in_process("layer", "--dry-run", "--format", "json").document
    assert in_process("keys", "new", "k").code == 0
    sealed = ("--backup", "b.sealed", "--to", "k.public.pem", "--format", "json")
    first = in_process("layer", "--share", "50%", *sealed).document
    second = in_process("layer", *sealed).document
    assert first["layered"] + second["layered"] == dry["layered"] == 18
    assert first["replaced"] + second["replaced"] == dry["replaced"] == 6
    before = make_portal_values(portal)
    undone = in_process("undo", "b.sealed", "--key", "k.private.pem", "--format", "json").document
    assert undone["restored"] == 24
    assert portal.stored() == before


def make_portal_values(portal: Any) -> dict[int, str | None]:
    return {row.number: row.stored for row in portal.passengers}


def test_a_damaged_value_is_put_back_on_demand(tmp_path: Path, in_process: Program) -> None:
    """Somebody else cut a layered value: `undo` leaves it, and takes it where it is told to."""
    portal = make_portal(tmp_path, ["md5"] * 6)
    in_process("keys", "new", "k")
    in_process("layer", "--backup", "b.sealed", "--to", "k.public.pem")
    with closing(sqlite3.connect(portal.database)) as db, db:
        db.execute("UPDATE passengers SET pw = substr(pw, 1, 60) WHERE id = 2")
        db.execute("UPDATE passengers SET pw = '!' WHERE id = 3")
    undo = ("undo", "b.sealed", "--key", "k.private.pem", "--format", "json")
    dry = in_process(*undo, "--even-if-changed", "--dry-run").document
    assert dry["damaged"] == [2]
    done = in_process(*undo, "--even-if-changed").document
    assert (done["restored"], done["changed_meanwhile"], done["damaged"]) == (5, 1, [2])
    assert portal.stored()[2] == portal.passengers[1].stored


def test_a_control_character_does_no_harm_to_a_draft(tmp_path: Path, in_process: Program) -> None:
    """The policy is written, and can be read."""
    rows: list[tuple[object, ...]] = [(n, f"u{n}", md5(f"Möwe {n}")) for n in range(20)]
    rows += [(50, "u50", f"a\x01{md5('x')}\x02\x7f")]
    table(tmp_path, LOGIN, rows)
    known(tmp_path, [(f"u{n}", f"Möwe {n}") for n in range(15)])
    draft(tmp_path, in_process, "known.csv")
    assert in_process("plan").code == 0


def test_a_legacy_table_needs_no_known_account(tmp_path: Path, in_process: Program) -> None:
    """Dozens of rows open by likely passwords under one formula: drafted, proven and layered."""
    words = ["123456" if n % 9 == 0 else f"Gannet {n} möwe" for n in range(400)]
    table(tmp_path, LOGIN, [(n, f"u{n}", md5(word)) for n, word in enumerate(words)])
    (cohort,) = draft(tmp_path, in_process)["cohorts"]
    assert (cohort["formula"], cohort["known"]) == ("utf-8, md5, hex", 0)
    done = in_process(*LAYER)
    assert done.document["layered"] == 400
    assert done.document["proofs"]["md5"]["guessed"] == 45
    assert opens(in_process, "u1", "Gannet 1 möwe")
    evidence = (tmp_path / "tumbler.evidence.json").read_text()
    assert "123456" not in evidence + done.out


def test_digests_are_layered_beside_a_target_that_lies_over_none(
    tmp_path: Path, in_process: Program
) -> None:
    """With `layer_with`, logins write bcrypt and digests lie under Argon2id meanwhile."""
    table(tmp_path, LOGIN, [(n, f"u{n}", md5(f"Möwe {n}")) for n in range(20)])
    known(tmp_path, [(f"u{n}", f"Möwe {n}") for n in range(20)])
    draft(tmp_path, in_process, "known.csv")
    policy = tmp_path / "tumbler.toml"
    over = 'layer_with = { memory_kib = 8, passes = 1, verified_by = ["service"] }'
    head = f'[target]\nscheme = "bcrypt"\ncost_log2 = 10\n{over}\n'
    policy.write_text(policy.read_text().replace("[target]\nmemory_kib = 8\npasses = 1\n", head))
    assert in_process(*LAYER).document["layered"] == 20
    assert all("$argon2id$" in value for value in stored(tmp_path).values())
    assert opens(in_process, "u3", "Möwe 3")
    assert stored(tmp_path)[3].startswith("$2b$10$")


# -- One place --------------------------------------------------------------------------------

WRITES = frozenset({"swap", "swap_many", "fill"})


def _writes(tree: ast.AST) -> bool:
    """Tell code that has a store write: `store.swap(…)`, and not the row's own `account.swap(…)`."""
    return any(
        isinstance(node, ast.Call)
        and isinstance(node.func, ast.Attribute)
        and node.func.attr in WRITES
        and "store" in ast.unparse(node.func.value).lower()
        for node in ast.walk(tree)
    )


def test_whatever_writes_asks_the_warrant() -> None:
    """Each module that has a store write asks it, or writes what a bulk step was allowed."""
    writing = {}
    for path in sorted(SOURCE.rglob("*.py")):
        name = path.relative_to(SOURCE).as_posix()
        tree = ast.parse(path.read_text("utf-8"))
        if not name.startswith("stores/") and _writes(tree):
            writing[name] = "lean_tumbler.core.warrant" in path.read_text("utf-8")
    # The engine writes what steps choose, and each step's `choose` asks.
    assert writing.pop("migration/bulk/writing.py") is False
    assert writing == dict.fromkeys(writing, True)
    assert {"migration/admission.py", "jobs/set_password/setting.py"} <= writing.keys()
    for path in sorted(SOURCE.rglob("*.py")):
        text = path.read_text("utf-8")
        if "def choose(self" in text and "Protocol" not in text:
            assert "self._warrant." in text, path


def test_the_table_of_steps_is_whole() -> None:
    """Each check that a step leaves out has its reason, and is one of a step and a check."""
    for (step, check), why in NOT_ASKED.items():
        assert (step in Step, check in Check) == (True, True)
        assert why
    page = (SOURCE.parent.parent / "docs" / "POLICY.md").read_text("utf-8")
    for step in Step:
        assert f"| {step} |" in page


def test_each_reason_says_what_settles_it() -> None:
    """A reason that a person must look at has a remedy."""
    for reason in Reason:
        assert reason.is_settled or reason.remedy or reason is Reason.UNREADABLE_DATE


# -- Careless users ---------------------------------------------------------------------------


@pytest.mark.parametrize("number", OF_TESTS[::5])
def test_a_careless_user_locks_nobody_out(number: int, tmp_path: Path) -> None:
    """Whatever is known, in whatever order: nobody is refused, no wrong text opens."""
    outcome = on_sqlite(world(number), tmp_path)
    assert outcome.faults == []
    assert outcome.counts["worlds"] == 1
