"""Auditing a source: one column of a mapping, or every column that holds credentials."""

from collections import deque
from collections.abc import Callable, Generator, Iterator, Mapping, Sequence
from concurrent.futures import Executor, Future
from contextlib import closing
from dataclasses import dataclass, field, replace
from pathlib import Path

import polars as pl

from lean_tumbler.core.audit.cohort_marks import OTHER
from lean_tumbler.core.audit.detectors import Place
from lean_tumbler.core.audit.discovery import SAMPLE_ROWS, credential_columns
from lean_tumbler.core.audit.findings import Finding, findings, members
from lean_tumbler.core.audit.matching import LikelyMatcher
from lean_tumbler.core.audit.opening import Opens
from lean_tumbler.core.audit.profile import Frame, Group, Profiler
from lean_tumbler.core.audit.results import Profile
from lean_tumbler.core.gateway import store_reader
from lean_tumbler.core.grades import Floor
from lean_tumbler.core.layered import origins_of
from lean_tumbler.core.layering import characters_needed
from lean_tumbler.core.policy import Columns, StoragePolicy, StorePolicy, Target
from lean_tumbler.core.reading.reader import RowReader
from lean_tumbler.core.tuning.attacker import Attacker
from lean_tumbler.errors import UsageError
from lean_tumbler.operations.guessing import Budget, guess
from lean_tumbler.stores.naming import nearest, require_column
from lean_tumbler.stores.sources.base import LINE, Table, Unreadable
from lean_tumbler.stores.sources.nested import NestedTable, document_columns
from lean_tumbler.stores.sources.opening import tables_at

Progress = Callable[[int], None]

# What `graded_rows` gives, of an empty store.
NO_GRADED_ROWS = pl.DataFrame(
    schema={
        "account": pl.String, "login": pl.String, "privileged": pl.Boolean, "seen": pl.String,
        "created": pl.String, "updated": pl.String, "grade": pl.String, "needs": pl.String,
        "wrapped": pl.Boolean,
    }
)  # fmt: skip
_FALSE = ("", "0", "f", "n", "false", "no")


@dataclass(frozen=True, slots=True, kw_only=True)
class AuditedColumn:
    """One column's part of the report.

    Attributes:
        listed: reads the column once more, and gives each finding with the rows that it concerns.
    """

    table: str
    column: str
    profile: Profile
    findings: list[Finding]
    unreadable: Unreadable
    listed: Callable[[], Iterator[tuple[Finding, pl.DataFrame]]] = field(repr=False)


@dataclass(frozen=True, slots=True, kw_only=True)
class Audit:
    """A whole report.

    Attributes:
        attacker: who would guess, once the table leaks.
        likely_passwords: how many were looked for in plain text and unsalted digests.
    """

    source: str
    floor: Floor
    columns: list[AuditedColumn]
    attacker: Attacker = field(default_factory=Attacker)
    likely_passwords: int = 0

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


@dataclass(frozen=True, slots=True, kw_only=True)
class Means:
    """What an audit works with, whatever the source.

    Attributes:
        floor: the least that counts as current.
        policy: target, formulas and cohorts.
        attacker: who would guess, once the table leaks.
        likely: passwords to look for; None to look for none.
        budget: what may be spent on trying them on salted rows; None to leave these out.
        executor: looks at several frames at once; None to look at one after the other.
        frames_at_once: how many frames may be held at the same time.
        progress: told the number of rows after each frame.
    """

    floor: Floor
    policy: StoragePolicy = field(default_factory=StoragePolicy)
    attacker: Attacker = field(default_factory=Attacker)
    likely: LikelyMatcher | None = None
    budget: Budget | None = None
    executor: Executor | None = None
    frames_at_once: int = 1
    progress: Progress = _ignore


def audit_column(
    table: Table,
    columns: Columns,
    *,
    means: Means,
    reader: RowReader | None = None,
    others: Sequence[str] = (),
    beside: Sequence[str] = (),
    opens: Opens | None = None,
    watch: Callable[[Frame], None] | None = None,
) -> AuditedColumn:
    """Audit one column.

    Args:
        table: where it stands.
        columns: the table's own names for what is needed.
        means: what the audit works with.
        reader: of the store's rows, with its cohorts; None where there is no policy.
        others: further columns that it needs.
        beside: other columns of the table that hold credentials.
        opens: the values of one of them that this column's content opens.
        watch: given each frame, for what else its rows tell.
    """
    unreadable = Unreadable()
    profiler = Profiler(floor=means.floor, reader=reader, likely=means.likely)
    for looked in _looked_at(table, columns, unreadable, profiler, means, others):
        profiler.add(looked)
        if watch is not None:
            watch(looked)
        means.progress(looked.height)
    profile = profiler.finish()
    if means.budget is not None:
        again = _looked_at(table, columns, Unreadable(), profiler, means, others)
        opened, profile.coverage = guess(again, profile, reader or RowReader(), means.budget)
        profile.note_opened(opened)
    stored = columns.stored or ""
    place = replace(_place(table, stored, means.policy.target), beside=tuple(beside), opens=opens)
    found = findings(profile, means.floor, place)

    def listed() -> Iterator[tuple[Finding, pl.DataFrame]]:
        for looked in _looked_at(table, columns, Unreadable(), profiler, means, others):
            yield from members(found, profile, means.floor, place, looked)

    return AuditedColumn(
        table=table.name,
        column=stored,
        profile=profile,
        findings=found,
        unreadable=unreadable,
        listed=listed,
    )


