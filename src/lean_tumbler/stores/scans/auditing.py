"""Auditing a source: one column of a mapping, or every column that holds credentials."""

from collections.abc import Callable, Iterator, Mapping, Sequence
from datetime import date
from itertools import chain
from pathlib import Path
from typing import ClassVar

import polars as pl
from msgspec import Struct, field
from msgspec.structs import replace

from lean_tumbler.core.audit.detectors import Place
from lean_tumbler.core.audit.elsewhere import Elsewhere, elsewhere, values_of_logins
from lean_tumbler.core.audit.everyone import rows_of
from lean_tumbler.core.audit.findings import Finding, findings, members
from lean_tumbler.core.audit.frames import Frame
from lean_tumbler.core.audit.kinds import CredentialKind, is_readable
from lean_tumbler.core.audit.opening import Opens
from lean_tumbler.core.audit.profile import Profiler
from lean_tumbler.core.audit.results import Profile
from lean_tumbler.core.audit.rule import Severity
from lean_tumbler.core.audit.shapes import with_shapes
from lean_tumbler.core.audit.unexpired import lifetime
from lean_tumbler.core.grades import Floor
from lean_tumbler.core.policy import Columns, StorePolicy, Target
from lean_tumbler.core.reading.reader import RowReader
from lean_tumbler.core.records import Hidden, MaskedRecord
from lean_tumbler.core.row_plans import characters_needed
from lean_tumbler.core.tuning.attacker import Attacker
from lean_tumbler.errors import UsageError
from lean_tumbler.stores.files.base import Table, Unreadable
from lean_tumbler.stores.kinds import tables_at
from lean_tumbler.stores.scans.credential_places import (
    CredentialPlace,
    OtherPlaces,
    credential_places,
    with_fields,
)
from lean_tumbler.stores.scans.guessing import guess
from lean_tumbler.stores.scans.profiling import (
    AuditContext,
    graded,
    looked_at,
    names_of,
    policy_table,
    reader_of,
    table_named,
)


class AuditedColumn(MaskedRecord, Struct, frozen=True, kw_only=True):
    """One column's part of the report."""

    table: str
    column: str
    profile: Profile
    findings: list[Finding]
    unreadable: Unreadable
    # reads the column once more, and gives each finding with the rows that it concerns
    listed: Hidden[Callable[[], Iterator[tuple[Finding, pl.DataFrame]]]]
    # reads the column once more, and gives every row, as `core.audit.everyone` does
    everyone: Hidden[Callable[[], Iterator[pl.DataFrame]]]


class OtherCredentials(Struct, frozen=True, kw_only=True):
    """A column of another kind of credentials: how many, and how many stand as they are used."""

    table: str
    column: str
    kind: CredentialKind
    rows: int  # with something in them
    readable: int
    # of the readable ones, those that have not expired and were not used; None where nothing tells
    still_open: int | None = None

    severity: ClassVar = Severity.HIGH  # of those that are readable


def other_credentials(
    table: Table, kinds: Mapping[str, CredentialKind], *, today: date | None
) -> Iterator[OtherCredentials]:
    """Count what stands in such columns of a table, which is read once."""
    ends = lifetime(table.columns) if today is not None else None
    counted = {column: [0, 0, 0] for column in kinds}
    wanted = dict.fromkeys((*kinds, *(ends.columns if ends else ())))
    for frame in table.frames(list(wanted), Unreadable()):
        is_open = ends.still_open(frame, today=today) if ends and today else None
        for column, numbers in counted.items():
            is_filled, is_readable = _filled_and_readable(frame[column])
            numbers[0] += int(is_filled.sum())
            numbers[1] += int(is_readable.sum())
            numbers[2] += 0 if is_open is None else int((is_readable & is_open).sum())
    for column, (rows, readable, still_open) in counted.items():
        yield OtherCredentials(
            table=table.name,
            column=column,
            kind=kinds[column],
            rows=rows,
            readable=readable,
            still_open=still_open if ends else None,
        )


