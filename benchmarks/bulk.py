"""Layering: its rate, and who is locked out when it is killed."""

import hashlib
import json
import sqlite3
import subprocess
import tempfile
from collections.abc import Iterator
from contextlib import ExitStack, closing, contextmanager
from functools import partial
from pathlib import Path

import server_portal
import servers
from measuring import PROGRAM, TABLE, Benchmark, Row

_LAYER_POLICY = """\
{target}
[store.kiosk]
locator = "{locator}"
table = "kiosk"
readers_ready = 2026-01-01
[store.kiosk.columns]
login = "login"
stored = "pw"
[[store.kiosk.cohort]]
name = "old"
formula = "utf-8, md5, hex"
"""
_CHEAP = (
    "[target]\nmemory_kib = 8\npasses = 1\n[floor]\nargon2id = { memory_kib = 8, passes = 1 }\n"
)


def _kiosk_rows(rows: int) -> Iterator[tuple[int, str, str]]:
    return ((n, f"k{n}", hashlib.md5(b"%d" % n).hexdigest()) for n in range(rows))  # noqa: S324 - legacy data


@contextmanager
def _kiosk(kind: str, rows: int, target: str, *, characters: int = 255) -> Iterator[Path]:
    """A folder with a policy, and its table of MD5 digests on a server of that kind."""
    table = TABLE.replace("255", str(characters))
    with ExitStack() as stack:
        folder = Path(stack.enter_context(tempfile.TemporaryDirectory()))
        locator = "harbour.db"
        if kind == "SQLite":
            with closing(sqlite3.connect(folder / locator)) as connection, connection:
                connection.execute(table)
                connection.executemany("INSERT INTO kiosk VALUES (?, ?, ?)", _kiosk_rows(rows))
        else:
            start = {"PostgreSQL": servers.postgresql, "MariaDB": servers.mariadb}[kind]
            server = stack.enter_context(start())
            values = ",".join(f"({n},'{login}','{pw}')" for n, login, pw in _kiosk_rows(rows))
            server.run(f"{table} INSERT INTO kiosk VALUES {values};")  # noqa: S608 - made here
            locator = server.url
        policy = _LAYER_POLICY.format(target=target, locator=locator)
        (folder / "tumbler.toml").write_text(policy)
        yield folder


def layer_rate(kind: str, rows: int, *, cheap: bool) -> Row:
    """How busy layering keeps the cores at the floor; its rate where hashing costs nothing."""
    with _kiosk(kind, rows, _CHEAP if cheap else "") as folder:
        command = [PROGRAM, "layer", "--no-backup", "--unproven", "old", "--format", "json"]
        finished = subprocess.run(command, cwd=folder, capture_output=True, check=True)
    document = json.loads(finished.stdout)
    what = "a target that costs nothing" if cheap else "the floor"
    return {
        "benchmark": f"layer {rows:,} rows, {kind}, {what}",
        "hashing_time_share": document["hashing_time_share"],
        "rows_per_second": document["per_second"],
    }


def kills(kind: str, number: int = 100) -> Row:
    """Layering killed again and again beside other writers: who is locked out afterwards."""
    start = {"PostgreSQL": servers.postgresql, "MariaDB": servers.mariadb}[kind]
    with start() as server, tempfile.TemporaryDirectory() as name:
        folder = Path(name)
        others = server_portal.layered_through_kills(
            server, folder, kills=number, memory_kib=16_384
        )
        return {
            "benchmark": f"layer through {number} kills, {kind}",
            "accounts": len(others.passwords),
            "locked_out": len(server_portal.locked_out(server, folder, others.passwords)),
            "refused_meanwhile": len(others.refused),
            **{f"{action}s_meanwhile": count for action, count in others.done.items()},
        }


def rekey_rate(kind: str, rows: int) -> Iterator[Row]:
    """Layering with a target that costs nothing, and a key over the same rows, in one run."""
    with _kiosk(kind, rows, _CHEAP, characters=400) as folder:
        layer = [PROGRAM, "layer", "--no-backup", "--unproven", "old", "--format", "json"]
        layered = subprocess.run(layer, cwd=folder, capture_output=True, check=True)
        new = [PROGRAM, "keys", "new", "pepper", "--over-values"]
        subprocess.run(new, cwd=folder, capture_output=True, check=True)
        policy = folder / "tumbler.toml"
        policy.write_text(policy.read_text().replace("passes = 1\n", _KEYED, 1) + _KEYS)
        rekey = [PROGRAM, "rekey", "--no-backup", "--format", "json"]
        rekeyed = subprocess.run(rekey, cwd=folder, capture_output=True, check=True)
    before, after = json.loads(layered.stdout), json.loads(rekeyed.stdout)
    yield {
        "benchmark": f"rekey {rows:,} rows, {kind}",
        "rows_per_second": after["per_second"],
        "layer_rows_per_second": before["per_second"],
        "as_quick_as_layering": after["per_second"] / before["per_second"],
    }


_KEYED = 'passes = 1\nkeyed_by = "pepper"\nrealm = "coldharbour"\n'
_KEYS = '[keys]\npepper = { file = "pepper.key", form = "base64" }\n'


def rotation(kind: str, rows: int = 100_000, kills: int = 30) -> Iterator[Row]:
    """All rows from one key to another, killed each second, beside other writers."""
    with tempfile.TemporaryDirectory() as name, ExitStack() as stack:
        folder = Path(name)
        server: server_portal.Database = servers.SqliteFile(folder / "harbour.db")
        if kind != "SQLite":
            start = {"PostgreSQL": servers.postgresql, "MariaDB": servers.mariadb}[kind]
            server = stack.enter_context(start())
        others = server_portal.rotated_through_kills(
            server, folder, rows=rows, kills=kills, each_seconds=2.0
        )
        under = "SELECT COUNT(*) FROM passengers WHERE pw LIKE '$keyed$by=pepper-{},%'"
        yield {
            "benchmark": f"rotate a key through {kills} kills, {rows:,} rows, {kind}",
            "accounts": len(others.passwords),
            "locked_out": len(server_portal.locked_out(server, folder, others.passwords)),
            "refused_meanwhile": len(others.refused),
            "under_the_old_key": int(server.ask(under.format("2025"))),
            "under_the_new_key": int(server.ask(under.format("2026"))),
            **{f"{action}s_meanwhile": count for action, count in others.done.items()},
        }


def _layer_rates(kind: str) -> Iterator[Row]:
    yield layer_rate(kind, 2_000, cheap=False)
    yield layer_rate(kind, 20_000, cheap=True)


def _kills(kind: str) -> Iterator[Row]:
    yield kills(kind)


BENCHMARKS = (
    *(
        Benchmark(
            name=f"layer-{kind.lower()}",
            run=partial(_layer_rates, kind),
            needs=() if kind == "SQLite" else (kind,),
        )
        for kind in ("SQLite", "PostgreSQL", "MariaDB")
    ),
    *(
        Benchmark(
            name=f"{name}-{kind.lower()}",
            run=partial(run, kind, *more),
            needs=() if kind == "SQLite" else (kind,),
        )
        for name, run, more in (("rekey", rekey_rate, (20_000,)), ("rotation", rotation, ()))
        for kind in ("SQLite", "PostgreSQL", "MariaDB")
    ),
    *(
        Benchmark(name=f"kills-{kind.lower()}", run=partial(_kills, kind), needs=(kind,))
        for kind in ("PostgreSQL", "MariaDB")
    ),
)
