"""From a source and known accounts to drafted stores: what stands where, and how it came about."""

from collections import Counter
from collections.abc import Iterable, Mapping, Sequence

import polars as pl
from msgspec import Struct, field
from msgspec.structs import replace

from lean_tumbler.core.audit.discovery import folded
from lean_tumbler.core.drafting.class_cohorts import (
    ClassRows,
    DraftedCohort,
    Unproven,
    draft_class,
    named,
)
from lean_tumbler.core.drafting.class_solving import Search, explain_class, part_name
from lean_tumbler.core.drafting.classes import LOCKED, ClassKind, ValueClass
from lean_tumbler.core.drafting.explanations import Explanation, KnownRow, Trial, opens_by_itself
from lean_tumbler.core.drafting.likely_rows import opened_by_likely
from lean_tumbler.core.drafting.untested import with_untested
from lean_tumbler.core.formulas import notation
from lean_tumbler.core.formulas.analysis import parts_used
from lean_tumbler.core.masked import Masked
from lean_tumbler.core.policy import PLAIN_ROWS, Columns, RowSource
from lean_tumbler.core.policy.cohort_tables import split_then
from lean_tumbler.core.reading.conditions import Condition, day_of
from lean_tumbler.core.reading.rows import Row, bytes_of
from lean_tumbler.core.reading.survey import Column, Survey
from lean_tumbler.jobs.draft.class_scan import CLASS, ClassScan, scanned
from lean_tumbler.jobs.draft.duplicates import repeated_known, told_apart
from lean_tumbler.stores.files.base import Table
from lean_tumbler.stores.known_accounts import KnownAccount

_MOST_PARTS = 12
_TEXTS = 200  # of a class, to find its layout
_ROWS_GUESSED = 20_000
_GUESSED_TAKEN = 40  # rows that likely passwords open; as many known accounts tell enough
_GUESSED = frozenset({ClassKind.DIGEST, ClassKind.TEXT})
_LOGINS_FOUND = 0.5  # of the known logins, in the column that holds logins


class DraftedStore(Struct, frozen=True, kw_only=True):
    """One store, as far as it shows and known accounts prove."""

    table: str  # its name
    source: RowSource = PLAIN_ROWS  # what makes up a row
    columns: Columns  # the table's own names by role
    reasons: Mapping[str, str]  # role -> why that column is taken for it
    # further inputs of formulas -> the table's own names
    parts: Mapping[str, str] = field(default_factory=dict)
    cohorts: Mapping[str, DraftedCohort] = field(default_factory=dict)  # by name
    unproven: Sequence[Unproven] = ()  # rows that no known account explains
    # rows whose values say how they were made, by scheme
    said: Mapping[str, int] = field(default_factory=dict)
    rows: int = 0  # of the table
    without_value: int = 0  # rows whose stored value is NULL
    sampled: bool = False  # whether rows of cohorts are estimated from a sample
    guessed: int = 0  # rows that likely passwords open, of classes of which no account is known
    # the lines of known accounts that a cohort opens, or the value by itself
    lines_opened: frozenset[int] = frozenset()
    not_opened: tuple[int, ...] = ()  # the lines of the others that stand there
    # known accounts whose login stands in several rows, so that none can be taken
    repeated: int = 0
    # conditions of rows in which each login would stand once, likeliest first
    kinds: tuple[Condition, ...] = ()
    logins_repeated: int = 0  # logins that stand in several rows, of those that were looked at
    # the condition that leaves one row of each of these; None where none does
    told_apart_by: Condition | None = None

    @property
    def opened(self) -> int:
        """How many known accounts it opens."""
        return len(self.lines_opened)

    @property
    def known(self) -> int:
        """How many known accounts stand there."""
        return self.opened + len(self.not_opened)


def draft_store(
    table: Table,  # where it stands
    columns: Columns,  # the table's own names by role, as their names suggest
    *,
    # accounts whose password is known; they need not stand in this table
    known: Sequence[KnownAccount],
    search: Search,  # constants, budget and clock of the search for formulas
    beside: Sequence[str] = (),  # other columns of the table that hold credentials
    # whether nothing but the known logins says that this table holds logins; where it has less than
    # half of them, no formula is looked for
    is_guess: bool = False,
) -> DraftedStore:
    """Draft one store."""
    scan = scanned(table, columns, known)
    columns, reasons = settled_roles(columns, scan, len(known))
    if is_guess and "holds" not in reasons.get("login", ""):
        return DraftedStore(table=table.name, columns=replace(columns, login=None), reasons={})
    columns = _with_key(table, columns, scan, reasons)
    store = _drafted(table, columns, reasons, scan, known, search, beside)
    promoted = _salt_among_parts(store, scan)
    if promoted:
        columns = replace(columns, salt=promoted)
        reasons = {**reasons, "salt": "formulas of known accounts take it"}
        store = _drafted(table, columns, reasons, scan, known, search, beside)
    return store


