"""Days as programs store them: the forms, once for single values and for columns.

Where days and months are separated by slashes, nothing says which goes first; such texts are not
read.
"""

import re
from collections.abc import Mapping
from datetime import UTC, date, datetime
from types import MappingProxyType

_YEAR, _MONTH, _DAY = r"(?:19|20)[0-9]{2}", r"(?:0[1-9]|1[0-2])", r"(?:0[1-9]|[12][0-9]|3[01])"
_END = r"(?:$|[T ,;])"
# Each with the groups year, month and day; RFC 3339 and ISO 8601 first, DIN 5008 last.
CALENDAR_FORMS: Mapping[str, str] = MappingProxyType(
    {
        "ISO 8601": rf"^(?P<year>{_YEAR})-(?P<month>{_MONTH})-(?P<day>{_DAY}){_END}",
        "YYYYMMDD": rf"^(?P<year>{_YEAR})(?P<month>{_MONTH})(?P<day>{_DAY})(?:$|[T ]|[0-9]{{6}}$)",
        "YYYY/MM/DD": rf"^(?P<year>{_YEAR})/(?P<month>{_MONTH})/(?P<day>{_DAY}){_END}",
        "DD.MM.YYYY": (
            rf"^(?P<day>0?[1-9]|[12][0-9]|3[01])\.(?P<month>0?[1-9]|1[0-2])\.(?P<year>{_YEAR}){_END}"
        ),
    }
)
# Ten digits are seconds from 2001 to 2286, thirteen the same in milliseconds.
SECONDS = r"^([0-9]{9,10})(?:\.[0-9]+)?$"
MILLISECONDS = r"^([0-9]{12,13})$"
# What programs write where there was no time: MySQL's zero date, and zero seconds.
NEVER = r"^(?:0000-00-00(?:[T ]00:00:00(?:\.0+)?)?|0(?:\.0+)?)$"


def is_never(text: str | None) -> bool:
    """Tell whether a text stands for no time at all."""
    return text is None or not text.strip() or re.match(NEVER, text.strip()) is not None


def day_in(text: str) -> date | None:
    """Read the day of a date or time, or of seconds since 1970 (in UTC); None where it is none."""
    text = text.strip()
    try:
        for form in CALENDAR_FORMS.values():
            if match := re.search(form, text):
                return date(int(match["year"]), int(match["month"]), int(match["day"]))
        seconds = float(text) if re.search(SECONDS, text) else None
        if re.search(MILLISECONDS, text):
            seconds = int(text) / 1000
        return None if seconds is None else datetime.fromtimestamp(seconds, UTC).date()
    except ValueError:  # the 31st of a shorter month
        return None
