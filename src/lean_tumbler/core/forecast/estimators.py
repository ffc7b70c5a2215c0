"""How many accounts stay away for how long: simple estimators, of which the past chooses one.

A life table counts, by how many weeks accounts had been away, how many could have returned in a
week and how many did. By weeks it is the estimator of Kaplan and Meier (“Nonparametric Estimation
from Incomplete Observations”, JASA 53, 1958): gaps that are still open are censored, and accounts
from before the log enter late.
"""

from collections.abc import Callable

import numpy as np
from msgspec import Struct

from lean_tumbler.core.forecast.intervals import TAIL_POWER, Numbers
from lean_tumbler.core.forecast.return_table import BEFORE, ReturnTable, Waiting

LAST_YEAR_WEEKS = 52
# Chances are told for as many weeks away as this, and are level between.
_WEEKS_AWAY = (0, 1, 2, 3, 4, 6, 8, 12, 16, 24, 32, 48, 64, 96, 128)
# What a thin class is taken to have seen besides, at the chance that it leans on: account weeks.
_LEANS_ON = 50.0
_MOST = 1 - 1e-9


class Estimator(Struct, frozen=True, kw_only=True):
    """A way to estimate."""

    name: str  # in words
    # from a table, a week, how many weeks ahead and the accounts that wait then, how many have not
    # returned after 0, 1, … weeks. It looks at no later week.
    away: Callable[[ReturnTable, int, int, Waiting], Numbers]


def life_table(table: ReturnTable, week: int, ahead: int, waiting: Waiting) -> Numbers:
    """Estimate by a life table of the last year, for each kind of accounts by itself."""
    returned, at_risk = table.counted(week, LAST_YEAR_WEEKS)
    chance = _chances(returned, at_risk, longest=table.weeks + ahead + 1)
    return _left(waiting, chance, week=week, ahead=ahead)


def baseline(table: ReturnTable, week: int, ahead: int, waiting: Waiting) -> Numbers:
    """Take the share that was not seen in as many weeks before; nothing is estimated."""
    last_seen = table.waiting(week).counts.sum(axis=0)
    not_seen = np.cumsum(last_seen)[np.clip(week - np.arange(ahead + 1), BEFORE, None)]
    share: Numbers = not_seen / max(1.0, float(last_seen.sum()))
    return waiting.total * share


def _mean(table: ReturnTable, week: int, ahead: int, waiting: Waiting) -> Numbers:
    away = (each(table, week, ahead, waiting) for each in (life_table, baseline))
    found: Numbers = sum(away, np.zeros(ahead + 1)) / 2
    return found


LIFE_TABLE = Estimator(name="a life table by number of visits", away=life_table)
BASELINE = Estimator(name="the plain baseline", away=baseline)
# A short log lacks rare visitors, so that the first says too little and the second too much; what
# both say is nearer (Bates and Granger, “The Combination of Forecasts”, OR Quarterly 20, 1969).
MEAN = Estimator(name="a life table and the plain baseline, their mean", away=_mean)
SHORT_WEEKS = 26


def _chances(returned: Numbers, at_risk: Numbers, *, longest: int) -> Numbers:
    """Give the chance of a return in the next week, by kind and weeks away.

    Thin classes lean on all kinds together; these, where they are thin, on the tail.
    """
    seen = returned.shape[1]
    first_late = 2 * seen // 3
    late, late_at_risk = (each[:, first_late:].sum(axis=1) for each in (returned, at_risk))
    level = late.sum() / max(1.0, late_at_risk.sum())
    fall = _fall(np.arange(longest, dtype=np.float64) + 0.5, (first_late + seen) / 2)
    edges = [edge for edge in _WEEKS_AWAY if edge < seen]
    returned, at_risk = (np.add.reduceat(each, edges, axis=1) for each in (returned, at_risk))
    tail = np.minimum(1.0, level * fall[edges])
    pooled = _leaning(returned.sum(axis=0), at_risk.sum(axis=0), tail)
    own = _leaning(returned, at_risk, pooled)
    which = np.searchsorted(edges, np.arange(longest), side="right") - 1
    later = _leaning(late, late_at_risk, np.full(len(late), level))[:, None] * fall
    chance: Numbers = np.where(np.arange(longest) < seen, own[:, which], later)
    return np.clip(chance, 0.0, _MOST)


def _fall(weeks: Numbers, middle: float) -> Numbers:
    found: Numbers = (middle / weeks) ** TAIL_POWER
    return found


def _leaning(returned: Numbers, at_risk: Numbers, on: Numbers) -> Numbers:
    found: Numbers = (returned + _LEANS_ON * on) / (at_risk + _LEANS_ON)
    return found


def _left(waiting: Waiting, chance: Numbers, *, week: int, ahead: int) -> Numbers:
    """Give how many of the accounts have not returned after 0, 1, … weeks."""
    stays = np.concatenate(
        [np.zeros((len(chance), 1)), np.cumsum(np.log1p(-chance), axis=1)], axis=1
    )
    away = np.clip(week - np.arange(waiting.counts.shape[1]), 0, None)
    later = away[:, None] + np.arange(ahead + 1)
    share = np.exp(stays[:, later] - stays[:, away][:, :, None])
    found: Numbers = np.einsum("ks,ksa->a", waiting.counts, share)
    return found
