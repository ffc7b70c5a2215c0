"""How the texts of options are read, with what is expected where one does not fit."""

import argparse
import re
from datetime import date, datetime, time
from pathlib import Path

_RATE = re.compile(r"(?P<number>\d{1,9}(?:\.\d{1,6})?)/?(?P<unit>s|min|h)")
_SECONDS_IN = {"s": 1, "min": 60, "h": 3600}
_BYTES = re.compile(r"(?P<number>\d{1,9}(?:\.\d{1,6})?)\s*(?P<unit>KiB|MiB|GiB|TiB)", re.IGNORECASE)
_KIB_IN = {"kib": 1, "mib": 1 << 10, "gib": 1 << 20, "tib": 1 << 30}
_SHARE = re.compile(r"(?P<number>\d{1,3}(?:\.\d{1,6})?)%")
_DAYS = 36_525
_MILLISECONDS = re.compile(r"(?P<number>\d{1,7}(?:\.\d{1,6})?)(?P<unit>ms|s)?")


def milliseconds(text: str) -> float:
    """Read a duration: a number of milliseconds, or one with `ms` or `s` behind it."""
    match = _MILLISECONDS.fullmatch(text.strip())
    number = float(match["number"]) * (1000 if match["unit"] == "s" else 1) if match else 0.0
    if number <= 0:
        raise argparse.ArgumentTypeError("expected a time above 0, like 250 or 250ms or 0.25s")
    return number


def seconds(text: str) -> float:
    """Read a duration in seconds, with or without `s` behind it."""
    return milliseconds(text.strip().removesuffix("s") + "s") / 1000


def rate_per_second(text: str) -> float:
    """Read a rate like `40/s` or `600/min`, above 0."""
    match = _RATE.fullmatch(text.strip())
    number = float(match["number"]) / _SECONDS_IN[match["unit"]] if match else 0.0
    if number <= 0:
        raise argparse.ArgumentTypeError("expected a rate above 0, like 40/s or 600/min")
    return number


def kibibytes(text: str) -> int:
    """Read an amount of memory like `4GiB` or `512MiB`, in KiB."""
    match = _BYTES.fullmatch(text.strip())
    number = int(float(match["number"]) * _KIB_IN[match["unit"].lower()]) if match else 0
    if number < 1:
        raise argparse.ArgumentTypeError("expected an amount above 0, like 4GiB or 512MiB")
    return number


def share(text: str) -> float:
    """Read a share like `30%`."""
    match = _SHARE.fullmatch(text.strip())
    number = float(match["number"]) if match else -1.0
    if not 0 <= number <= 100:
        raise argparse.ArgumentTypeError("expected a share from 0% to 100%")
    return number / 100


def days(text: str) -> int:
    """Read a number of days, from 1 to a hundred years: later than that is no date."""
    number = positive_integer(text)
    if number > _DAYS:
        raise argparse.ArgumentTypeError(f"expected a number of days, up to {_DAYS:,}")
    return number


def time_of_day(text: str) -> time:
    """Read a time of day like `06:00`."""
    try:
        return datetime.strptime(text.strip(), "%H:%M").time()  # noqa: DTZ007 - no date, no zone
    except ValueError:
        raise argparse.ArgumentTypeError("expected a time of day, like 06:00") from None


def day(text: str) -> date:
    """Read a day like `2026-10-01`."""
    try:
        return date.fromisoformat(text.strip())
    except ValueError:
        raise argparse.ArgumentTypeError("expected a day, like 2026-10-01") from None


def positive_integer(text: str) -> int:
    """Read a whole number of 1 or more."""
    if not text.isascii() or not text.isdigit() or not int(text[:9]) >= 1 or len(text) > 9:
        raise argparse.ArgumentTypeError("expected a whole number from 1")
    return int(text)


def plot_file(text: str) -> Path:
    """Read the name of a picture."""
    path = Path(text)
    if path.suffix.lower() not in {".png", ".svg"}:
        raise argparse.ArgumentTypeError("name a file that ends in .png or .svg")
    return path