def _filled_and_readable(values: pl.Series) -> tuple[pl.Series, pl.Series]:
    """Tell texts, and the readable ones; what has no shape of a stored value is readable."""
    is_filled = (values.str.len_bytes() > 0).fill_null(value=False)
    texts = pl.DataFrame({"text": values.fill_null("")})
    shaped = with_shapes(texts, column="text", shape="shape")
    groups = shaped.filter(is_filled).drop_nulls("shape").group_by("shape")
    firsts = groups.agg(pl.col("text").first())
    open_shapes = [shape for shape, text in firsts.iter_rows() if is_readable(text)]
    shape = shaped["shape"]
    return is_filled, is_filled & (shape.is_null() | shape.is_in(open_shapes))


class Audit(Struct, frozen=True, kw_only=True):
    """A whole report."""

    source: str
    floor: Floor
    columns: list[AuditedColumn]
    attacker: Attacker = field(default_factory=Attacker)  # who would guess, once the table leaks
    likely_passwords: int = 0  # how many were looked for in plain text and unsalted digests
    by_policy: bool = False  # whether a policy says how the values came about
    # columns that hold digests of something else, or nothing that opens
    set_aside: tuple[str, ...] = ()
    others: tuple[OtherCredentials, ...] = ()  # columns of other kinds of credentials
    # of which columns some rows alone were read, and by which condition
    only_rows: Mapping[str, str] = field(default_factory=dict)

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


class _Profiled(Struct, frozen=True, kw_only=True):
    """A column that was read, before anybody judges it."""

    table: Table
    columns: Columns
    profile: Profile
    unreadable: Unreadable
    looked_at_again: Callable[[], Iterator[Frame]]

    @property
    def place(self) -> str:
        """Table and column, as a report names them."""
        return f"{self.table.name}.{self.columns.stored}"


def _profiled(
    table: Table,  # where it stands
    columns: Columns,  # the table's own names for what is needed
    *,
    context: AuditContext,  # what the audit works with
    # of the store's rows, with its cohorts; None where there is no policy
    reader: RowReader | None = None,
    others: Sequence[str] = (),  # further columns that it needs
    watch: Callable[[Frame], None] | None = None,  # given each frame, for what else its rows tell
) -> _Profiled:
    """Read one column."""
    unreadable = Unreadable()
    profiler = Profiler(floor=context.floor, reader=reader, likely=context.likely)
    for looked in looked_at(table, columns, unreadable, profiler, context, others):
        profiler.add(looked)
        if watch is not None:
            watch(looked)
        context.progress(looked.height)
    profile = profiler.finish()

    def again() -> Iterator[Frame]:
        return looked_at(table, columns, Unreadable(), profiler, context, others)

    if context.budget is not None:
        opened, profile.coverage = guess(again(), profile, reader or RowReader(), context.budget)
        profile.note_opened(opened)
    return _Profiled(
        table=table,
        columns=columns,
        profile=profile,
        unreadable=unreadable,
        looked_at_again=again,
    )


def _judged(
    read: _Profiled,  # the column
    context: AuditContext,  # what the audit works with
    *,
    beside: Sequence[str] = (),  # other columns of the table that hold credentials
    opens: Opens | None = None,  # the values of one of them that this column's content opens
    exchanged_with: str = "",  # the column that holds the stored values in its place
    same: Elsewhere | None = None,  # what it shares with other columns
) -> AuditedColumn:
    """Say what is wrong with a column."""
    known = _place(read.table, read.columns.stored or "", context.policy.target)
    place = replace(
        known, beside=tuple(beside), opens=opens, exchanged_with=exchanged_with,
        elsewhere=same or Elsewhere(),
    )  # fmt: skip
    found = findings(read.profile, context.floor, place)

    def listed() -> Iterator[tuple[Finding, pl.DataFrame]]:
        for looked in read.looked_at_again():
            yield from members(found, read.profile, context.floor, place, looked)

    def everyone() -> Iterator[pl.DataFrame]:
        for looked in read.looked_at_again():
            yield rows_of(looked, found, read.profile, context.floor, place)

    return AuditedColumn(
        table=read.table.name,
        column=place.column,
        profile=read.profile,
        findings=found,
        unreadable=read.unreadable,
        listed=listed,
        everyone=everyone,
    )


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


