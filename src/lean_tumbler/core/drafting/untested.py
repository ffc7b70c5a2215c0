"""What known passwords do not test, and the cohorts that are declared beside until they do."""

from collections.abc import Iterator, Sequence
from dataclasses import replace

from lean_tumbler.core.drafting.cohorts import DraftedCohort
from lean_tumbler.core.drafting.explanations import Explanation, KnownRow, Trial

# Old programs that wrote no UTF-8 wrote Windows-1252, of which Latin-1 is the printable part.
_OTHER_ENCODINGS = {
    "utf-8": ("windows-1252",),
    "latin-1": ("windows-1252", "utf-8"),
    "windows-1252": ("utf-8",),
}
_ENCODING = (
    "no known password{where} has a letter beyond ASCII, so a login tries both encodings; one such "
    "account tells which it is"
)
_CAPITALS = (
    "no known password has a capital letter, so the old program may have ignored letter case"
)


def with_untested(
    cohort: DraftedCohort, known: Sequence[KnownRow], trial: Trial
) -> Iterator[DraftedCohort]:
    """Give a cohort with what its accounts do not test, and the one in another encoding beside it.

    Args:
        cohort: as known accounts prove it.
        known: those of its class.
        trial: tries the other encoding.
    """
    explanation = cohort.explanation
    if not explanation.formula:
        yield cohort
        return
    opened = trial.opened(explanation, known)
    accounts = [account for account in known if account.line in opened]
    unsure = list(cohort.unsure)
    if all(account.password == account.password.lower() for account in accounts):
        unsure.append(_CAPITALS)
    twins = []
    for other in _in_other_encodings(explanation):
        found = _untested_rows(other, accounts, trial, cohort.condition)
        if found is not None:
            where = f" of rows with {found}" if found else ""
            unsure.append(_ENCODING.format(where=where))
            condition = " and ".join(filter(None, (cohort.condition, found)))
            twins.append(_twin(cohort, other, condition))
    also = () if twins else cohort.also
    yield replace(cohort, unsure=tuple(dict.fromkeys(unsure)), also=also)
    yield from twins


def _twin(cohort: DraftedCohort, other: Explanation, condition: str) -> DraftedCohort:
    formula = cohort.explanation.formula
    return replace(
        cohort,
        explanation=other,
        condition=condition,
        twin_of=formula,
        notes=(),
        unsure=(),
        also=(),
    )


_SIDES = {True: "salt present", False: "salt empty"}


def _untested_rows(
    other: Explanation, accounts: Sequence[KnownRow], trial: Trial, condition: str
) -> str | None:
    """Say of which rows the accounts do not test the encoding; empty for all, None for none.

    A formula with an empty salt may be that of another program, which took no salt: so accounts
    with a salt say nothing of those without, and the other way round.
    """
    opened = trial.opened(other, accounts)
    untested = {
        side: all(a.line in opened for a in accounts if bool(a.row.salt) is side)
        for side in {bool(account.row.salt) for account in accounts}
    }
    tests = [_SIDES[side] for side, is_untested in untested.items() if is_untested]
    if len(tests) == len(untested):
        return ""
    if any(test in condition for test in _SIDES.values()):
        return "" if any(test in condition for test in tests) else None
    return tests[0] if tests else None


def _in_other_encodings(explanation: Explanation) -> Iterator[Explanation]:
    """Give the explanation in the encodings that old programs used beside."""
    words = explanation.formula.split(", ")
    for place, word in enumerate(words):
        if word in _OTHER_ENCODINGS:
            for other in _OTHER_ENCODINGS[word]:
                changed = [*words[:place], other, *words[place + 1 :]]
                yield replace(explanation, formula=", ".join(changed))
            return
