"""What known passwords do not test, and the cohorts that are declared beside until they do."""

from collections.abc import Iterator, Sequence
from dataclasses import replace

from lean_tumbler.core.drafting.cohorts import DraftedCohort
from lean_tumbler.core.drafting.explanations import Explanation, KnownRow, Trial

# Old programs that wrote no UTF-8 wrote Windows-1252, of which Latin-1 is the printable part.
_OTHER_ENCODING = {"utf-8": "windows-1252", "latin-1": "windows-1252"}
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
    passwords = [account.password for account in known if account.line in opened]
    unsure = []
    if all(password == password.lower() for password in passwords):
        unsure.append(_CAPITALS)
    other = _other_encoding(explanation)
    sides = _sides_untested(other, [a for a in known if a.line in opened], trial) if other else {}
    if other is None or not any(sides.values()):
        yield replace(cohort, unsure=(*cohort.unsure, *unsure))
        return
    test = "" if all(sides.values()) else _SIDES[next(side for side in sides if sides[side])]
    if test and _names_side(cohort.condition):
        if test not in cohort.condition:  # the other side's cohort has it
            yield replace(cohort, unsure=(*cohort.unsure, *unsure))
            return
        test = ""
    where = f" of rows with {test}" if test else ""
    unsure.append(_ENCODING.format(where=where))
    yield replace(cohort, unsure=(*cohort.unsure, *unsure), also=())
    condition = " and ".join(filter(None, (cohort.condition, test)))
    yield replace(
        cohort,
        explanation=other,
        condition=condition,
        twin_of=explanation.formula,
        notes=(),
        unsure=(),
    )


def _names_side(condition: str) -> bool:
    return any(test in condition for test in _SIDES.values())


_SIDES = {True: "salt present", False: "salt empty"}


def _sides_untested(
    other: Explanation, accounts: Sequence[KnownRow], trial: Trial
) -> dict[bool, bool]:
    """Tell for accounts with a salt, and for those without, whether the other encoding fits too.

    A formula with an empty salt may be that of another program, which took no salt.
    """
    opened = trial.opened(other, accounts)
    return {
        side: all(a.line in opened for a in accounts if bool(a.row.salt) is side)
        for side in {bool(account.row.salt) for account in accounts}
    }


def _other_encoding(explanation: Explanation) -> Explanation | None:
    """Give the explanation in the encoding that old programs used beside; None where it has one."""
    words = explanation.formula.split(", ")
    for place, word in enumerate(words):
        if word in _OTHER_ENCODING:
            other = [*words[:place], _OTHER_ENCODING[word], *words[place + 1 :]]
            return replace(explanation, formula=", ".join(other))
    return None
