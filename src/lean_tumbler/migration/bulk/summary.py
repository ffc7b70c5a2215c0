"""What a bulk run did, row by row and in all.

`proofs` holds what is known of each cohort that needs proof; `hindrances` why nothing may be
written at all, in a dry run; `under` the rows by the key that they are under; `lapsed` why
earlier proof does not count; `accounts_left` a few of those that are left for each reason, and
`all_left` all of them where they are asked for.
"""

from collections import Counter

from msgspec import Struct, field

from lean_tumbler.core.reading.evidence import CohortKey
from lean_tumbler.core.reasons import Reason
from lean_tumbler.core.row_plans import RowPlan
from lean_tumbler.migration.bulk.deriving import Spread
from lean_tumbler.migration.bulk.strata import CohortProof
from lean_tumbler.stores.interface import AccountKey

# What a value that stays is, where a key may go over it.
_SEALABLE = frozenset(
    {Reason.LAYERED, Reason.CURRENT, Reason.REWRITTEN, Reason.LAYER_TOO_WEAK, Reason.PREPARED}
)
ROWS_LISTED = 20
ACCOUNTS_NAMED = 5  # of each reason


class LayeringSummary(Struct, kw_only=True):
    """What a run did, or a dry run would do."""

    workers: int
    key_label: str = "account"
    dry_run: bool = False
    considered: int = 0
    layered: int = 0
    replaced: int = 0
    moved: int = 0
    changed_meanwhile: int = 0
    failed: int = 0
    left: Counter[Reason] = field(default_factory=Counter)
    cohorts: Counter[str] = field(default_factory=Counter)
    under: Counter[str] = field(default_factory=Counter)
    hindrances: list[Reason] = field(default_factory=list)
    lapsed: str = ""
    proofs: dict[CohortKey, CohortProof] = field(default_factory=dict)
    suspected: Counter[str] = field(default_factory=Counter)
    left_of: dict[Reason, Counter[str]] = field(default_factory=dict)
    accounts_left: dict[Reason, list[AccountKey]] = field(default_factory=dict)
    lists_left: bool = False
    all_left: list[tuple[AccountKey, Reason, str]] = field(default_factory=list)
    examples: dict[str, RowPlan] = field(default_factory=dict)
    not_selected: int = 0
    listed: list[tuple[AccountKey, str]] = field(default_factory=list)
    seconds: float = 0.0
    hashing_seconds: float = 0.0
    expected: Spread | None = None
    stopped: bool = False
    copy: str = ""
    waited_seconds: float = 0.0

    @property
    def skipped(self) -> int:
        """Rows that were left as they are."""
        return sum(self.left.values())

    @property
    def unproven(self) -> dict[CohortKey, CohortProof]:
        """Cohorts that are left until they are proven."""
        return {key: proof for key, proof in self.proofs.items() if proof.missing is not None}

    @property
    def written(self) -> int:
        """Rows that were changed."""
        return self.layered + self.replaced + self.moved

    @property
    def labels_left(self) -> list[str]:
        """Name what the rows that were left are of."""
        return [label for labels in self.left_of.values() for label in labels]

    @property
    def keys(self) -> dict[str, int]:
        """Rows by the key that they are under, of those that are under one."""
        return {name: rows for name, rows in self.under.most_common() if name}

    def to_rekey(self, key: str) -> int:
        """Count the rows that `rekey` would put under a key: of others, and layered or current."""
        bare = sum(rows for reason, rows in self.left.items() if reason in _SEALABLE)
        kept = sum(rows for name, rows in self.keys.items() if name == key)
        return max(0, bare - kept) if key else sum(self.keys.values())

    @property
    def per_second(self) -> float:
        """Rows written a second."""
        return self.written / self.seconds if self.seconds else 0.0

    @property
    def hashing_time_share(self) -> float:
        """Of the workers' time, the part that derivations took."""
        return self.hashing_seconds / (self.seconds * self.workers) if self.seconds else 0.0

    def leave(self, key: AccountKey, reason: Reason, plan: RowPlan) -> None:
        """Count a row that stays, and list it where a person must look."""
        self.left[reason] += 1
        self.left_of.setdefault(reason, Counter())[plan.cohort] += 1
        if plan.suspected:
            self.suspected[plan.suspected] += 1
        named = self.accounts_left.setdefault(reason, [])
        if len(named) < ACCOUNTS_NAMED:
            named.append(key)
        if reason.is_settled:
            return
        self.list_row(key, reason)
        if self.lists_left:
            self.all_left.append((key, reason, plan.cohort))

    def list_row(self, key: AccountKey, reason: str) -> None:
        """Name a row in the summary, up to a bound."""
        if len(self.listed) < ROWS_LISTED:
            self.listed.append((key, reason))
