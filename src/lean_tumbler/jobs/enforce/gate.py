"""The gate: has anything weak appeared since the state that was accepted?

Weak is what stands below the floor, what nobody understands, and what something stands around.
"""

import io
from collections.abc import Iterator
from pathlib import Path

import polars as pl

from lean_tumbler.core.grades import BELOW_FLOOR, Grade
from lean_tumbler.core.policy import StorePolicy
from lean_tumbler.errors import UsageError
from lean_tumbler.jobs.enforce.enforce_report import Appeared, GatedStore
from lean_tumbler.stores.file_access import file_errors, write_bytes
from lean_tumbler.stores.scans.profiling import NO_GRADED_ROWS, AuditContext, graded_rows

ACCOUNTS_NAMED = 10
_WEAK = [str(grade) for grade in (*BELOW_FLOOR, Grade.UNKNOWN)]  # not understood is not fine
_SCHEMA = {"store": pl.String, "account": pl.String, "weak": pl.Boolean}


def read_state(path: Path) -> pl.DataFrame:
    """Read an accepted state; one that is not there yet has no rows.

    Raises:
        UsageError: the file is no state of a gate.
        SourceError: it cannot be read.
    """
    if not path.exists():
        return pl.DataFrame(schema=_SCHEMA)
    try:
        with file_errors(path):
            state = pl.read_parquet(path)
    except pl.exceptions.PolarsError:
        raise UsageError(f"{path}: not a state file of `enforce gate`") from None
    if state.schema != pl.Schema(_SCHEMA):
        raise UsageError(f"{path}: not a state file of `enforce gate`")
    return state


def write_state(path: Path, state: pl.DataFrame) -> None:
    """Write a state, in one step.

    Raises:
        SourceError: it cannot be written.
    """
    buffer = io.BytesIO()
    state.sort("store", "account").write_parquet(buffer)
    write_bytes(path, buffer.getvalue())


def pass_gate(
    store: StorePolicy,  # of the policy
    *,
    base: Path,  # the folder that a relative locator starts from
    context: AuditContext,  # the floor
    state: pl.DataFrame,  # what was accepted, of all stores
    accept: bool = False,  # whether all that is weak now is accepted
) -> tuple[GatedStore, pl.DataFrame]:
    """Compare a store with what was accepted of it.

    Returns:
        What was seen, and the store's part of the next state: of accounts that appeared, what was
        accepted before, so that the gate stays shut until they are mended or accepted.
    """
    rows = pl.concat(
        frame.select("account", "grade", "wrapped", "privileged", "created", "updated")
        for frame in (NO_GRADED_ROWS, *graded_rows(store, base=base, context=context))
    )
    rows = rows.with_columns(weak=pl.col("grade").is_in(_WEAK) | pl.col("wrapped"))
    before = state.filter(pl.col("store") == store.name).select("account", was="weak")
    joined = rows.join(before, on="account", how="left")
    first = before.is_empty()
    known = pl.lit(value=True) if first else pl.col("was").fill_null(value=False)
    regressions = joined.filter(pl.col("weak") & ~known)
    weak = int(rows["weak"].sum())
    seen = GatedStore(
        store=store.name,
        accounts=rows.height,
        below_floor=weak,
        accepted=weak - regressions.height,
        regressions=regressions.height,
        first_run=first,
        listed=list(_appeared(regressions)),
    )
    if accept:
        return seen, rows.select(pl.lit(store.name).alias("store"), "account", "weak")
    still = joined.filter(~(pl.col("weak") & ~known)).select("account", "weak")
    # Who went backwards is kept as it was; who is new stays unknown.
    backwards = regressions.filter(pl.col("was").is_not_null()).select(
        "account", weak=pl.lit(value=False)
    )
    return seen, pl.concat([still, backwards]).select(
        pl.lit(store.name).alias("store"), "account", "weak"
    )


def _appeared(rows: pl.DataFrame) -> Iterator[Appeared]:
    named = rows.sort("privileged", "account", descending=[True, False]).head(ACCOUNTS_NAMED)
    for row in named.iter_rows(named=True):
        yield Appeared(
            account=row["account"],
            grade=str(Grade(row["grade"])),
            wrapped=row["wrapped"],
            backwards=row["was"] is not None,
            created=row["created"] or "",
            updated=row["updated"] or "",
            administrator=row["privileged"],
        )
