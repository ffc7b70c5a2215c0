"""Careless users: invented worlds gone through by the documented commands, and who was harmed."""

import tempfile
from collections.abc import Iterator
from pathlib import Path

from invented.careless import FIRST_OF_BENCHMARK, FIRST_OF_SISTERS, world
from invented.careless_trial import Outcome, on_server, on_sqlite
from measuring import Benchmark, Row
from test_servers import STARTERS

ROWS = 100_000
ROWS_OF_SERVERS = 5_000
_HARM = ("refused who was admitted", "written and refused", "admitted by the stored text",
         "admitted by the text as it is", "admitted by another's", "internal errors")  # fmt: skip


def _row(name: str, total: Outcome) -> Row:
    counts = total.counts
    could = counts["could be written"]
    return {
        "benchmark": f"careless users, {name}",
        "worlds": counts["worlds"],
        "people": counts["people"],
        "written": counts["written"],
        "wrong_texts_typed": counts["wrong texts"],
        **{harm.replace(" ", "_").replace("'", ""): counts[harm] for harm in _HARM},
        "written_where_enough_is_known": counts["could be written and was"] / could if could else 0,
        "left_that_may_be_digests_or_passwords": counts["may be digests or passwords"]
        - counts["may be digests or passwords and was"],
        "first_faults": total.faults[:5],
    }


def careless(name: str, first: int, rows: int) -> Iterator[Row]:
    """Go through worlds on SQLite, from one of them on."""
    total, number = Outcome(), first
    while total.counts["people"] < rows:
        with tempfile.TemporaryDirectory() as folder:
            total.add(on_sqlite(world(number), Path(folder)))
        number += 1
    yield _row(name, total)


def careless_on(starter: str, rows: int = ROWS_OF_SERVERS) -> Iterator[Row]:
    """Go through worlds on a server."""
    total, number = Outcome(), 2 * FIRST_OF_BENCHMARK
    with STARTERS[starter]() as server:
        while total.counts["people"] < rows:
            with tempfile.TemporaryDirectory() as folder:
                total.add(on_server(world(number), Path(folder), server))
            number += 1
    yield _row(starter, total)


BENCHMARKS = (
    Benchmark(name="careless", run=lambda: careless("SQLite", FIRST_OF_BENCHMARK, ROWS)),
    Benchmark(
        name="careless-equal-tables",
        run=lambda: careless("equal tables", FIRST_OF_SISTERS + 1000, ROWS_OF_SERVERS * 4),
    ),
    Benchmark(
        name="careless-postgresql", run=lambda: careless_on("postgresql"), needs=("PostgreSQL",)
    ),
    Benchmark(name="careless-mariadb", run=lambda: careless_on("mariadb"), needs=("MariaDB",)),
)
