"""What checks the logins of one store, as data: what all languages write out, each in its own way.

It holds what this store's cohorts need, what its column held when it was made, and the target.
`interpreting` reads rows by it; what it reads must be what `RowReader` reads.
"""

from collections.abc import Iterable, Iterator, Mapping
from datetime import date

from msgspec import Struct

from lean_tumbler.core.formulas.named import NamedFormula
from lean_tumbler.core.formulas.output import OutputShape
from lean_tumbler.core.limits import Limits
from lean_tumbler.core.login.new_passwords import NewPasswords
from lean_tumbler.core.policy import Target
from lean_tumbler.core.reading.conditions import Condition
from lean_tumbler.core.reading.layouts import ValueLayout
from lean_tumbler.core.schemes.base import Parameters
from lean_tumbler.core.schemes.catalogue import CRYPT_SCHEMES, DERIVATIONS
from lean_tumbler.core.schemes.layered import most_named


class FormulaForm(Struct, frozen=True, kw_only=True):
    """One formula that the check can compute."""

    named: NamedFormula
    # itself and the alternatives that may stand beside it, by key; empty where there are none
    beside: tuple[str, ...] = ()
    # those of them that mind no letter case, of which nothing tells that people mind it
    folds: tuple[str, ...] = ()
    # parts that it takes as numbers -> the most that the limits allow
    numbers: Mapping[str, int]

    @property
    def key(self) -> str:
        """What layered values call it."""
        return self.named.fingerprint

    @property
    def output(self) -> OutputShape:
        """What it prints."""
        return self.named.output


class CohortForm(Struct, frozen=True, kw_only=True):
    """One cohort of the policy."""

    name: str
    identity: str  # for evidence
    condition: Condition | None = None
    formulas: tuple[str, ...] = ()  # its alternatives, by key
    layout: ValueLayout | None = None
    then: str = ""  # the slow scheme that the formula's result went into
    scheme: str = ""  # of bare values
    is_plain: bool = False


class KindOfWork(Struct, frozen=True, order=True):
    """One kind of work that checks of this store's rows ask for."""

    scheme: str  # that is run
    costs: tuple[int, ...]  # in the order of the scheme's parameters; empty for what has none
    times: int = 1  # how often a row asks for it

    @classmethod
    def of(cls, scheme: str, parameters: Parameters, times: int) -> "KindOfWork":
        """Give a kind by a scheme's costs; of what is no derivation, the first is its cost."""
        if scheme in DERIVATIONS:
            names = [entry.name for entry in DERIVATIONS[scheme].parameters]
            return cls(scheme, tuple(parameters[name] for name in names), times)
        return cls(scheme, tuple(parameters.values())[:1], times)

    @classmethod
    def most(cls, kinds: "Iterable[KindOfWork]") -> "Iterator[KindOfWork]":
        """Give of kinds that differ in how often alone the one that is done most."""
        most: dict[tuple[str, tuple[int, ...]], int] = {}
        for kind in kinds:
            name = kind.scheme, kind.costs
            most[name] = max(most.get(name, 0), kind.times)
        yield from (cls(scheme, costs, times) for (scheme, costs), times in most.items())

    @property
    def name(self) -> str:
        """What files call it, however often it is done."""
        return f"{self.scheme}:{','.join(map(str, self.costs))}"

    @property
    def parameters(self) -> Parameters:
        """The costs by name."""
        if self.scheme in DERIVATIONS:
            names = [entry.name for entry in DERIVATIONS[self.scheme].parameters]
        else:
            names = ["rounds"][: len(self.costs)]
        return dict(zip(names, self.costs, strict=True))


class Holds(Struct, frozen=True, kw_only=True):
    """What a column held that the policy does not name; it stands in the head of the file."""

    direct: frozenset[str] = frozenset()  # slow schemes that stand by themselves
    on_top: frozenset[str] = frozenset()  # slow schemes that lie over digests
    origins: frozenset[str] = frozenset()  # what layered heads name
    layouts: frozenset[str] = frozenset()  # names in `OWN_LAYOUTS` of fast values
    keyed: bool = False
    is_finished: bool = False  # whether nothing but values of the target was there
    work: tuple[KindOfWork, ...] = ()


class StoreCheck(Struct, frozen=True, kw_only=True):
    """All that decides a login of one store."""

    store: str
    target: Target
    limits: Limits
    rules: NewPasswords
    observes: bool  # whether nothing is ever written
    readers_ready: date | None
    share: float
    replace_lossy: bool
    has_salts: bool
    parts: Mapping[str, str]  # further inputs of formulas -> the table's own names
    cohorts: tuple[CohortForm, ...]
    formulas: tuple[FormulaForm, ...]
    holds: Holds
    keys: tuple[str, ...]  # that it may need, by name

    @property
    def is_keyed(self) -> bool:
        """Whether it opens keyed values."""
        return self.holds.keyed or bool(self.target.keyed_by)

    @property
    def direct(self) -> tuple[str, ...]:
        """The slow schemes whose values it reads, the target's among them."""
        asked = self.holds.direct | {self.target.scheme} | {c.then for c in self.cohorts}
        return tuple(name for name in (*DERIVATIONS, *CRYPT_SCHEMES) if name in asked)

    @property
    def on_top(self) -> tuple[str, ...]:
        """The slow schemes that may lie over a digest."""
        over = self.target.over_digests
        asked = self.holds.on_top | ({over.scheme} if over and self.has_digests else set())
        return tuple(name for name in DERIVATIONS if name in asked)

    @property
    def computed(self) -> tuple[str, ...]:
        """All slow schemes that it runs: alone, over a digest, or below a layer."""
        asked = {*self.direct, *self.on_top, *self.below}
        return tuple(name for name in (*DERIVATIONS, *CRYPT_SCHEMES) if name in asked)

    @property
    def has_digests(self) -> bool:
        """Whether the store has values that something may be laid over."""
        of_cohorts = any(not cohort.is_plain and not cohort.then for cohort in self.cohorts)
        return of_cohorts or bool(self.holds.direct or self.holds.layouts)

    @property
    def work(self) -> tuple[KindOfWork, ...]:
        """The kinds of work that rows ask for: those of the column, and what will be written.

        A layered value asks for a derivation for each formula that its head names, so that one
        which a bulk step is still to write costs no more than a refusal does now.
        """
        target, over = self.target, self.target.over_digests
        own = [KindOfWork.of(target.scheme, target.parameters, 1)]
        if over is not None and self.on_top:
            own.append(KindOfWork.of(over.scheme, over.parameters, self._most_formulas))
        return tuple(KindOfWork.most((*self.holds.work, *own)))

    @property
    def _most_formulas(self) -> int:
        """How many formulas one head may name."""
        return max(
            1,
            most_named(
                (len(cohort.formulas), cohort.condition is None and cohort.layout is None)
                for cohort in self.cohorts
            ),
        )

    @property
    def below(self) -> tuple[str, ...]:
        """The schemes, not formulas, that may stand below a layer."""
        bare = {cohort.scheme for cohort in self.cohorts if cohort.scheme}
        asked = bare | (self.holds.origins & {*CRYPT_SCHEMES, *DERIVATIONS})
        if self.on_top:  # a bulk step may put any of them there
            asked |= self.holds.direct
        return tuple(name for name in (*CRYPT_SCHEMES, *DERIVATIONS) if name in asked)
