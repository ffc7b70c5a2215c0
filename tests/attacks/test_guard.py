"""Whoever writes past the tool: the guard and the reader agree on mutated values, on each server."""

import random
import re
import sqlite3
from collections.abc import Callable, Iterator
from contextlib import closing, contextmanager
from pathlib import Path

import pytest

import servers
from conftest import CHEAP_POLICY
from lean_tumbler.core.grades import Grade, grade
from lean_tumbler.core.limits import Limits, over_limits
from lean_tumbler.core.policy import PLAIN_ROWS, StoragePolicy
from lean_tumbler.core.schemes import keyed
from lean_tumbler.core.schemes.base import Kind
from lean_tumbler.core.schemes.catalogue import DERIVATIONS, read_value
from lean_tumbler.core.schemes.keyed import Bound
from lean_tumbler.core.schemes.lock_markers import MARKERS, new_marker
from lean_tumbler.core.stored_forms import pattern, sqlite_condition
from lean_tumbler.stores.sql.database import TableName
from lean_tumbler.stores.sql.guard import ColumnGuard
from lean_tumbler.stores.sql.opening import open_database
from lean_tumbler.stores.sql.relation import Relation
from lean_tumbler.stores.sql.row_key import RowKey
from test_servers import STARTERS

POLICY = StoragePolicy.from_toml(
    "[floor]\nargon2id = { memory_kib = 256, passes = 1 }\n"
    "scrypt = { cost_log2 = 4, block_size = 8, lanes = 1 }\npbkdf2-sha256 = { rounds = 1000 }\n"
    "pbkdf2-sha512 = { rounds = 1000 }\nbcrypt = { cost_log2 = 5 }\n"
    '[target]\nscheme = "argon2id"\nmemory_kib = 256\npasses = 1\n'
)
COSTS = {
    "argon2id": {"memory_kib": 256, "passes": 1, "lanes": 1},
    "scrypt": {"cost_log2": 4, "block_size": 8, "lanes": 1},
    "pbkdf2-sha256": {"rounds": 1000}, "pbkdf2-sha512": {"rounds": 1000}, "bcrypt": {"cost_log2": 5},
}  # fmt: skip
GOOD = [DERIVATIONS[name].create(b"x", b"0123456789abcdef", costs) for name, costs in COSTS.items()]
HEADS = ("$over$from=2969c2908df4cece,salt=YTFi", "$over$from=bcrypt,salt=YTFi,login=YTFi")
HAND = [
    GOOD[0] + "\0", GOOD[0] + "\0' OR 1", "!\n", GOOD[0] + "\n", GOOD[0] + " ", "\n" + GOOD[0],
    GOOD[0].replace("p=1", "p=999999999"), GOOD[0].replace("p=1", "p=64"), GOOD[1].replace("ln=4", "ln=99"),
    re.sub(r"\$[A-Za-z0-9+/]{22}\$", "$A$", GOOD[0]), re.sub(r"\$[A-Za-z0-9+/]{22}\$", "$$", GOOD[0]),
    GOOD[0].replace("m=256", "m=256x"), GOOD[0].replace("m=256", "m=0256"),
    GOOD[2].replace("i=1000", "i=99999999999"), GOOD[2].replace(",l=32", ""), GOOD[2].replace("l=32", "l=31"),
    GOOD[0][:-21], GOOD[0][:-22], GOOD[4].replace("$05$", "$31$"), GOOD[4].replace("$05$", "$16$"),
]  # fmt: skip


def mutated(chance: random.Random, number: int) -> list[str]:
    """Give values of all kinds, most of them changed in a place or two."""
    bank = [*GOOD, *MARKERS, *(head + good for head in HEADS for good in GOOD[:4])]
    made = list(HAND)
    for _ in range(number):
        value = chance.choice([*bank, new_marker(chance.randbytes)])
        for _ in range(chance.choice([0, 1, 1, 1, 2, 3])):
            at = chance.randrange(len(value) + 1)
            new = chance.choice(
                ["", "0", "9", "$", ",", "=", "A", "+", " ", "\n", "l", "é", "99999999"]
            )
            value = value[:at] + new + value[at + chance.choice([0, 1, 1, 2]) :]
        made.append(value)
    return list(dict.fromkeys(made))


