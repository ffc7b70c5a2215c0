"""Benchmarks: each prints a ratio within one run, because machines differ and are noisy.

Run by `make bench`; writes benchmarks/results/latest.json beside the printed table.
"""

import csv
import hashlib
import json
import os
import sqlite3
import statistics
import subprocess
import sys
import tempfile
import time
from collections.abc import Callable, Iterator
from concurrent.futures import ThreadPoolExecutor
from contextlib import ExitStack, closing, contextmanager
from pathlib import Path
from random import Random
from typing import Any

import httpx
import numpy as np
import polars as pl
from argon2 import low_level

sys.path.insert(0, str(Path(__file__).parent.parent / "tests"))  # its throw-away servers
import generations
import mistakes
import server_portal
import servers
from lean_tumbler import CredentialGateway, StoragePolicy
from lean_tumbler.core.forecast.back_test import back_test
from lean_tumbler.core.formulas.evaluation import Inputs
from lean_tumbler.core.formulas.solver import Narrowed, SolvedAccount, Solver
from lean_tumbler.core.grades import Floor, grade
from lean_tumbler.core.policy import Columns
from lean_tumbler.core.schemes.catalogue import DERIVATIONS, read_value
from lean_tumbler.core.tuning.capacity import Service, response_p99
from lean_tumbler.operations.auditing import audit_source
from lean_tumbler.operations.profiling import Means
from lives import POPULATIONS, lives

PROGRAM = str(Path(sys.executable).with_name("lean-tumbler"))
RESULTS = Path(__file__).with_name("results")

Row = dict[str, Any]


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


def _command(*arguments: str, folder: str = ".") -> Callable[[], object]:
    return lambda: subprocess.run(arguments, check=True, capture_output=True, cwd=folder)


def start(name: str, limit_seconds: float, *arguments: str) -> Row:
    """How long a command takes to start, beside an interpreter that does nothing."""
    ours, bare = paired(_command(PROGRAM, *arguments), _command(sys.executable, "-c", "pass"), 15)
    return {
        "benchmark": name,
        "seconds": round(ours, 4),
        "limit_seconds": limit_seconds,
        "ratio_to_bare_interpreter": round(ours / bare, 2),
    }


def admit_overhead() -> Row:
    """What the library's admit adds to the one derivation that it calls."""
    policy = StoragePolicy()
    gateway = CredentialGateway(policy)
    stored = gateway.hash(password="Dunlin 42")  # noqa: S106 - invented
    parsed = read_value(stored)
    costs = policy.target.parameters

    def primitive() -> bytes:
        return low_level.hash_secret_raw(
            secret=b"Dunlin 42",
            salt=parsed.salt or b"",
            time_cost=costs["passes"],
            memory_cost=costs["memory_kib"],
            parallelism=costs["lanes"],
            hash_len=32,
            type=low_level.Type.ID,
        )

    def admit() -> object:
        return gateway.admit(stored=stored, password="Dunlin 42")  # noqa: S106 - invented

    with_us, alone = paired(admit, primitive, 60)
    # The same at a cost of microseconds, where the overhead is not lost in the noise.
    cheap_policy = StoragePolicy.from_toml(
        "[target]\nmemory_kib = 8\npasses = 1\n[floor]\nargon2id = { memory_kib = 8, passes = 1 }"
    )
    cheap = CredentialGateway(cheap_policy)
    cheap_stored = cheap.hash(password="Dunlin 42")  # noqa: S106 - invented
    cheap_salt = read_value(cheap_stored).salt or b""

    def cheap_primitive() -> bytes:
        return low_level.hash_secret_raw(b"Dunlin 42", cheap_salt, 1, 8, 1, 32, low_level.Type.ID)

    def cheap_admit() -> object:
        return cheap.admit(stored=cheap_stored, password="Dunlin 42")  # noqa: S106 - invented

    ours, bare = paired(cheap_admit, cheap_primitive, 3000)
    return {
        "benchmark": "admit beside its primitive",
        "ratio_at_the_floor": round(with_us / alone, 4),
        "overhead_milliseconds": round(1000 * (ours - bare), 4),
        "limit_milliseconds": 1.0,
    }


