"""Several formulas behind one column: the fewest that explain all known accounts."""

from collections.abc import Callable, Sequence

from msgspec import Struct

from lean_tumbler.core.formulas.search_space import Constants
from lean_tumbler.core.formulas.solutions import Narrowed, Solution, SolvedAccount
from lean_tumbler.core.formulas.solver import Solver

_FIRST_SHARE = 0.8  # of the time, for the first account that leads
_OTHERS_SECONDS = 5.0  # for each other, once nothing was found for one


class Generation(Struct, frozen=True):
    """Formulas that explain the same accounts."""

    formulas: tuple[str, ...]  # canonical texts, the plausible first
    explained: tuple[int, ...]  # the accounts' places in the list


class Generations(Struct, frozen=True, kw_only=True):
    """What a search for several formulas found."""

    found: tuple[Generation, ...]  # those that explain most come first
    tried: int  # digests that were computed
    seconds: float  # how long all searches took
    exhausted: bool  # whether each searched the whole space
    reached: str  # the last stage that the first search began, in words


def solve_generations(
    accounts: Sequence[SolvedAccount],  # of any number of formulas
    *,
    constants: Constants,  # that may go in
    narrowed: Narrowed,  # what a hint leaves of the space
    budget_seconds: float,  # for all searches together
    clock: Callable[[], float],  # seconds that pass
    progress: Callable[[int], None],  # told how many candidates were tried since the last time
) -> Generations:
    """Search until each account is explained, or nothing more is found.

    One account leads each search, and the formula that explains the most others with it is a
    generation; those that are left are searched again.
    """
    started = clock()
    deadline = started + budget_seconds
    left = list(range(len(accounts)))
    found: list[Generation] = []
    is_unexplained = False
    searches: list[Solution] = []
    while left and clock() < deadline:
        seconds_left = deadline - clock()
        share = _OTHERS_SECONDS if is_unexplained else _FIRST_SHARE * seconds_left
        searches.append(
            Solver(
                [accounts[place] for place in left],
                constants=constants,
                narrowed=narrowed,
                budget_seconds=min(share, seconds_left),
                clock=clock,
                progress=progress,
                several=True,
            ).solve()
        )
        explained = searches[-1].best
        if not explained:
            is_unexplained = True
            del left[searches[-1].led_by]
            continue
        formulas, places = explained
        found.append(Generation(formulas, tuple(left[place] for place in places)))
        left = [place for number, place in enumerate(left) if number not in places]
    return Generations(
        found=tuple(sorted(found, key=lambda each: -len(each.explained))),
        tried=sum(search.tried for search in searches),
        seconds=clock() - started,
        exhausted=all(search.exhausted for search in searches),
        reached=searches[0].reached if searches else "",
    )
