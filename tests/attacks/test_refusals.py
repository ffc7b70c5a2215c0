"""Time tells nobody what is stored: every refusal does the same work, whatever is typed."""

import hashlib
import os
import random
import sqlite3
from collections import Counter
from collections.abc import Callable
from contextlib import closing
from itertools import count
from pathlib import Path
from threading import Event
from typing import Any

import argon2.low_level
import bcrypt
import pytest

from conftest import make_portal
from lean_tumbler import CredentialGateway, StoragePolicy
from lean_tumbler.core.keyring import Keyring
from lean_tumbler.core.login.refusal_time import LAST, RefusalTime
from lean_tumbler.core.reading.rows import Row, given_row
from lean_tumbler.core.reading.under_keys import is_sealable
from lean_tumbler.core.row_plans import derived, plan_row, task_of
from lean_tumbler.core.schemes.catalogue import DERIVATIONS
from lean_tumbler.core.schemes.keyed import Bound
from lean_tumbler.core.tuning import ceiling
from lean_tumbler.errors import StoreUnavailable
from lean_tumbler.migration.admission import admit_login, change_password
from lean_tumbler.stores.kinds import open_store
from lean_tumbler.stores.scans.costs import learn_costs

STORE = "passengers"
_COHORTS = """
[[store.passengers.cohort]]
name = "kiosk"
formula = "latin-1, pbkdf2-sha1 50 20 salt, hex"
when = 'pw_salt = "kiosk"'
[[store.passengers.cohort]]
name = "turnstile"
layout = "turn:{rounds}:{salt}:{digest}"
formula = "utf-8, pbkdf2-sha256 rounds 32 salt, hex"
[[store.passengers.cohort]]
name = "bridge"
formula = "latin-1, sha1, hex, then bcrypt"
"""
_QUICK = """\
[target]
scheme = "argon2id"
memory_kib = 256
passes = 1
lanes = 1
[floor]
argon2id = { memory_kib = 256, passes = 1 }
"""
TYPED = {
    "ASCII": "no such pass",
    "several forms": "kein Paßwört",
    "outside Latin-1": "ничего €",
    "with a NUL": "no\0such",
    "too long": "x" * 2000,
    "a lone surrogate": "\ud800",
}


def _turnstile(rounds: int) -> str:
    return f"turn:{rounds}:salt:{hashlib.pbkdf2_hmac('sha256', b'p', b'salt', rounds).hex()}"


def _value(scheme: str, **costs: int) -> str:
    derivation = DERIVATIONS[scheme]
    return derivation.create(b"p", bytes(derivation.salt_bytes), costs)


STORED: dict[str, tuple[str | None, str | None]] = {
    "current": (_value("argon2id", memory_kib=256, passes=1, lanes=1), None),
    "dearer": (_value("argon2id", memory_kib=512, passes=2, lanes=1), None),
    "bcrypt": (_value("bcrypt", cost_log2=4), None),
    "dearer bcrypt": (_value("bcrypt", cost_log2=6), None),
    "PBKDF2": (_value("pbkdf2-sha256", rounds=100), None),
    "dearer PBKDF2": (_value("pbkdf2-sha256", rounds=777), None),
    "two blocks": ("$pbkdf2-sha256$i=50,l=64$MDEyMzQ1Njc$" + "A" * 86, None),
    "MD5": ("5f4dcc3b5aa765d61d8327deb882cf99", None),
    "a formula in Latin-1": (hashlib.pbkdf2_hmac("sha1", b"p", b"kiosk", 50).hex(), "kiosk"),
    "few rounds": (_turnstile(20), None),
    "more rounds": (_turnstile(300), None),
    "plain text": ("gannet and skua", None),
    "locked": ("!locked$0123456789abcdef0123456789abcdef", None),
    "NULL": (None, None),
    "empty": ("", None),
    "failed write": ("undefined", None),
    "not understood": ("$9$what$is$this", None),
    "over the limits": ("$pbkdf2-sha256$i=99999999$MDEyMw$" + "A" * 43, None),
    "too much memory": ("$argon2id$v=19$m=4194304,t=2,p=1$MDEyMzQ1Njc$" + "A" * 43, None),
}


def _raw(text: str | None) -> bytes | None:
    return None if text is None else text.encode()


