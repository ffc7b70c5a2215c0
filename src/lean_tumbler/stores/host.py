"""What this machine gives: cores and memory, as a container's limits leave them."""

import ctypes
import os
import platform
from math import ceil
from pathlib import Path

from msgspec import Struct

_CGROUP = Path("/sys/fs/cgroup")  # docs.kernel.org/admin-guide/cgroup-v2.html
_MEMINFO = Path("/proc/meminfo")

# mallopt(3). Larger pieces than the first are asked of the system, and given back, each time.
_MMAP_THRESHOLD, _TRIM_THRESHOLD = -3, -1
_KEPT_BYTES = 32 * 1024 * 1024  # the most that the first may be
_TRIMMED_BYTES = 1024 * 1024 * 1024


class Host(Struct, frozen=True, kw_only=True):
    """A machine."""

    system: str
    machine: str
    cores: int  # that this process may use
    memory_kib: int  # in all
    free_kib: int  # that can be had without pressing others out


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


def keep_freed_memory() -> None:
    """Keep what derivations have let go for the next ones, instead of giving it back each time.

    Fetching 20 MiB anew from the system, page by page, takes a tenth of the time of a derivation
    that works in it. Up to 32 MiB for each thread stay taken. With another C library than
    glibc, nothing is changed.
    """
    set_option = getattr(ctypes.CDLL(None), "mallopt", None)
    if set_option is not None:
        set_option(_MMAP_THRESHOLD, _KEPT_BYTES)
        set_option(_TRIM_THRESHOLD, _TRIMMED_BYTES)


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
