"""Times as people store them, read as days: ISO 8601, and seconds or milliseconds since 1970."""

import re
from collections import Counter
from dataclasses import dataclass, field
from datetime import date

import polars as pl

_EPOCH = date(1970, 1, 1).toordinal()  # day 0 of the numbers
# Ten digits are seconds from 2001 to 2286, thirteen the same in milliseconds.
_ISO = r"^((?:19|20)\d\d-(?:0[1-9]|1[0-2])-(?:0[1-9]|[12]\d|3[01]))(?:$|[T ])"
_ZONE = r"[T ]\d\d:?\d\d.*(?:[+-]\d\d:?\d\d|[A-Z]{3,5})$"
_SECONDS = r"^(\d{9,10})(?:\.\d+)?$"
_MILLISECONDS = r"^(\d{12,13})$"


# What programs write where there was no time: MySQL's zero date, and zero seconds.
_NEVER = r"^(?:0000-00-00(?:[T ]00:00:00(?:\.0+)?)?|0(?:\.0+)?)$"


def is_never(text: str | None) -> bool:
    """Tell whether a text stands for no time at all."""
    return text is None or not text.strip() or re.match(_NEVER, text.strip()) is not None


def number_of(day: date) -> int:
    """Give a day as a number of days since 1970."""
    return day.toordinal() - _EPOCH


def day_of(number: int) -> date:
    """Give the day that a number stands for."""
    return date.fromordinal(number + _EPOCH)


@dataclass(slots=True)
class Times:
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
        forms = [form for form in ("ISO 8601", "seconds", "milliseconds") if self.forms[form]]
        found = []
        if len(forms) > 1:
            counted = ", ".join(f"{self.forms[form]:,} {form}" for form in forms)
            found.append(f"times stand in several forms, which are all read: {counted}")
        if self.forms["with a zone"]:
            found.append(
                f"{self.forms['with a zone']:,} times name a zone; their own date is taken, which "
                "may be a day off"
            )
        if self.unreadable:
            found.append(f"{self.unreadable:,} times cannot be read and are left out")
        if self.future:
            found.append(f"{self.future:,} times are in the future and are left out")
        return found


def days_of(column: pl.Series, *, today: date, times: Times) -> pl.Series:
    """Read times as days since 1970; null where there is none, or none that makes sense.

    Args:
        column: texts.
        today: later days are left out.
        times: counts what was found.
    """
    text = pl.col("text")
    is_time = (text.str.len_bytes() > 0) & ~text.str.contains(_NEVER)
    iso = text.str.extract(_ISO, 1).str.to_date("%Y-%m-%d", strict=False).cast(pl.Int32)
    seconds = text.str.extract(_SECONDS, 1).cast(pl.Int64)
    milliseconds = text.str.extract(_MILLISECONDS, 1).cast(pl.Int64)
    frame = pl.DataFrame({"text": column.cast(pl.String).str.strip_chars()}).with_columns(
        text=pl.when(is_time).then(text)
    )
    read = frame.with_columns(
        iso=iso,
        seconds=(seconds // 86_400).cast(pl.Int32),
        milliseconds=(milliseconds // 86_400_000).cast(pl.Int32),
        zoned=text.str.contains(_ZONE) & iso.is_not_null(),
    ).with_columns(day=pl.coalesce("iso", "seconds", "milliseconds"))
    last = number_of(today)
    day = pl.col("day")
    counted = read.select(
        pl.col("iso").is_not_null().sum().alias("ISO 8601"),
        pl.col("seconds").is_not_null().sum().alias("seconds"),
        pl.col("milliseconds").is_not_null().sum().alias("milliseconds"),
        pl.col("zoned").sum().alias("with a zone"),
        (text.is_not_null() & day.is_null()).sum().alias("unreadable"),
        (day > last).sum().alias("in the future"),
        text.is_null().sum().alias("none"),
    ).row(0, named=True)
    times.forms.update({form: int(number or 0) for form, number in counted.items()})
    return read.select(pl.when(day <= last).then(day))["day"]
