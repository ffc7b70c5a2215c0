"""Columns of times, read as days."""

from collections import Counter
from datetime import date

import polars as pl
from msgspec import Struct, field

from lean_tumbler.core.stored_days import CALENDAR_FORMS, MILLISECONDS, NEVER, SECONDS

_EPOCH = date(1970, 1, 1).toordinal()  # day 0 of the numbers
_ZONE = r"[T ]\d\d:?\d\d.*(?:[+-]\d\d:?\d\d|[A-Z]{3,5})$"
_FORMS = (*CALENDAR_FORMS, "seconds", "milliseconds")


def number_of(day: date) -> int:
    """Give a day as a number of days since 1970."""
    return day.toordinal() - _EPOCH


def day_of(number: int) -> date:
    """Give the day that a number stands for."""
    return date.fromordinal(number + _EPOCH)


class Times(Struct):
    """What a column of times held: how many in which form, and which were of no use."""

    forms: Counter[str] = field(default_factory=Counter)

    @property
    def unreadable(self) -> int:
        """Texts that are no time."""
        return self.forms["unreadable"]

    @property
    def future(self) -> int:
        """Times that have not come yet."""
        return self.forms["in the future"]

    def notes(self) -> list[str]:
        """Say what a reader should know of them."""
        forms = [form for form in _FORMS if self.forms[form]]
        found = []
        if len(forms) > 1:
            counted = ", ".join(f"{self.forms[form]:,} {form}" for form in forms)
            found.append(f"times are written in several forms, all of which are read: {counted}")
        if self.forms["with a zone"]:
            found.append(
                f"times that name a zone: {self.forms['with a zone']:,}; their own date is taken, "
                "which may be a day off"
            )
        if self.unreadable:
            found.append(f"times that cannot be read, and are left out: {self.unreadable:,}")
        if self.forms["of tomorrow"]:
            found.append(
                f"times of tomorrow, as of a server farther east, taken for today: "
                f"{self.forms['of tomorrow']:,}"
            )
        if self.future:
            found.append(f"times in the future, which are left out: {self.future:,}")
        return found


def days_of(column: pl.Series, *, today: date, times: Times) -> pl.Series:
    """Read times as days since 1970; null where there is none, or none that makes sense.

    Args:
        column: texts.
        today: tomorrow is taken for today, as zones differ; later days are left out.
        times: counts what was found.
    """
    text = pl.col("text")
    is_time = (text.str.len_bytes() > 0) & ~text.str.contains(NEVER)
    seconds = text.str.extract(SECONDS, 1).cast(pl.Int64) // 86_400
    milliseconds = text.str.extract(MILLISECONDS, 1).cast(pl.Int64) // 86_400_000
    frame = pl.DataFrame({"text": column.cast(pl.String).str.strip_chars()}).with_columns(
        text=pl.when(is_time).then(text)
    )
    read = frame.with_columns(
        **{form: _calendar_day(text, pattern) for form, pattern in CALENDAR_FORMS.items()},
        seconds=seconds.cast(pl.Int32),
        milliseconds=milliseconds.cast(pl.Int32),
    ).with_columns(
        day=pl.coalesce(*_FORMS),
        zoned=text.str.contains(_ZONE) & pl.coalesce(*CALENDAR_FORMS).is_not_null(),
    )
    last = number_of(today)
    day = pl.col("day")
    counted = read.select(
        *(pl.col(form).is_not_null().sum() for form in _FORMS),
        pl.col("zoned").sum().alias("with a zone"),
        (text.is_not_null() & day.is_null()).sum().alias("unreadable"),
        (day == last + 1).sum().alias("of tomorrow"),
        (day > last + 1).sum().alias("in the future"),
        text.is_null().sum().alias("none"),
    ).row(0, named=True)
    times.forms.update({form: int(number or 0) for form, number in counted.items()})
    return read.select(pl.when(day <= last + 1).then(day.clip(upper_bound=last)))["day"]


def _calendar_day(text: pl.Expr, pattern: str) -> pl.Expr:
    """Give the day since 1970; null where the text is not of this form, or no such day is."""
    part = text.str.extract_groups(pattern).struct
    padded = pl.concat_str(
        part.field("year"),
        part.field("month").str.zfill(2),
        part.field("day").str.zfill(2),
        separator="-",
    )
    return padded.str.to_date("%Y-%m-%d", strict=False).cast(pl.Int32)