def audit_policy_store(
    store: StorePolicy,  # of the policy
    *,
    base: Path,  # the folder that a relative locator starts from
    context: AuditContext,  # what the audit works with
    # given the rows as `graded_rows` gives them, so that they are read once
    watch: Callable[[pl.DataFrame], None] | None = None,
) -> Audit:
    """Audit a store of the policy, with its formulas.

    Raises:
        UsageError: the table or a column is not there.
        SourceError: the store cannot be read.
    """
    table = policy_table(store, base=base)
    names = names_of(context.policy)
    read = _profiled(
        table,
        store.columns,
        context=context,
        reader=reader_of(store, context.policy),
        others=store.other_columns,
        watch=None if watch is None else lambda looked: watch(graded(looked, names)),
    )
    return replace(_audit(store.name, [_judged(read, context)], context), by_policy=True)


def audit_source(
    locator: str,
    *,
    base: Path,
    context: AuditContext,
    table: str | None = None,
    columns: Columns | None = None,
) -> Audit:
    """Audit a source; without a column, every column that holds credentials is found.

    Raises:
        UsageError: the table or column is not there, or no column holds credentials.
        SourceError: the source cannot be read.
    """
    name, tables = tables_at(locator, base=base, table=table or "")
    wanted = columns or Columns()
    chosen = [table_named(table, tables, name)] if table else tables
    if wanted.stored and "." in wanted.stored:
        chosen = [with_fields(found, wanted.stored) for found in chosen]
    aside = OtherPlaces()
    places = list(credential_places(chosen, wanted, name, is_named=table is not None, aside=aside))
    others = list(
        chain.from_iterable(
            other_credentials(found, kinds, today=context.today) for found, kinds in aside.others()
        )
    )
    if not places and not others:
        where = f"table {table} of {name}" if table else name
        raise UsageError(
            f"{where}: no column that holds credentials was found; name it with --column"
        )
    found = _audit(name, _together(places, context), context)
    only_rows = {place.name: place.only_rows for place in places if place.only_rows}
    named = [f"{found.name}.{column}" for found, column, kind in aside.kinds
             if not kind.opens_something]  # fmt: skip
    return replace(
        found,
        set_aside=(*aside.digests, *named),
        others=tuple(others),
        only_rows=only_rows,
    )


def _together(places: Sequence[CredentialPlace], context: AuditContext) -> list[AuditedColumn]:
    """Read all columns, and judge each beside the others."""
    columns_of: dict[str, list[str]] = {}
    values: dict[str, list[pl.DataFrame]] = {}
    read = []
    for found in places:
        columns_of.setdefault(found.table.name, []).append(found.columns.stored or "")
        parts: list[pl.DataFrame] = []
        watch = _keeps_values(parts) if len(places) > 1 else None
        column = _profiled(found.table, found.columns, context=context, watch=watch)
        values[column.place] = parts
        read.append(column)
    same = elsewhere({place: pl.concat(parts) for place, parts in values.items() if parts})
    return [
        _judged(
            column,
            context,
            beside=[n for n in columns_of[found.table.name] if n != found.columns.stored],
            opens=found.opens,
            exchanged_with=found.exchanged_with,
            same=same.get(column.place),
        )
        for found, column in zip(places, read, strict=True)
    ]


def _keeps_values(parts: list[pl.DataFrame]) -> Callable[[Frame], None]:
    return lambda looked: parts.append(values_of_logins(looked))


def _audit(source: str, columns: list[AuditedColumn], context: AuditContext) -> Audit:
    tried = len(context.likely.passwords) if context.likely else 0
    return Audit(
        source=source,
        floor=context.floor,
        columns=columns,
        attacker=context.attacker,
        likely_passwords=tried,
    )