def settled_roles(columns: Columns, scan: ClassScan, known: int) -> tuple[Columns, dict[str, str]]:
    """Settle the login's column by the known accounts; say why each column has its role."""
    reasons = {role: "by its name" for role in columns.mapped if role != "stored"}
    reasons["stored"] = "by its name and content"
    if columns.privileged_values:
        reasons["privileged"] = "by its name and these values; complete the list"
    best = max(scan.logins, key=lambda name: scan.logins[name], default="")
    if best and scan.logins[best] >= max(1, _LOGINS_FOUND * known):
        own = columns.login or ""
        if scan.logins[own] < scan.logins[best]:
            columns = replace(columns, login=best)
        reasons["login"] = f"it holds {scan.logins[columns.login or '']:,} of the known logins"
    return columns, reasons


def _with_key(table: Table, columns: Columns, scan: ClassScan, reasons: dict[str, str]) -> Columns:
    """Take the schema's own key for the account, not a column that is only called like one."""
    keys = [name for name in table.keys if not scan.sample[name].null_count()]
    if not keys:
        return columns
    if columns.account not in keys:
        columns = replace(columns, account=keys[0])
    reasons["account"] = "the schema says that it names a row alone"
    return columns


def _drafted(
    table: Table,
    columns: Columns,
    reasons: Mapping[str, str],
    scan: ClassScan,
    known: Sequence[KnownAccount],
    search: Search,
    beside: Sequence[str],
) -> DraftedStore:
    accounts = known_rows(columns, scan, known)
    taken = {getattr(columns, role) for role in ("stored", "salt", "login")} | set(beside)
    others = {name: folded(name) for name in table.columns if name not in taken}
    parts = {part_name(name): name for name in others}
    trial = Trial(roles=columns.mapped, parts=parts, column=_survey_of(scan, columns))
    drafting = _Drafting(scan, columns, others, parts, trial, search)
    guessed = 0
    for number, value_class in enumerate(scan.classes):
        if scan.totals[number]:
            own = [account for account in accounts if account.value_class == value_class]
            if not own and value_class.kind in _GUESSED:
                own = _guessed_rows(scan, columns, value_class)
                guessed += len(own)
            drafting.add(value_class, scan.totals[number], own)
    cohorts = named(drafting.cohorts)
    used = _parts_of(cohorts.values())
    return DraftedStore(
        table=table.name,
        columns=columns,
        reasons=reasons,
        parts={name: column for name, column in parts.items() if name in used},
        cohorts=cohorts,
        unproven=drafting.unproven,
        said=+drafting.said,
        rows=scan.rows,
        without_value=scan.without_value,
        sampled=scan.is_sampled,
        lines_opened=frozenset(a.line for a in accounts if a.line in drafting.opened),
        guessed=guessed,
        not_opened=tuple(a.line for a in accounts if a.line not in drafting.opened),
        **repeated_known(columns, scan, known),
        **told_apart(columns, scan),
    )


class _Drafting(Struct):
    """Drafts class after class of one store."""

    scan: ClassScan
    columns: Columns
    others: Mapping[str, str]
    parts: Mapping[str, str]
    trial: Trial
    search: Search
    cohorts: list[DraftedCohort] = field(default_factory=list)
    unproven: list[Unproven] = field(default_factory=list)
    said: Counter[str] = field(default_factory=Counter)
    opened: set[int] = field(default_factory=set)

    def add(self, value_class: ValueClass, total: int, known: Sequence[KnownRow]) -> None:
        """Draft one class from its known accounts."""
        is_said = value_class.kind in {ClassKind.SAID, ClassKind.WRITTEN}
        if is_said:
            by_itself = {account.line for account in known if opens_by_itself(account)}
            self.opened |= by_itself
            known = [account for account in known if account.line not in by_itself]
        if value_class.kind is ClassKind.SAID or value_class.label == LOCKED or not known:
            self.said[value_class.label] += total * is_said
        if value_class.label == LOCKED:
            return
        rows = self.scan.rows_of(value_class)
        explained = self._explained(known, rows) if known else {}
        self.opened |= {line for lines in explained.values() for line in lines}
        of_class = ClassRows(
            value_class=value_class,
            rows=rows,
            total=total,
            salt=self.columns.salt or "",
            columns=self.others,
        )
        proven, left = draft_class(of_class, known, explained)
        for cohort in proven:
            self.cohorts.append(with_untested(cohort, known, self.trial))
        self.unproven += [each for each in left if not is_said or each.failed]

    def _explained(
        self, known: Sequence[KnownRow], rows: pl.DataFrame
    ) -> dict[Explanation, frozenset[int]]:
        return explain_class(
            known,
            texts=rows[self.columns.stored or ""].head(_TEXTS).to_list(),
            trial=self.trial,
            parts=_possible_parts(known, self.parts),
            search=self.search,
        )