_LAYER_POLICY = """\
{target}
[store.kiosk]
locator = "{locator}"
table = "kiosk"
readers_ready = 2026-01-01
[store.kiosk.columns]
login = "login"
stored = "pw"
[[store.kiosk.cohort]]
name = "old"
formula = "utf-8, md5, hex"
"""
_CHEAP = (
    "[target]\nmemory_kib = 8\npasses = 1\n[floor]\nargon2id = { memory_kib = 8, passes = 1 }\n"
)
_TABLE = "CREATE TABLE kiosk (id integer PRIMARY KEY, login varchar(20), pw varchar(255));"


def _kiosk_rows(rows: int) -> Iterator[tuple[int, str, str]]:
    return ((n, f"k{n}", hashlib.md5(b"%d" % n).hexdigest()) for n in range(rows))  # noqa: S324 - legacy data


@contextmanager
def _kiosk(kind: str, rows: int, target: str) -> Iterator[Path]:
    """A folder with a policy, and its table of MD5 digests on a server of that kind."""
    with ExitStack() as stack:
        folder = Path(stack.enter_context(tempfile.TemporaryDirectory()))
        locator = "harbour.db"
        if kind == "SQLite":
            with closing(sqlite3.connect(folder / locator)) as connection, connection:
                connection.execute(_TABLE)
                connection.executemany("INSERT INTO kiosk VALUES (?, ?, ?)", _kiosk_rows(rows))
        else:
            start = {"PostgreSQL": servers.postgresql, "MariaDB": servers.mariadb}[kind]
            server = stack.enter_context(start())
            values = ",".join(f"({n},'{login}','{pw}')" for n, login, pw in _kiosk_rows(rows))
            server.run(f"{_TABLE} INSERT INTO kiosk VALUES {values};")  # noqa: S608 - made here
            locator = server.url
        policy = _LAYER_POLICY.format(target=target, locator=locator)
        (folder / "tumbler.toml").write_text(policy)
        yield folder


def layer_rate(kind: str, rows: int, *, cheap: bool) -> Row:
    """How busy layering keeps the cores at the floor; its rate where hashing costs nothing."""
    with _kiosk(kind, rows, _CHEAP if cheap else "") as folder:
        command = [PROGRAM, "layer", "--unproven", "old", "--format", "json"]
        finished = subprocess.run(command, cwd=folder, capture_output=True, check=True)
    document = json.loads(finished.stdout)
    what = "a target that costs nothing" if cheap else "the floor"
    return {
        "benchmark": f"layer {rows:,} rows, {kind}, {what}",
        "hashing_time_share": document["hashing_time_share"],
        "rows_per_second": document["per_second"],
    }


def kills(kind: str, number: int = 100) -> Row:
    """Layering killed again and again beside other writers: who is locked out afterwards."""
    start = {"PostgreSQL": servers.postgresql, "MariaDB": servers.mariadb}[kind]
    with start() as server, tempfile.TemporaryDirectory() as name:
        folder = Path(name)
        others = server_portal.layered_through_kills(
            server, folder, kills=number, memory_kib=16_384
        )
        return {
            "benchmark": f"layer through {number} kills, {kind}",
            "accounts": len(others.passwords),
            "locked_out": len(server_portal.locked_out(server, folder, others.passwords)),
            "refused_meanwhile": len(others.refused),
            **{f"{action}s_meanwhile": count for action, count in others.done.items()},
        }


def _audit_values(rows: int, start: int = 0) -> list[str]:
    """40 % MD5, 20 % SHA-1, 20 % bcrypt, 10 % Argon2id, 10 % plain text, in turn."""
    values: list[str] = []
    for number in range(start, start + rows):
        digest = hashlib.sha512(b"%d" % number).hexdigest()
        values.append(
            (
                digest[:32],
                digest[:32],
                digest[:40],
                "$2b$05$" + digest[:53],
                "$argon2id$v=19$m=19456,t=2,p=1$" + digest[:22] + "$" + digest[:43],
                digest[:32],
                digest[:40],
                "$2b$10$" + digest[:53],
                digest[:32],
                f"harbour {number % 5000}",
            )[number % 10]
        )
    return values


def write_store(path: Path, rows: int) -> None:
    """Write a CSV file of made-up accounts, as Python's own writer quotes it."""
    with path.open("w", newline="") as file:
        writer = csv.writer(file)
        writer.writerow(("id", "email", "pw"))
        for start in range(0, rows, 100_000):
            values = _audit_values(min(100_000, rows - start), start)
            writer.writerows(
                (n, f"p{n}@tidepost.example", value) for n, value in enumerate(values, start)
            )


