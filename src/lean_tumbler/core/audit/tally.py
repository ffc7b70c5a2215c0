"""Counting equal texts without keeping them: a 64-bit hash of each, and one account for it."""

import polars as pl

from lean_tumbler.core.audit.results import ACCOUNTS_SHOWN, Affected, Clusters

_MERGE_ROWS = 1 << 21


class Tally:
    """Takes texts in, frame by frame; memory grows with distinct texts, not with rows."""

    def __init__(self) -> None:
        self._parts: list[pl.DataFrame] = []
        self._rows = 0

    def add(self, rows: pl.DataFrame, *texts: pl.Expr) -> None:
        """Count rows with `account` and `privileged`; equal texts are one.

        Two texts share a hash once in some 10^7 columns of a million: counts are taken as exact.
        """
        hashed = rows.select(
            pl.struct(text.alias(str(place)) for place, text in enumerate(texts))
            .hash(seed=0)
            .alias("text"),
            pl.lit(1, pl.UInt32).alias("rows"),
            pl.col("privileged").cast(pl.UInt32),
            pl.col("account"),
        )
        self._parts.append(_merged(hashed))
        self._rows += self._parts[-1].height
        if self._rows > _MERGE_ROWS and len(self._parts) > 1:
            self._parts = [_merged(pl.concat(self._parts))]
            self._rows = self._parts[0].height

    def clusters(self) -> Clusters:
        """Give the texts that stand more than once, those of privileged accounts first."""
        if not self._parts:
            return Clusters()
        found = (
            _merged(pl.concat(self._parts))
            .filter(pl.col("rows") > 1)
            .sort("privileged", "rows", "text", descending=[True, True, False])
        )
        named = found.head(ACCOUNTS_SHOWN)
        affected = Affected()
        affected.add(
            int(found["rows"].sum()),
            int(found["privileged"].sum()),
            named.filter(pl.col("privileged") > 0)["account"].to_list(),
            named.filter(pl.col("privileged") == 0)["account"].to_list(),
        )
        return Clusters(found.height, max(found["rows"].to_list(), default=0), affected)


def _merged(parts: pl.DataFrame) -> pl.DataFrame:
    """Add up equal texts; one account stands for each, a privileged one where there is one."""
    return parts.group_by("text").agg(
        pl.col("rows").sum(),
        pl.col("privileged").sum(),
        pl.col("account").get(pl.col("privileged").arg_max()),
    )
