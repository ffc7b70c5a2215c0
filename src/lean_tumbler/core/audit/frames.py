"""Rows of one frame, and the groups of those that are alike."""

from collections import Counter

import polars as pl
from msgspec import Struct

from lean_tumbler.core.audit.results import Affected, GroupReading, Span
from lean_tumbler.core.schemes.base import ParsedValue


class Group(Struct, frozen=True):
    """Rows of one shape in one frame: a representative's reading, and what is odd about all."""

    stored: str
    parsed: ParsedValue
    reading: GroupReading
    odd: tuple[str, ...]
    affected: Affected
    span: Span  # of the frame's rows with a value


class Frame(Struct, frozen=True, kw_only=True):
    """One frame, looked at: what is to be added up."""

    height: int
    # those with a value, with the columns `group` (the index in `groups`) and `salted`
    rows: pl.DataFrame
    groups: list[Group]  # the groups of its rows
    # code of a finding -> the rows that show it by their texts alone
    flags: list[tuple[str, pl.DataFrame]]
    digests: pl.DataFrame  # fast rows with `text`, the hash of digest and salt
    salts: pl.DataFrame  # rows with a salt, beside the value or in it, `text` its hash
    copies: pl.DataFrame  # rows whose value holds a salt of its own, `text` the value's hash
    logins: pl.DataFrame  # rows with a login, `text` its hash
    first_blocks: pl.DataFrame  # rows that may be cipher text, `text` the hash of their first block
    # what was read, the formula, and rows that it makes from a likely password
    matches: list[tuple[GroupReading, str, pl.DataFrame]]
    # what was read, and how often each byte occurs in some of its digests
    spread: list[tuple[GroupReading, Counter[int]]]
    # what was read, and how many of some rows hold a digest of their login or of nothing
    own: list[tuple[GroupReading, Counter[str]]]

    def of(self, *groups: int) -> pl.DataFrame:
        """Give the rows of some groups."""
        return self.rows.filter(pl.col("group").is_in(groups))
