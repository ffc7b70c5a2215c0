"""Whether a cohort's logins are still admitted as often as before: where not, upgrades stop."""

from collections import deque
from math import sqrt

from msgspec import Struct, field

EARLIER_LOGINS = 200  # what a cohort is compared with; then it is watched
RECENT_LOGINS = 100
_DEVIATIONS = 4.0  # by chance a rate falls so far once in some thirty thousand looks


class _Cohort(Struct):
    earlier: int = 0
    earlier_admitted: int = 0
    recent: deque[bool] = field(default_factory=lambda: deque(maxlen=RECENT_LOGINS))


class AcceptanceWatch:
    """Compares each cohort's recent share of admitted logins with its first ones.

    A wrong upgrade shows where people type their right password and are refused: the share of
    their cohort falls. Attacks lower it too; then upgrades stop without need, and nobody is
    locked out by that.
    """

    def __init__(self) -> None:
        self._cohorts: dict[tuple[str, str], _Cohort] = {}
        self._stopped: set[str] = set()

    def may_upgrade(self, store: str) -> bool:
        """Tell whether a store's values may still be rewritten at logins."""
        return store not in self._stopped

    def note(self, store: str, cohort: str, *, admitted: bool) -> str:
        """Count a login; give what to tell the operator where it stops the store's upgrades."""
        found = self._cohorts.setdefault((store, cohort), _Cohort())
        if found.earlier < EARLIER_LOGINS:
            found.earlier += 1
            found.earlier_admitted += admitted
            return ""
        found.recent.append(admitted)
        if store in self._stopped or len(found.recent) < RECENT_LOGINS:
            return ""
        before = found.earlier_admitted / found.earlier
        now = sum(found.recent) / len(found.recent)
        # The standard error of the difference of two shares.
        spread = sqrt(max(before * (1 - before), 0.01) * (1 / found.earlier + 1 / RECENT_LOGINS))
        if before - now < _DEVIATIONS * spread:
            return ""
        self._stopped.add(store)
        return (
            f"of the last {RECENT_LOGINS} logins to {cohort}, {now:.0%} were admitted, and "
            f"{before:.0%} before: upgrades of this store are stopped until the policy is read "
            "anew; logins go on"
        )