def known_rows(columns: Columns, scan: ClassScan, known: Sequence[KnownAccount]) -> list[KnownRow]:
    """Give the rows of the known accounts; a login that stands twice is left out."""
    if not columns.login or not columns.stored:
        return []
    rows: dict[str, list[dict[str, str | None]]] = {}
    for row in scan.known.iter_rows(named=True):
        rows.setdefault((row[columns.login] or "").casefold(), []).append(row)
    found = []
    for account in known:
        own = rows.get(account.login.casefold(), [])
        exact = [row for row in own if row[columns.login] == account.login] or own
        if len(exact) == 1:
            value_class = scan.classes[int(exact[0][CLASS] or 0)]
            found.append(_known_row(account, exact[0], columns, value_class))
    return found


def _guessed_rows(scan: ClassScan, columns: Columns, value_class: ValueClass) -> list[KnownRow]:
    """Give rows of a class that likely passwords open, where dozens do; no line of a file."""
    named = list(scan.rows_of(value_class).head(_ROWS_GUESSED).iter_rows(named=True))
    if not columns.login:
        return []
    likely = opened_by_likely([_row_of(row, columns) for row in named])
    step = max(1, len(likely) // _GUESSED_TAKEN)
    return [
        _known_row(
            KnownAccount(line=-each.place - 1, login="", password=Masked(each.password)),
            named[each.place],
            columns,
            value_class,
        )
        for each in likely[::step]
    ]


def _known_row(
    account: KnownAccount,
    row: Mapping[str, str | None],
    columns: Columns,
    value_class: ValueClass,
) -> KnownRow:
    return KnownRow(
        line=account.line,
        login=row[columns.login or ""] or account.login,
        password=account.password.reveal(),
        row=_row_of(row, columns),
        value_class=value_class,
    )


def _row_of(row: Mapping[str, str | None], columns: Columns) -> Row:
    def raw(name: str | None) -> bytes | None:
        text = row[name] if name else None
        return None if text is None else bytes_of(text)

    return Row(
        stored=raw(columns.stored),
        salt=raw(columns.salt),
        login=row[columns.login or ""],
        others={name: raw(name) for name in row if name != CLASS},
    )


def _possible_parts(accounts: Sequence[KnownRow], parts: Mapping[str, str]) -> dict[str, str]:
    """Name the columns that may go into a formula: those that some known account has."""
    found = {
        name: column
        for name, column in parts.items()
        if any(account.row.others.get(column) for account in accounts)
    }
    return dict(list(found.items())[:_MOST_PARTS])


def _survey_of(scan: ClassScan, columns: Columns) -> Column:
    """Survey the texts that a person may have typed."""
    survey = Survey()
    total = 0
    for number, value_class in enumerate(scan.classes):
        if value_class.kind in {ClassKind.TEXT, ClassKind.CUT}:
            survey.add(scan.rows_of(value_class)[columns.stored or ""].to_list())
            total += scan.totals[number]
    return survey.column(total)


def _may_be_salt(text: str) -> bool:
    return not text.isdigit() and "@" not in text and day_of(text.encode("utf-8")) is None


def _parts_of(cohorts: Iterable[DraftedCohort]) -> set[str]:
    used: set[str] = set()
    for cohort in cohorts:
        before, then = split_then(cohort.explanation.formula)
        if before:
            used |= parts_used(notation.parse(before, may_end_in_bytes=bool(then)))
    return used


def _salt_among_parts(store: DraftedStore, scan: ClassScan) -> str:
    """Give the column that formulas take and that is a salt by its looks; empty for none."""
    if store.columns.salt:
        return ""
    for name in store.parts.values():
        values = scan.sample[name].drop_nulls().head(_TEXTS)
        drawn = [v for v in values.to_list() if v and _may_be_salt(v)]
        if len(drawn) > values.len() / 2 and len({len(v) for v in drawn}) <= 2:
            return name
    return ""
