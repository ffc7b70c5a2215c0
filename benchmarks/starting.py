"""How long commands take to start."""

import sys

from measuring import PROGRAM, Benchmark, Row, command, paired


def start(name: str, limit_seconds: float, *arguments: str) -> Row:
    """How long a command takes to start, beside an interpreter that does nothing."""
    ours, bare = paired(command(PROGRAM, *arguments), command(sys.executable, "-c", "pass"), 15)
    return {
        "benchmark": name,
        "seconds": round(ours, 4),
        "limit_seconds": limit_seconds,
        "ratio_to_bare_interpreter": round(ours / bare, 2),
    }


BENCHMARKS = (
    Benchmark(
        name="start",
        run=lambda: (
            start("lean-tumbler --help", 0.15, "--help"),
            start("lean-tumbler explain", 0.25, "explain", "5f4dcc3b5aa765d61d8327deb882cf99"),
        ),
    ),
)
