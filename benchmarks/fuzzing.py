"""Inputs that nobody wrote: mutated values and requests, and what a coverage-guided search finds.

A find is an exception that is not this project's, a value in what comes out, or memory that grows.
"""

import asyncio
import json
import os
import random
import re
import subprocess
import sys
import tempfile
import time
from collections import Counter
from collections.abc import Iterator, Sequence
from concurrent.futures import ProcessPoolExecutor
from pathlib import Path

from conftest import make_portal
from invented import mishaps
from lean_tumbler.core.login.row_work import work_of
from lean_tumbler.core.reading.reader import RowReader
from lean_tumbler.core.reading.rows import Row as StoredRow
from lean_tumbler.core.reading.rows import text_of
from lean_tumbler.core.reading.ways import Bounds
from lean_tumbler.errors import TumblerError
from measuring import TESTS, Benchmark, Row
from servers import wait_until_listening
from targets import TARGETS

SEARCHING = Path(__file__).with_name("searching.py")
_PROGRAM = str(Path(sys.executable).with_name("lean-tumbler"))
_SIGNS = [*"$:,={}/+.!*\\'\"\0\n\t 09azAZ", "é", "€", "\ud800", "𝄞", "$$", "rounds=", "\\x", "b'"]
_CANARY = "Canary-password-7f3a"


def mutated(text: str, chance: random.Random) -> str:
    """Change a text at a few places: replace, insert, double, cut, or join with itself."""
    for _ in range(chance.choice((1, 1, 1, 2, 3, 8))):
        place, end = sorted(chance.choices(range(len(text) + 1), k=2))
        kind = chance.randrange(6)
        if kind == 0:
            text = text[:place] + chance.choice(_SIGNS) + text[place + 1 :]
        elif kind == 1:
            text = text[:place] + chance.choice(_SIGNS) + text[place:]
        elif kind == 2:
            text = text[:end] + text[place:end] + text[end:]
        elif kind == 3:
            text = text[:place] + text[end:]
        elif kind == 4:
            text = text[:place] + str(chance.choice((0, 1, 31, 10**6, 2**32, 10**20))) + text[end:]
        else:
            text = text[place:] + text[:place]
    return text[:9000]


def _resident_mib() -> float:
    status = Path("/proc/self/status").read_text()
    return int(re.findall(r"VmRSS:\s+(\d+)", status)[0]) / 1024


def _bank(chance: random.Random) -> list[str]:
    foreign = json.loads((TESTS / "data" / "foreign-values.json").read_text("utf-8"))
    return [row["stored"] for row in foreign["values"]] + [
        v.stored for v in mishaps.whole(chance, 40)
    ]


def _read_mutated(seed: int, number: int) -> tuple[Counter[str], float, list[str]]:
    """Read mutated values; give the states, how much memory grew, and what is a find."""
    chance = random.Random(seed)  # noqa: S311 - for figures, not for secrets
    bank, reader, bounds = _bank(chance), RowReader(), Bounds()
    states: Counter[str] = Counter()
    finds: list[str] = []
    before = 0.0
    for count in range(number):
        text = mutated(chance.choice(bank), chance)
        raw = text.encode("utf-8", "surrogatepass")
        try:
            reading = reader.read(StoredRow(stored=raw, salt=raw[:8], login="ada"))
            work_of(reading, bounds)
            states[reading.state] += 1
        except TumblerError as error:
            states[type(error).__name__] += 1
            if len(text) > 12 and text in str(error):
                finds.append(f"a value in a message: {type(error).__name__}")
        except Exception as error:  # noqa: BLE001 - that is what is looked for
            finds.append(f"{type(error).__name__}: {text_of(raw)!r}")
        if count == number // 10:
            before = _resident_mib()
    return states, _resident_mib() - before, finds


