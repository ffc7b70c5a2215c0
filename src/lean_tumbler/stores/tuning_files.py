"""Files for choosing parameters: measurements taken elsewhere, an attacker's hardware, a floor."""

import tomllib
from pathlib import Path
from typing import Annotated, Any, Final, Literal, TypeVar

from msgspec import Meta, Struct, json

from lean_tumbler.core.grades import FLOORS, Floor
from lean_tumbler.core.policy import StoragePolicy
from lean_tumbler.core.schema import Mismatch, checked
from lean_tumbler.core.schemes.catalogue import DERIVATIONS, TUNED
from lean_tumbler.core.schemes.derivation import within
from lean_tumbler.core.tuning.attacker import CONSUMER_GPU_2022, Attacker, Hardware
from lean_tumbler.core.tuning.measuring import Measurement
from lean_tumbler.core.tuning.popularity import Popularity
from lean_tumbler.errors import UsageError
from lean_tumbler.stores.file_access import read_text, write_text
from lean_tumbler.stores.json_text import load_json

MEASUREMENTS: Final = "lean-tumbler/measurements/1"
_FILE_BYTES = 1 << 20
T = TypeVar("T")


class MeasuredHost(Struct, frozen=True, kw_only=True):
    """The machine that was measured."""

    system: str = ""
    machine: str = ""
    cores: Annotated[int, Meta(ge=1)]
    memory_kib: Annotated[int, Meta(ge=1)]


class Measured(Struct, frozen=True, kw_only=True):
    """Measurements, and the machine that they were taken on."""

    document: Literal["lean-tumbler/measurements/1"] = MEASUREMENTS
    taken_at: str = ""  # when, as ISO 8601
    host: MeasuredHost  # the machine
    # the points
    measured: Annotated[
        tuple[Measurement, ...], Meta(min_length=1, extra={"must": "a list of measurements"})
    ]


def write_measurements(path: Path, measured: Measured) -> None:
    """Write measurements down.

    Raises:
        SourceError: the file cannot be written.
    """
    write_text(path, json.format(json.encode(measured), indent=2).decode("utf-8") + "\n")


def read_measurements(path: Path) -> Measured:
    """Read measurements.

    Raises:
        SourceError: the file cannot be read.
        UsageError: it is no such file, of another version, or holds an impossible number.
    """
    try:
        found = checked(load_json(read_text(path, limit_bytes=_FILE_BYTES)), Measured)
    except Mismatch as mismatch:
        raise UsageError(f"{path}: {mismatch}; measure anew") from None
    except ValueError:
        raise UsageError(f"{path}: not a file of measurements; remove it to measure anew") from None
    for number, point in enumerate(found.measured):
        problem = _problem(point)
        if problem:
            raise UsageError(f"{path}: measured[{number}].{problem}")
    return found


def _problem(point: Measurement) -> str:
    """Say what is impossible about a point; empty where nothing is."""
    if point.scheme not in TUNED:
        return f"scheme: not a scheme that is measured: {', '.join(TUNED)}"
    ranges = DERIVATIONS[point.scheme].parameters
    names = {parameter.name for parameter in ranges}
    if set(point.parameters) != names or not within(point.parameters, ranges):
        return f"parameters: not parameters of {point.scheme}: {', '.join(names)}"
    if 1 not in point.milliseconds_at_once:
        return "milliseconds_at_once: expected times by number at once, from 1"
    return ""


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
        hardware = _table(path, "hardware", tables["hardware"], Hardware)
    if "passwords" in tables:
        popularity = _table(path, "passwords", tables["passwords"], Popularity)
        if not popularity.is_in_order:
            raise UsageError(
                f"{path}: [passwords]: covered: expected guesses and shares in rising order"
            )
    return Attacker(hardware=hardware, popularity=popularity)


def _table(path: Path, name: str, entries: Any, kind: type[T]) -> T:
    try:
        return checked(entries, kind)
    except Mismatch as mismatch:
        unknown = f"unknown entry “{mismatch.unknown}”; {mismatch.hint}"
        problem = unknown if mismatch.unknown else str(mismatch)
        raise UsageError(f"{path}: [{name}]: {problem}") from None


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
