"""What benchmarks share: how something is timed, and what a benchmark is."""

import statistics
import subprocess
import sys
import time
from collections.abc import Callable, Iterable
from dataclasses import dataclass
from pathlib import Path
from typing import Any

TESTS = Path(__file__).parent.parent / "tests"
PROGRAM = str(Path(sys.executable).with_name("lean-tumbler"))
TABLE = "CREATE TABLE kiosk (id integer PRIMARY KEY, login varchar(20), pw varchar(255));"

Row = dict[str, Any]


@dataclass(frozen=True, slots=True, kw_only=True)
class Benchmark:
    """One benchmark.

    Attributes:
        name: by which it is called.
        run: gives its results, one by one.
        needs: programs that it starts, as `NEEDS` of the runner names them.
    """

    name: str
    run: Callable[[], Iterable[Row]]
    needs: tuple[str, ...] = ()


def paired(
    one: Callable[[], object], other: Callable[[], object], runs: int
) -> tuple[float, float]:
    """Run two things in turn; give the median seconds of each."""
    times: tuple[list[float], list[float]] = ([], [])
    for _ in range(runs):
        for index, action in enumerate((one, other)):
            started = time.perf_counter()
            action()
            times[index].append(time.perf_counter() - started)
    return statistics.median(times[0]), statistics.median(times[1])


def quickest(action: Callable[[], object], runs: int) -> float:
    """Run something several times; give the least seconds: what others take is not ours."""
    times = []
    for _ in range(runs):
        started = time.perf_counter()
        action()
        times.append(time.perf_counter() - started)
    return min(times)


def command(*arguments: str, folder: str = ".") -> Callable[[], object]:
    """Give what runs a program to its end."""
    return lambda: subprocess.run(arguments, check=True, capture_output=True, cwd=folder)


def peak_mib(*arguments: str, folder: str = ".") -> int:
    """Measure the most memory of the command itself."""
    code = (
        "import resource, subprocess, sys;"
        "subprocess.run(sys.argv[1:], check=True, stdout=subprocess.DEVNULL);"
        "print(resource.getrusage(resource.RUSAGE_CHILDREN).ru_maxrss // 1024)"
    )
    command = [sys.executable, "-c", code, PROGRAM, *arguments]
    asked = subprocess.run(command, check=True, capture_output=True, text=True, cwd=folder)
    return int(asked.stdout)
