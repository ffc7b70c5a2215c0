"""Generations at scale: invented tables of known truth, mixtures, the shop, the survey's cost."""

import random
import sys
import tempfile
import time
from collections import Counter
from collections.abc import Callable, Iterator
from concurrent.futures import ThreadPoolExecutor
from pathlib import Path

import servers
from invented import passwords, tables, trial
from invented.digests import UNREADABLE
from lean_tumbler.core.audit.profile import Profiler
from lean_tumbler.core.grades import Floor
from lean_tumbler.core.reading.survey import Survey
from lean_tumbler.stores.sql.opening import open_database
from measuring import Benchmark, Row

Fill = Callable[[tables.Table], str]

FAULTS = ("refused before", "locked out", "wrongly admitted", "opened only later",
          "opened without a password", "changed without need", "left")  # fmt: skip
SHARES = (0.001, 0.01, 0.1, 0.5, 0.9, 0.99)
_ROWS_OF_A_TABLE = 250


def invented_tables(rows: int = 100_000, *, first_seed: int = 50_000) -> Row:
    """Take invented tables through the whole change in SQLite, and count every fault."""
    return _through_the_change(rows, first_seed, None)


def invented_tables_on(server: object, rows: int = 10_000, *, first_seed: int = 90_000) -> Row:
    """The same on a running server of the tests."""
    return _through_the_change(rows, first_seed, server)


def _through_the_change(rows: int, first_seed: int, server: object) -> Row:
    counts: Counter[str] = Counter()
    examples: list[str] = []
    started = time.perf_counter()
    with ThreadPoolExecutor(2) as executor, tempfile.TemporaryDirectory() as name:
        for number in range(-(-rows // _ROWS_OF_A_TABLE)):
            folder = Path(name)
            table = tables.table(first_seed + number, rows=_ROWS_OF_A_TABLE)
            locator = _filled(table, folder, server)
            result = trial.Trial(table, locator, folder, executor).run()
            counts += result.counts
            examples += [f"{first_seed + number}: {fault}" for fault in result.faults]
    kind = getattr(server, "url", "sqlite").partition(":")[0]
    return {
        "benchmark": f"invented tables, {kind}",
        "tables": -(-rows // _ROWS_OF_A_TABLE),
        "rows": counts["rows"],
        **{fault: counts[fault] for fault in FAULTS},
        "upgraded_at_login": counts["upgraded"],
        "examples": examples[:10],
        "seconds": round(time.perf_counter() - started),
    }


def _filled(table: tables.Table, folder: Path, server: object) -> str:
    if server is None:
        path = folder / "kiosk.db"
        path.unlink(missing_ok=True)
        trial.write_sqlite(table, path)
        return "sqlite:///kiosk.db"

    url = str(server.url)  # type: ignore[attr-defined] # a server of the tests
    letters = " CHARACTER SET utf8mb4" if url.startswith("mysql") else ""
    server.run(f"DROP TABLE IF EXISTS kiosk; {trial.CREATE}{letters};")  # type: ignore[attr-defined]
    engine = open_database(url, base=folder, writable=True).engine
    with engine.begin() as connection:
        marks = ", ".join(["%s"] * trial.COLUMNS)
        cells = [trial.cells(person) for person in table.people]
        connection.exec_driver_sql(f"INSERT INTO kiosk VALUES ({marks})", cells)  # noqa: S608
    engine.dispose()
    return url


def mixtures(texts: int = 1_000_000) -> Iterator[Row]:
    """Mix passwords with each kind of unreadable digest, and count who is misjudged."""
    chance = random.Random(11)  # noqa: S311 - invented data
    people = [passwords.human(chance) for _ in range(texts)]
    column = _column(people)
    yield {
        "benchmark": "mixture: passwords alone",
        "texts": texts,
        "passwords_refused": sum(bool(column.suspects(text)) for text in people),
        "classes_suspected": len(column.suspected),
    }
    for kind, make in UNREADABLE.items():
        digests = [make(people[number], chance) for number in range(texts)]
        for share in SHARES:
            few = round(share * texts)
            mixed = [*digests[:few], *people[: texts - few]]
            chance.shuffle(mixed)
            column = _column(mixed)
            yield {
                "benchmark": f"mixture: {kind}, {share:.1%}",
                "digests": few,
                "digests_taken_for_passwords": sum(
                    not column.suspects(text) for text in digests[:few]
                ),
                "passwords": texts - few,
                "passwords_refused": sum(
                    bool(column.suspects(text)) for text in people[: texts - few]
                ),
            }


def _column(texts: list[str]):  # type: ignore[no-untyped-def] # a Column
    survey = Survey()
    survey.add(texts)
    return survey.column()


def survey_beside_audit(rows: int = 2_000_000) -> Row:
    """Time the survey of a column of plain text beside the audit of the same rows."""
    import polars as pl  # noqa: PLC0415 - an extra

    chance = random.Random(12)  # noqa: S311 - invented data
    texts = [passwords.human(chance) for _ in range(100_000)] * (rows // 100_000)
    empty = pl.Series([None], dtype=pl.String).new_from_index(0, len(texts))
    frame = pl.DataFrame({"stored": texts}).with_columns(
        account=pl.int_range(pl.len()).cast(pl.String), salt=empty, login=empty, seen=empty,
        created=empty, updated=empty, privileged=pl.lit(value=False),
    )  # fmt: skip
    started = time.perf_counter()
    profiler = Profiler(floor=Floor())
    for number, part in enumerate(frame.iter_slices(100_000)):
        profiler.add(profiler.look(part, number=number))
    profiler.finish()
    audited = time.perf_counter() - started
    started = time.perf_counter()
    _column(texts)
    surveyed = time.perf_counter() - started
    return {
        "benchmark": "survey beside the audit that holds it",
        "rows": len(texts),
        "audit_seconds": round(audited, 2),
        "survey_seconds": round(surveyed, 2),
        "survey_share_of_the_audit": round(surveyed / audited, 3),
    }


def shop(rows: int = 30_000) -> Iterator[Row]:
    """Layer a shop of four generations at once, however they are told apart."""
    import subprocess  # noqa: PLC0415 - the built program

    import test_generations as told  # noqa: PLC0415 - of the tests

    program = str(Path(sys.executable).with_name("lean-tumbler"))
    for told_by in told.TOLD_BY:
        with tempfile.TemporaryDirectory() as name:
            told.make_shop(Path(name), rows, told_by)
            for command in (["verify", "known.csv", "--store", "shop"], ["layer", "--no-backup"]):
                started = time.perf_counter()
                done = subprocess.run(
                    [program, *command], cwd=name, capture_output=True, text=True, check=False
                )
            yield {
                "benchmark": f"shop of four generations, told apart by {told_by}",
                "rows": rows,
                "exit_code": done.returncode,
                "first_line": done.stdout.splitlines()[0],
                "seconds": round(time.perf_counter() - started, 1),
            }


def _on_servers() -> Iterator[Row]:
    for start in (servers.postgresql, servers.mariadb):
        with start() as server:
            yield invented_tables_on(server)


BENCHMARKS = (
    Benchmark(name="generations", run=lambda: (invented_tables(),)),
    Benchmark(name="generations-on-servers", run=_on_servers, needs=("PostgreSQL", "MariaDB")),
    Benchmark(name="shop", run=shop),
    Benchmark(name="survey", run=lambda: (survey_beside_audit(),)),
    Benchmark(name="mixtures", run=mixtures),
)
