"""What this machine gives: cores and memory, as a container's limits leave them."""

import os
import platform
from dataclasses import dataclass
from math import ceil
from pathlib import Path

_CGROUP = Path("/sys/fs/cgroup")  # docs.kernel.org/admin-guide/cgroup-v2.html
_MEMINFO = Path("/proc/meminfo")


@dataclass(frozen=True, slots=True, kw_only=True)
class Host:
    """A machine.

    Attributes:
        cores: that this process may use.
        memory_kib: in all.
        free_kib: that can be had without pressing others out.
    """

    system: str
    machine: str
    cores: int
    memory_kib: int
    free_kib: int


def this_host() -> Host:
    """Look at this machine."""
    memory = os.sysconf("SC_PHYS_PAGES") * os.sysconf("SC_PAGE_SIZE") // 1024
    memory = min(memory, _limit("memory.max", memory * 1024) // 1024)
    return Host(
        system=platform.system(),
        machine=platform.machine(),
        cores=_cores(),
        memory_kib=memory,
        free_kib=min(memory, _available_kib(memory)),
    )


def _cores() -> int:
    known = getattr(os, "sched_getaffinity", None)
    cores = len(known(0)) if known else os.cpu_count() or 1
    try:
        quota, period = (_CGROUP / "cpu.max").read_text().split()
        return cores if quota == "max" else max(1, min(cores, ceil(int(quota) / int(period))))
    except (OSError, ValueError):
        return cores


def _limit(name: str, otherwise: int) -> int:
    try:
        return int((_CGROUP / name).read_text())
    except (OSError, ValueError):  # no such limit, or “max”
        return otherwise


def _available_kib(otherwise: int) -> int:
    try:
        lines = _MEMINFO.read_text().splitlines()
    except OSError:
        return otherwise
    found = [line.split()[1] for line in lines if line.startswith("MemAvailable:")]
    return int(found[0]) if found else otherwise
