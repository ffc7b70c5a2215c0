"""Generations of registration code in one column: invented tables of known truth, and what breaks."""

import hashlib
import random
import re
import sqlite3
import unicodedata
import zlib
from collections.abc import Callable, Iterator
from concurrent.futures import ThreadPoolExecutor
from contextlib import closing
from pathlib import Path

import pytest
from msgspec.structs import force_setattr, replace

import servers
from conftest import CHEAP_POLICY, Program, planned
from invented import passwords, tables, trial
from invented.digests import UNREADABLE
from lean_tumbler import CredentialGateway, StoragePolicy
from lean_tumbler.core import row_plans
from lean_tumbler.core.reading.survey import Survey
from lean_tumbler.core.reasons import Reason
from lean_tumbler.core.row_plans import derived, task_of
from lean_tumbler.core.schemes.catalogue import DERIVATIONS, read_value
from lean_tumbler.core.stored_forms import pattern
from lean_tumbler.errors import WriteNotConfirmed
from lean_tumbler.stores.sql.opening import open_database
from test_servers import STARTERS

# What may not happen to anybody, whatever the table.
NEVER = ("locked out", "wrongly admitted", "opened only later", "opened without a password",
         "changed without need")  # fmt: skip


@pytest.fixture(scope="module")
def executor() -> Iterator[ThreadPoolExecutor]:
    with ThreadPoolExecutor(2) as found:
        yield found


def tried(table: tables.Table, folder: Path, executor: ThreadPoolExecutor) -> trial.Result:
    trial.write_sqlite(table, folder / "kiosk.db")
    return trial.Trial(table, "sqlite:///kiosk.db", folder, executor).run()


@pytest.mark.parametrize("seed", range(1000, 1009))
def test_nobody_is_locked_out_of_an_invented_table(
    seed: int, tmp_path: Path, executor: ThreadPoolExecutor
) -> None:
    """With a right policy everybody goes on as before, nobody else gets in, and all is layered."""
    result = tried(tables.table(seed, rows=40), tmp_path, executor)
    assert result.faults == []
    assert result.counts["rows"] == 40
    assert result.counts["upgraded"] > 0


@pytest.mark.parametrize("seed", range(1500, 1503))
def test_digests_may_stand_as_bytes(
    seed: int, tmp_path: Path, executor: ThreadPoolExecutor
) -> None:
    """In a binary column a digest's bytes count as their hexadecimal digits; nobody is locked out."""
    table = tables.table(seed, rows=40)
    trial.write_sqlite(table, tmp_path / "kiosk.db", binary=True)
    result = trial.Trial(table, "sqlite:///kiosk.db", tmp_path, executor).run()
    assert result.faults == []
    assert result.counts["upgraded"] > 0


WRONG = {
    "append salt": "prepend salt", "prepend salt": "append salt", "utf-8, md5, hex\"": 'utf-8, sha1, hex, '
    'first 32"', "login:lower": "login:upper", "hmac-sha256 salt": "append salt, sha256",
    "24 salt": "24 salt:hex", "9 times": "10 times",
}  # fmt: skip


@pytest.mark.parametrize("seed", range(2000, 2005))
def test_a_wrong_policy_locks_nobody_out(
    seed: int, tmp_path: Path, executor: ThreadPoolExecutor
) -> None:
    """Where a declared formula is wrong, known accounts disprove it, and its rows are left."""
    table = tables.table(seed, rows=40)
    for right, wrong in WRONG.items():
        table.cohorts = table.cohorts.replace(right, wrong, 1)
    result = tried(table, tmp_path, executor)
    assert [fault for fault in result.faults if fault[0] in NEVER] == []


def test_the_trial_sees_what_goes_wrong(
    tmp_path: Path, executor: ThreadPoolExecutor, monkeypatch: pytest.MonkeyPatch
) -> None:
    """The same trial, of a bulk step that takes rows without proof, counts the people locked out."""
    table = tables.table(1001, rows=40)
    table.cohorts = (
        "[[store.kiosk.cohort]]\nname = 'wrong'\nformula = 'append \"?\", utf-8, md5, hex'\n"
    )
    chance = random.Random(1)
    table.people = [tables.person(number, "md5", 0, chance, odd=False) for number in range(1, 21)]
    careless = row_plans.plan_row
    monkeypatch.setattr(
        "lean_tumbler.migration.bulk.layering.plan_row",
        lambda reading, policy: _unproven(careless(reading, policy)),
    )
    result = tried(table, tmp_path, executor)
    assert result.counts["refused before"] == 20
    assert result.counts["left"] == 0


