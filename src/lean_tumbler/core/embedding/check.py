"""What checks the logins of one store, as data: what all languages write out, each in its own way.

It holds what this store's cohorts need, what its column held when it was made, and the target.
`interpreting` reads rows by it; what it reads must be what `RowReader` reads.
"""

from collections.abc import Mapping
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

LONGEST_TEXT = 128  # characters of a password as text; a longer one is not told from other things
# What a person's text does not hold: a run in the alphabets of digests with a digit in it.
LEAST_RUN = 12


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
    layouts: frozenset[str] = frozenset()  # names in `SELF_DESCRIBING` of fast values
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
    def has_digests(self) -> bool:
        """Whether the store has values that something may be laid over."""
        of_cohorts = any(not cohort.is_plain and not cohort.then for cohort in self.cohorts)
        return of_cohorts or bool(self.holds.direct or self.holds.layouts)

    @property
    def below(self) -> tuple[str, ...]:
        """The schemes, not formulas, that may stand below a layer."""
        bare = {cohort.scheme for cohort in self.cohorts if cohort.scheme}
        asked = bare | (self.holds.origins & {*CRYPT_SCHEMES, *DERIVATIONS})
        if self.on_top:  # a bulk step may put any of them there
            asked |= self.holds.direct
        return tuple(name for name in (*CRYPT_SCHEMES, *DERIVATIONS) if name in asked)
