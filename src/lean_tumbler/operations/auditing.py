"""Auditing a source: one column of a mapping, or every column that holds credentials."""

from collections.abc import Callable, Iterator, Sequence
from contextlib import closing
from dataclasses import dataclass
from pathlib import Path

import polars as pl

from lean_tumbler.core.audit.discovery import SAMPLE_ROWS, credential_columns
from lean_tumbler.core.audit.findings import Finding, Place, findings
from lean_tumbler.core.audit.profile import Profiler
from lean_tumbler.core.audit.results import Profile
from lean_tumbler.core.grades import Floor
from lean_tumbler.core.policy import Columns, NamedFormula, StorePolicy
from lean_tumbler.errors import UsageError
from lean_tumbler.stores.naming import nearest, require_column
from lean_tumbler.stores.sources.base import LINE, Table, Unreadable
from lean_tumbler.stores.sources.opening import tables_at

Progress = Callable[[int], None]

_FALSE = ("", "0", "f", "n", "false", "no")


@dataclass(frozen=True, slots=True, kw_only=True)
class AuditedColumn:
    """One column's part of the report."""

    table: str
    column: str
    profile: Profile
    findings: list[Finding]
    unreadable: Unreadable


@dataclass(frozen=True, slots=True, kw_only=True)
class Audit:
    """A whole report."""

    source: str
    floor: Floor
    columns: list[AuditedColumn]

    @property
    def rows(self) -> int:
        """Rows of all tables; several columns of one table count once."""
        return sum({column.table: column.profile.rows for column in self.columns}.values())

    @property
    def unreadable(self) -> list[Unreadable]:
        """The rows that could not be read, once for each table."""
        return list({column.table: column.unreadable for column in self.columns}.values())

    @property
    def cut_off(self) -> bool:
        """Whether the source ends in the middle."""
        return any(column.unreadable.cut_off for column in self.columns)


def _ignore(_: int) -> None:
    """Tell nobody how far the audit is."""


def audit_column(
    table: Table,
    columns: Columns,
    *,
    floor: Floor,
    formulas: Sequence[NamedFormula] = (),
    beside: Sequence[str] = (),
    progress: Progress = _ignore,
) -> AuditedColumn:
    """Audit one column.

    Args:
        table: where it stands.
        columns: the table's own names for what is needed.
        floor: the least that counts as current.
        formulas: what the policy knows of its values.
        beside: other columns of the table that hold credentials.
        progress: told the number of rows after each frame.
    """
    unreadable = Unreadable()
    profiler = Profiler(floor=floor, formulas=formulas)
    for frame in _frames(table, columns, unreadable):
        profiler.add(frame)
        progress(frame.height)
    profile = profiler.finish()
    place = Place(table.name, columns.stored or "", tuple(beside))
    return AuditedColumn(
        table=table.name,
        column=columns.stored or "",
        profile=profile,
        findings=findings(profile, floor, place),
        unreadable=unreadable,
    )


def _frames(table: Table, columns: Columns, unreadable: Unreadable) -> Iterator[pl.DataFrame]:
    """Read a table's columns under the names that the profiler takes."""
    account = columns.account or columns.login
    named = {
        "stored": columns.stored,
        "salt": columns.salt,
        "login": columns.login,
        "privileged": columns.privileged,
    }
    wanted = sorted({name for name in (account, *named.values()) if name})
    missing = pl.lit(None, pl.String)
    place = pl.col(LINE).cast(pl.String)
    for frame in table.frames(wanted, unreadable):
        roles = {role: pl.col(name) if name else missing for role, name in named.items()}
        truth = roles["privileged"].str.to_lowercase().is_in(_FALSE).not_().fill_null(value=False)
        yield frame.select(
            account=pl.col(account).fill_null(place) if account else place,
            stored=roles["stored"],
            salt=roles["salt"],
            login=roles["login"],
            privileged=truth,
        )


def audit_policy_store(
    store: StorePolicy, *, base: Path, floor: Floor, progress: Progress = _ignore
) -> Audit:
    """Audit a store of the policy, with its formulas.

    Raises:
        UsageError: the table or a column is not there.
        SourceError: the store cannot be read.
    """
    name, tables = tables_at(store.locator, base=base)
    table = _table_named(store.table, tables, name)
    for column in filter(None, _mapped(store.columns)):
        require_column(column, table.columns, f"{name}, table {table.name}")
    audited = audit_column(
        table, store.columns, floor=floor, formulas=store.formulas, progress=progress
    )
    return Audit(source=store.name, floor=floor, columns=[audited])


def _mapped(columns: Columns) -> Iterator[str | None]:
    return (getattr(columns, role) for role in Columns.__dataclass_fields__)


def _table_named(wanted: str, tables: Sequence[Table], name: str) -> Table:
    found = {table.name: table for table in tables}
    if not wanted and len(tables) == 1:
        return tables[0]
    if wanted not in found:
        raise UsageError(f"{name} has no table “{wanted}”; {nearest(wanted, tuple(found))}")
    return found[wanted]


def audit_source(
    locator: str,
    *,
    base: Path,
    floor: Floor,
    table: str | None = None,
    columns: Columns | None = None,
    progress: Progress = _ignore,
) -> Audit:
    """Audit a source; without a column, every column that holds credentials is found.

    Raises:
        UsageError: the table or column is not there, or no column holds credentials.
        SourceError: the source cannot be read.
    """
    name, tables = tables_at(locator, base=base)
    wanted = columns or Columns()
    chosen = [_table_named(table, tables, name)] if table else tables
    places = list(_places(chosen, wanted, name, is_named=table is not None))
    if not places:
        where = f"table {table} of {name}" if table else name
        raise UsageError(
            f"{where}: no column that holds credentials was found; name it with --column"
        )
    columns_of: dict[str, list[str]] = {}
    for found, mapping in places:
        columns_of.setdefault(found.name, []).append(mapping.stored or "")
    audited = [
        audit_column(
            found,
            mapping,
            floor=floor,
            beside=[name for name in columns_of[found.name] if name != mapping.stored],
            progress=progress,
        )
        for found, mapping in places
    ]
    return Audit(source=name, floor=floor, columns=audited)


def _places(
    tables: Sequence[Table], wanted: Columns, name: str, *, is_named: bool
) -> Iterator[tuple[Table, Columns]]:
    if wanted.stored and not is_named:
        tables = [table for table in tables if wanted.stored in table.columns]
        if not tables:
            raise UsageError(f"{name}: no table has a column “{wanted.stored}”")
    for table in tables:
        for column in filter(None, _mapped(wanted)):
            require_column(column, table.columns, f"{name}, table {table.name}")
        if wanted.stored:
            yield table, wanted
            continue
        for found in credential_columns(table.name, _sample(table)):
            yield table, found.columns


def _sample(table: Table) -> dict[str, list[str | None]]:
    """Read some rows of all columns; what cannot be read is counted when all is read."""
    with closing(table.frames(table.columns, Unreadable())) as frames:
        first = next(frames, None)
    if first is None:
        return {}
    head = first.head(SAMPLE_ROWS)
    return {column: head[column].to_list() for column in table.columns}
