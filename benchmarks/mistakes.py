"""Mishaps at scale: wrapped, cut and unwritten values, and ordinary ones that are none of these."""

import json
import random
import subprocess
import sys
import tempfile
from collections import defaultdict
from collections.abc import Iterator
from pathlib import Path

from invented import mishaps, passwords
from lean_tumbler import CredentialGateway, StoragePolicy
from lean_tumbler.core.schemes.catalogue import parts_of, read_value, stored_value_scheme
from measuring import Benchmark, Row

_PROGRAM = str(Path(sys.executable).with_name("lean-tumbler"))
_POLICY = """\
[target]
scheme = "argon2id"
memory_kib = 64
passes = 1
lanes = 1
[floor]
argon2id = { memory_kib = 64, passes = 1 }
[store.guests]
locator = "guests.db"
[store.guests.columns]
account = "id"
login = "id"
stored = "pw"
[[store.guests.cohort]]
name = "texts"
plain_text = "all"
"""


def mishaps_named(rows: int = 100_000) -> Iterator[Row]:
    """Audit each kind in a table of its own, and log in to every value."""
    chance = random.Random(21)  # noqa: S311 - invented data
    third = rows // 3
    bank = mishaps.whole(chance, third // 16)
    gateway = CredentialGateway(StoragePolicy.from_toml(_POLICY))
    kinds: defaultdict[str, list[tuple[mishaps.Value, str]]] = defaultdict(list)
    for name, value, stored in mishaps.wrapped(bank, chance):
        kinds[name].append((value, stored))
    for name, pairs in kinds.items():
        texts = [stored for _, stored in pairs]
        opened = sum(
            gateway.admit(stored=stored, password=value.password, store="guests").admitted
            for value, stored in pairs
        )
        typed = sum(gateway.admit(stored=t, password=t, store="guests").admitted for t in texts)
        found = _found(texts)
        yield {
            "benchmark": f"wrapped: {name}",
            "rows": len(texts),
            "named": found.get("quoted-or-encoded", 0),
            "opened_by_their_passwords": opened,
            "called_broken": sum(found.get(code, 0) for code in ("truncated-value", "remnant")),
            "not_understood": found.get("not-understood", 0),
            "opened_by_themselves": typed,
        }
    # In a column whole values stand beside them, which say how long digests are there.
    texts = [stored for _, stored in mishaps.cut(bank, chance, of_each=third // len(bank))]
    beside = [value.stored for value in bank if value.names_itself]
    yield {
        "benchmark": "cut off",
        "rows": len(texts),
        "whole_beside": len(beside),
        "named": _found([*texts, *beside]).get("truncated-value", 0),
        "opened_by_themselves": sum(
            gateway.admit(stored=t, password=t, store="guests").admitted for t in texts
        ),
    }
    for name, make in mishaps.REMNANTS.items():
        texts = [make(chance) for _ in range(third // len(mishaps.REMNANTS))]
        yield {
            "benchmark": f"remnant: {name}",
            "rows": len(texts),
            "named": _found(texts).get("remnant", 0),
            "opened_by_themselves": sum(
                gateway.admit(stored=t, password=t, store="guests").admitted for t in set(texts)
            ),
        }


def _found(texts: list[str]) -> dict[str, int]:
    """Audit a table of these texts: finding -> rows."""
    with tempfile.TemporaryDirectory() as name:
        mishaps.fill(Path(name) / "guests.db", texts)
        command = [_PROGRAM, "audit", "guests.db", "--column", "pw", "--format", "json"]
        done = subprocess.run(command, cwd=name, capture_output=True, text=True, check=True)
    (column,) = json.loads(done.stdout)["stores"]
    return {finding["code"]: finding["rows"] for finding in column["findings"]}


def ordinary(texts: int = 1_000_000) -> Iterator[Row]:
    """Count ordinary passwords and values that are taken for something that happened."""
    chance = random.Random(22)  # noqa: S311 - invented data
    people = (passwords.human(chance) for _ in range(texts))
    wrong = [text for text in people if _is_mishap(text) or stored_value_scheme(text)]
    yield {"benchmark": "ordinary passwords", "texts": texts, "false_alarms": len(wrong)}
    bank = [value.stored for value in mishaps.whole(chance, 500)]
    alike = (_drawn_anew(chance.choice(bank), chance) for _ in range(texts))
    wrong = [text for text in alike if _is_mishap(text) or not stored_value_scheme(text)]
    yield {"benchmark": "ordinary values", "texts": texts, "false_alarms": len(wrong)}


def _drawn_anew(value: str, chance: random.Random) -> str:
    """Draw salt and digest of a value anew, of the letters that they have: another's value."""
    letters = list(value)
    for part in parts_of(value):
        if part.name.endswith(("salt", "digest")):
            place = range(part.start, part.end)
            alphabet = sorted({value[n] for n in place if value[n] != "="})
            for n in place:
                letters[n] = chance.choice(alphabet) if value[n] != "=" else "="
    return "".join(letters)


def _is_mishap(text: str) -> bool:
    parsed = read_value(text)
    return bool(parsed.wrappers) or parsed.scheme == "remnant"


BENCHMARKS = (
    Benchmark(name="mishaps", run=mishaps_named),
    Benchmark(name="ordinary", run=ordinary),
)
