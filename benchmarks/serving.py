"""The service and the library: what they add to a derivation, and what they bear."""

import hashlib
import json
import os
import sqlite3
import statistics
import subprocess
import tempfile
import time
from collections.abc import Iterator
from concurrent.futures import ThreadPoolExecutor
from contextlib import closing, contextmanager
from pathlib import Path

import httpx
from argon2 import low_level

import servers
from lean_tumbler import CredentialGateway, StoragePolicy
from lean_tumbler.core.schemes.catalogue import read_value
from measuring import PROGRAM, TABLE, Benchmark, Row, paired


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


SERVICE_POLICY = """
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
PASSWORD = "Dunlin 42"  # noqa: S105 - invented


@contextmanager
def serving(
    rows: int = 200,
    policy: str = SERVICE_POLICY,
    within: str = "250ms",
    concurrency: int | None = None,
) -> Iterator[tuple[str, int]]:
    """Serve a table of legacy and current values by turns; give the address and the process."""
    with tempfile.TemporaryDirectory() as name:
        folder = Path(name)
        port = servers.free_port()
        (folder / "tumbler.toml").write_text(policy)
        current = CredentialGateway(StoragePolicy.from_toml(policy)).hash(password=PASSWORD)
        legacy = hashlib.md5(PASSWORD.encode()).hexdigest()  # noqa: S324 - legacy data
        with closing(sqlite3.connect(folder / "harbour.db")) as connection, connection:
            connection.execute(TABLE)
            values = ((n, f"k{n}", legacy if n % 2 else current) for n in range(rows))
            connection.executemany("INSERT INTO kiosk VALUES (?, ?, ?)", values)
        command = [PROGRAM, "serve", "--listen", f"127.0.0.1:{port}", "--within", within]
        if concurrency:
            command += ["--concurrency", str(concurrency)]
        with (
            (folder / "log").open("w") as log,
            subprocess.Popen(command, cwd=folder, stderr=log) as process,
        ):
            try:
                _wait_for(f"http://127.0.0.1:{port}/health/live")
                yield f"http://127.0.0.1:{port}", process.pid
            finally:
                process.terminate()


def _wait_for(address: str) -> None:
    for _ in range(300):
        try:
            httpx.get(address).raise_for_status()
        except httpx.HTTPError:
            time.sleep(0.1)
        else:
            return
    raise RuntimeError("the service does not start")


def service_timing(tries: int = 500) -> Row:
    """Whether an answer's time tells why a login is refused: medians over many tries by turns."""
    kinds = {"unknown": "nobody{}", "legacy": "k{}", "current": "k{}"}
    times: dict[str, list[float]] = {kind: [] for kind in kinds}
    bare: list[float] = []
    with (
        serving(rows=2 * tries) as (address, _),
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
        PASSWORD.encode(), bytes(16), time_cost=2, memory_cost=12_288, parallelism=1, hash_len=32,
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
    cheap = SERVICE_POLICY.replace("12288", "8").replace("passes = 2", "passes = 1")
    with serving(policy=cheap) as (address, _), tempfile.NamedTemporaryFile("w") as body:
        json.dump({"store": "kiosk", "login": "k0", "password": PASSWORD}, body)
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
        serving(within="10s") as (address, _),
        tempfile.NamedTemporaryFile("w", suffix=".json") as body,
    ):
        json.dump({"store": "kiosk", "login": "k0", "password": PASSWORD}, body)
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
    with serving() as (address, _), httpx.Client(base_url=address, headers=headers) as client:
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
        serving() as (address, process),
        tempfile.NamedTemporaryFile("w") as body,
        tempfile.NamedTemporaryFile() as log,
        httpx.Client(base_url=address, headers={"Content-Type": "application/json"}) as client,
    ):
        login = json.dumps({"store": "kiosk", "login": "k0", "password": PASSWORD})
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


BENCHMARKS = (
    Benchmark(name="admit", run=lambda: (admit_overhead(),)),
    Benchmark(name="serve-refusals", run=lambda: (service_timing(),)),
    Benchmark(name="serve-problems", run=lambda: (service_problems(),)),
    Benchmark(name="serve-own-share", run=lambda: (service_own_share(),), needs=("h2load",)),
    Benchmark(name="serve-rate", run=lambda: (service_rate(),), needs=("h2load",)),
    Benchmark(name="serve-overload", run=lambda: (service_overload(),), needs=("h2load",)),
)