def values(number: int = 10_000_000) -> Iterator[Row]:
    """Put mutated values through the reader, on all cores."""
    cores = os.cpu_count() or 1
    started = time.perf_counter()
    with ProcessPoolExecutor(cores) as pool:
        parts = list(pool.map(_read_mutated, range(cores), [number // cores] * cores))
    states: Counter[str] = sum((part[0] for part in parts), Counter())
    finds = [find for part in parts for find in part[2]]
    yield {
        "benchmark": "mutated values through the reader",
        "values": number // cores * cores,
        "read_as": dict(states.most_common()),
        "finds": finds[:20],
        "grown_mib": [round(part[1], 1) for part in parts],
        "seconds": round(time.perf_counter() - started),
    }


_REQUEST = (
    b"POST /v1/%s HTTP/1.1\r\nHost: x\r\nContent-Type: application/json\r\n"
    b"Content-Length: %d\r\n\r\n"
)


def _body(chance: random.Random, logins: Sequence[str]) -> tuple[bytes, bytes]:
    """Make a request that is right, or nearly so."""
    path = chance.choice((b"admit", b"admit", b"admit-value", b"hash", b"change"))
    fields: dict[str, object] = {
        "store": "passengers",
        "login": chance.choice(logins),
        "password": chance.choice((_CANARY, "no such", "ß€\0", "x" * 3000)),
    }
    if path == b"admit-value":
        del fields["store"]
        fields["stored"] = mutated("$1$abcdefgh$A0oO2iVvL0hV8jBzBh4bX/", chance)
    elif path == b"hash":
        fields = {"password": _CANARY}
    elif path == b"change":
        fields["new_password"] = _CANARY
    text = json.dumps(fields, ensure_ascii=chance.random() < 0.5)
    if chance.random() < 0.9:
        text = mutated(text, chance)
    body = text.encode("utf-8", "surrogatepass")
    return path, body


async def _ask(
    path: Path, seed: int, number: int, answers: Counter[int], logins: list[str]
) -> None:
    """Send requests on one connection after the other; a connection is closed by the service."""
    chance = random.Random(seed)  # noqa: S311 - likewise
    reader: asyncio.StreamReader | None = None
    writer: asyncio.StreamWriter | None = None
    for _ in range(number):
        if writer is None or reader is None or writer.is_closing():
            reader, writer = await asyncio.open_unix_connection(str(path))
        route, body = _body(chance, logins)
        raw = _REQUEST % (route, len(body)) + body
        if chance.random() < 0.05:
            raw = mutated(raw.decode("latin-1"), chance).encode("utf-8", "surrogatepass")
            writer.write(raw)
            writer.write_eof()
            answer = await reader.read()
            answers[int(answer[9:12]) if answer.startswith(b"HTTP/1.1 ") else 0] += 1
            writer.close()
            writer = None
        else:
            writer.write(raw)
            head = await reader.readuntil(b"\r\n\r\n")
            length = int(re.findall(rb"content-length: (\d+)", head.lower())[0])
            answer = head + await reader.readexactly(length)
            answers[int(head[9:12])] += 1
            if b"connection: close" in head.lower():
                writer.close()
                writer = None
        if _CANARY.encode() in answer or b"Traceback" in answer:
            answers[-1] += 1


def requests(number: int = 1_000_000) -> Iterator[Row]:
    """Put mutated requests through the service over eight connections."""
    with tempfile.TemporaryDirectory() as name:
        folder = Path(name)
        portal = make_portal(folder, ["current", "md5", "plain", "locked", "null"] * 4)
        logins = [*(passenger.login for passenger in portal.passengers), "nobody@x.example"]
        address, log = folder / "s", folder / "log"
        with log.open("wb") as err, subprocess.Popen(
            [_PROGRAM, "serve", "--listen", f"unix:{address}", "--within", "30s"],
            cwd=folder, stderr=err,
        ) as process:  # fmt: skip
            wait_until_listening(address, process)
            yield _requests(number, process.pid, address, log, logins)
            process.terminate()


def _requests(number: int, pid: int, address: Path, log: Path, logins: list[str]) -> Row:
    answers: Counter[int] = Counter()
    resident, started = [], time.perf_counter()

    async def all_of(part: int, first: int) -> None:
        asks = (_ask(address, first + n, part // 8, answers, logins) for n in range(8))
        await asyncio.gather(*asks)

    for tenth in range(10):
        asyncio.run(all_of(number // 10, 8 * tenth))
        status = Path(f"/proc/{pid}/status").read_text()
        resident.append(int(re.findall(r"VmRSS:\s+(\d+)", status)[0]) / 1024)
        found = sum(answers[place] for place in (-1, 500))
        sys.stderr.write(f"{answers.total():,} requests, {found} finds, {resident[-1]:.0f} MiB\n")
    return {
        "benchmark": "mutated requests through the service",
        "requests": answers.total() - answers[-1],
        "answers": {str(status): count for status, count in answers.most_common()},
        "passwords_in_answers": answers[-1],
        "passwords_in_the_log": log.read_bytes().count(_CANARY.encode()),
        "errors_in_the_log": log.read_bytes().count(b"Traceback"),
        "resident_mib_after_each_tenth": [round(each) for each in resident],
        "seconds": round(time.perf_counter() - started),
    }


def guided(seconds: int = 60) -> Iterator[Row]:
    """Search each reader for some seconds."""
    for name in TARGETS:
        with tempfile.TemporaryDirectory() as folder:
            corpus = Path(folder, "corpus")
            corpus.mkdir()
            done = subprocess.run(
                [sys.executable, str(SEARCHING), name, f"-max_total_time={seconds}",
                 "-max_len=4096", f"-artifact_prefix={folder}/", str(corpus)],
                capture_output=True, text=True, check=False,
                env={**os.environ, "PYTHONPATH": str(TESTS)},
            )  # fmt: skip
            tries = re.findall(r"^#(\d+)", done.stderr, re.MULTILINE)
            covered = re.findall(r"cov: (\d+)", done.stderr)
            finds = [path.read_bytes() for path in Path(folder).glob("*-*") if path.is_file()]
            error = re.findall(r"^(?:\w+\.)*\w*(?:Error|Exception)\b.*", done.stdout + done.stderr,
                               re.MULTILINE)  # fmt: skip
        yield {
            "benchmark": f"coverage-guided search: {name}",
            "seconds": seconds,
            "inputs": int(tries[-1]) if tries else 0,
            "branches_at_first_and_at_last": [int(each) for each in (covered[:1] + covered[-1:])],
            "finds": [ascii(find[:200]) for find in finds],
            "errors": error[:3],
        }


BENCHMARKS = (
    Benchmark(name="values", run=values),
    Benchmark(name="requests", run=requests),
    Benchmark(name="guided", run=guided, needs=("atheris",)),
)
