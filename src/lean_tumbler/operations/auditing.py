"""Auditing a source: one column of a mapping, or every column that holds credentials."""

from collections.abc import Callable, Sequence
from dataclasses import dataclass
from pathlib import Path

import sqlalchemy as sa

from lean_tumbler.core.audit.discovery import SAMPLE_ROWS, credential_columns
from lean_tumbler.core.audit.findings import Finding, findings
from lean_tumbler.core.audit.profile import Profiler
from lean_tumbler.core.audit.results import Profile
from lean_tumbler.core.grades import Floor
from lean_tumbler.core.policy import Columns, NamedFormula, StorePolicy
from lean_tumbler.errors import UsageError
from lean_tumbler.stores.interface import Store
from lean_tumbler.stores.locators import open_engine, open_store
from lean_tumbler.stores.sql import SqlStore, database_errors, tables_of

ROWS_PER_FRAME = 100_000


@dataclass(frozen=True, slots=True, kw_only=True)
class AuditedColumn:
    """One column's part of the report."""

    table: str
    column: str
    profile: Profile
    findings: list[Finding]


@dataclass(frozen=True, slots=True, kw_only=True)
class Audit:
    """A whole report."""

    source: str
    floor: Floor
    columns: list[AuditedColumn]


def audit_store(
    store: Store,
    *,
    floor: Floor,
    formulas: Sequence[NamedFormula] = (),
    progress: Callable[[int], None] = lambda _: None,
) -> AuditedColumn:
    """Audit one column.

    Args:
        store: where it is.
        floor: the least that counts as current.
        formulas: what the policy knows of its values.
        progress: told the number of rows after each frame.
    """
    profiler = Profiler(floor=floor, formulas=formulas)
    for frame in store.frames(rows_per_frame=ROWS_PER_FRAME):
        profiler.add(frame)
        progress(len(frame["stored"]))
    profile = profiler.finish()
    description = store.describe()
    return AuditedColumn(
        table=description.table,
        column=description.column,
        profile=profile,
        findings=findings(profile, floor),
    )


def audit_policy_store(
    store: StorePolicy,
    *,
    base: Path,
    floor: Floor,
    progress: Callable[[int], None] = lambda _: None,
) -> Audit:
    """Audit a store of the policy, with its formulas."""
    opened = open_store(store, base=base)
    column = audit_store(opened, floor=floor, formulas=store.formulas, progress=progress)
    return Audit(source=store.name, floor=floor, columns=[column])


def audit_source(
    locator: str,
    *,
    base: Path,
    floor: Floor,
    table: str | None = None,
    columns: Columns | None = None,
    progress: Callable[[int], None] = lambda _: None,
) -> Audit:
    """Audit a database; without a column, every column that holds credentials is found.

    Raises:
        UsageError: the table or column is not there, or no column holds credentials.
        SourceError: the database cannot be read.
    """
    engine, name = open_engine(locator, base=base)
    wanted = columns or Columns()
    places = [(table, wanted)] if table and wanted.stored else _discovered(engine, name, table)
    if wanted.stored and not table:
        places = [
            (found, wanted)
            for found, present in tables_of(engine, name).items()
            if wanted.stored in present
        ]
        if not places:
            raise UsageError(f"{name}: no table has a column “{wanted.stored}”")
    if not places:
        where = f"table {table} of {name}" if table else name
        raise UsageError(
            f"{where}: no column that holds credentials was found; name it with --column"
        )
    audited = [
        audit_store(
            SqlStore(engine, locator=name, table=place, columns=mapping),
            floor=floor,
            progress=progress,
        )
        for place, mapping in places
    ]
    return Audit(source=name, floor=floor, columns=audited)


def _discovered(engine: sa.Engine, name: str, only: str | None) -> list[tuple[str, Columns]]:
    tables = tables_of(engine, name)
    if only is not None and only not in tables:
        raise UsageError(f"{name} has no table “{only}”; it has: {', '.join(tables)}")
    found: list[tuple[str, Columns]] = []
    for table, columns in tables.items():
        if not columns or (only is not None and table != only):
            continue
        selected = sa.table(table, *(sa.column(column) for column in columns))
        with database_errors(name), engine.connect() as connection:
            rows = connection.execute(sa.select(selected).limit(SAMPLE_ROWS)).fetchall()
        sample = {column: [row[index] for row in rows] for index, column in enumerate(columns)}
        found.extend((place.table, place.columns) for place in credential_columns(table, sample))
    return found
