"""Values of one login that stand in several columns alike: a copy, or one password used twice."""

from collections.abc import Mapping

import polars as pl
from msgspec import Struct, field

from lean_tumbler.core.audit.frames import Frame
from lean_tumbler.core.audit.results import Affected, affected_by
from lean_tumbler.core.audit.tally import text_hash
from lean_tumbler.core.grades import Grade

# Markers, remnants and nothing at all are alike everywhere, and say nothing.
_SAYS_NOTHING = frozenset({Grade.LOCKED, Grade.UNKNOWN})


class Elsewhere(Struct, frozen=True, kw_only=True):
    """What a column shares with others."""

    # for each other column, how many values of the same login stand there too
    rows: Mapping[str, int] = field(default_factory=dict)
    # rows of this column whose value stands in any other
    affected: Affected = field(default_factory=Affected)
    # `text`, the hashes of login and value of these rows
    texts: pl.DataFrame = field(default_factory=lambda: pl.DataFrame(schema={"text": pl.UInt64}))

    def __str__(self) -> str:
        return ", ".join(f"{rows:,} in {column}" for column, rows in self.rows.items())


def values_of_logins(frame: Frame) -> pl.DataFrame:
    """Give the rows with a login and a value, `text` a hash of both.

    Beside it `account` and `privileged`. The letter case of a login does not count, nor blanks
    around it.
    """
    says = [
        number
        for number, group in enumerate(frame.groups)
        if group.reading.grade not in _SAYS_NOTHING and group.reading.scheme != "empty"
    ]
    login = pl.col("login").str.strip_chars().str.to_lowercase()
    rows = frame.rows.filter(pl.col("group").is_in(says) & login.is_not_null())
    return rows.select("account", "privileged", text=text_hash(login, pl.col("stored")))


def elsewhere(columns: Mapping[str, pl.DataFrame]) -> dict[str, Elsewhere]:
    """Compare columns with each other.

    Args:
        columns: by name, what `values_of_logins` gives of all their rows.
    """
    found: dict[str, Elsewhere] = {}
    for name, rows in columns.items():
        shared = {
            other: common
            for other, theirs in columns.items()
            if other != name and (common := rows.join(theirs, on="text", how="semi")).height
        }
        if shared:
            common = pl.concat(shared.values()).unique(maintain_order=True)
            found[name] = Elsewhere(
                rows={other: rows.height for other, rows in shared.items()},
                affected=affected_by(common),
                texts=common.select("text").unique(),
            )
    return found
