"""One look at all rows of a column: classes of values, a sample, and the rows of known accounts."""

from collections import Counter
from collections.abc import Mapping, Sequence

import polars as pl
from msgspec import Struct, field

from lean_tumbler.core.audit.cohort_marks import OTHER
from lean_tumbler.core.audit.frames import Frame
from lean_tumbler.core.audit.profile import Profiler
from lean_tumbler.core.drafting.classes import ClassKind, ValueClass, class_of
from lean_tumbler.core.drafting.splits import MOST_VALUES
from lean_tumbler.core.grades import Floor
from lean_tumbler.core.policy import Columns
from lean_tumbler.core.schemes.catalogue import read_value
from lean_tumbler.stores.files.base import Table, Unreadable
from lean_tumbler.stores.known_accounts import KnownAccount
from lean_tumbler.stores.scans.profiling import AuditContext, looked_at

SAMPLE_ROWS = 200_000  # of a table, to find what tells its rows apart
CLASS = "#class"  # beside the table's own columns, the number of a value's class
_MAY_BE_TYPED = frozenset({ClassKind.CUT, ClassKind.BLOB})
_CUT_SHARE = 0.2  # of the texts beside them; with fewer, short hexadecimal texts were typed


class ClassScan(Struct, frozen=True, kw_only=True):
    """What one look at all rows of a column gave."""

    # rows with a value, under the table's own names; all, or some of a large table
    sample: pl.DataFrame
    known: pl.DataFrame  # the rows in which a known login stands, in whichever column
    classes: Sequence[ValueClass]  # by number
    totals: Mapping[int, int]  # rows by the number of their class
    logins: Mapping[str, int]  # column -> how many known logins it holds
    rows: int  # of the table
    without_value: int  # rows whose stored value is NULL

    @property
    def is_sampled(self) -> bool:
        """Whether the sample is less than all rows."""
        return self.sample.height < self.rows - self.without_value

    def rows_of(self, value_class: ValueClass) -> pl.DataFrame:
        """Give the sampled rows of a class."""
        return self.sample.filter(pl.col(CLASS) == self.classes.index(value_class))


def scanned(
    table: Table,  # where it stands
    columns: Columns,  # the table's own names by role
    known: Sequence[KnownAccount],  # accounts whose rows are wanted
    *,
    sample_rows: int = SAMPLE_ROWS,  # how many rows to keep, at most twice
) -> ClassScan:
    """Look at all rows of a column once."""
    scanner = _Scanner(table.columns, {a.login.casefold() for a in known}, sample_rows)
    profiler, context = Profiler(floor=Floor()), AuditContext(floor=Floor())
    for looked in looked_at(table, columns, Unreadable(), profiler, context, table.columns):
        scanner.add(looked)
    return scanner.finish()


class _Scanner(Struct):
    """Takes frames in."""

    columns: Sequence[str]
    logins: set[str]
    sample_rows: int
    classes: dict[ValueClass, int] = field(default_factory=dict)
    totals: Counter[int] = field(default_factory=Counter)
    sample: list[pl.DataFrame] = field(default_factory=list)
    rare: list[pl.DataFrame] = field(default_factory=list)
    known: list[pl.DataFrame] = field(default_factory=list)
    rows: int = 0
    with_value: int = 0
    stride: int = 1

    def add(self, looked: Frame) -> None:
        """Take one frame in."""
        self.rows += looked.height
        self.with_value += looked.rows.height
        frame = self._classified(looked)
        self.totals.update(dict(frame[CLASS].value_counts().iter_rows()))
        if self.logins:
            self._note_known(frame)
        self._keep(frame)

    def _classified(self, looked: Frame) -> pl.DataFrame:
        numbers = [
            self.classes.setdefault(
                class_of(read_value(group.stored), group.stored), len(self.classes)
            )
            for group in looked.groups
        ]
        mapped = pl.DataFrame({"group": range(len(numbers)), CLASS: numbers}).cast(pl.UInt32)
        own = [pl.col(OTHER + name).alias(name) for name in self.columns]
        return looked.rows.join(mapped, on="group", maintain_order="left").select(*own, CLASS)

    def _note_known(self, frame: pl.DataFrame) -> None:
        self.known.append(frame.filter(pl.any_horizontal(map(self._is_known, self.columns))))

    def _is_known(self, column: str) -> pl.Expr:
        return pl.col(column).str.to_lowercase().is_in(self.logins)

    def _keep(self, frame: pl.DataFrame) -> None:
        """Keep every so manyth row, and of columns with few values a row for each."""
        self.sample.append(frame.gather_every(self.stride))
        while sum(part.height for part in self.sample) > self.sample_rows:
            self.sample = [part.gather_every(2) for part in self.sample]
            self.stride *= 2
        for name in self.columns:
            if frame[name].n_unique() <= MOST_VALUES:
                self.rare.append(frame.unique([CLASS, name], keep="first", maintain_order=True))

    def finish(self) -> ClassScan:
        """Give what was seen."""
        typed = _typed(self.classes, self.totals)
        empty = pl.DataFrame(schema={**dict.fromkeys(self.columns, pl.String), CLASS: pl.UInt32})
        rare = self.rare if self.stride > 1 else []
        numbered = sorted(self.classes.items(), key=lambda item: item[1])

        def merged(parts: Sequence[pl.DataFrame]) -> pl.DataFrame:
            return pl.concat([empty, *parts]).with_columns(pl.col(CLASS).replace(typed))

        known = merged(self.known)
        return ClassScan(
            sample=merged([*self.sample, *rare]),
            known=known,
            classes=[each for each, _ in numbered],
            totals=self.totals,
            logins=Counter(
                {
                    name: known.filter(self._is_known(name))[name].str.to_lowercase().n_unique()
                    for name in self.columns
                }
            ),
            rows=self.rows,
            without_value=self.rows - self.with_value,
        )


def _typed(classes: Mapping[ValueClass, int], totals: Counter[int]) -> dict[int, int]:
    """Find texts that may be digests and are too few for it beside those of people."""
    text = next((n for each, n in classes.items() if each.kind is ClassKind.TEXT), None)
    if text is None:
        return {}
    found = {
        number: text
        for each, number in classes.items()
        if each.kind in _MAY_BE_TYPED and totals[number] < _CUT_SHARE * totals[text]
    }
    for number in found:
        totals[text] += totals.pop(number)
    return found