def is_readable(value: str) -> bool:
    """Tell what the tool reads, and a login would run: current, layered by what is, or locked."""
    parsed = read_value(value)
    over = over_limits(parsed, Limits())
    # What numbers ask for together is the login's to refuse: a form says nothing of it.
    if parsed.wrappers or (over and not over.startswith(("work_kib", "memory_kib"))):
        return False
    return grade(parsed, POLICY.floor, salted=True) in {Grade.CURRENT, Grade.LAYERED, Grade.LOCKED}


def is_written(value: str) -> bool:
    """Tell what the tool itself would write, in form."""
    parsed = read_value(value)
    of = parsed.inner or parsed
    if (
        not is_readable(value)
        or of.kind is not Kind.DERIVATION
        or re.search("[=,$]0[0-9]+,", value)
    ):
        return False
    costs = {name: of.parameters[name] for name in COSTS.get(of.scheme, {})}
    if of.scheme not in COSTS or of.salt is None or len(of.salt) != 16:
        return False
    made = DERIVATIONS[of.scheme].create
    alike = made(b"x", of.salt, COSTS[of.scheme])
    usual = of.scheme == "bcrypt" or len(read_value(alike).digest) == len(of.digest)
    return usual and costs == COSTS[of.scheme] and "v=16" not in of.contents.variant


_FORM_OF_HEAD = re.compile(
    r"\$over\$from=[0-9a-z+-]+(,[A-Za-z_][A-Za-z0-9_-]*=[A-Za-z0-9+/]*)*(?=\$)", re.ASCII
)


def is_head_alone(value: str) -> bool:
    """Tell a layered value whose inputs alone are not read: their names and order are no form."""
    head = _FORM_OF_HEAD.match(value)
    return head is not None and is_readable(value[head.end() :])


Admits = Callable[[list[str]], list[bool]]


def by_sqlite(values: list[str], policy: StoragePolicy = POLICY) -> list[bool]:
    condition = sqlite_condition("CAST(pw AS TEXT)", policy)
    with closing(sqlite3.connect(":memory:")) as connection:
        connection.execute("CREATE TABLE t (n integer, pw text)")
        connection.executemany("INSERT INTO t VALUES (?, ?)", enumerate(values))
        found = {row[0] for row in connection.execute(f"SELECT n FROM t WHERE {condition}")}
    return [number in found for number in range(len(values))]


@contextmanager
def admitting(name: str, policy: StoragePolicy = POLICY) -> Iterator[Admits]:
    if name == "sqlite":
        yield lambda values: by_sqlite(values, policy)
        return
    with STARTERS[name]() as server:
        yield lambda values: by_server(server, values, policy)


def by_server(server: servers.Server, values: list[str], policy: StoragePolicy) -> list[bool]:
    text = "text" if "postgresql" in server.url else "text CHARACTER SET utf8mb4"
    server.run(f"DROP TABLE IF EXISTS t; CREATE TABLE t (n integer PRIMARY KEY, pw {text})")
    database = open_database(server.url, base=Path(), writable=True)
    engine = database.engine
    with engine.begin() as connection:
        for number, value in enumerate(values):
            connection.exec_driver_sql("INSERT INTO t VALUES (%s, %s)", (number, value))
    relation = Relation(database, TableName("t"), PLAIN_ROWS, stored="pw")
    guard = ColumnGuard(
        database, relation=relation, key=RowKey([relation.column("n")], [None], ()), policy=policy
    )
    with engine.connect() as connection:
        rows = connection.exec_driver_sql(f"SELECT n FROM t WHERE NOT ({guard.guard.refuses})")
        found = {row[0] for row in rows}
    engine.dispose()
    return [number in found for number in range(len(values))]