def _unproven(plan: row_plans.RowPlan) -> row_plans.RowPlan:
    return replace(plan, needs_proof=False)


@pytest.fixture(scope="module", params=STARTERS)
def server(request: pytest.FixtureRequest) -> Iterator[servers.Server]:
    with STARTERS[request.param]() as running:
        yield running


def test_an_invented_table_on_a_server(
    server: servers.Server, tmp_path: Path, executor: ThreadPoolExecutor
) -> None:
    """The same on a real server: conditions, parts and swaps see the same bytes there."""
    binary = "bytea" if "postgresql" in server.url else "varbinary(700)"
    for seed, create, cells in (
        (3000, trial.CREATE, trial.cells),
        (3001, trial.CREATE, trial.cells),
        (3002, trial.created(binary), trial.binary_cells),
    ):
        table = tables.table(seed, rows=40)
        server.run(f"DROP TABLE IF EXISTS kiosk; {create};")
        engine = open_database(server.url, base=tmp_path, writable=True).engine
        with engine.begin() as connection:
            marks = ", ".join(["%s"] * trial.COLUMNS)
            for person in table.people:
                connection.exec_driver_sql(f"INSERT INTO kiosk VALUES ({marks})", cells(person))
        engine.dispose()
        result = trial.Trial(table, server.url, tmp_path, executor).run()
        assert result.faults == []


# -- The shop ---------------------------------------------------------------------------------

SHOP = """
[target]
memory_kib = 8
passes = 1
[floor]
argon2id = { memory_kib = 8, passes = 1 }
[store.shop]
locator = "shop.db"
table = "customers"
readers_ready = 2026-01-01
[store.shop.columns]
account = "id"
login = "mail"
stored = "pw"
salt = "pw_salt"
created = "joined"
"""
GENERATIONS = (
    ("md5-2003", "utf-8, md5, hex", lambda p, _: p),
    ("md5-2006", "utf-8, append salt, md5, hex", lambda p, s: p + s),
    ("md5-2010", "utf-8, prepend salt, md5, hex", lambda p, s: s + p),
    ("md5-2014", "utf-8, md5, hex, append salt, md5, hex",
     lambda p, s: hashlib.md5(p.encode()).hexdigest() + s),
)  # fmt: skip
TOLD_BY = {
    "a date": ["created before 2006-01-01", "created from 2006-01-01 and created before 2010-01-01",
               "created from 2010-01-01 and created before 2014-01-01", "created from 2014-01-01"],
    "a column": [f'algo = "{n}"' for n in range(4)],
    "salt and column": ["pw_salt empty", 'salt present and algo = "1"', 'algo = "2"',
                        'algo in ("3", "4")'],
    "nothing": [""] * 4,
}  # fmt: skip


def make_shop(folder: Path, rows: int, told_by: str) -> list[tuple[str, str]]:
    """Write the shop's table and policy; give everybody's login and password."""
    chance = random.Random(7)
    people, lines = [], []
    for number in range(rows):
        place = number % 4
        password, salt = f"Gannet {number}", f"{chance.randrange(16**8):08x}" if place else ""
        stored = hashlib.md5(GENERATIONS[place][2](password, salt).encode()).hexdigest()
        joined = f"{(2003, 2007, 2011, 2015)[place]}-05-0{chance.randint(1, 9)} 10:00:00"
        lines.append((number, f"c{number}@tidepost.example", stored, salt, place, joined))
        people.append((f"c{number}@tidepost.example", password))
    with closing(sqlite3.connect(folder / "shop.db")) as connection, connection:
        connection.execute(
            "CREATE TABLE customers (id INTEGER PRIMARY KEY, mail TEXT UNIQUE, pw TEXT,"
            " pw_salt TEXT, algo INTEGER, joined TEXT)"
        )
        connection.executemany("INSERT INTO customers VALUES (?, ?, ?, ?, ?, ?)", lines)
    cohorts = "".join(
        f"[[store.shop.cohort]]\nname = '{name}'\nformula = '{formula}'\n"
        + (f"when = '{condition}'\n" if condition else "")
        for (name, formula, _), condition in zip(GENERATIONS, TOLD_BY[told_by], strict=True)
    )
    (folder / "tumbler.toml").write_text(SHOP + cohorts)
    known = "\n".join(f"{login},{password}" for login, password in people[:60])
    (folder / "known.csv").write_text(f"login,password\n{known}\n")
    return people


