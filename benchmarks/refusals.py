"""How well time tells refusals apart: each kind of account with each other, on every route.

Two tests are given the times of one half of the tries to learn from, and tell the other half
apart: one by the best limit between quick and slow, one by how often each time occurs. A coin
tells half of them rightly; the luckiest of hundreds of pairs is above that, as is said beside it.
"""

import hashlib
import os
import random
import sqlite3
import tempfile
import time
from collections.abc import Callable, Iterator, Mapping, Sequence
from contextlib import closing
from functools import partial
from itertools import combinations
from pathlib import Path

import numpy as np

from lean_tumbler import CredentialGateway, StoragePolicy
from lean_tumbler.core.keyring import Keyring
from lean_tumbler.core.reading.rows import Row as RowOfStore
from lean_tumbler.core.row_plans import derived, plan_row, task_of
from lean_tumbler.core.schemes.catalogue import CRYPT_SCHEMES, DERIVATIONS
from lean_tumbler.core.schemes.keyed import Bound
from lean_tumbler.migration.admission import admit_login, change_password
from lean_tumbler.stores.kinds import open_store
from lean_tumbler.stores.scans.costs import learn_costs
from measuring import Benchmark, Row

Times = dict[str, np.ndarray]

STORE = "passengers"
ACCOUNTS = 8  # of each kind
TYPED = {
    "ASCII": "no such pass{}",
    "not ASCII": "kein so ein Paßwört {}",
    "outside Latin-1": "ничего {} €",
    "with a NUL": "no\0such {}",
}
_POLICY = """\
[target]
scheme = "argon2id"
memory_kib = 256
passes = 1
lanes = 1
realm = "x"
[floor]
argon2id = { memory_kib = 256, passes = 1 }
[store.passengers]
locator = "sqlite:///passengers.db"
table = "passengers"
[store.passengers.columns]
account = "id"
login = "login"
stored = "pw"
salt = "salt"
[[store.passengers.cohort]]
name = "salted"
formula = "utf-8, append salt, sha1, hex"
when = "salt present"
[[store.passengers.cohort]]
name = "portal"
formula = "latin-1, md5, hex"
when = "salt empty"
[[store.passengers.cohort]]
name = "clerks"
plain_text = true
"""
_KEYS = {"pepper": bytes(range(32))}
_SALT = b"0123456789abcdef"


def _direct(scheme: str, password: str, **costs: int) -> str:
    derivation = DERIVATIONS[scheme]
    return derivation.create(password.encode(), _SALT[: derivation.salt_bytes], costs)


def _kinds() -> Iterator[tuple[str, Callable[[str], str | None], str | None]]:
    """Give each kind: name, password -> stored value, and the salt column."""
    yield "current", lambda p: _direct("argon2id", p, memory_kib=256, passes=1, lanes=1), None
    yield (
        "dearer Argon2id",
        lambda p: _direct("argon2id", p, memory_kib=512, passes=1, lanes=1),
        None,
    )
    yield "weaker bcrypt", lambda p: _direct("bcrypt", p, cost_log2=4), None
    yield "bcrypt", lambda p: _direct("bcrypt", p, cost_log2=5), None
    yield "PBKDF2", lambda p: _direct("pbkdf2-sha256", p, rounds=1000), None
    yield "dearer PBKDF2", lambda p: _direct("pbkdf2-sha256", p, rounds=2000), None
    yield (
        "md5-crypt",
        lambda p: CRYPT_SCHEMES["md5-crypt"].compute("$1$abcdefgh$", p.encode()),
        None,
    )
    yield "DES crypt", lambda p: CRYPT_SCHEMES["des-crypt"].compute("ab", p.encode()), None
    yield "MD5", lambda p: hashlib.md5(p.encode()).hexdigest(), None  # noqa: S324 - what a table holds
    yield "salted SHA-1", lambda p: hashlib.sha1(p.encode() + b"pepper").hexdigest(), "pepper"  # noqa: S324 - likewise
    yield "plain text", lambda p: p, None
    yield "locked", lambda _: "!locked$0123456789abcdef0123456789abcdef", None
    yield "NULL", lambda _: None, None
    yield "empty", lambda _: "", None
    yield "failed write", lambda _: "undefined", None
    yield "not understood", lambda _: "$9$what$is$this", None
    yield "over the limits", lambda _: "$pbkdf2-sha256$i=99999999$MDEyMw$" + "A" * 43, None


