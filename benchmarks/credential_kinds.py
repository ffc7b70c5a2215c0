"""Invented schemas with traps: what an audit calls passwords, another kind, or nothing."""

import tempfile
from collections.abc import Iterator, Sequence
from pathlib import Path

from invented.columns import NOTHING, PASSWORD, SEEDS, kinds_told, write_schema
from measuring import Benchmark, Row


def kinds_of_columns(seeds: Sequence[int] = SEEDS) -> Iterator[Row]:
    """Audit each schema, and hold what is said of each column against the truth."""
    columns = right = passwords_missed = innocent = called_accounts = 0
    for seed in seeds:
        with tempfile.TemporaryDirectory() as folder:
            path = Path(folder) / "schema.db"
            truth = write_schema(path, seed)
            told = kinds_told(path)
        for name, kind in truth.items():
            said = told.get(name, NOTHING)
            columns += 1
            right += said == kind
            passwords_missed += kind == PASSWORD != said
            innocent += kind == NOTHING
            called_accounts += kind == NOTHING and said == PASSWORD
        called_accounts += sum(
            kind == PASSWORD and name not in truth for name, kind in told.items()
        )
    yield {
        "benchmark": "kinds of columns",
        "schemas": len(seeds),
        "columns": columns,
        "right": right,
        "passwords_missed": passwords_missed,
        "innocent": innocent,
        "innocent_called_accounts": called_accounts,
    }


BENCHMARKS = (Benchmark(name="kinds", run=kinds_of_columns),)
