"""What values that hold their own salt share, though each should be unlike all others."""

from collections.abc import Iterator, Sequence

import polars as pl

from lean_tumbler.core.audit.frames import Group
from lean_tumbler.core.audit.tally import text_hash
from lean_tumbler.core.schemes.base import Layout
from lean_tumbler.core.schemes.catalogue import LAYOUTS, TAGS

SHORT_SALT_BYTES = 8  # RFC 8018 section 4.1 asks for at least 64 bits
_SALTED = tuple(layout for layout in LAYOUTS if "salt" in layout.groups and not layout.by_value)
# A digest in base64 of 256 bits or more has capitals and small letters: without one of them it
# came about by chance once in 5·10^9 values of 43 characters (38 of 64 are no capitals).
_RUN = r"([./+0-9A-Za-z_-]{43,})=*$"


def with_own_salt(rows: pl.DataFrame, groups: Sequence[Group]) -> pl.DataFrame:
    """Give the rows whose values hold a salt of their own, long enough not to repeat by chance.

    Args:
        rows: with `stored` and `group`.
        groups: what the rows of each have in common; the salt is at one place in all of them.

    Returns:
        `account`, `privileged`, `text` (the salt's hash) and `whole` (the value's).
    """
    places = [
        (number, start, stop - start)
        for number, group in enumerate(groups)
        for start, stop in _salt_of(group)
    ]
    schema = {"group": pl.UInt32, "start": pl.Int64, "length": pl.UInt64}
    of_groups = pl.DataFrame(places, schema=schema, orient="row")
    salt = pl.col("stored").str.slice(pl.col("start"), pl.col("length"))
    return rows.join(of_groups, on="group", maintain_order="left").select(
        "account", "privileged", text=text_hash(salt), whole=text_hash(pl.col("stored"))
    )


def _salt_of(group: Group) -> Iterator[tuple[int, int]]:
    """Give where the salt of a group's values begins and ends; nothing where they have none."""
    parsed = group.parsed
    if group.reading.wrappers or len(parsed.salt or b"") < SHORT_SALT_BYTES:
        return
    match = next(filter(None, (_match(each, group.stored) for each in _SALTED
                               if each.name == parsed.layout)), None)  # fmt: skip
    if match is not None:
        yield match


def _match(layout: Layout, stored: str) -> tuple[int, int] | None:
    match = layout.match(stored)
    return match.span("salt") if match and match["salt"] else None


def folded(stored: pl.Expr) -> pl.Expr:
    """Tell values whose letters somebody folded: no digest in base64 lacks capitals by chance."""
    tagged = pl.when(stored.str.slice(0, 1).is_in(TAGS)).then(stored)
    run = tagged.str.extract(_RUN, 1)
    small, capital = run.str.contains("[a-z]"), run.str.contains("[A-Z]")
    beyond_hexadecimal = run.str.contains("[g-zG-Z]")
    return (beyond_hexadecimal & (small != capital)).fill_null(value=False)
