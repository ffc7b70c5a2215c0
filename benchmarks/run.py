"""Benchmarks: each prints a ratio within one run, because machines differ and are noisy.

    make bench                               all of them, some hours
    python benchmarks/run.py NAME [NAME ...]  some of them
    python benchmarks/run.py --list           their names, and what each needs

Results are printed as they come, and kept in benchmarks/results.jsonl in the place of earlier ones,
with the day and the machine. A benchmark that fails says so and loses no other's result.
"""

import json
import os
import sys
import time
from collections.abc import Callable, Mapping
from datetime import UTC, datetime
from importlib.util import find_spec
from pathlib import Path

sys.path.insert(0, str(Path(__file__).parent.parent / "tests"))  # its throw-away servers and lives

import auditing
import bulk
import careless
import credential_kinds
import drafting
import embedding_checks
import forecasting
import fuzzing
import generations
import loads
import mistakes
import promises
import refusals
import remains
import servers
import serving
import solving
import starting
from measuring import Benchmark

BENCHMARKS = {
    benchmark.name: benchmark
    for module in (
        *(
            starting,
            serving,
            promises,
            bulk,
            auditing,
            forecasting,
            loads,
            solving,
            generations,
            drafting,
            embedding_checks,
            mistakes,
            careless,
            credential_kinds,
        ),
        *(refusals, remains, fuzzing),
    )
    for benchmark in module.BENCHMARKS
}
# Each program that a benchmark may need: whether it is here, and the package that brings it.
NEEDS: Mapping[str, tuple[Callable[[], object], str]] = {
    "PostgreSQL": (lambda: servers.where("postgres"), "postgresql"),
    "MariaDB": (lambda: servers.where("mariadbd"), "mariadb-server"),
    "h2load": (lambda: servers.where("h2load"), "nghttp2-client"),
    "atheris": (lambda: find_spec("atheris"), "atheris of the Python index"),
}
RESULTS = Path(__file__).with_name("results.jsonl")


def lacking(wanted: list[Benchmark]) -> list[str]:
    """Name what is not installed: by program, with its package and who needs it."""
    needed = sorted({need for benchmark in wanted for need in benchmark.needs})
    return [
        f"{need} (package {NEEDS[need][1]}), for "
        + ", ".join(each.name for each in wanted if need in each.needs)
        for need in needed
        if not NEEDS[need][0]()
    ]


def _measured_on() -> dict[str, object]:
    return {
        "day": datetime.now(UTC).strftime("%Y-%m-%d"),
        "cores": os.cpu_count(),
        "python": sys.version.split()[0],
    }


def _forget(benchmark: Benchmark) -> None:
    """Drop the earlier results of a benchmark."""
    lines = RESULTS.read_text("utf-8").splitlines(keepends=True) if RESULTS.exists() else []
    kept = [line for line in lines if json.loads(line)["of"] != benchmark.name]
    RESULTS.write_text("".join(kept), "utf-8")


def _run(benchmark: Benchmark) -> bool:
    started = time.perf_counter()
    told_before = False
    try:
        for row in benchmark.run():
            if not told_before:
                _forget(benchmark)
                told_before = True
            name, rest = row.get("benchmark", benchmark.name), dict(row)
            rest.pop("benchmark", None)
            print(f"{name:<34}", "  ".join(f"{key} {value}" for key, value in rest.items()),
                  flush=True)  # fmt: skip
            with RESULTS.open("a", encoding="utf-8") as file:
                told = {**row, "of": benchmark.name, "on": _measured_on()}
                file.write(json.dumps(told, ensure_ascii=False) + "\n")
    except Exception as error:  # noqa: BLE001 - the others are to be run all the same
        print(f"{benchmark.name}: failed: {type(error).__name__}: {error}", flush=True)
        return False
    print(f"  {benchmark.name}: {time.perf_counter() - started:.0f} s", flush=True)
    return True


def main(arguments: list[str]) -> int:
    """Run what is named, or all."""
    if arguments == ["--list"]:
        for benchmark in BENCHMARKS.values():
            needs = f"  needs {', '.join(benchmark.needs)}" if benchmark.needs else ""
            print(benchmark.name + needs)
        return 0
    if unknown := [name for name in arguments if name not in BENCHMARKS]:
        print(f"no such benchmark: {', '.join(unknown)}; known: {', '.join(BENCHMARKS)}")
        return 2
    wanted = [BENCHMARKS[name] for name in arguments or BENCHMARKS]
    if missing := lacking(wanted):
        print("not installed: " + "; ".join(missing))
        return 2
    return min(1, sum(not _run(benchmark) for benchmark in wanted))


if __name__ == "__main__":
    sys.exit(main(sys.argv[1:]))
