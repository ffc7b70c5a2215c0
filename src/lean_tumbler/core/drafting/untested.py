"""What known passwords do not test: letter case, blanks and the encoding of old programs."""

from collections.abc import Sequence

from msgspec.structs import replace

from lean_tumbler.core.drafting.class_cohorts import DraftedCohort
from lean_tumbler.core.drafting.explanations import Explanation, KnownRow, Trial
from lean_tumbler.core.formulas import notation
from lean_tumbler.core.formulas.alternatives import Untested, alternatives
from lean_tumbler.core.formulas.named import NamedFormula
from lean_tumbler.core.policy.cohort_tables import split_then


def with_untested(cohort: DraftedCohort, known: Sequence[KnownRow], trial: Trial) -> DraftedCohort:
    """Give a cohort with what its accounts do not test.

    An alternative is tested where an account would not open by it. Accounts with a salt say nothing
    of those without, because a formula with an empty salt may be another program's.

    Args:
        cohort: as known accounts prove it.
        known: those of its class.
        trial: tries the alternatives.
    """
    explanation = cohort.explanation
    before, then = split_then(explanation.formula)
    if not before or then:
        return cohort
    opened = trial.opened(explanation, known)
    sides = [
        [account for account in known if account.line in opened and bool(account.row.salt) is side]
        for side in (True, False)
    ]
    named = NamedFormula("drafted", notation.parse(before))
    untested = tuple(
        each
        for each in Untested
        if any(_is_open(each, named, explanation, side, trial) for side in sides if side)
    )
    return replace(cohort, untested=untested)


def _is_open(
    what: Untested,
    named: NamedFormula,
    explanation: Explanation,
    accounts: Sequence[KnownRow],
    trial: Trial,
) -> bool:
    """Tell whether all accounts open by an alternative as well."""
    others = alternatives(named, frozenset({what}))[1:]
    lines = {account.line for account in accounts}
    return any(
        trial.opened(replace(explanation, formula=each.formula.text), accounts) >= lines
        for each in others
    )
