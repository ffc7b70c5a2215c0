"""What `tune` and `serve` promise of waiting, beside what a real service does at that load."""

import asyncio
import hashlib
import heapq
import json
import math
import os
import random
import sqlite3
import subprocess
import tempfile
import time
from collections.abc import Iterator
from contextlib import closing, contextmanager
from itertools import product
from pathlib import Path
from threading import Event, Thread

import httpx
import numpy as np

from lean_tumbler.core.reading.evidence import Counts
from lean_tumbler.core.tuning.capacity import (
    MOST_UTILISATION,
    Service,
    response_p99,
)
from lean_tumbler.service.derivation_slots import DerivationSlots
from loads import stolen_seconds
from measuring import PROGRAM, TABLE, Benchmark, Row
from serving import PASSWORD, SERVICE_POLICY, serving

REQUESTS = 3_000
WARM = 300
_MOST_SECONDS = 90  # of one load
_RESAMPLES = 400
# A part of a core's time that others had; and how long before and behind it waits are not counted.
_LOOK_SECONDS, _DISTURBED, _AROUND_SECONDS = 0.25, 0.05, 1.5
# (KiB of the target, how many times a derivation the wait may be, the load's share of the promised)
LOADS = [
    (memory_kib, waits, share)
    for memory_kib in (2_048, 4_096)
    for waits in (4, 8)
    for share in (1.0, 0.7)
]
OVERLOADS = [(4_096, 8, 1.5), (4_096, 8, 3.0)]


def promised(memory_kib: int, waits: int, share: float, *, seed: int) -> Row:
    """Serve so many logins at random times, and hold times and refusals beside the promise."""
    policy = SERVICE_POLICY.replace("12288", str(memory_kib)).replace("passes = 2", "passes = 3")
    with serving(policy=policy, within="10s", concurrency=1) as (address, _):
        each = np.array(_one_by_one(address))
    # Of a few hundred logins, the hypervisor makes the last hundredth.
    mean, tail = float(each.mean()), float(np.quantile(each, 0.95) / each.mean())
    within = waits * mean
    service = Service(seconds=mean, tail=tail)
    rate = share * _largest_load(service, within)
    chance = random.Random(seed)  # noqa: S311 - when logins arrive
    number = min(REQUESTS, round(_MOST_SECONDS * rate))
    due = np.cumsum([chance.expovariate(rate) for _ in range(number)])
    with serving(policy=policy, within=f"{1000 * within:.0f}ms", concurrency=1) as (address, _):
        _one_by_one(address)
        with _watched() as stolen:
            begun = time.perf_counter()
            all_seen = asyncio.run(_times(address, list(due)))
    quiet = [not _is_disturbed(begun + at, stolen) for at in due]
    seen = [seconds for seconds, is_quiet in zip(all_seen, quiet, strict=True) if is_quiet]
    answered = np.array([seconds for seconds in seen if seconds is not None])
    low, high = _interval(answered, chance)
    return {
        "benchmark": f"serve at {share:g} of the promised load, {1000 * mean:.1f} ms a login",
        "logins_per_second": round(rate, 1),
        "promised_within_milliseconds": round(1000 * within, 1),
        "seen_p99_milliseconds": round(1000 * float(np.quantile(answered, 0.99)), 1),
        "its_interval": [round(1000 * low, 1), round(1000 * high, 1)],
        "ratio": round(float(np.quantile(answered, 0.99)) / within, 2),
        "requests": len(seen),
        "left_out_as_the_hypervisor_took_the_cores": len(all_seen) - len(seen),
        "refused": round(1 - len(answered) / len(seen), 4),
        "late": round(float(np.mean(answered > within)), 4),
        "by_the_formula": round(response_p99(rate, 1, service) / within, 2),
        "utilisation": round(rate * mean, 2),
        "cores": os.cpu_count() or 1,
    }


@contextmanager
def _watched() -> Iterator[list[tuple[float, float]]]:
    """Note, four times a second, how much of the cores' time the hypervisor gives to others."""
    noted: list[tuple[float, float]] = []
    ended = Event()

    def watch() -> None:
        before = stolen_seconds()
        while not ended.wait(_LOOK_SECONDS):
            now = stolen_seconds()
            noted.append((time.perf_counter(), now - before))
            before = now

    thread = Thread(target=watch)
    thread.start()
    try:
        yield noted
    finally:
        ended.set()
        thread.join()