@pytest.mark.parametrize("told_by", TOLD_BY)
def test_a_shop_of_four_generations(told_by: str, tmp_path: Path, in_process: Program) -> None:
    """However the generations are told apart, or by nothing at all: one run layers every row."""
    people = make_shop(tmp_path, 2000, told_by)
    assert in_process("verify", "known.csv", "--store", "shop").code == 0
    finished = in_process("layer", "--no-backup", "--format", "json")
    assert (finished.code, finished.document["layered"]) == (0, 2000)
    assert in_process("verify", "known.csv", "--store", "shop").code == 0
    for login, password in people[-8:]:
        assert in_process("admit", login, stdin=password.encode()).out.startswith("admitted")
        assert in_process("admit", login, stdin=b"x" + password.encode()).code == 1


# -- No stored text opens an account ----------------------------------------------------------

ACCEPTING = CHEAP_POLICY.partition("[[store.passengers.cohort]]")[0] + (
    '[[store.passengers.cohort]]\nname = "clerks"\nplain_text = %s\n'
)


@pytest.mark.parametrize("declared", ["true", '"all"'])
@pytest.mark.parametrize("kind", UNREADABLE)
def test_typing_what_is_stored_opens_nothing(kind: str, declared: str) -> None:
    """Digests that nobody declared are no passwords, although the store holds plain text too."""
    policy = StoragePolicy.from_toml(ACCEPTING % declared)
    chance = random.Random(kind)
    stored = [UNREADABLE[kind](f"Gull {n}", chance) for n in range(200)]
    survey = Survey()
    survey.add([*stored, *(passwords.made_up(chance) for _ in range(400))])
    column = survey.column()
    surveyed = CredentialGateway(policy, columns={"passengers": lambda: column})
    for value in stored:
        reading = surveyed.reader("passengers").read_text(value)
        plan = row_plans.plan_row(reading, policy)
        assert plan.plain is None or (plan.needs_proof and plan.text_class)
    for gateway, few in ((surveyed, stored[:20]), (CredentialGateway(policy), stored[:20])):
        for value in few:
            outcome = gateway.admit(stored=value, password=value, store="passengers")
            assert not outcome.admitted


def test_a_password_that_a_manager_drew_stays_a_password() -> None:
    """Single texts that look random among words are passwords, of whatever length."""
    policy = StoragePolicy.from_toml(ACCEPTING % '"all"')
    chance = random.Random(5)
    words = [passwords.made_up(chance) for _ in range(3000)]
    drawn = [passwords.drawn(chance) for _ in range(100)]
    survey = Survey()
    survey.add([*words, *drawn])
    column = survey.column()
    gateway = CredentialGateway(policy, columns={"passengers": lambda: column})
    for text in (*drawn, *words[:50]):
        assert gateway.admit(stored=text, password=text, store="passengers").admitted, text


def test_a_tag_for_plain_text_is_read_by_its_content() -> None:
    """The password opens it, and the whole text with its tag does not."""
    gateway = CredentialGateway(StoragePolicy())
    assert gateway.admit(stored="{CLEARTEXT}Gull 7", password="Gull 7").admitted
    assert not gateway.admit(stored="{CLEARTEXT}Gull 7", password="{CLEARTEXT}Gull 7").admitted


@pytest.mark.parametrize(
    ("name", "expected"),
    [("des-crypt", "des-crypt"), ("crc32", "hexadecimal"), ("base64 of md5, unpadded", "base64")],
)
def test_the_audit_names_what_only_the_column_shows(
    name: str, expected: str, tmp_path: Path, in_process: Program
) -> None:
    """Texts that are drawn at random, as a group, are told from the passwords among them."""
    chance = random.Random(name)
    texts = [UNREADABLE[name](f"Gull {n}", chance) for n in range(300)]
    texts += [passwords.made_up(chance) for _ in range(700)]
    lines = "".join(f'{n},"u{n}@tidepost.example","{text}"\n' for n, text in enumerate(texts))
    (tmp_path / "users.csv").write_text("id,mail,password\n" + lines)
    document = in_process("audit", "users.csv", "--format", "json").document
    (store,) = document["stores"]
    groups = {(g["scheme"], g["layout"]): g["rows"] for g in store["groups"]}
    named = sum(rows for key, rows in groups.items() if expected in " ".join(key))
    assert 295 <= named <= 320


