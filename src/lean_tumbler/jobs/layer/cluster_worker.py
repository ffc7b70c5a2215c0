"""What runs on the workers of a cluster: derivations, by values alone."""

import time
from collections.abc import Sequence

from lean_tumbler.core.schemes import phc
from lean_tumbler.core.schemes.catalogue import DERIVATIONS

Task = tuple[str, dict[str, int], bytes, bytes]  # scheme, costs, salt, secret


def digests(tasks: Sequence[Task]) -> list[tuple[bytes | None, float]]:
    """Derive; runs on the workers. None stands where there was not enough memory."""
    return [_digest(*task) for task in tasks]


def _digest(
    scheme: str, parameters: dict[str, int], salt: bytes, secret: bytes
) -> tuple[bytes | None, float]:
    started = time.perf_counter()
    try:
        text = DERIVATIONS[scheme].create(secret, salt, parameters)
        raw = phc.decode(text.rpartition("$")[2])
    except MemoryError:
        raw = None
    return raw, time.perf_counter() - started
