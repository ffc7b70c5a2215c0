"""Drafts of invented tables: what `draft` gets right, leaves, and says it is sure of."""

import tempfile
from collections import Counter
from pathlib import Path

from invented import drafts
from measuring import Benchmark, Row


def invented_drafts(tables: int = 200, *, first_seed: int = 20_000) -> Row:
    """Draft invented tables from three known accounts of each make, and read everybody by it."""
    people = opened = left = cohorts = sure = wrong_sure = whole = 0
    wrong: Counter[str] = Counter()
    left_kinds: Counter[str] = Counter()
    seconds: list[float] = []
    for seed in range(first_seed, first_seed + tables):
        with tempfile.TemporaryDirectory() as folder:
            found = drafts.tried(seed, Path(folder))
        people += found.people
        opened += found.opened
        left += found.left
        wrong += found.wrong
        left_kinds += found.left_kinds
        wrong_sure += found.wrong_though_sure
        cohorts += found.cohorts
        sure += found.sure
        whole += found.opened == found.people
        seconds.append(found.seconds)
    return {
        "benchmark": "drafts of invented tables",
        "tables": tables,
        "people": people,
        "opened": opened,
        "opened_share": round(opened / people, 5),
        "in_no_cohort": left,
        "in_no_cohort_by_kind": dict(left_kinds),
        "in_a_wrong_cohort": dict(wrong),
        "in_a_wrong_cohort_though_sure": wrong_sure,
        "tables_wholly_right": whole,
        "cohorts": cohorts,
        "cohorts_said_to_be_sure": sure,
        "seconds_median": round(sorted(seconds)[len(seconds) // 2], 2),
        "seconds_longest": round(max(seconds), 1),
    }


BENCHMARKS = (Benchmark(name="drafts", run=lambda: (invented_drafts(),)),)
