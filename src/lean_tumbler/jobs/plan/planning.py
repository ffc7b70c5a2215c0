"""What a bulk run would do to a store, what it needs first, and what it would touch."""

from collections.abc import Mapping, Sequence

from msgspec import Struct

from lean_tumbler.core.policy import StoragePolicy, StorePolicy
from lean_tumbler.core.tuning.attacker import CONSUMER_GPU_2022, guesses_per_second
from lean_tumbler.core.warrant import Warrant
from lean_tumbler.migration.bulk.context import RunContext
from lean_tumbler.migration.bulk.layering import Selection, Workers, layer_store
from lean_tumbler.migration.bulk.summary import LayeringSummary
from lean_tumbler.stores.interface import HasSchema, Store
from lean_tumbler.stores.sql.column_move import ColumnMove
from lean_tumbler.stores.sql.server import SchemaChange
from lean_tumbler.stores.sql.surroundings import Surroundings


class ProgramReads(Struct, frozen=True, kw_only=True):
    """What one program of `verified_by` reads, from now to the end."""

    program: str
    now: list[str]  # cohorts whose values it verifies as they stand
    layered: bool  # whether it reads what is layered meanwhile


class Plan(Struct, frozen=True, kw_only=True):
    """The plan of one store."""

    name: str  # the store's name in the policy
    table: str  # its table
    target: str  # what values would be written with
    summary: LayeringSummary  # what bulk layering would do, and what it would leave
    # cohort -> an attacker's guesses a second now; None where it can be read
    guesses: Mapping[str, float | None]
    guesses_after: float | None  # the same at the target
    # the schema change that the column needs first; None where it has room
    change: SchemaChange | None
    needed: int  # characters of the longest value
    keyed_by: str  # the key of new values; empty for none
    # how far values have moved to another column; None where they stay in theirs
    move: ColumnMove | None
    around: Surroundings  # what the change would touch
    readers: Sequence[ProgramReads]  # what the programs of `verified_by` read


def plan_store(
    store: Store,
    *,
    store_policy: StorePolicy,
    policy: StoragePolicy,
    context: RunContext,
    workers: Workers,
    warrant: Warrant,
) -> Plan:
    """Make the plan of a store; it is only read.

    Raises:
        UsageError: the store cannot be layered in bulk.
        PolicyError: a formula that stored values refer to is missing.
        SourceError: the store cannot be read.
    """
    summary = layer_store(
        store,
        store_policy=store_policy,
        policy=policy,
        context=context,
        workers=workers,
        warrant=warrant,
        selection=Selection(dry_run=True),
    )
    return Plan(
        name=store_policy.name,
        table=store.table,
        target=str(policy.target),
        summary=summary,
        guesses={
            cohort: guesses_per_second(cohort, row.costs, CONSUMER_GPU_2022, formula=row.formula)
            for cohort, row in summary.examples.items()
        },
        guesses_after=guesses_per_second(
            policy.target.scheme, policy.target.parameters, CONSUMER_GPU_2022
        ),
        change=store.schema_change(needed=warrant.needed) if isinstance(store, HasSchema) else None,
        needed=warrant.needed,
        keyed_by=policy.target.keyed_by,
        move=store.column_move() if isinstance(store, HasSchema) else None,
        around=store.surroundings() if isinstance(store, HasSchema) else Surroundings(),
        readers=_readers(policy, [*summary.cohorts, *summary.labels_left]),
    )


def _readers(policy: StoragePolicy, cohorts: Sequence[str]) -> list[ProgramReads]:
    over = policy.target.over_digests
    return [
        ProgramReads(
            program=str(program),
            now=[name for name in dict.fromkeys(cohorts) if program.verifies(name) is not None],
            layered=over is None,
        )
        for program in policy.target.verified_by
    ]
