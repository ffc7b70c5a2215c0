"""Forecasts: how true, and how quick; the step back to look at progress."""

import hashlib
import sqlite3
import tempfile
import time
from collections.abc import Iterator
from concurrent.futures import ProcessPoolExecutor
from contextlib import closing
from datetime import date, timedelta
from itertools import product
from pathlib import Path

import numpy as np
import polars as pl

import servers
from auditing import write_store
from foretold import KINDS, Foretold
from lean_tumbler.core.forecast.waiting import HORIZONS
from lean_tumbler.core.reading.evidence import RowFacts
from lean_tumbler.migration.bulk.strata import CohortRows, most_days
from lives import NOW, POPULATIONS, Lives, lives
from measuring import PROGRAM, Benchmark, Row, command, peak_mib, quickest

_OBSERVED_DAYS = 180
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


# What should be seen in which kind of data; elsewhere nothing should be.
_DATES = ("last logins", "last logins and `created`")
_LOGS = ("a log", "a log and `created`")
_BROKEN = {
    "holidays ahead": (_LOGS, {"season"}),
    "a tax season ahead": (_LOGS, {"season"}),
    "an announced shutdown": (_LOGS, {"lately"}),
    "a log that begins late": (_LOGS, {"short log"}),
    "a log that lacks people": (_LOGS, {"lacking log"}),
    "lost dates": (_DATES, {"no date"}),
    "a column added late": (_DATES, {"no date", "late column"}),
    "a bulk import": (_DATES, {"batch", "import"}),
    "a batch that touched nearly all": (_DATES, {"batch"}),
}


def _foretold(job: tuple[str, int, int, int]) -> tuple[str, dict[str, Foretold]]:
    name, place, seed, accounts = job
    found = lives(accounts, 10_000 * place + seed, POPULATIONS[name])
    return name, {kind: by(found) for kind, by in KINDS.items()}


def forecast_truth(seeds: int = 20, accounts: int = 1000) -> Iterator[Row]:
    """How forecasts of invented populations, by what they rest on, compare with what came."""
    jobs = [
        (name, place, seed, accounts)
        for place, name in enumerate(POPULATIONS)
        for seed in range(seeds)
    ]
    with ProcessPoolExecutor(2) as executor:
        found = list(executor.map(_foretold, jobs, chunksize=4))
    for kind in KINDS:
        yield {"benchmark": f"forecast from {kind}"} | _summary(
            [(name, by_kind[kind]) for name, by_kind in found], kind
        )
    for name in POPULATIONS:
        told = [by_kind["a log and `created`"] for one, by_kind in found if one == name]
        yield {"benchmark": f"forecast of {name}"} | _against_truth(told)


def _against_truth(found: list[Foretold]) -> Row:
    points = [(each, day) for each in found if not each.forecast.withheld for day in HORIZONS]
    inside = [each.is_inside(day) for each, day in points]
    drawn = [known for known in inside if known is not None]
    hopeful = [each.is_too_hopeful(day) for each, day in points]
    plain = [
        abs(each.forecast.baseline[day] - each.truth[day]) / each.forecast.accounts
        for each, day in points
        if each.forecast.baseline
    ]
    return {
        "points": len(points),
        "with_interval": round(len(drawn) / max(1, len(points)), 2),
        "covered": round(float(np.mean(drawn)), 3) if drawn else None,
        "too_hopeful": round(float(np.mean(hopeful)), 3),
        "median_error": round(float(np.median([e.error(day) for e, day in points])), 4),
        "median_error_of_baseline": round(float(np.median(plain)), 4) if plain else None,
    } | _of_simple_estimators(points)


def _of_simple_estimators(points: list[tuple[Foretold, int]]) -> Row:
    """Give the median error of the best of them: it is chosen with the truth known."""
    names = points[0][0].simple if points else {}
    errors = [
        float(np.median([each.error_of(name, day) for each, day in points])) for name in names
    ]
    return {"median_error_of_best_simple": round(min(errors), 4)} if errors else {}


def _summary(found: list[tuple[str, Foretold]], kind: str) -> Row:
    expected = [(name in _BROKEN and kind in _BROKEN[name][0], each) for name, each in found]
    named = [bool(each.names & _BROKEN[name][1]) for name, each in found
             if name in _BROKEN and kind in _BROKEN[name][0]]  # fmt: skip
    false = [bool(each.names) for is_broken, each in expected if not is_broken]
    return _against_truth([each for _, each in found]) | {
        "breaks_seen": round(float(np.mean(named)), 3) if named else None,
        "false_warnings": round(float(np.mean(false)), 3),
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


def observing_truth(seeds: int = 20) -> Iterator[Row]:
    """In how many days so many different people came, beside what `plan` says of it."""
    told = {name: [] for name in POPULATIONS}  # type: dict[str, list[tuple[float, int, int]]]
    for name, habits in POPULATIONS.items():
        for seed, accounts, people in product(range(seeds), (60, 300), (5, 14)):
            found = lives(accounts, seed, habits)
            days = _cohort_of(found).days_of_logins(people)
            if days is not None and days <= _OBSERVED_DAYS:
                first = np.sort(found.first_after(NOW)[found.known])
                told[name].append((float(first[people - 1]), days, most_days(days)))
    every = [each for found in told.values() for each in found]
    for name, own in {**told, "all": every}.items():
        yield {
            "benchmark": f"days of logins: {name}",
            "promises": len(own),
            "within_the_days": round(float(np.mean([came <= days for came, days, _ in own])), 2),
            "within_the_most": round(float(np.mean([came <= most for came, _, most in own])), 2),
        }


def _cohort_of(found: Lives) -> CohortRows:
    rows = CohortRows()
    for number, seen in enumerate(found.seen[found.known]):
        day = None if np.isnan(seen) else date(2020, 1, 1) + timedelta(int(seen))
        rows.add(RowFacts(key=number, last_login=day))
    return rows


BENCHMARKS = (
    Benchmark(name="observing-truth", run=observing_truth),
    Benchmark(name="forecast-truth", run=forecast_truth),
    Benchmark(name="forecast", run=lambda: (forecast_rate(),)),
    Benchmark(name="progress", run=lambda: (progress_rate(),)),
)