def _is_disturbed(at: float, stolen: list[tuple[float, float]]) -> bool:
    """Tell a moment before or behind which others had the cores."""
    return any(
        seconds > _DISTURBED * _LOOK_SECONDS
        for when, seconds in stolen
        if at - _AROUND_SECONDS < when < at + _AROUND_SECONDS
    )


def _largest_load(service: Service, within: float, at_once: int = 1) -> float:
    """Find the most logins a second that `tune` would promise."""
    low, high = 0.0, at_once * MOST_UTILISATION / service.mean
    if response_p99(high, at_once, service) <= within:
        return high
    for _ in range(50):
        middle = (low + high) / 2
        is_kept = response_p99(middle, at_once, service) <= within
        low, high = (middle, high) if is_kept else (low, middle)
    return low


def _interval(answered: np.ndarray, chance: random.Random) -> tuple[float, float]:
    """Give the 95 % interval of the 99th percentile, by drawing blocks anew: waits follow waits."""
    block = 50
    starts = range(0, len(answered) - block, block)
    drawn = []
    for _ in range(_RESAMPLES):
        blocks = [
            answered[start : start + block] for start in chance.choices(starts, k=len(starts))
        ]
        drawn.append(float(np.quantile(np.concatenate(blocks), 0.99)))
    return float(np.quantile(drawn, 0.025)), float(np.quantile(drawn, 0.975))