def _layered(stored: str | None, salt: str | None) -> str:
    policy = StoragePolicy.from_toml(_POLICY)
    reader = CredentialGateway(policy).reader(STORE)
    row = RowOfStore(stored=(stored or "").encode(), salt=salt.encode() if salt else None)
    return derived(task_of(plan_row(reader.read(row), policy), policy.target, os.urandom))


def _store(folder: Path) -> dict[str, list[str]]:
    """Write accounts of each kind, MD5 and salted SHA-1 layered too; give their logins."""
    (folder / "tumbler.toml").write_text(_POLICY)
    logins: dict[str, list[str]] = {"unknown": [f"nobody.{n}@x.example" for n in range(ACCOUNTS)]}
    rows: list[tuple[str, str | None, str | None]] = []
    for name, value, salt in _kinds():
        logins[name] = []
        for number in range(ACCOUNTS):
            login = f"{name.replace(' ', '')}.{number}@x.example"
            rows.append((login, value(f"Brücke {number}"), salt))
            logins[name].append(login)
    for name in ("MD5", "salted SHA-1", "md5-crypt", "bcrypt"):
        of_kind = [row for row in rows if row[0].startswith(name.replace(" ", "") + ".")]
        logins[f"layered {name}"] = [f"layered.{login}" for login, _, _ in of_kind]
        rows += [
            (f"layered.{login}", _layered(stored, salt), salt) for login, stored, salt in of_kind
        ]
    keyed = Keyring(realm="x", sealed_by="pepper", bound=Bound.REALM, keys=_KEYS)
    for name in ("current", "bcrypt", "layered MD5"):
        own = {login: stored or "" for login, stored, _ in rows}
        logins[f"keyed {name}"] = [f"keyed.{login}" for login in logins[name]]
        rows += [
            (f"keyed.{login}", keyed.sealed(own[login], account=None, randomness=os.urandom), None)
            for login in logins[name]
        ]
    bound = Keyring(realm="x", sealed_by="pepper", keys=_KEYS)
    logins["moved"] = [f"moved.{number}@x.example" for number in range(ACCOUNTS)]
    copied = _direct("argon2id", "p", memory_kib=256, passes=1, lanes=1)
    rows += [
        (login, bound.sealed(copied, account="nobody", randomness=os.urandom), None)
        for login in logins["moved"]
    ]
    with closing(sqlite3.connect(folder / "passengers.db")) as connection, connection:
        connection.execute(
            "CREATE TABLE passengers (id INTEGER PRIMARY KEY, login TEXT, pw TEXT, salt TEXT)"
        )
        connection.executemany("INSERT INTO passengers (login, pw, salt) VALUES (?, ?, ?)", rows)
    return logins


def _routes(folder: Path) -> Mapping[str, Callable[[str, str], bool]]:
    """Give each way of asking: (login, password) -> whether it was admitted."""
    policy = StoragePolicy.from_toml(_POLICY)
    store = open_store(policy.stores[STORE], base=folder, writable=True)
    gateway = CredentialGateway(policy, keys=_KEYS)
    learn_costs(gateway, store, store_name=STORE)

    def library(login: str, password: str) -> bool:
        found = store.fetch(login)
        row = found[0].row if found else RowOfStore(stored=None)
        return gateway.admit(
            stored=row.stored,
            salt=row.salt,
            password=password,
            store=STORE,
            login=login,
            account=row.account,
        ).admitted

    def admit(login: str, password: str) -> bool:
        found = admit_login(store, gateway, store_name=STORE, login=login, password=password)
        return found.outcome.admitted

    def change(login: str, password: str) -> bool:
        new = "the pier at six in the morning"
        return change_password(
            store, gateway, store_name=STORE, login=login, password=password, new=new
        )[0]

    return {"library": library, "admit": admit, "change": change}