@pytest.mark.parametrize("name", ["sqlite", *STARTERS])
def test_guard_and_reader_agree(name: str) -> None:
    """Nothing passes that is not read as current, layered or locked; all that is written passes."""
    values = mutated(random.Random(17), 4_000)
    if name != "sqlite":  # their text has no NUL
        values = [value for value in values if "\0" not in value]
    with admitting(name) as admits:
        passed = admits(values)
    wrong = [
        repr(v)
        for v, ok in zip(values, passed, strict=True)
        if ok and not is_readable(v) and not is_head_alone(v)
    ]
    lost = [repr(v) for v, ok in zip(values, passed, strict=True) if not ok and is_written(v)]
    assert wrong == []
    assert lost == []
    assert sum(passed) > 100
    expression = re.compile(pattern(POLICY))
    differ = [repr(v) for v, ok in zip(values, passed, strict=True)
              if ok is not bool(expression.fullmatch(v)) and "over$from" not in v]  # fmt: skip
    assert differ == []


_KEYED = """
keyed_by = "pepper-2026"
realm = "coldharbour"
"""
_KEYS = """
[keys]
pepper-2025 = { file = "a", form = "base64" }
"pepper.2026" = { file = "b", form = "base64" }
pepper-2026 = { file = "c", form = "base64" }
desk = { file = "d" }
"""
_SEALED = "$" + "Ab+/" * 4 + "$" + "Zz09" * 12


def keyed_values(chance: random.Random, number: int) -> list[str]:
    """Give keyed values of known and unknown keys, and changed ones."""
    names = ("pepper-2025", "pepper.2026", "pepper-2026", "pepperx2026", "desk", "other")
    good = [
        f"$keyed$by={name},check=AbCd+/09,to={bound}{_SEALED}{more}"
        for name in names
        for bound in ("account", "realm", "login")
        for more in ("", "A", "AB", "ABCD" * 60)
    ]
    found = list(good)
    while len(found) < number:
        value = list(chance.choice(good))
        place = chance.randrange(len(value))
        value[place : place + chance.randrange(3)] = chance.choice(
            ["", "$", "=", "A", ",", "é", " "]
        )
        found.append("".join(value))
    return found


@pytest.mark.parametrize("bound", ["account", "realm"])
@pytest.mark.parametrize("name", ["sqlite", *STARTERS])
def test_a_guard_of_keyed_values_admits_no_other(name: str, bound: str) -> None:
    """Keyed values of the policy's keys and markers pass, so bound as it asks; nothing else does."""
    more = f'{_KEYED}bound_to = "{bound}"\n'
    policy = StoragePolicy.from_toml(
        CHEAP_POLICY.replace("lanes = 1\n", "lanes = 1\n" + more, 1) + _KEYS
    )
    values = [
        *keyed_values(random.Random(18), 1_000),
        *GOOD,
        *MARKERS,
        *(h + g for h in HEADS for g in GOOD),
    ]
    with admitting(name, policy) as admits:
        passed = admits(values)
    bounds = {Bound(bound), Bound.ACCOUNT}
    known = {"pepper-2025", "pepper.2026", "pepper-2026"}
    for value, ok in zip(values, passed, strict=True):
        assert ok is bool(re.fullmatch(pattern(policy), value)), value
        read = keyed.read(value)
        if read is not None and read.head.name in known and read.head.bound in bounds:
            assert ok, value
        if ok and value not in MARKERS:
            form = keyed.LAYOUT.match(value)
            assert form, value
            assert form["name"] in known, value
            assert Bound(form["bound"]) in bounds, value
    assert sum(passed) > 20


@pytest.mark.parametrize(
    "value",
    [
        GOOD[2].replace(",l=32", ""),
        GOOD[0][:-21],
        *GOOD,
        *MARKERS,
        *(h + g for h in HEADS for g in GOOD[:4]),
    ],
)
def test_what_is_left_as_it_is_passes(value: str) -> None:
    """PBKDF2 that does not say its length, and digests of sixteen bytes, are current too."""
    assert is_readable(value)
    assert re.fullmatch(pattern(POLICY), value)
    assert by_sqlite([value]) == [True]


def test_the_published_floor_has_an_expression_that_servers_take() -> None:
    """It is of a length that they read."""
    assert len(pattern(StoragePolicy())) < 32_000