def _audit(source: str, *, folder: Path) -> object:
    cores = os.cpu_count() or 1
    with ThreadPoolExecutor(cores) as executor:
        means = Means(floor=Floor(), executor=executor, frames_at_once=cores + 1)
        columns = Columns(stored="pw", login="email", account="id")
        return audit_source(source, base=folder, means=means, columns=columns)


def audit_rate(rows: int = 2_000_000) -> Row:
    """Rows a second from a CSV file, beside a plain count of four patterns and a Python loop."""
    floor = Floor()
    values = _audit_values(rows // 20, 0)
    with tempfile.TemporaryDirectory() as name:
        path = Path(name) / "export.csv"
        write_store(path, rows)

        def vectorised() -> object:
            return _audit("export.csv", folder=path.parent)

        def plain_count() -> object:
            stored = pl.col("pw")
            patterns = ("^[0-9a-f]{32}$", "^[0-9a-f]{40}$", "^\\$2[aby]\\$", "^\\$argon2")
            return pl.read_csv(path).select(
                stored.str.contains(pattern).sum().alias(pattern) for pattern in patterns
            )

        def one_by_one() -> object:
            return [grade(read_value(value), floor, salted=False) for value in values]

        ours, count = paired(vectorised, plain_count, 3)
        least = quickest(vectorised, 3)
        loop, _ = paired(one_by_one, lambda: None, 2)
        peak = _peak_mib("audit", str(path))
    return {
        "benchmark": f"audit {rows:,} rows of CSV",
        "rows_per_second": round(rows / least),
        "ratio_to_a_plain_count": round(ours / count, 2),
        "times_faster_than_a_loop": round(20 * loop / ours, 2),
        "peak_mib": peak,
    }


def _peak_mib(*arguments: str, folder: str = ".") -> int:
    """Measure the most memory of the command itself."""
    code = (
        "import resource, subprocess, sys;"
        "subprocess.run(sys.argv[1:], check=True, stdout=subprocess.DEVNULL);"
        "print(resource.getrusage(resource.RUSAGE_CHILDREN).ru_maxrss // 1024)"
    )
    command = [sys.executable, "-c", code, PROGRAM, *arguments]
    asked = subprocess.run(command, check=True, capture_output=True, text=True, cwd=folder)
    return int(asked.stdout)


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
        seconds = quickest(_command(PROGRAM, *arguments, folder=name), 1)
        peak = _peak_mib(*arguments, folder=name)
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
            "beats_the_mirror": round(
                float(np.mean([each.error < each.mirror_error for each in tried])), 2
            ),
            "error": round(float(np.mean([each.error for each in tried])), 4),
            "mirror_error": round(float(np.mean([each.mirror_error for each in tried])), 4),
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
        seconds = quickest(_command(PROGRAM, *arguments, folder=name), 5)
        peak = _peak_mib(*arguments, folder=name)
    return {
        "benchmark": f"progress {rows:,} rows of PostgreSQL",
        "seconds": round(seconds, 1),
        "peak_mib": peak,
    }


def database_rate(rows: int = 500_000) -> Iterator[Row]:
    """Rows a second from SQLite, and from PostgreSQL where it is installed."""
    with tempfile.TemporaryDirectory() as name:
        folder = Path(name)
        with closing(sqlite3.connect(folder / "harbour.db")) as connection, connection:
            connection.execute("CREATE TABLE people (id INTEGER PRIMARY KEY, email TEXT, pw TEXT)")
            values = enumerate(_audit_values(rows, 0))
            connection.executemany(
                "INSERT INTO people VALUES (?, ?, ?)",
                ((n, f"p{n}@tidepost.example", value) for n, value in values),
            )
        seconds = quickest(lambda: _audit("harbour.db", folder=folder), 5)
        yield {"benchmark": "audit SQLite", "rows_per_second": round(rows / seconds)}
        write_store(folder / "export.csv", rows)
        with servers.postgresql() as server:
            server.run("CREATE TABLE people (id integer PRIMARY KEY, email text, pw text);")
            copy = f"\\copy people from '{folder / 'export.csv'}' with (format csv, header)"
            server.run(copy + "\n")
            seconds = quickest(lambda: _audit(server.url, folder=folder), 5)
        yield {"benchmark": "audit PostgreSQL", "rows_per_second": round(rows / seconds)}


def solver_rate(digest: str, seconds: float = 10.0) -> Row:
    """Candidates a second of a search that finds nothing, beside the bare digest's rate."""
    unknown = hashlib.new(digest, b"nothing that the solver would try").hexdigest()
    accounts = [
        SolvedAccount(
            inputs=Inputs(password=password, salt=salt.encode("ascii"), login=login), stored=unknown
        )
        for login, password, salt in (
            ("w.kell@tidepost.example", "Dunlin 42", "q8Xr2Lp0"),
            ("m.arne@tidepost.example", "ebb and flow", "Zt5nK1vw"),
        )
    ]
    solver = Solver(
        accounts,
        literals=(),
        narrowed=Narrowed(digests=(digest,)),
        budget_seconds=seconds,
        clock=time.monotonic,
        progress=lambda _: None,
    )
    solution = solver.solve()
    compute = getattr(hashlib, digest)
    data, calls = b"q8Xr2Lp0Dunlin 42", 300_000
    started = time.perf_counter()
    for _ in range(calls):
        compute(data).digest()
    bare = calls / (time.perf_counter() - started)
    ours = solution.tried / solution.seconds
    return {
        "benchmark": f"formula solve, {digest} alone",
        "candidates_per_second": round(ours),
        "bare_digests_per_second": round(bare),
        "ratio": round(ours / bare, 2),
    }


def _under_load(chosen: Row, logins_per_second: float, seconds: float, seed: int) -> Row:
    """Derive at random times, as many at once as chosen, and watch how long each takes."""
    derivation = DERIVATIONS[chosen["scheme"]]
    salt = bytes(derivation.salt_bytes)
    random = Random(seed)  # noqa: S311 - when logins arrive
    arrivals = [0.0]
    while arrivals[-1] < seconds:
        arrivals.append(arrivals[-1] + random.expovariate(logins_per_second))
    started = time.perf_counter()
    stolen = _stolen_seconds()

    def login(due: float) -> tuple[float, float]:
        begun = time.perf_counter()
        derivation.create(b"Dunlin 42", salt, chosen["parameters"])
        ended = time.perf_counter()
        return ended - started - due, ended - begun

    with ThreadPoolExecutor(chosen["at_once"]) as executor:
        answers = []
        for due in arrivals:
            time.sleep(max(0.0, started + due - time.perf_counter()))
            answers.append(executor.submit(login, due))
        done = [answer.result() for answer in answers]
    waits = sorted(waited for waited, _ in done)
    derived = sorted(seconds for _, seconds in done)
    taken = time.perf_counter() - started
    typical = statistics.fmean(derived)
    service = Service(seconds=typical, tail=derived[int(0.99 * len(derived))] / typical)
    return {
        "p99": 1000 * waits[int(0.99 * len(waits))],
        "derivation": 1000 * typical,
        "formula": 1000 * response_p99(logins_per_second, chosen["at_once"], service),
        "stolen": (_stolen_seconds() - stolen) / taken / (os.cpu_count() or 1),
    }


def _stolen_seconds() -> float:
    """Seconds that the hypervisor gave to others (proc_stat(5), the eighth number)."""
    try:
        line = Path("/proc/stat").read_text("ascii").splitlines()[0]
    except OSError:
        return 0.0
    return int(line.split()[8]) / os.sysconf("SC_CLK_TCK")


_LOADS, _MOST_LOADS = 3, 9
_DISTURBED = 0.03  # of the cores' time, given to others


def tuned_under_load(logins_per_second: float = 20.0, seconds: float = 30.0) -> Row:
    """What `tune` promises for the 99th percentile, and what loads at that rate then see.

    Of 600 arrivals in 30 s, the 99th percentile itself strays: a simulation of the promised
    queue stays within 25 % of its own long mean in 93 of 100 such loads at a utilisation of 0.6,
    and in 75 of 100 at 0.7. So several loads are run, and their median is compared; loads that
    the hypervisor disturbed are run again, and told too.
    """
    within = ("--peak-logins", f"{logins_per_second:g}/s", "--within", "250ms")
    command = [PROGRAM, "tune", *within, "--format", "json"]
    tuned = json.loads(subprocess.run(command, check=True, capture_output=True).stdout)
    chosen = tuned["chosen"]
    loads: list[Row] = []
    while sum(load["stolen"] <= _DISTURBED for load in loads) < _LOADS and len(loads) < _MOST_LOADS:
        loads.append(_under_load(chosen, logins_per_second, seconds, seed=20 + len(loads)))
    told = [load for load in loads if load["stolen"] <= _DISTURBED] or loads
    promised = chosen["p99_milliseconds"]
    seen = [load["p99"] for load in told]
    return {
        "benchmark": f"tune at {logins_per_second:g} logins a second",
        "chosen": f"{chosen['scheme']} {chosen['parameters']}",
        "promised_p99_milliseconds": promised,
        "seen_p99_milliseconds": [round(each) for each in seen],
        "derivation_milliseconds": [round(load["derivation"], 1) for load in told],
        "all_loads": [(round(load["p99"]), round(load["stolen"], 3)) for load in loads],
        "ratio": round(statistics.median(seen) / promised, 2),
        # What the formula says of the derivations as they were during each load.
        "ratio_at_the_times_seen": round(
            statistics.median(load["p99"] / load["formula"] for load in told), 2
        ),
        "noisy": tuned["noisy"],
    }


_SERVICE_POLICY = """
[target]
memory_kib = 12288
passes = 2
[floor]
argon2id = { memory_kib = 12288, passes = 2 }
[store.kiosk]
locator = "harbour.db"
table = "kiosk"
readers_ready = 2026-01-01
[store.kiosk.columns]
account = "id"
login = "login"
stored = "pw"
[[store.kiosk.cohort]]
name = "old"
formula = "utf-8, md5, hex"
"""
_PASSWORD = "Dunlin 42"  # noqa: S105 - invented


@contextmanager
def _service(
    rows: int = 200, policy: str = _SERVICE_POLICY, within: str = "250ms"
) -> Iterator[tuple[str, int]]:
    """Serve a table of legacy and current values by turns; give the address and the process."""
    with tempfile.TemporaryDirectory() as name:
        folder = Path(name)
        port = servers.free_port()
        (folder / "tumbler.toml").write_text(policy)
        current = CredentialGateway(StoragePolicy.from_toml(policy)).hash(password=_PASSWORD)
        legacy = hashlib.md5(_PASSWORD.encode()).hexdigest()  # noqa: S324 - legacy data
        with closing(sqlite3.connect(folder / "harbour.db")) as connection, connection:
            connection.execute(_TABLE)
            values = ((n, f"k{n}", legacy if n % 2 else current) for n in range(rows))
            connection.executemany("INSERT INTO kiosk VALUES (?, ?, ?)", values)
        command = [PROGRAM, "serve", "--listen", f"127.0.0.1:{port}", "--within", within]
        with (
            (folder / "log").open("w") as log,
            subprocess.Popen(command, cwd=folder, stderr=log) as process,
        ):
            time.sleep(4)
            try:
                yield f"http://127.0.0.1:{port}", process.pid
            finally:
                process.terminate()


def service_timing(tries: int = 500) -> Row:
    """Whether an answer's time tells why a login is refused: medians over many tries by turns."""
    kinds = {"unknown": "nobody{}", "legacy": "k{}", "current": "k{}"}
    times: dict[str, list[float]] = {kind: [] for kind in kinds}
    bare: list[float] = []
    with (
        _service(rows=2 * tries) as (address, _),
        httpx.Client(base_url=address) as client,
    ):
        for number in range(tries):
            for kind, login in kinds.items():
                name = login.format(2 * number + (kind == "legacy"))
                body = {"store": "kiosk", "login": name, "password": "wrong"}
                started = time.perf_counter()
                client.post("/v1/admit", json=body).raise_for_status()
                times[kind].append(time.perf_counter() - started)
            started = time.perf_counter()
            _derive(number)
            bare.append(time.perf_counter() - started)
    medians = {kind: 1000 * statistics.median(taken) for kind, taken in times.items()}
    return {
        "benchmark": "serve: why a login is refused",
        **{f"{kind}_milliseconds": round(median, 2) for kind, median in medians.items()},
        "bare_derivation_milliseconds": round(1000 * statistics.median(bare), 2),
        "largest_difference": round(max(medians.values()) / min(medians.values()) - 1, 4),
    }


def _derive(_: int) -> None:
    low_level.hash_secret_raw(
        _PASSWORD.encode(), bytes(16), time_cost=2, memory_cost=12_288, parallelism=1, hash_len=32,
        type=low_level.Type.ID,
    )  # fmt: skip


def _derivations_per_second(at_once: int, number: int = 300) -> float:
    """How many the bare primitive makes, so many at once."""
    with ThreadPoolExecutor(at_once) as executor:
        started = time.perf_counter()
        list(executor.map(_derive, range(number)))
        return number / (time.perf_counter() - started)


def service_own_share(requests: int = 500) -> Row:
    """What a login takes beside its derivation: by a target that costs nothing, one at a time."""
    cheap = _SERVICE_POLICY.replace("12288", "8").replace("passes = 2", "passes = 1")
    with _service(policy=cheap) as (address, _), tempfile.NamedTemporaryFile("w") as body:
        json.dump({"store": "kiosk", "login": "k0", "password": _PASSWORD}, body)
        body.flush()
        with tempfile.NamedTemporaryFile() as log:
            command = ["h2load", "--h1", "-n", str(requests), "-c", "1", "-d", body.name,
                       "-H", "Content-Type: application/json", f"--log-file={log.name}",
                       f"{address}/v1/admit"]  # fmt: skip
            subprocess.run(command, check=True, stdout=subprocess.DEVNULL)
            lines = Path(log.name).read_text("ascii").splitlines()
    times = [int(line.split("\t")[2]) / 1000 for line in lines]
    derivations = []
    for number in range(50):
        started = time.perf_counter()
        _derive(number)
        derivations.append(1000 * (time.perf_counter() - started))
    own, derivation = statistics.median(times), statistics.median(derivations)
    return {
        "benchmark": "serve: its own share of a login",
        "own_milliseconds": round(own, 2),
        "a_derivation_at_12_mib_milliseconds": round(derivation, 2),
        "ratio": round(own / derivation, 3),
    }


def service_rate(requests: int = 600) -> Row:
    """Logins a second at saturation by a load generator, beside what the bare primitive makes."""
    cores = os.cpu_count() or 1
    with (
        _service(within="10s") as (address, _),
        tempfile.NamedTemporaryFile("w", suffix=".json") as body,
    ):
        json.dump({"store": "kiosk", "login": "k0", "password": _PASSWORD}, body)
        body.flush()
        before = _derivations_per_second(cores)
        command = ["ab", "-q", "-k", "-n", str(requests), "-c", str(4 * cores), "-p", body.name,
                   "-T", "application/json", f"{address}/v1/admit"]  # fmt: skip
        told = subprocess.run(command, check=True, capture_output=True, text=True).stdout
        bare = (before + _derivations_per_second(cores)) / 2
    lines = dict(line.split(":", 1) for line in told.splitlines() if ":" in line)
    rate = float(lines["Requests per second"].split()[0])
    return {
        "benchmark": "serve at saturation",
        "logins_per_second": round(rate, 1),
        "bare_derivations_per_second": round(bare, 1),
        "ratio": round(rate / bare, 3),
        "failed": int(lines.get("Non-2xx responses", "0")) + int(lines["Failed requests"]),
    }


def service_problems(tries: int = 50) -> Row:
    """How long what is no request waits for its problem document: the slowest kind's median."""
    kinds = {
        "not-json": b"x",
        "not-utf-8": b"\xff",
        "deep": b"[" * 50_000,
        "too-large": b" " * 10_000_000,
    }
    kinds["wrong-field"] = json.dumps({"store": "kiosk", "login": 7, "password": "x"}).encode()
    kinds["unknown-store"] = json.dumps({"store": "x", "login": "x", "password": "x"}).encode()
    medians = {}
    headers = {"Content-Type": "application/json"}
    with _service() as (address, _), httpx.Client(base_url=address, headers=headers) as client:
        for kind, body in kinds.items():
            times = []
            for _ in range(tries):
                started = time.perf_counter()
                answer = client.post("/v1/admit", content=body)
                times.append(1000 * (time.perf_counter() - started))
                if answer.status_code < 400:
                    raise RuntimeError(kind)
            medians[kind] = round(statistics.median(times), 2)
    return {
        "benchmark": "serve: problems",
        "milliseconds": medians,
        "slowest": max(medians.values()),
    }


def _resident_mib(process: int) -> float:
    """Memory that a process holds (proc_pid_status(5))."""
    lines = Path(f"/proc/{process}/status").read_text("ascii").splitlines()
    return next(int(line.split()[1]) for line in lines if line.startswith("VmRSS")) / 1024


_BURSTS_PER_SECOND = 20


def service_overload(seconds: int = 60) -> Row:
    """Twice as many logins as can be derived, by h2load, which does not wait for answers.

    It opens connections at a rate, one login on each, and writes down when each was answered.
    """
    cores, within = os.cpu_count() or 1, 250.0  # what `tune` and `serve` go by without another word
    with (
        _service() as (address, process),
        tempfile.NamedTemporaryFile("w") as body,
        tempfile.NamedTemporaryFile() as log,
        httpx.Client(base_url=address, headers={"Content-Type": "application/json"}) as client,
    ):
        login = json.dumps({"store": "kiosk", "login": "k0", "password": _PASSWORD})
        body.write(login)
        body.flush()
        capacity = _derivations_per_second(cores)
        burst = round(2 * capacity / _BURSTS_PER_SECOND)
        number = str(burst * _BURSTS_PER_SECOND * seconds)
        command = ["h2load", "--h1", "-n", number, "-c", number, "-r", str(burst),
                   "--rate-period", f"{1000 // _BURSTS_PER_SECOND}ms", "-d", body.name,
                   "-H", "Content-Type: application/json", f"--log-file={log.name}",
                   f"{address}/v1/admit"]  # fmt: skip
        resident = [_resident_mib(process)]
        with subprocess.Popen(command, stdout=subprocess.DEVNULL) as load:
            while load.poll() is None:
                time.sleep(1)
                resident.append(_resident_mib(process))
        started = time.perf_counter()
        client.post("/v1/admit", content=login).raise_for_status()
        recovered = time.perf_counter() - started
        answers: dict[str, list[float]] = {}
        for line in Path(log.name).read_text("ascii").splitlines():
            _, status, microseconds = line.split("\t")
            answers.setdefault(status, []).append(int(microseconds) / 1000)
    return {
        "benchmark": f"serve at twice its capacity for {seconds} s",
        "capacity_per_second": round(capacity, 1),
        "promised_milliseconds": within,
        "offered": int(number),
        "answers": {status: len(times) for status, times in answers.items()},
        "p99_milliseconds": {status: _p99(times) for status, times in answers.items()},
        "resident_mib": [round(resident[0]), *(
            round(max(part)) for part in (resident[: len(resident) // 2], resident)
        )],
        "first_login_afterwards_milliseconds": round(1000 * recovered, 1),
    }  # fmt: skip


def _p99(times: list[float]) -> float:
    return round(sorted(times)[int(0.99 * len(times))], 1)


def main() -> None:
    """Run all benchmarks and write them down."""
    results = [
        start("lean-tumbler --help", 0.15, "--help"),
        start("lean-tumbler explain", 0.25, "explain", "5f4dcc3b5aa765d61d8327deb882cf99"),
        admit_overhead(),
        *(layer_rate(kind, 2_000, cheap=False) for kind in ("SQLite", "PostgreSQL")),
        *(layer_rate(kind, 20_000, cheap=True) for kind in ("SQLite", "PostgreSQL", "MariaDB")),
        *(kills(kind) for kind in ("PostgreSQL", "MariaDB")),
        audit_rate(),
        *database_rate(),
        *forecast_truth(),
        forecast_rate(),
        progress_rate(),
        tuned_under_load(),
        service_timing(),
        service_problems(),
        service_own_share(),
        service_rate(),
        service_overload(),
        *(solver_rate(digest) for digest in ("md5", "sha1", "sha256", "sha512")),
        *generations.all_rows(),
        *mistakes.all_rows(),
    ]
    for result in results:
        name = result.pop("benchmark")
        print(f"{name:<34}", "  ".join(f"{key} {value}" for key, value in result.items()))
        result["benchmark"] = name
    RESULTS.mkdir(exist_ok=True)
    document = {"cores": os.cpu_count(), "python": sys.version.split()[0], "results": results}
    (RESULTS / "latest.json").write_text(json.dumps(document, indent=2) + "\n")


if __name__ == "__main__":
    main()
