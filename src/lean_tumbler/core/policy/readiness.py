"""Readers first: bulk steps write nothing that another program cannot check yet."""

from datetime import date

from lean_tumbler.core.policy import StorePolicy
from lean_tumbler.errors import NotReady

_ORDER = (
    "The order is: 1. every program that checks passwords gets the new check and observes, "
    "2. its verdicts agree, 3. set readers_ready, 4. `layer`."
)


def require_readers_ready(store: StorePolicy, today: date) -> None:
    """Refuse a bulk step before every program that checks passwords knows what it writes.

    Raises:
        NotReady: saying why, and what comes first.
    """
    ready = store.readers_ready
    if ready is not None and ready <= today:
        return
    state = (
        f"says readers_ready = {ready}, which has not come"
        if ready is not None
        else "does not say readers_ready = DATE"
    )
    raise NotReady(
        f"[store.{store.name}] {state}: nothing was written.\n"
        "A program that still checks with the old code refuses everybody whose value is replaced.\n"
        f"{_ORDER}"
    )
