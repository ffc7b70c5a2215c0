"""Audits: rows a second, beside bare queries."""

import csv
import hashlib
import os
import sqlite3
import tempfile
from collections.abc import Iterator
from concurrent.futures import ThreadPoolExecutor
from contextlib import closing
from pathlib import Path

import polars as pl

import servers
from lean_tumbler.core.grades import Floor, grade
from lean_tumbler.core.policy import Columns
from lean_tumbler.core.schemes.catalogue import read_value
from lean_tumbler.stores.scans.auditing import audit_source
from lean_tumbler.stores.scans.profiling import AuditContext
from measuring import Benchmark, Row, paired, peak_mib, quickest


def _audit_values(rows: int, start: int = 0) -> list[str]:
    """40 % MD5, 20 % SHA-1, 20 % bcrypt, 10 % Argon2id, 10 % plain text, in turn."""
    values: list[str] = []
    for number in range(start, start + rows):
        digest = hashlib.sha512(b"%d" % number).hexdigest()
        values.append(
            (
                digest[:32],
                digest[:32],
                digest[:40],
                "$2b$05$" + digest[:53],
                "$argon2id$v=19$m=19456,t=2,p=1$" + digest[:22] + "$" + digest[:43],
                digest[:32],
                digest[:40],
                "$2b$10$" + digest[:53],
                digest[:32],
                f"harbour {number % 5000}",
            )[number % 10]
        )
    return values


def write_store(path: Path, rows: int) -> None:
    """Write a CSV file of made-up accounts, as Python's own writer quotes it."""
    with path.open("w", newline="") as file:
        writer = csv.writer(file)
        writer.writerow(("id", "email", "pw"))
        for start in range(0, rows, 100_000):
            values = _audit_values(min(100_000, rows - start), start)
            writer.writerows(
                (n, f"p{n}@tidepost.example", value) for n, value in enumerate(values, start)
            )


def _audit(source: str, *, folder: Path) -> object:
    cores = os.cpu_count() or 1
    with ThreadPoolExecutor(cores) as executor:
        context = AuditContext(floor=Floor(), executor=executor, frames_at_once=cores + 1)
        columns = Columns(stored="pw", login="email", account="id")
        return audit_source(source, base=folder, context=context, columns=columns)


def audit_rate(rows: int = 2_000_000) -> Row:
    """Rows a second from a CSV file, beside a plain count of four patterns and a Python loop."""
    floor = Floor()
    values = _audit_values(rows // 20, 0)
    with tempfile.TemporaryDirectory() as name:
        path = Path(name) / "export.csv"
        write_store(path, rows)

        def vectorised() -> object:
            return _audit("export.csv", folder=path.parent)

        def plain_count() -> object:
            stored = pl.col("pw")
            patterns = ("^[0-9a-f]{32}$", "^[0-9a-f]{40}$", "^\\$2[aby]\\$", "^\\$argon2")
            return pl.read_csv(path).select(
                stored.str.contains(pattern).sum().alias(pattern) for pattern in patterns
            )

        def one_by_one() -> object:
            return [grade(read_value(value), floor, salted=False) for value in values]

        ours, count = paired(vectorised, plain_count, 3)
        least = quickest(vectorised, 3)
        loop, _ = paired(one_by_one, lambda: None, 2)
        peak = peak_mib("audit", str(path))
    return {
        "benchmark": f"audit {rows:,} rows of CSV",
        "rows_per_second": round(rows / least),
        "ratio_to_a_plain_count": round(ours / count, 2),
        "times_faster_than_a_loop": round(20 * loop / ours, 2),
        "peak_mib": peak,
    }


def database_rate(rows: int = 500_000) -> Iterator[Row]:
    """Rows a second from SQLite, and from PostgreSQL where it is installed."""
    with tempfile.TemporaryDirectory() as name:
        folder = Path(name)
        with closing(sqlite3.connect(folder / "harbour.db")) as connection, connection:
            connection.execute("CREATE TABLE people (id INTEGER PRIMARY KEY, email TEXT, pw TEXT)")
            values = enumerate(_audit_values(rows, 0))
            connection.executemany(
                "INSERT INTO people VALUES (?, ?, ?)",
                ((n, f"p{n}@tidepost.example", value) for n, value in values),
            )
        seconds = quickest(lambda: _audit("harbour.db", folder=folder), 5)
        yield {"benchmark": "audit SQLite", "rows_per_second": round(rows / seconds)}
        write_store(folder / "export.csv", rows)
        with servers.postgresql() as server:
            server.run("CREATE TABLE people (id integer PRIMARY KEY, email text, pw text);")
            copy = f"\\copy people from '{folder / 'export.csv'}' with (format csv, header)"
            server.run(copy + "\n")
            seconds = quickest(lambda: _audit(server.url, folder=folder), 5)
        yield {"benchmark": "audit PostgreSQL", "rows_per_second": round(rows / seconds)}


BENCHMARKS = (
    Benchmark(name="audit", run=lambda: (audit_rate(),)),
    Benchmark(name="audit-databases", run=database_rate, needs=("PostgreSQL",)),
)
