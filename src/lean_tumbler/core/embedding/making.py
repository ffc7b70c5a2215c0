"""From a policy and what a column holds to the check that is written out."""

from collections.abc import Iterable, Set

from lean_tumbler.core.embedding.check import (
    CohortForm,
    FormulaForm,
    Holds,
    KindOfWork,
    StoreCheck,
)
from lean_tumbler.core.embedding.own_layouts import OWN_LAYOUTS, formulas_of, own_layout_of
from lean_tumbler.core.embedding.samples import filler_of
from lean_tumbler.core.formulas import analysis
from lean_tumbler.core.formulas.alternatives import alternatives
from lean_tumbler.core.formulas.named import NamedFormula, named_by_itself
from lean_tumbler.core.policy import StoragePolicy, StorePolicy
from lean_tumbler.core.reading.cohorts import Cohort, PlainText
from lean_tumbler.core.reading.evidence import StoreEvidence
from lean_tumbler.core.reading.layers import with_alternatives
from lean_tumbler.core.reading.readings import Reading, State
from lean_tumbler.core.reading.ways import CryptWay, DerivationWay
from lean_tumbler.core.schemes.base import Kind, ParsedValue
from lean_tumbler.core.schemes.catalogue import CRYPT_SCHEMES, own_formulas, read_value
from lean_tumbler.core.schemes.layered import origins_of
from lean_tumbler.errors import PolicyError

_MOST_NUMBER = 999_999_999  # nine digits
_MOST_KINDS_OF_WORK = 6


def made_check(
    policy: StoragePolicy, store: StorePolicy, holds: Holds, evidence: StoreEvidence
) -> StoreCheck:
    """Make the check of a store.

    Args:
        policy: target, limits, rules and keys.
        store: of the policy.
        holds: what its column held.
        evidence: which alternatives people have ruled out.

    Raises:
        PolicyError: the policy leaves open what logins write.
    """
    if not policy.target.declared:
        raise PolicyError(
            "[target] is missing: a file must say what it writes. Next: `lean-tumbler tune`"
        )
    used = set(holds.origins)
    for cohort in store.cohorts:
        used |= {each.formula.fingerprint for each in cohort.alternatives}
    for name in holds.layouts:
        used |= {named_by_itself(text).fingerprint for text in formulas_of(OWN_LAYOUTS[name])}
    declared = {**own_formulas(), **policy.formulas_by_fingerprint}
    known = with_alternatives(declared)
    forms = tuple(
        _formula_form(known[key], used, policy, evidence if key in declared else None)
        for key in sorted(used & known.keys())
    )
    return StoreCheck(
        store=store.name,
        target=policy.target,
        limits=policy.limits,
        rules=policy.new_passwords,
        observes=store.mode == "observe",
        readers_ready=store.readers_ready,
        share=store.share,
        replace_lossy=store.replace_lossy,
        has_salts=store.columns.salt is not None,
        parts=dict(store.parts),
        cohorts=tuple(map(_cohort_form, store.cohorts)),
        formulas=forms,
        holds=holds,
        keys=_keys(forms, policy, holds),
    )


def _formula_form(
    named: NamedFormula, used: Set[str], policy: StoragePolicy, evidence: StoreEvidence | None
) -> FormulaForm:
    """Describe a formula; one that the policy declares has evidence, and alternatives beside it."""
    beside = [
        each
        for each in (() if evidence is None else alternatives(named))
        if each.formula.fingerprint in used
    ]
    return FormulaForm(
        named=named,
        beside=tuple(each.formula.fingerprint for each in beside) if len(beside) > 1 else (),
        folds=tuple(
            each.formula.fingerprint
            for each in beside
            if each.spelling.folds_case
            and evidence is not None
            and not evidence.is_ruled_out(each.formula.fingerprint, each.main)
        ),
        numbers={name: _most(named, name, policy.limits.formula_work) for name in named.numbers},
    )


