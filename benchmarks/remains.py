"""Searching a tree for stored values, beside the time in which grep counts four patterns."""

import os
import random
import resource
import subprocess
import sys
import tempfile
import time
from collections.abc import Callable, Iterator
from pathlib import Path

import servers
from measuring import Benchmark, Row

PROGRAM = Path(sys.executable).with_name("lean-tumbler")
_FILE_BYTES = 1 << 26
_DUMPED = 1_000_000
_ROWS_AT_ONCE = 50_000
_SIGNS = "./0123456789ABCDEFGHIJKLMNOPQRSTUVWXYZabcdefghijklmnopqrstuvwxyz"
_FILES = 32  # of 64 MiB: 2 GiB
_PATTERNS = r"[0-9a-f]{32}|\$2[aby]\$[0-9]{2}\$|\$6\$|\{SSHA\}"


def _write_tree(folder: Path) -> None:
    """Write a log with ETags in a tenth of its lines, under many names, and a dump of accounts."""
    draw = random.Random(3)  # noqa: S311 - invented data
    with (folder / "0.log").open("w") as file:
        while file.tell() < _FILE_BYTES:
            for number in range(2_000):
                etag = f"{draw.getrandbits(128):032x}" if number % 10 == 0 else "none"
                file.write(
                    f"2026-11-27T02:00:00 GET /v1/items/{draw.randrange(9999)} 200 "
                    f"user=u{number}@tidepost.example etag={etag} took={draw.randrange(300)}ms\n"
                )
            file.write('{"password":"$2y$10$%s"}\n' % ("a" * 53))
    for number in range(1, _FILES):
        os.link(folder / "0.log", folder / f"{number}.log")
    with (folder / "users.sql").open("w") as file:
        file.write("CREATE TABLE users (id integer, email text, pw text);\n")
        for number in range(_DUMPED):
            value = "$2y$10$" + "".join(draw.choices(_SIGNS, k=53))
            row = f"({number},'u{number}@tidepost.example','{value}')"
            file.write(f"INSERT INTO users VALUES {row};\n")  # noqa: S608 - our own


def _seconds(command: list[str], cwd: Path) -> float:
    started = time.perf_counter()
    subprocess.run(command, cwd=cwd, check=True, capture_output=True)
    return time.perf_counter() - started


def _values(folder: Path, number: int) -> None:
    """Write a policy with a store of so many values that are looked for exactly."""
    draw = random.Random(4)  # noqa: S311 - invented data
    lines = [f"u{n}@tidepost.example,{draw.getrandbits(128):032x}" for n in range(number)]
    (folder / "users.csv").write_text("\n".join(["login,pw", *lines]) + "\n")
    (folder / "tumbler.toml").write_text(
        '[store.users]\nlocator = "users.csv"\n'
        '[store.users.columns]\nlogin = "login"\nstored = "pw"\n'
    )


def searches() -> Iterator[Row]:
    """Time grep and the search in turn; with and without values that are looked for exactly."""
    with tempfile.TemporaryDirectory() as name:
        folder = Path(name)
        tree = folder / "tree"
        tree.mkdir()
        _write_tree(tree)
        size = sum(file.stat().st_size for file in tree.iterdir()) / 2**20
        cores = os.cpu_count() or 1
        each = f"ls tree | xargs -P {cores} -I FILE grep -a -E -c '{_PATTERNS}' tree/FILE"
        counted = ["sh", "-c", each]
        _seconds(counted, folder)  # into the page cache
        for exact in (0, 100_000):
            if exact:
                _values(folder, exact)
            grep = _seconds(counted, folder)
            found = _seconds([str(PROGRAM), "residue", "tree"], folder)
            peak = resource.getrusage(resource.RUSAGE_CHILDREN).ru_maxrss / 1024
            yield {
                "benchmark": f"a tree of {size:,.0f} MiB, {exact:,} exact values",
                "grep_mib_per_second": round(size / grep),
                "search_mib_per_second": round(size / found),
                "share_of_greps_speed": round(grep / found, 2),
                "largest_process_mib": round(peak),
            }


def databases(rows: int = 1_000_000) -> Iterator[Row]:
    """Time the audit of a table and the search through it in turn, on both servers."""
    makers: dict[str, Callable[[random.Random], str]] = {
        "MD5": lambda draw: f"{draw.getrandbits(128):032x}",
        "bcrypt": lambda draw: "$2y$10$" + "".join(draw.choices(_SIGNS, k=53)),
    }
    for kind, start in (("PostgreSQL", servers.postgresql), ("MariaDB", servers.mariadb)):
        with start() as server, tempfile.TemporaryDirectory() as name:
            for scheme, make in makers.items():
                draw = random.Random(5)  # noqa: S311 - invented data
                server.run("DROP TABLE IF EXISTS users;")
                server.run("CREATE TABLE users (id integer PRIMARY KEY, email text, pw text);")
                for first in range(0, rows, _ROWS_AT_ONCE):
                    lines = (
                        f"({n}, 'u{n}@tidepost.example', '{make(draw)}')"
                        for n in range(first, first + _ROWS_AT_ONCE)
                    )
                    rows_text = ",".join(lines)
                    server.run(f"INSERT INTO users VALUES {rows_text};")  # noqa: S608 - our own
                pairs = [
                    [_seconds([str(PROGRAM), job, server.url], Path(name))
                     for job in ("audit", "residue")]
                    for _ in range(3)
                ]  # fmt: skip
                audit, search = map(min, zip(*pairs, strict=True))
                yield {
                    "benchmark": f"a table of {rows:,} rows of {scheme} on {kind}",
                    "audit_seconds": round(audit, 1),
                    "search_seconds": round(search, 1),
                    "share_of_the_audits_speed": round(audit / search, 2),
                }


BENCHMARKS = (
    Benchmark(name="remains", run=searches),
    Benchmark(name="remains-databases", run=databases, needs=("PostgreSQL", "MariaDB")),
)