# -- Single rows that broke ------------------------------------------------------------------


def policy_with(*cohorts: str) -> StoragePolicy:
    """Give the cheap policy with other cohorts."""
    text = CHEAP_POLICY.partition("[[store.passengers.cohort]]")[0]
    return StoragePolicy.from_toml(
        text + "".join(f"[[store.passengers.cohort]]\n{cohort}\n" for cohort in cohorts)
    )


def test_a_salt_that_is_too_long_for_a_head_is_left() -> None:
    """A value that could not be read again is not written."""
    policy = policy_with('name = "old"\nformula = "utf-8, append salt, md5, hex"')
    digest = hashlib.md5(b"x").hexdigest().encode()
    assert planned(digest, b"s" * 1600, policy=policy).leave is Reason.HEAD_TOO_LONG
    assert planned(digest, b"s" * 1400, policy=policy).leave is None


def test_empty_and_null_salts_are_told_apart_where_a_cohort_asks() -> None:
    """Joined by `empty`, kept apart by `null` and by an equals sign."""
    policy = policy_with(
        'name = "none"\nformula = "utf-8, md5, hex"\nwhen = "salt null"',
        "name = 'blank'\nformula = 'utf-8, sha1, hex, first 32'\nwhen = 'pw_salt = \"\"'",
    )
    digest = hashlib.md5(b"x").hexdigest().encode()
    assert planned(digest, None, policy=policy).cohort == "none"
    assert planned(digest, b"", policy=policy).cohort == "blank"
    joined = policy_with('name = "any"\nformula = "utf-8, md5, hex"\nwhen = "salt empty"')
    assert {planned(digest, s, policy=joined).cohort for s in (None, b"")} == {"any"}
    assert planned(digest, b"s", policy=joined).leave is Reason.NO_COHORT


def test_ways_that_differ_below_are_left() -> None:
    """Where formulas print other texts, or want other inputs, nobody guesses."""
    policy = policy_with(
        'name = "whole"\nformula = "utf-8, md5, hex, append salt"',
        'name = "apart"\nlayout = "{digest:hex}{salt}"\nformula = "utf-8, append salt, md5, hex"',
    )
    stored = hashlib.md5(b"x").hexdigest().encode() + b"abc"
    assert planned(stored, b"abc", policy=policy).leave is Reason.WAYS_DIFFER


@pytest.mark.parametrize("scheme", [name for name, d in DERIVATIONS.items() if d.on_top])
def test_a_derivation_that_does_not_open_what_it_makes_is_refused_at_once(
    scheme: str, monkeypatch: pytest.MonkeyPatch
) -> None:
    """Before anybody's value depends on it, an invented one is layered and logged in to."""
    costs = {"argon2id": "memory_kib = 16\npasses = 1", "scrypt": "cost_log2 = 4\nblock_size = 1"}
    numbers = costs.get(scheme, "rounds = 10").replace("\n", ", ")
    policy = StoragePolicy.from_toml(
        f'[target]\nscheme = "{scheme}"\n{costs.get(scheme, "rounds = 10")}\n'
        f"[floor]\n{scheme} = {{ {numbers} }}\n"
    )
    bounds = CredentialGateway(policy).bounds
    row_plans.require_opening(policy.target, lambda size: b"s" * size, bounds)
    derivation = DERIVATIONS[scheme]
    real = derivation.recompute
    force_setattr(derivation, "recompute", lambda parsed, secret: real(parsed, secret + b"!"))
    try:
        with pytest.raises(WriteNotConfirmed, match="not opened by its own password"):
            row_plans.require_opening(policy.target, lambda size: b"s" * size, bounds)
    finally:
        force_setattr(derivation, "recompute", real)


