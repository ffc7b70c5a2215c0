"""Reading a table's columns under the names of their roles, and looking at each frame once."""

from collections import deque
from collections.abc import Callable, Generator, Iterator, Mapping, Sequence
from concurrent.futures import Executor, Future
from contextlib import closing
from datetime import date
from pathlib import Path

import polars as pl
from msgspec import Struct, field
from msgspec.structs import replace

from lean_tumbler.core.audit.cohort_marks import OTHER
from lean_tumbler.core.audit.digest_guesses import LikelyMatcher
from lean_tumbler.core.audit.frames import Frame, Group
from lean_tumbler.core.audit.keyed_rows import NAME
from lean_tumbler.core.audit.profile import Profiler
from lean_tumbler.core.grades import Floor
from lean_tumbler.core.policy import Columns, StoragePolicy, StorePolicy
from lean_tumbler.core.reading.of_stores import store_reader
from lean_tumbler.core.reading.reader import RowReader
from lean_tumbler.core.reading.rows import account_name
from lean_tumbler.core.schemes.layered import origins_of
from lean_tumbler.core.tuning.attacker import Attacker
from lean_tumbler.errors import UsageError
from lean_tumbler.stores.files.base import LINE, Table, Unreadable
from lean_tumbler.stores.kinds import tables_at
from lean_tumbler.stores.naming import nearest, require_column
from lean_tumbler.stores.scans.guessing import Budget

Progress = Callable[[int], None]

# What `graded_rows` gives, of an empty store.
NO_GRADED_ROWS = pl.DataFrame(
    schema={
        "account": pl.String, "login": pl.String, "privileged": pl.Boolean, "seen": pl.String,
        "created": pl.String, "updated": pl.String, "grade": pl.String, "needs": pl.String,
        "wrapped": pl.Boolean,
    }
)  # fmt: skip


def _ignore(_: int) -> None:
    """Tell nobody how far the audit is."""


class AuditContext(Struct, frozen=True, kw_only=True):
    """What an audit works with, whatever the source."""

    floor: Floor  # the least that counts as current
    policy: StoragePolicy = field(default_factory=StoragePolicy)  # target, formulas and cohorts
    attacker: Attacker = field(default_factory=Attacker)  # who would guess, once the table leaks
    likely: LikelyMatcher | None = None  # passwords to look for; None to look for none
    # what may be spent on trying them on salted rows; None to leave these out
    budget: Budget | None = None
    # looks at several frames at once; None to look at one after the other
    executor: Executor | None = None
    frames_at_once: int = 1  # how many frames may be held at the same time
    progress: Progress = _ignore  # told the number of rows after each frame
    today: date | None = None  # tokens that end before it have expired; None to count none


def looked_at(
    table: Table,
    columns: Columns,
    unreadable: Unreadable,
    profiler: Profiler,
    context: AuditContext,
    others: Sequence[str],
) -> Iterator[Frame]:
    """Look at each frame, several at once, in the table's order."""
    named_by = _named_by(table, columns) if profiler.keyring.may_open else ()
    frames = _frames(table, columns, unreadable, others, named_by)
    if context.executor is None:
        for number, frame in enumerate(frames):
            yield profiler.look(frame, number=number)
        return
    pending: deque[Future[Frame]] = deque()
    with closing(frames):
        for number, frame in enumerate(frames):
            pending.append(context.executor.submit(profiler.look, frame, number=number))
            if len(pending) >= context.frames_at_once:
                yield pending.popleft().result()
        while pending:
            yield pending.popleft().result()


def _frames(
    table: Table,
    columns: Columns,
    unreadable: Unreadable,
    others: Sequence[str],
    named_by: Sequence[str],
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
    wanted = sorted({name for name in (account, *named.values(), *others, *named_by) if name})
    names = {NAME: _name(named_by)} if named_by else {}
    missing = pl.lit(None, pl.String)
    place = pl.col(LINE).cast(pl.String)
    for frame in table.frames(wanted, unreadable):
        roles = {role: pl.col(name) if name else missing for role, name in named.items()}
        truth = is_privileged(roles["privileged"], columns)
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
            **names,
        )


def _named_by(table: Table, columns: Columns) -> tuple[str, ...]:
    """Name the columns that name a row in its table: values under a key may be bound to it."""
    return (columns.account,) if columns.account else table.row_key


def _name(columns: Sequence[str]) -> pl.Expr:
    if len(columns) == 1:
        return pl.col(columns[0])
    return pl.struct(columns).map_elements(
        lambda row: account_name(list(row.values())), return_dtype=pl.String
    )


def is_privileged(role: pl.Expr, columns: Columns) -> pl.Expr:
    """Give whether a row is an administrator's; NULL is none's.

    Args:
        role: the column `privileged`, as text.
        columns: what stands there for an administrator.
    """
    text = role.str.to_lowercase()
    theirs, words = columns.role_words
    return (text.is_in(words) if theirs else ~text.is_in(words)).fill_null(value=False)


def graded_rows(store: StorePolicy, *, base: Path, context: AuditContext) -> Iterator[pl.DataFrame]:
    """Read a store row by row, with the `grade` of each value, and what a check of it `needs`.

    That is a scheme; of a layered value, the formula or scheme that lies below.

    Beside them `account`, `login`, `privileged`, and as text `seen`, `created` and `updated`.

    Raises:
        UsageError: the table or a column is not there.
        SourceError: the store cannot be read.
    """
    table = policy_table(store, base=base)
    names = names_of(context.policy)
    profiler = Profiler(floor=context.floor, reader=reader_of(store, context.policy))
    for looked in looked_at(
        table, store.columns, Unreadable(), profiler, context, store.other_columns
    ):
        yield graded(looked, names)


def reader_of(store: StorePolicy, policy: StoragePolicy) -> RowReader:
    """Give what reads a store's rows for a report; nothing is decrypted for one."""
    return store_reader(policy, replace(store, decryption=None))


def names_of(policy: StoragePolicy) -> dict[str, str]:
    """Give the names of a policy's formulas, by fingerprint."""
    return {print_: named.name for print_, named in policy.formulas_by_fingerprint.items()}


def graded(looked: Frame, names: Mapping[str, str]) -> pl.DataFrame:
    """Give a frame's rows as `graded_rows` does."""
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
    name, tables = tables_at(
        store.locator,
        base=base,
        table=store.table,
        source=store.source,
        stored=store.columns.stored or "",
    )
    table = table_named(store.table, tables, name)
    for column in filter(None, (*store.columns.mapped.values(), *store.other_columns)):
        require_column(column, table.columns, f"{name}, table {table.name}")
    return table


def table_named(wanted: str, tables: Sequence[Table], name: str) -> Table:
    """Choose a table; without a name, the only one.

    Raises:
        UsageError: there is none of that name.
    """
    found = {table.name: table for table in tables}
    if not wanted and len(tables) == 1:
        return tables[0]
    if wanted not in found:
        raise UsageError(f"{name} has no table “{wanted}”; {nearest(wanted, tuple(found))}")
    return found[wanted]