def _looked_at(
    table: Table,
    columns: Columns,
    unreadable: Unreadable,
    profiler: Profiler,
    means: Means,
    others: Sequence[str],
) -> Iterator[Frame]:
    """Look at each frame, several at once, in the table's order."""
    frames = _frames(table, columns, unreadable, others)
    if means.executor is None:
        for number, frame in enumerate(frames):
            yield profiler.look(frame, number=number)
        return
    pending: deque[Future[Frame]] = deque()
    with closing(frames):
        for number, frame in enumerate(frames):
            pending.append(means.executor.submit(profiler.look, frame, number=number))
            if len(pending) >= means.frames_at_once:
                yield pending.popleft().result()
        while pending:
            yield pending.popleft().result()


def _place(table: Table, column: str, target: Target) -> Place:
    declared = table.declared(column)
    known = Place(table=table.name, column=column)
    if declared.characters is None:
        return replace(known, collation=declared.collation)
    return replace(
        known,
        characters=declared.characters,
        collation=declared.collation,
        needed=characters_needed(target),
    )


def _frames(
    table: Table, columns: Columns, unreadable: Unreadable, others: Sequence[str]
) -> Generator[pl.DataFrame, None, None]:
    """Read a table's columns under the names that the profiler takes."""
    account = columns.account or columns.login
    named = {
        "stored": columns.stored,
        "salt": columns.salt,
        "login": columns.login,
        "privileged": columns.privileged,
        "seen": columns.last_login,
        "created": columns.created,
        "updated": columns.updated,
    }
    wanted = sorted({name for name in (account, *named.values(), *others) if name})
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
            seen=roles["seen"],
            created=roles["created"],
            updated=roles["updated"],
            privileged=truth,
            **{OTHER + name: pl.col(name) for name in others},
        )


def audit_policy_store(
    store: StorePolicy,
    *,
    base: Path,
    means: Means,
    watch: Callable[[pl.DataFrame], None] | None = None,
) -> Audit:
    """Audit a store of the policy, with its formulas.

    Args:
        store: of the policy.
        base: the folder that a relative locator starts from.
        means: what the audit works with.
        watch: given the rows as `graded_rows` gives them, so that they are read once.

    Raises:
        UsageError: the table or a column is not there.
        SourceError: the store cannot be read.
    """
    table = policy_table(store, base=base)
    names = _names(means.policy)
    audited = audit_column(
        table,
        store.columns,
        means=means,
        reader=_reader_of(store, means.policy),
        others=store.other_columns,
        watch=None if watch is None else lambda looked: watch(_graded(looked, names)),
    )
    return _audit(store.name, [audited], means)


def graded_rows(store: StorePolicy, *, base: Path, means: Means) -> Iterator[pl.DataFrame]:
    """Read a store row by row, with the `grade` of each value, and what a check of it `needs`.

    That is a scheme; of a layered value, the formula or scheme that lies below.

    Beside them `account`, `login`, `privileged`, and as text `seen`, `created` and `updated`.

    Raises:
        UsageError: the table or a column is not there.
        SourceError: the store cannot be read.
    """
    table = policy_table(store, base=base)
    names = _names(means.policy)
    profiler = Profiler(floor=means.floor, reader=_reader_of(store, means.policy))
    for looked in _looked_at(
        table, store.columns, Unreadable(), profiler, means, store.other_columns
    ):
        yield _graded(looked, names)


def _reader_of(store: StorePolicy, policy: StoragePolicy) -> RowReader:
    """Give what reads a store's rows for a report; nothing is decrypted for one."""
    return store_reader(policy, replace(store, decryption=None))


def _names(policy: StoragePolicy) -> dict[str, str]:
    return {print_: named.name for print_, named in policy.formulas_by_fingerprint.items()}