@pytest.mark.parametrize(
    "damage",
    [
        lambda value: value.replace("$over$", "$ever$"),
        lambda value: value.replace("from=", "from=0000000000000000+"),
        lambda value: value.replace(",salt=", ",salt=QQ"),
        lambda value: value[: value.rindex("$")],
        lambda value: value.replace("m=256", "m=255"),
        lambda value: value + "\n",
    ],
)
def test_what_would_be_read_otherwise_is_not_written(damage: Callable[[str], str]) -> None:
    """A value that lost something on its way is refused, whatever it lost."""
    policy = StoragePolicy.from_toml(CHEAP_POLICY)
    plan = planned(hashlib.sha1(b"xs").hexdigest().encode(), b"s", policy=policy)
    task = task_of(plan, policy.target, lambda size: b"r" * size)
    value = derived(task)
    reader = CredentialGateway(policy).reader("passengers")
    row_plans.require_confirmed(value, task, reader)
    with pytest.raises(WriteNotConfirmed):
        row_plans.require_confirmed(damage(value), task, reader)


def test_the_form_that_fitted_is_hashed() -> None:
    """Typed decomposed where the old value was made composed: both keyboards go on opening it."""
    composed = unicodedata.normalize("NFC", "Möwe 77 am Bug")
    decomposed = unicodedata.normalize("NFD", composed)
    gateway = CredentialGateway(StoragePolicy.from_toml(CHEAP_POLICY))
    for made in (composed, decomposed):
        for typed in (composed, decomposed):
            outcome = gateway.admit(
                stored=hashlib.md5(made.encode()).hexdigest(), password=typed, store="passengers"
            )
            assert outcome.new_value is not None
            for again in (composed, decomposed):
                assert gateway.admit(stored=outcome.new_value, password=again).admitted
            parsed = read_value(outcome.new_value)
            raw = DERIVATIONS["argon2id"].recompute(parsed, made.encode())
            assert raw == parsed.digest  # what is stored is what the old system accepted
    new = read_value(gateway.hash(password=decomposed))
    assert DERIVATIONS["argon2id"].recompute(new, composed.encode()) == new.digest


def test_every_family_comes_through_layering_and_the_guard(
    foreign_values: list[dict[str, str]],
) -> None:
    """Made elsewhere → read → layered → read back → checked → upgraded, and the guard admits it."""
    policy = policy_with()
    guard = re.compile(pattern(policy))
    seen = set()
    for value in foreign_values:
        gateway = CredentialGateway(policy)  # of its own: its refusals cost what these rows do
        plan = planned(value["stored"].encode(), policy=policy, login=value.get("login", "ada"))
        if plan.head is None:
            continue
        task = task_of(plan, policy.target, lambda size: b"r" * size)
        over = derived(task)
        row_plans.require_confirmed(over, task, gateway.reader("passengers"))
        assert guard.fullmatch(over), value["scheme"]
        seen.add(read_value(value["stored"]).scheme)
        for typed, right in ((value["password"], True), ("x" + value["password"], False)):
            outcome = gateway.admit(stored=over, password=typed, store="passengers")
            assert outcome.admitted is right, value["scheme"]
            if outcome.new_value is not None:
                assert guard.fullmatch(outcome.new_value)
                assert gateway.admit(stored=outcome.new_value, password=typed).admitted
        for typed in (value["stored"], plan.legacy_digest, over):
            assert not gateway.admit(stored=over, password=typed, store="passengers").admitted
    assert len(seen) >= 23


def test_a_checksum_is_no_password(tmp_path: Path, in_process: Program) -> None:
    """A column of CRC32 digests that a policy calls plain text is contradicted, and left whole."""
    values = [f"{zlib.crc32(b'Gull %d' % n):08x}" for n in range(300)]
    with closing(sqlite3.connect(tmp_path / "harbour.db")) as connection, connection:
        connection.execute(
            "CREATE TABLE passengers (id INTEGER PRIMARY KEY, email TEXT, pw TEXT, pw_salt TEXT,"
            " is_admin INTEGER)"
        )
        connection.executemany(
            "INSERT INTO passengers VALUES (?, ?, ?, NULL, 0)",
            [(n, f"u{n}@tidepost.example", value) for n, value in enumerate(values)],
        )
    (tmp_path / "tumbler.toml").write_text(ACCEPTING % '"all"')
    finished = in_process("layer", "--no-backup")
    assert "0 rows layered, 0 replaced; 300 considered." in finished.out
    assert "300 texts may be hexadecimal digits of a digest" in finished.out
    assert in_process("admit", "u5@tidepost.example", stdin=values[5].encode()).code == 1
    with closing(sqlite3.connect(tmp_path / "harbour.db")) as connection:
        assert [row[0] for row in connection.execute("SELECT pw FROM passengers ORDER BY id")] == (
            values
        )
