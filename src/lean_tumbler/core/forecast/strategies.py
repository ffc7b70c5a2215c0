"""What can be done about accounts that wait: the burn-down of each strategy, and which to take."""

from collections.abc import Mapping

from msgspec import Struct

from lean_tumbler.core.forecast.intervals import NOTHING, Interval
from lean_tumbler.core.forecast.waiting import HORIZONS, Forecast

_LAST = HORIZONS[-1]


class Strategy(Struct, frozen=True, kw_only=True):
    """One way to the end."""

    name: str  # in words
    weak: Mapping[int, Interval]  # accounts below the floor, by days from now
    layered: Mapping[int, Interval]  # accounts that are layered, by days from now
    locked: int = 0  # accounts that are locked on the way
    bulk_hours: float = 0.0  # of one core, for derivations in bulk
    login_hours: float = 0.0  # of one core, for derivations at logins until the last day told


class Advice(Struct, frozen=True, kw_only=True):
    """Which strategy, and why."""

    take: str
    reasons: tuple[str, ...]


_DORMANT = (
    "{dormant} layered accounts will not have returned in {days} days; count them then before "
    "`lock-dormant` closes them, or let them stay"
)
_WAITING = "waiting alone leaves {left} of {accounts:,} accounts below the floor in {days} days"
WAIT = "wait for logins"
LAYER = "layer now"
LAYER_AND_LOCK = "layer now, lock"


def strategies(
    weak: Forecast,  # accounts below the floor
    layered: Forecast,  # accounts that are layered already
    *,
    left: int,  # of the weak, how many a bulk run would leave as they are
    seconds_each: float,  # of one core, for one derivation
    lock_after_days: int,  # when the third locks who has not returned
) -> tuple[Strategy, ...]:
    """Work out each strategy."""
    total = max(1, weak.accounts)
    stays = min(1.0, left / total)
    remaining = {day: interval.scaled(stays) for day, interval in weak.days.items()}
    over = {
        day: interval.scaled(1 - stays) + layered.days[day] for day, interval in weak.days.items()
    }
    bulk = (weak.accounts - left) * seconds_each / 3600
    at_login = (weak.accounts - weak.at(_LAST).expected) * seconds_each / 3600
    dormant = weak.at(lock_after_days).scaled(1 - stays) + layered.at(lock_after_days)
    return (
        Strategy(name=WAIT, weak=weak.days, layered=layered.days, login_hours=at_login),
        Strategy(name=LAYER, weak=remaining, layered=over, bulk_hours=bulk, login_hours=at_login),
        Strategy(
            name=f"{LAYER_AND_LOCK} at day {lock_after_days}",
            weak=remaining,
            layered={
                day: interval if day < lock_after_days else NOTHING
                for day, interval in over.items()
            },
            locked=round(dormant.expected),
            bulk_hours=bulk,
            login_hours=at_login,
        ),
    )


def _about(interval: Interval, accounts: int) -> str:
    """Say how many are left: at most the upper end, as hoping for too much costs more."""
    most = interval.at_most(accounts)
    if interval.is_drawn:
        return f"up to {most:,.0f} (about {interval.expected:,.0f})"
    return f"about {interval.expected:,.0f}, without an interval,"


def advice(weak: Forecast, layered: Forecast, *, left: int, lock_after_days: int) -> Advice:
    """Say which strategy to take.

    Args:
        weak: accounts below the floor.
        layered: accounts that are layered already.
        left: of the weak, how many a bulk run would leave as they are.
        lock_after_days: when who has not returned could be locked.
    """
    if not weak.accounts:
        if not layered.accounts:
            return Advice(take="nothing is left to do", reasons=())
        dormant = _about(layered.at(lock_after_days), layered.accounts)
        return Advice(
            take="go on; logins take the layers off",
            reasons=(
                "no account is below the floor: what leaks now holds no weak value",
                _DORMANT.format(dormant=dormant, days=lock_after_days),
            ),
        )
    waiting = weak.at(_LAST)
    if weak.withheld:
        reasons = [f"there is no forecast: {weak.withheld}"]
    else:
        left_over = _about(waiting, weak.accounts)
        reasons = [_WAITING.format(left=left_over, accounts=weak.accounts, days=_LAST)]
    if left:
        reasons.append(f"a bulk run leaves {left:,} rows as they are: `plan` lists them above")
    if left >= weak.accounts:
        return Advice(take=WAIT, reasons=(*reasons, "none of them can be layered as they are"))
    if waiting.at_most(weak.accounts) < 1:
        return Advice(take=WAIT, reasons=tuple(reasons))
    protected = f"the other {weak.accounts - left:,}" if left else "all of them"
    reasons.append(f"a bulk run protects {protected} tonight, whether they return or not")
    take = f"{LAYER}; {left:,} accounts are left for later" if left else LAYER
    return Advice(take=take, reasons=tuple(reasons))
