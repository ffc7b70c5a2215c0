"""No core dumps: they would hold the passwords that were being checked."""

import ctypes
import resource
from contextlib import suppress

_SET_DUMPABLE = 4  # PR_SET_DUMPABLE, prctl(2)


def forbid_core_dumps() -> None:
    """See to it that this process leaves no image of its memory when it crashes.

    On Linux no other process of the same user may look into it either. The limit alone would not
    do: a program that the system pipes core dumps to is called whatever it says (core(5)).
    """
    with suppress(OSError, ValueError):
        resource.setrlimit(resource.RLIMIT_CORE, (0, resource.getrlimit(resource.RLIMIT_CORE)[1]))
    control = getattr(ctypes.CDLL(None), "prctl", None)
    if control is not None:
        control(_SET_DUMPABLE, 0, 0, 0, 0)
