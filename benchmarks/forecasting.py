"""Forecasts: how true, and how quick; the step back to look at progress."""

import hashlib
import sqlite3
import tempfile
import time
from collections.abc import Iterator
from contextlib import closing
from pathlib import Path

import numpy as np
import polars as pl

import servers
from auditing import write_store
from lean_tumbler.core.forecast.back_test import back_test
from lives import POPULATIONS, lives
from measuring import PROGRAM, Benchmark, Row, command, peak_mib, quickest

_FORECAST_POLICY = """
[store.passengers]
locator = "harbour.db"
table = "passengers"
[store.passengers.columns]
account = "id"
login = "email"
stored = "pw"
"""


def forecast_rate(accounts: int = 1_000_000, logins: int = 20_000_000) -> Row:
    """The seconds of `progress` with a log in Parquet, counts and bootstrap included."""
    chance = np.random.default_rng(3)
    with tempfile.TemporaryDirectory() as name:
        folder = Path(name)
        (folder / "tumbler.toml").write_text(_FORECAST_POLICY)
        with closing(sqlite3.connect(folder / "harbour.db")) as connection, connection:
            connection.execute("CREATE TABLE passengers (id INTEGER PRIMARY KEY, email, pw)")
            connection.executemany(
                "INSERT INTO passengers VALUES (?, ?, ?)",
                ((n, f"p{n}@tidepost.example", hashlib.md5(b"%d" % n).hexdigest())  # noqa: S324
                 for n in range(accounts)),
            )  # fmt: skip
        # People come at rates of their own, each until a day of their own.
        rates = chance.gamma(0.8, 1.0, accounts)
        who = chance.choice(accounts, logins, p=rates / rates.sum())
        until = chance.exponential(900, accounts).clip(30, 730)
        when = (chance.random(logins) * until[who]).astype(np.int64)
        start = int(time.time()) - 730 * 86_400
        pl.DataFrame({"n": who, "at": start + 86_400 * when}).select(
            email="p" + pl.col("n").cast(pl.String) + "@tidepost.example", at="at"
        ).write_parquet(folder / "logins.parquet")
        arguments = ("progress", "--logins", "logins.parquet", "--format", "json")
        seconds = quickest(command(PROGRAM, *arguments, folder=name), 1)
        peak = peak_mib(*arguments, folder=name)
    return {
        "benchmark": f"forecast {accounts:,} accounts, {logins:,} logins",
        "seconds": round(seconds, 1),
        "peak_mib": peak,
    }


def forecast_truth(seeds: int = 8) -> Iterator[Row]:
    """How forecasts of made-up populations, from a log in the past, compare with what came."""
    for name, habits in POPULATIONS.items():
        logs = [lives(800, seed, habits=habits) for seed in range(seeds)]
        tried = [each for log in logs for each in back_test(log, cuts=(182, 365)).tried]
        yield {
            "benchmark": f"forecast of {name}",
            "points": len(tried),
            "covered": round(float(np.mean([each.covered for each in tried])), 2),
            "beats_the_baseline": round(
                float(np.mean([each.error < each.baseline_error for each in tried])), 2
            ),
            "error": round(float(np.mean([each.error for each in tried])), 4),
            "baseline_error": round(float(np.mean([each.baseline_error for each in tried])), 4),
        }


def progress_rate(rows: int = 1_000_000) -> Row:
    """The seconds of `progress` on a table in PostgreSQL, forecast from last logins included."""
    with tempfile.TemporaryDirectory() as name, servers.postgresql() as server:
        folder = Path(name)
        write_store(folder / "export.csv", rows)
        server.run("CREATE TABLE passengers (id integer PRIMARY KEY, email text, pw text);")
        copy = f"\\copy passengers from '{folder / 'export.csv'}' with (format csv, header)"
        server.run(copy + "\n")
        server.run(
            "ALTER TABLE passengers ADD COLUMN seen date;"
            "UPDATE passengers SET seen = current_date - (2000 * power(random(), 3))::integer;"
            "VACUUM ANALYZE passengers;"
        )
        policy = _FORECAST_POLICY.replace("harbour.db", server.url)
        (folder / "tumbler.toml").write_text(policy + 'last_login = "seen"\n')
        arguments = ("progress", "--history", "history.jsonl", "--format", "json")
        seconds = quickest(command(PROGRAM, *arguments, folder=name), 5)
        peak = peak_mib(*arguments, folder=name)
    return {
        "benchmark": f"progress {rows:,} rows of PostgreSQL",
        "seconds": round(seconds, 1),
        "peak_mib": peak,
    }


BENCHMARKS = (
    Benchmark(name="forecast-truth", run=forecast_truth),
    Benchmark(name="forecast", run=lambda: (forecast_rate(),)),
    Benchmark(name="progress", run=lambda: (progress_rate(),)),
)