def _times(
    ask: Callable[[str, str], bool], logins: Mapping[str, Sequence[str]], typed: str, tries: int
) -> Times:
    """Time refusals of each kind, in an order drawn anew for each try."""
    chance = random.Random(typed)  # noqa: S311 - an order, not a secret
    kinds, times = list(logins), np.zeros((len(logins), tries))
    for number in range(tries):
        for place in chance.sample(range(len(kinds)), len(kinds)):
            login, password = chance.choice(logins[kinds[place]]), typed.format(number)
            started = time.perf_counter()
            is_admitted = ask(login, password)
            times[place, number] = time.perf_counter() - started
            if is_admitted:
                raise RuntimeError("a wrong password was admitted")
    return dict(zip(kinds, times, strict=True))


def _told_apart(one: np.ndarray, other: np.ndarray) -> float:
    """Give how many of the second half of the tries the better of two tests tells rightly."""
    half = len(one) // 2
    learnt = one[:half], other[:half]
    asked = one[half:], other[half:]
    return max(_by_limit(learnt, asked), _by_frequency(learnt, asked))


Pair = tuple[np.ndarray, np.ndarray]


def _by_limit(learnt: Pair, asked: Pair) -> float:
    limits = np.quantile(np.concatenate(learnt), np.linspace(0.005, 0.995, 199))
    right = [_share_below(learnt, limit) for limit in limits]
    best = int(np.argmax(np.abs(np.array(right) - 0.5)))
    found = _share_below(asked, limits[best])
    return found if right[best] >= 0.5 else 1 - found


def _share_below(pair: Pair, limit: float) -> float:
    return float(np.mean(pair[0] <= limit) + np.mean(pair[1] > limit)) / 2


def _by_frequency(learnt: Pair, asked: Pair) -> float:
    edges = np.quantile(np.concatenate(learnt), np.linspace(0, 1, 33)[1:-1])
    counts = [np.bincount(np.digitize(times, edges), minlength=32) for times in learnt]
    is_first = counts[0] >= counts[1]
    first, second = (is_first[np.digitize(times, edges)] for times in asked)
    return float(np.mean(first) + np.mean(~second)) / 2


def _by_chance(times: Times) -> float:
    """Give the most that is told of as many pairs between which there is nothing to tell."""
    chance = np.random.default_rng(1)
    found = []
    for one, other in combinations(times, 2):
        both = chance.permutation(np.concatenate([times[one], times[other]]))
        found.append(_told_apart(both[: len(both) // 2], both[len(both) // 2 :]))
    return max(found)


def refusals_told_apart(
    route: str, tries: int = 10_000, typed: Sequence[str] = tuple(TYPED)
) -> Iterator[Row]:
    """Time refusals on one route, for each kind of typed password."""
    with tempfile.TemporaryDirectory() as folder:
        logins = _store(Path(folder))
        ask = _routes(Path(folder))[route]
        for name in typed:
            times = _times(ask, logins, TYPED[name], tries)
            found = {
                pair: _told_apart(times[pair[0]], times[pair[1]]) for pair in combinations(times, 2)
            }
            worst = max(found, key=lambda pair: found[pair])
            above = sum(share > 0.51 for share in found.values())
            yield {
                "benchmark": f"refusals told apart: {route}, {name}",
                "tries_of_each": tries,
                "pairs": len(found),
                "told_rightly_at_most": round(found[worst], 4),
                "worst_pair": " and ".join(worst),
                "told_rightly_by_chance": round(_by_chance(times), 4),
                "pairs_above_51_percent": above,
                "median_milliseconds": {
                    kind: round(1000 * float(np.median(each)), 3) for kind, each in times.items()
                },
            }


BENCHMARKS = tuple(
    Benchmark(name=f"refusals-{route}", run=partial(refusals_told_apart, route))
    for route in ("library", "admit", "change")
)
