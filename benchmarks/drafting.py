"""Drafts of invented tables: what `draft` gets right, leaves, and says it is sure of."""

import subprocess
import tempfile
import time
from collections import Counter
from collections.abc import Callable, Iterator
from functools import partial
from pathlib import Path

import servers
import test_draft
from invented import drafts
from measuring import PROGRAM, Benchmark, Row


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


def finished_stores() -> Iterator[Row]:
    """From a URL and ten known accounts to a finished store: commands, seconds, lines edited."""
    with servers.mariadb() as shop, servers.postgresql() as crm:
        yield _finished("a shop on MariaDB", shop.url, partial(test_draft.make_shop, shop))
        yield _finished("a CRM on PostgreSQL", crm.url, partial(test_draft.make_crm, crm))
        yield _finished("documents in a file", "members.json", None)


def _finished(name: str, source: str, make: Callable[[], test_draft.People] | None) -> Row:
    seconds: dict[str, float] = {}
    with tempfile.TemporaryDirectory() as place:
        folder = Path(place)
        people = test_draft.write_documents(folder) if make is None else make()
        test_draft.write_known(folder, people[:10])

        def run(*arguments: str, stdin: bytes = b"") -> int:
            started = time.perf_counter()
            ended = subprocess.run(
                [PROGRAM, *arguments], cwd=folder, input=stdin, capture_output=True, check=False
            )
            if arguments[0] != "admit":
                seconds[arguments[0]] = round(time.perf_counter() - started, 1)
            return ended.returncode

        into = ("--no-backup",) if make else ("--into", "new.json")
        codes = [
            run("draft", source, "known.csv"),
            run("tune", "--peak-logins", "8/s", "--within", "250ms", "--save"),
        ]
        test_draft.make_ready(folder)
        codes += [run("rehearse", "known.csv", "--rows", "20"), run("layer", *into)]
        if make:
            codes.append(run("enforce", "constraint", "--apply"))
            admitted = [run("admit", login, stdin=f"{password}\n".encode())
                        for login, password in people[10:30]]  # fmt: skip
        else:
            admitted = []
    return {
        "benchmark": f"a finished store: {name}",
        "accounts": len(people),
        "commands": len(codes),
        "lines_edited_by_hand": 1,
        "exit_codes": codes,
        "seconds": seconds,
        "logins_admitted_afterwards": f"{admitted.count(0)} of {len(admitted)}",
    }


BENCHMARKS = (
    Benchmark(name="drafts", run=lambda: (invented_drafts(),)),
    Benchmark(name="finished-stores", run=finished_stores, needs=("PostgreSQL", "MariaDB")),
)
