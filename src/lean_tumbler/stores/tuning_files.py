"""Files for choosing parameters: measurements taken elsewhere, an attacker's hardware, a floor."""

import json
import math
import tomllib
from collections.abc import Mapping, Sequence
from dataclasses import dataclass
from pathlib import Path
from typing import Any

from lean_tumbler.core.grades import FLOORS, Floor
from lean_tumbler.core.policy import StoragePolicy
from lean_tumbler.core.schemes.base import Parameters
from lean_tumbler.core.schemes.catalogue import DERIVATIONS, TUNED
from lean_tumbler.core.schemes.derivation import within
from lean_tumbler.core.tuning.attacker import CONSUMER_GPU_2022, Attacker, hardware_from_entries
from lean_tumbler.core.tuning.measuring import Measurement
from lean_tumbler.core.tuning.popularity import Popularity, popularity_from_entries
from lean_tumbler.errors import UsageError
from lean_tumbler.stores.file_access import read_text, write_text
from lean_tumbler.stores.json_text import load_json

MEASUREMENTS = "lean-tumbler/measurements/1"
_FILE_BYTES = 1 << 20
_MOST_MILLISECONDS = 1e7
_MOST_RATIO = 1000.0


@dataclass(frozen=True, slots=True, kw_only=True)
class Measured:
    """Measurements, and the machine that they were taken on.

    Attributes:
        host: `system`, `machine`, `cores`, `memory_kib`.
        taken_at: when, as ISO 8601.
        points: what was measured.
    """

    host: Mapping[str, Any]
    taken_at: str
    points: Sequence[Measurement]


def write_measurements(path: Path, measured: Measured) -> None:
    """Write measurements down.

    Raises:
        SourceError: the file cannot be written.
    """
    document = {
        "document": MEASUREMENTS,
        "taken_at": measured.taken_at,
        "host": dict(measured.host),
        "measured": [
            {
                "scheme": point.scheme,
                "parameters": dict(point.parameters),
                "milliseconds_at_once": {
                    str(level): round(time, 4) for level, time in point.milliseconds_at_once.items()
                },
                "spread": round(point.spread, 4),
                "tail": round(point.tail, 4),
                "slow": round(point.slow, 4),
            }
            for point in measured.points
        ],
    }
    write_text(path, json.dumps(document, indent=2) + "\n")


def read_measurements(path: Path) -> Measured:
    """Read measurements.

    Raises:
        SourceError: the file cannot be read.
        UsageError: it is no such file, of another version, or holds an impossible number.
    """
    try:
        document = load_json(read_text(path, limit_bytes=_FILE_BYTES))
    except ValueError:
        document = None
    if not isinstance(document, dict) or "document" not in document:
        raise UsageError(f"{path}: not a file of measurements; remove it to measure anew")
    if document["document"] != MEASUREMENTS:
        raise UsageError(f"{path}: of another version than {MEASUREMENTS}; measure anew")
    host, entries = document.get("host"), document.get("measured")
    if not isinstance(host, dict) or not isinstance(entries, list) or not entries:
        raise UsageError(f"{path}: “host” or “measured” is missing; measure anew")
    _whole(host.get("cores"), f"{path}: host.cores")
    _whole(host.get("memory_kib"), f"{path}: host.memory_kib")
    points = [_point(entry, f"{path}: measured[{n}]") for n, entry in enumerate(entries)]
    return Measured(host=host, taken_at=str(document.get("taken_at", "")), points=points)


def _point(entry: Any, place: str) -> Measurement:
    if not isinstance(entry, dict) or entry.get("scheme") not in TUNED:
        raise UsageError(f"{place}.scheme: not a scheme that is measured: {', '.join(TUNED)}")
    times = entry.get("milliseconds_at_once")
    if not isinstance(times, dict) or "1" not in times or not all(n.isdigit() for n in times):
        raise UsageError(f"{place}.milliseconds_at_once: expected times by number at once, from 1")
    return Measurement(
        scheme=entry["scheme"],
        parameters=_parameters(entry["scheme"], entry.get("parameters"), place),
        milliseconds_at_once={
            int(level): _number(time, f"{place}.milliseconds_at_once", _MOST_MILLISECONDS)
            for level, time in sorted(times.items(), key=lambda item: int(item[0]))
        },
        spread=_number(entry.get("spread", 0.0), f"{place}.spread", _MOST_RATIO, least=0.0),
        tail=_number(entry.get("tail", 1.0), f"{place}.tail", _MOST_RATIO, least=1.0),
        slow=_number(entry.get("slow", 1.0), f"{place}.slow", _MOST_RATIO, least=1.0),
    )


def _parameters(scheme: str, given: Any, place: str) -> Parameters:
    ranges = DERIVATIONS[scheme].parameters
    names = {parameter.name for parameter in ranges}
    if (
        not isinstance(given, dict)
        or set(given) != names
        or not all(type(value) is int for value in given.values())
        or not within(given, ranges)
    ):
        raise UsageError(f"{place}.parameters: not parameters of {scheme}: {', '.join(names)}")
    return given


def _number(value: Any, place: str, most: float, *, least: float = 1e-6) -> float:
    if isinstance(value, bool) or not isinstance(value, int | float) or not math.isfinite(value):
        raise UsageError(f"{place}: expected a number")
    if not least <= value <= most:
        raise UsageError(f"{place}: a number from {least:g} to {most:g} is possible, not this one")
    return float(value)


def _whole(value: Any, place: str) -> None:
    if type(value) is not int or value < 1:
        raise UsageError(f"{place}: expected a whole number from 1")


def read_attacker(path: Path | None) -> Attacker:
    """Read who guesses from a TOML file; what it leaves out is the reference.

    Args:
        path: a file with a table [hardware], a table [passwords], or both.

    Raises:
        SourceError: the file cannot be read.
        UsageError: an entry is missing, unknown or impossible.
    """
    if path is None:
        return Attacker()
    try:
        tables = tomllib.loads(read_text(path, limit_bytes=_FILE_BYTES))
    except tomllib.TOMLDecodeError as error:
        raise UsageError(f"{path}: {error}") from None
    except (ValueError, RecursionError):
        raise UsageError(f"{path}: a number is too long, or tables are nested too deep") from None
    if not tables or set(tables) - {"hardware", "passwords"}:
        raise UsageError(f"{path}: expected a table [hardware], a table [passwords], or both")
    hardware, popularity = CONSUMER_GPU_2022, Popularity()
    if "hardware" in tables:
        hardware = hardware_from_entries(tables["hardware"], place=f"{path}: [hardware]")
    if "passwords" in tables:
        popularity = popularity_from_entries(tables["passwords"], place=f"{path}: [passwords]")
    return Attacker(hardware=hardware, popularity=popularity)


def read_floor(name: str | None, policy: StoragePolicy) -> Floor:
    """Give a published floor by name, the [floor] of a file, or the policy's own.

    Raises:
        SourceError: the file cannot be read.
        PolicyError: the file's [floor] is not valid.
    """
    if name is None:
        return policy.floor
    if name in FLOORS:
        return FLOORS[name]
    path = Path(name)
    if not path.exists():
        raise UsageError(f"--floor: no such file, and none of {', '.join(FLOORS)}")
    return StoragePolicy.floor_from_toml(read_text(path, limit_bytes=_FILE_BYTES), origin=name)