def _one_by_one(address: str) -> list[float]:
    """Log in so many times, each after the last one's answer; give the seconds of each."""
    times = []
    with httpx.Client(base_url=address) as client:
        for _ in range(WARM):
            started = time.perf_counter()
            client.post("/v1/admit", json=_LOGIN).raise_for_status()
            times.append(time.perf_counter() - started)
    return times[WARM // 2 :]


_LOGIN = {"store": "kiosk", "login": "k0", "password": PASSWORD}


async def _times(address: str, due: list[float]) -> list[float | None]:
    """Log in at these times; give the seconds until each answer, None where it was refused."""
    limits = httpx.Limits(max_connections=200, keepalive_expiry=1.0)
    async with httpx.AsyncClient(base_url=address, limits=limits, timeout=30) as client:
        started = time.perf_counter()

        async def login(at: float) -> float | None:
            await asyncio.sleep(max(0.0, started + at - time.perf_counter()))
            answer = await client.post("/v1/admit", json=_LOGIN)
            taken = time.perf_counter() - started - at
            return taken if answer.status_code == httpx.codes.OK else None

        return list(await asyncio.gather(*map(login, due)))


def promises() -> Iterator[Row]:
    """All loads."""
    for seed, (memory_kib, waits, share) in enumerate([*LOADS, *OVERLOADS]):
        yield promised(memory_kib, waits, share, seed=seed)


class _SimulatedSlots(DerivationSlots):
    """The service's own rule of room, with turns that begin and end by a simulated clock."""

    def begin(self, number: int, at: float) -> None:
        """Let a login begin."""
        self._begun[number] = at

    def end(self, number: int, at: float) -> None:
        """Let it end, and count how long it took."""
        self.took(at - self._begun.pop(number))


def simulated_promises(arrivals: int = 20_000, seed: int = 1) -> Iterator[Row]:
    """Loads that `tune` promises, and more, put before the service's own rule of room."""
    for at_once, milliseconds, within, upgrading in product(
        (1, 2, 4), (50, 100), (250,), (0.0, 0.3)
    ):
        service = Service(seconds=milliseconds / 1000, tail=1.2, upgrading=upgrading)
        promised_load = _largest_load(service, within / 1000, at_once)
        for share in (1.0, 1.5, 3.0):
            chance = np.random.default_rng(seed)
            seen = _simulated(
                service, at_once, within / 1000, share * promised_load, arrivals, chance
            )
            answered = np.array([seconds for seconds in seen if seconds is not None])
            yield {
                "benchmark": f"{at_once} at once, {milliseconds} ms, {upgrading:.0%} upgraded, "
                f"{share:g} of the promised {promised_load:.1f}/s",
                "p99 over promise": round(1000 * float(np.quantile(answered, 0.99)) / within, 2),
                "refused": round(1 - len(answered) / arrivals, 4),
                "late": round(float(np.mean(answered > within / 1000)), 4),
            }


def _simulated(
    service: Service,
    at_once: int,
    within: float,
    rate: float,
    arrivals: int,
    chance: np.random.Generator,
) -> list[float | None]:
    """Give the seconds until each answer, None where there was no room; in order of arrival."""
    now, spread = 0.0, math.log(service.tail) / 2.326  # of the normal distribution, its 99 %
    slots = _SimulatedSlots(at_once=at_once, within_seconds=within, clock=lambda: now)
    free = [0.0] * at_once
    inside: list[tuple[float, float, int]] = []  # (end, begin, number)
    begun: set[int] = set()
    seen: list[float | None] = []
    for number in range(arrivals):
        now += chance.exponential(1 / rate)
        for end, begin, each in sorted(inside):
            if begin <= now and each not in begun:
                slots.begin(each, begin)
                begun.add(each)
            if end <= now:
                slots.end(each, end)
        inside = [entry for entry in inside if entry[0] > now]
        if not slots.has_room(len(inside)):
            seen.append(None)
            continue
        seconds = service.seconds * math.exp(spread * chance.standard_normal())
        seconds *= 2 if chance.random() < service.upgrading else 1
        begin = max(now, heapq.heappop(free))
        heapq.heappush(free, begin + seconds)
        inside.append((begin + seconds, begin, number))
        if begin <= now:
            slots.begin(number, begin)
            begun.add(number)
        seen.append(begin + seconds - now)
    return seen


def layering_times() -> Iterator[Row]:
    """What `plan` and a dry run say that layering takes, beside what it takes."""
    for rows in (300, 1_000, 2_000):
        with tempfile.TemporaryDirectory() as name:
            folder = Path(name)
            (folder / "tumbler.toml").write_text(_LAYERING)
            with closing(sqlite3.connect(folder / "harbour.db")) as connection, connection:
                connection.execute(TABLE)
                digests = (hashlib.md5(b"%d" % n).hexdigest() for n in range(rows))  # noqa: S324 - legacy data
                connection.executemany(
                    "INSERT INTO kiosk VALUES (?, ?, ?)",
                    ((n, f"k{n}", digest) for n, digest in enumerate(digests)),
                )
            known = "".join(f"k{n},{n}\n" for n in range(0, rows, rows // 60))
            (folder / "known.csv").write_text(f"login,password\n{known}")
            _told(folder, "verify", "known.csv", "--store", "kiosk")
            further = ("--no-backup", "--store", "kiosk")
            planned = _told(folder, "plan", "--store", "kiosk")["layering"]
            dry = _told(folder, "layer", "--dry-run", *further)["expected"]
            took = _told(folder, "layer", *further)["seconds"]
        yield {
            "benchmark": f"layering {rows:,} rows",
            "plan_says_seconds": [round(planned["low"], 1), round(planned["high"], 1)],
            "dry_run_says_seconds": [round(dry["low"], 1), round(dry["high"], 1)],
            "seconds": round(took, 1),
            "ratio": round(took / planned["expected"], 2),
        }


_LAYERING = SERVICE_POLICY.replace("12288", "7168").replace("passes = 2", "passes = 5").replace(
    "readers_ready", 'mode = "upgrade"\nreaders_ready'
)  # fmt: skip


def _told(folder: Path, *arguments: str) -> Row:
    command = [PROGRAM, *arguments, "--format", "json"]
    done = subprocess.run(command, cwd=folder, check=True, capture_output=True)
    return dict(json.loads(done.stdout))


def bounds_held(tries: int = 4_000, seed: int = 1) -> Iterator[Row]:
    """How often the bound that known accounts prove holds, where some rows use another formula."""
    chance = np.random.default_rng(seed)
    for rows, known in ((40, 10), (500, 20), (5_000, 60), (200_000, 300)):
        held = 0
        for _ in range(tries):
            other = int(rows * chance.uniform(0, 0.6))
            wrong = int(chance.hypergeometric(other, rows - other, known))
            counts = Counts(accepted=known - wrong, refused=wrong)
            held += other <= counts.bound_among(rows) * rows + 1e-6
        yield {
            "benchmark": f"{known:,} known accounts of {rows:,} rows",
            "tries": tries,
            "promised": 0.95,
            "held": round(held / tries, 4),
        }


BENCHMARKS = (
    Benchmark(name="promise", run=promises),
    Benchmark(name="promise-simulated", run=simulated_promises),
    Benchmark(name="layering-time", run=layering_times),
    Benchmark(name="bound", run=bounds_held),
)