def _most(named: NamedFormula, name: str, limit: int) -> int:
    """Give the largest number of the row that a formula may take; 0 where none is within limits.

    Raises:
        ValueError: its work does not grow in proportion, or depends on another number too.
    """
    once, twice, thrice = (analysis.work(named.formula, {name: many}) for many in (1, 2, 3))
    each = twice - once
    if len(named.numbers) > 1 or thrice - twice != each:
        raise ValueError("a formula takes several numbers of the row")
    rest = limit - once
    return 0 if rest < 0 else min(_MOST_NUMBER, 1 + rest // each) if each else _MOST_NUMBER


def _cohort_form(cohort: Cohort) -> CohortForm:
    return CohortForm(
        name=cohort.name,
        identity=cohort.identity,
        condition=cohort.condition,
        formulas=tuple(each.formula.fingerprint for each in cohort.alternatives),
        layout=cohort.layout,
        then=cohort.then,
        scheme=cohort.scheme,
        is_plain=cohort.plain_text is not PlainText.NONE,
    )


def _keys(forms: Iterable[FormulaForm], policy: StoragePolicy, holds: Holds) -> tuple[str, ...]:
    names = {name for form in forms for name in analysis.keys_used(form.named.formula)}
    names |= {policy.target.keyed_by} - {""}
    if holds.keyed:
        names |= {name for name, source in policy.keys.items() if source.may_seal}
    return tuple(sorted(names))


class Looking:
    """Goes through the readings of a column, and gathers what it holds."""

    def __init__(self) -> None:
        self._direct: set[str] = set()
        self._on_top: set[str] = set()
        self._origins: set[str] = set()
        self._layouts: set[str] = set()
        self._keyed = False
        self._work: dict[KindOfWork, int] = {}
        self._legacy = 0

    def add(self, reading: Reading) -> None:
        """Take one row's reading in."""
        parsed = reading.parsed
        self._keyed = self._keyed or parsed.kind is Kind.KEYED or reading.keyed is not None
        if reading.state is State.LAYERED and parsed.inner is not None:
            self._on_top.add(parsed.inner.scheme)
            origins = origins_of(parsed.contents.origin)
            self._origins |= set(origins)
            self._count(parsed.inner, len({*origins}))
            self._count_below(reading)
            return
        if reading.state is not State.VALUE:
            return
        if is_direct(parsed):
            self._direct.add(parsed.scheme)
            self._count(parsed, 1)
            self._legacy += any(getattr(way, "before", None) for way in reading.ways)
            return
        self._legacy += 1
        own = own_layout_of(parsed, reading.text)
        if own is not None:
            self._layouts.add(own.name)

    def _count(self, parsed: ParsedValue, times: int) -> None:
        kind = KindOfWork.of(parsed.scheme, parsed.parameters, times)
        self._work[kind] = self._work.get(kind, 0) + 1

    def _count_below(self, reading: Reading) -> None:
        """Count the slow schemes that lie below a layer: each login of such a row runs them too."""
        for way in reading.ways:
            if isinstance(way, DerivationWay):
                self._count(way.parsed, 1)
            elif isinstance(way, CryptWay):
                below = read_value(way.setting + filler_of(way.scheme))
                if below.scheme == way.scheme and is_direct(below):
                    self._count(below, 1)

    @property
    def _is_finished(self) -> bool:
        """Tell whether stock functions check all that is there."""
        others = self._legacy or self._on_top or self._layouts or self._keyed
        return len(self._direct) == 1 and not others

    @property
    def found(self) -> Holds:
        """What was seen."""
        usual = sorted(self._work, key=lambda kind: -self._work[kind])
        return Holds(
            direct=frozenset(self._direct),
            on_top=frozenset(self._on_top),
            origins=frozenset(self._origins),
            layouts=frozenset(self._layouts),
            keyed=self._keyed,
            is_finished=self._is_finished,
            work=tuple(sorted(KindOfWork.most(usual[:_MOST_KINDS_OF_WORK]))),
        )


def is_direct(parsed: ParsedValue) -> bool:
    """Tell a value of a slow scheme in the layout that languages write and read."""
    if parsed.kind is Kind.DERIVATION:
        return parsed.layout == "PHC string" or parsed.scheme == "bcrypt"
    return parsed.scheme in CRYPT_SCHEMES and parsed.layout == "dollar fields"