def _graded(looked: Frame, names: Mapping[str, str]) -> pl.DataFrame:
    groups = pl.DataFrame(
        {
            "group": range(len(looked.groups)),
            "grade": [str(group.reading.grade) for group in looked.groups],
            "needs": [_needed(group, names) for group in looked.groups],
            "wrapped": [bool(group.reading.wrappers) for group in looked.groups],
        },
        schema={
            "group": pl.UInt32,
            "grade": pl.String,
            "needs": pl.String,
            "wrapped": pl.Boolean,
        },
    )
    return looked.rows.join(groups, on="group").select(NO_GRADED_ROWS.columns)


def _needed(group: Group, names: Mapping[str, str]) -> str:
    origin = group.parsed.contents.origin
    if not origin:
        return group.reading.scheme
    return "+".join(names.get(below, below) for below in origins_of(origin))


def policy_table(store: StorePolicy, *, base: Path) -> Table:
    """Open the table of a store of the policy.

    Raises:
        UsageError: the table or a column is not there.
        SourceError: the store cannot be read.
    """
    name, tables = tables_at(store.locator, base=base)
    table = _table_named(store.table, tables, name)
    for column in filter(None, (*_mapped(store.columns), *store.other_columns)):
        require_column(column, table.columns, f"{name}, table {table.name}")
    return table


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
    means: Means,
    table: str | None = None,
    columns: Columns | None = None,
) -> Audit:
    """Audit a source; without a column, every column that holds credentials is found.

    Raises:
        UsageError: the table or column is not there, or no column holds credentials.
        SourceError: the source cannot be read.
    """
    name, tables = tables_at(locator, base=base)
    wanted = columns or Columns()
    chosen = [_table_named(table, tables, name)] if table else tables
    if wanted.stored and "." in wanted.stored:
        chosen = [_with_fields(found, wanted.stored) for found in chosen]
    places = list(_places(chosen, wanted, name, is_named=table is not None))
    if not places:
        where = f"table {table} of {name}" if table else name
        raise UsageError(
            f"{where}: no column that holds credentials was found; name it with --column"
        )
    columns_of: dict[str, list[str]] = {}
    for found in places:
        columns_of.setdefault(found.table.name, []).append(found.columns.stored or "")
    audited = [
        audit_column(
            found.table,
            found.columns,
            means=means,
            beside=[n for n in columns_of[found.table.name] if n != found.columns.stored],
            opens=found.opens,
        )
        for found in places
    ]
    return _audit(name, audited, means)


def _audit(source: str, columns: list[AuditedColumn], means: Means) -> Audit:
    tried = len(means.likely.passwords) if means.likely else 0
    return Audit(
        source=source,
        floor=means.floor,
        columns=columns,
        attacker=means.attacker,
        likely_passwords=tried,
    )


def _with_fields(table: Table, column: str) -> Table:
    """Take a JSON column apart where one of its fields is asked for."""
    if column in table.columns:
        return table
    documents = document_columns(_sample(table))
    return NestedTable(table, documents) if documents else table


@dataclass(frozen=True, slots=True)
class _Found:
    """A column to audit, the roles beside it, and what its content opens."""

    table: Table
    columns: Columns
    opens: Opens | None = None


def _places(
    tables: Sequence[Table], wanted: Columns, name: str, *, is_named: bool
) -> Iterator[_Found]:
    named = list(filter(None, _mapped(wanted)))
    if named and not is_named:
        first = wanted.stored or named[0]
        tables = [table for table in tables if first in table.columns]
        if not tables:
            raise UsageError(f"{name}: no table has a column “{first}”")
    for table in tables:
        for column in named:
            require_column(column, table.columns, f"{name}, table {table.name}")
        if wanted.stored:
            yield _Found(table, wanted)
            continue
        sample = _sample(table)
        documents = document_columns(sample)
        for found in credential_columns(table.name, sample, wanted):
            if found.columns.stored not in documents:
                yield _Found(table, found.columns, found.opens)
        if documents:
            yield from _in_documents(NestedTable(table, documents))


def _in_documents(table: NestedTable) -> Iterator[_Found]:
    """Find credentials in JSON documents inside text columns."""
    fields = {name for names in table.documents.values() for name in names}
    for found in credential_columns(table.name, _sample(table)):
        if found.columns.stored in fields:
            yield _Found(table, found.columns, found.opens)


def _sample(table: Table) -> dict[str, list[str | None]]:
    """Read some rows of all columns; what cannot be read is counted when all is read."""
    with closing(table.frames(table.columns, Unreadable())) as frames:
        first = next(frames, None)
    if first is None:
        return {}
    some = first.gather_every(max(1, first.height // SAMPLE_ROWS)).head(SAMPLE_ROWS)
    return {column: some[column].to_list() for column in table.columns}
