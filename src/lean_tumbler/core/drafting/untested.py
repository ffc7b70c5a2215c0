"""What known passwords do not test, and the cohorts that are declared beside until they do."""

from collections.abc import Iterator, Sequence
from dataclasses import replace

from lean_tumbler.core.drafting.cohorts import DraftedCohort
from lean_tumbler.core.drafting.explanations import Explanation, KnownRow, Trial

# Old programs that wrote no UTF-8 wrote Windows-1252, of which Latin-1 is the printable part.
_OTHER_ENCODING = {"utf-8": "windows-1252", "latin-1": "windows-1252"}
_ENCODING = (
    "no known password has a letter beyond ASCII, so a login tries both encodings; one such "
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
    is_open = other is not None and trial.opened(other, known) >= opened
    if other is None or not is_open:
        yield replace(cohort, unsure=(*cohort.unsure, *unsure))
        return
    cohort = replace(cohort, unsure=(*cohort.unsure, *unsure, _ENCODING), also=())
    yield cohort
    yield replace(cohort, explanation=other, twin_of=explanation.formula, notes=(), unsure=())


def _other_encoding(explanation: Explanation) -> Explanation | None:
    """Give the explanation in the encoding that old programs used beside; None where it has one."""
    words = explanation.formula.split(", ")
    for place, word in enumerate(words):
        if word in _OTHER_ENCODING:
            other = [*words[:place], _OTHER_ENCODING[word], *words[place + 1 :]]
            return replace(explanation, formula=", ".join(other))
    return None