@pytest.fixture
def work(monkeypatch: pytest.MonkeyPatch) -> Counter[str]:
    """Count what the primitives are asked for, in steps that are alike."""
    done: Counter[str] = Counter()

    def count(module: Any, name: str, steps: Callable[..., tuple[str, int]]) -> None:
        real = getattr(module, name)

        def counted(*arguments: Any, **named: Any) -> Any:
            what, number = steps(*arguments, **named)
            done[what] += number
            return real(*arguments, **named)

        monkeypatch.setattr(module, name, counted)

    count(bcrypt, "hashpw", lambda _, salt: ("bcrypt", 1 << int(salt[4:6])))
    count(
        hashlib, "pbkdf2_hmac",
        lambda name, _secret, _salt, rounds, length=None: (
            f"pbkdf2-{name}", rounds * -(-(length or 1) // hashlib.new(name).digest_size)
        ),
    )  # fmt: skip
    count(
        argon2.low_level, "hash_secret_raw",
        lambda **named: (f"argon2 {named['memory_cost']} {named['time_cost']}", 1),
    )  # fmt: skip
    return done


_KEYS = {"pepper": bytes(range(32))}


def _sealed(value: str | None, bound: str) -> str:
    keyring = Keyring(realm="coldharbour", sealed_by="pepper", bound=Bound(bound), keys=_KEYS)
    return keyring.sealed(value or "", account="of nobody", randomness=os.urandom)


@pytest.fixture
def logins(tmp_path: Path) -> list[str]:
    """Give a login of each kind, most of them layered too, and one that is unknown."""
    portal = make_portal(tmp_path, [])
    policy_file = tmp_path / "tumbler.toml"
    text = policy_file.read_text()
    place = text.index("[[store.passengers.cohort]]")
    policy_file.write_text(text[:place] + _COHORTS + text[place:])
    keyed = 'lanes = 1\nrealm = "coldharbour"\n'
    policy_file.write_text(policy_file.read_text().replace("lanes = 1\n", keyed, 1))
    policy = StoragePolicy.from_toml(policy_file.read_text())
    reader = CredentialGateway(policy).reader(STORE)
    rows = []
    for name, (stored, salt) in STORED.items():
        rows.append((name, stored, salt))
        row = Row(stored=_raw(stored), salt=_raw(salt), login=name)
        plan = plan_row(reader.read(row), policy)
        if plan.head is not None:
            value = derived(task_of(plan, policy.target, bytes))
            rows.append((f"layered {name}", value, salt))
    assert len(rows) == len(STORED) + 7
    rows += [(f"keyed {name}", _sealed(value, "realm"), salt)
             for name, value, salt in rows if is_sealable(reader.read_text(value or ""))]  # fmt: skip
    assert len(rows) == len(STORED) + 7 + 16
    rows.append(("moved", _sealed(STORED["dearer"][0], "account"), None))
    with closing(sqlite3.connect(portal.database)) as connection, connection:
        connection.executemany("INSERT INTO passengers (email, pw, pw_salt) VALUES (?, ?, ?)", rows)
    return [*(name for name, _, _ in rows), "nobody"]


@pytest.mark.parametrize("typed", TYPED.values(), ids=TYPED)
@pytest.mark.parametrize("route", ["library", "admit", "change"])
def test_every_refusal_does_the_same_work(
    logins: list[str], work: Counter[str], tmp_path: Path, route: str, typed: str
) -> None:
    """Known, unknown, locked, NULL, unreadable, layered over any formula: no sum differs."""
    policy = StoragePolicy.from_toml((tmp_path / "tumbler.toml").read_text())
    store = open_store(policy.stores[STORE], base=tmp_path, writable=True)
    gateway = CredentialGateway(policy, keys=_KEYS)
    learn_costs(gateway, store, store_name=STORE)

    def is_admitted(login: str) -> bool:
        if route == "library":
            row = next((each.row for each in store.fetch(login)), Row(stored=None))
            return gateway.admit_row(row, password=typed, store=STORE).admitted
        if route == "admit":
            found = admit_login(store, gateway, store_name=STORE, login=login, password=typed)
            return found.outcome.admitted
        new = "the pier at six in the morning"
        return change_password(
            store, gateway, store_name=STORE, login=login, password=typed, new=new
        )[0]

    sums = {}
    for login in logins:
        work.clear()
        assert not is_admitted(login)
        sums[login] = dict(work)
    store.close()
    assert sums["nobody"]
    differing = {login: done for login, done in sums.items() if done != sums["nobody"]}
    assert not differing, (sums["nobody"], differing)


def test_a_gateway_learns_from_what_it_refuses(work: Counter[str]) -> None:
    """Without a look at the rows before, the second refusal of anybody costs what a dear row's did."""
    gateway = CredentialGateway(StoragePolicy.from_toml(_QUICK))
    dear, sums = STORED["dearer"][0], []
    for stored in (dear, None, dear, "!"):
        work.clear()
        assert not gateway.admit(stored=stored, password="no such").admitted
        sums.append(dict(work))
    assert sums[1:] == [sums[0]] * 3


@pytest.fixture
def low_ceiling(monkeypatch: pytest.MonkeyPatch) -> None:
    """Take values of a fifth of a second for unusual, so that the tests need not run dearer ones."""
    monkeypatch.setattr(ceiling, "LEAST_CEILING_SECONDS", 0.05)
    monkeypatch.setattr(ceiling, "UNUSUAL_SECONDS", 0.05)


@pytest.mark.usefixtures("low_ceiling")
def test_planted_rows_do_not_make_refusals_dear(work: Counter[str]) -> None:
    """One row in ten, inside the limits and far dearer than all others: checked, and never imitated."""
    gateway = CredentialGateway(StoragePolicy.from_toml(_QUICK))
    usual = [Row(stored=_raw(_value("pbkdf2-sha256", rounds=100 + number))) for number in range(90)]
    planted = [
        Row(stored=f"$pbkdf2-sha256$i={300_000 + number}$MDEyMzQ1Njc$".encode() + b"A" * 43)
        for number in range(4)
    ] + [
        Row(stored=f"$argon2id$v=19$m=65536,t={passes},p=1$MDEyMzQ1Njc$".encode() + b"A" * 43)
        for passes in range(1, 6)
    ]
    gateway.learn_costs([*planted, *usual])
    for row in planted:
        assert gateway.admit_row(row, password="no such").unusual_work
    work.clear()
    assert not gateway.admit(stored=None, password="no such").admitted
    assert work == {"argon2 256 1": 1, "pbkdf2-sha256": 189}


@pytest.mark.usefixtures("low_ceiling")
def test_rows_of_unusual_work_are_checked_one_at_a_time() -> None:
    """Who asks for another meanwhile is told to come again; others are served."""
    gateway = CredentialGateway(StoragePolicy.from_toml(_QUICK))
    dear = _value("pbkdf2-sha256", rounds=200_000)
    inside = Event()

    class Slot:
        def __enter__(self) -> None:
            inside.set()

        def __exit__(self, *_: object) -> None:
            with pytest.raises(StoreUnavailable):
                gateway.admit(stored=dear, password="p")
            assert not gateway.admit(stored=None, password="p").admitted

    assert gateway.admit_row(given_row(stored=dear), password="p", slot=Slot()).admitted
    assert inside.is_set()
    assert gateway.admit(stored=dear, password="p").admitted


def test_a_few_rows_of_a_usual_slow_scheme_are_checked_beside_each_other() -> None:
    """Bcrypt at cost 12 among digests is nothing unusual, whatever the target costs."""
    gateway = CredentialGateway(StoragePolicy.from_toml(_QUICK))
    slow = Row(stored=b"$2b$12$" + b"aB" * 26 + b"u")
    gateway.learn_costs([*(Row(stored=_raw(STORED["MD5"][0])) for _ in range(99)), slow])
    assert not gateway.admit_row(slow, password="no such").unusual_work


def test_what_gone_rows_asked_for_is_forgotten(work: Counter[str]) -> None:
    """A look at the rows anew: refusals take what those take that are there now."""
    gateway = CredentialGateway(StoragePolicy.from_toml(_QUICK))
    for stored, expected in (("bcrypt", 64), ("PBKDF2", 0)):
        name = "dearer bcrypt" if stored == "bcrypt" else stored
        gateway.learn_costs([Row(stored=_raw(STORED[name][0]))])
        work.clear()
        gateway.admit(stored=None, password="no such")
        assert work["bcrypt"] == expected


def test_refusals_are_said_at_one_time() -> None:
    """What equal work leaves of a difference is waited out, whatever took how long."""
    waited: list[float] = []
    times, chance, said = RefusalTime(waited.append), random.Random(1), set()
    for number in range(300):
        taken = chance.choice((7.4, 7.5, 7.6))
        times.wait_out(taken)
        if number >= LAST:
            said.add(round(taken + waited[-1], 6))
    assert said == {round(7.6 * 1.05, 6)}


def test_every_way_of_asking_waits(tmp_path: Path) -> None:
    """The library, a login and a change of password: each refusal is held back, no admission is."""
    portal = make_portal(tmp_path, ["md5", "current"])
    policy = StoragePolicy.from_toml((tmp_path / "tumbler.toml").read_text())
    waited: list[float] = []
    ticks = count()

    def gateway() -> CredentialGateway:
        return CredentialGateway(policy, clock=lambda: float(next(ticks)), wait=waited.append)

    store = open_store(policy.stores[STORE], base=tmp_path, writable=True)
    asked: dict[str, Any] = {"store_name": STORE, "login": portal.passengers[0].login}
    for password, refused in (("no such", True), (portal.passengers[0].password, False)):
        for ask in (
            lambda typed: gateway().admit(stored=portal.stored()[1], password=typed, store=STORE),
            lambda typed: admit_login(store, gateway(), password=typed, **asked),
            lambda typed: change_password(
                store, gateway(), password=typed, new="the pier at six in the morning", **asked
            ),
        ):
            waited.clear()
            ask(password)
            assert bool(waited) is refused
