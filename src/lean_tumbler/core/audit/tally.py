"""Counting equal texts without keeping them: a 64-bit hash of each, and one account for it."""

import polars as pl

from lean_tumbler.core.audit.results import ACCOUNTS_SHOWN, Affected, Clusters

_MERGE_ROWS = 1 << 20


def text_hash(text: pl.Expr, beside: pl.Expr | None = None) -> pl.Expr:
    """Hash a text, and what stands beside it where there is something.

    Two texts share a hash once in some 10^7 columns of a million: counts are taken as exact.
    """
    hashed = text.hash(seed=0)
    if beside is None:
        return hashed
    is_there = beside.str.len_bytes() > 0  # an empty text beside it is nothing, as NULL is
    return hashed.xor(pl.when(is_there).then(beside.hash(seed=1)).otherwise(0))


class Tally:
    """Takes texts in, frame by frame; memory grows with distinct texts, not with rows.

    Args:
        mostly_distinct: adding up on the way would save nothing.
    """

    def __init__(self, *, mostly_distinct: bool = False) -> None:
        self._mostly_distinct = mostly_distinct
        self._parts: list[pl.DataFrame] = []
        self._unmerged_rows = 0

    def add(self, rows: pl.DataFrame) -> None:
        """Count rows of `text` (a hash), `account` and `privileged`; equal hashes are one."""
        self._parts.append(
            rows.select(
                "text",
                pl.lit(1, pl.UInt32).alias("rows"),
                pl.col("privileged").cast(pl.UInt32),
                "account",
            )
        )
        self._unmerged_rows += rows.height
        if self._unmerged_rows > _MERGE_ROWS and not self._mostly_distinct:
            self._merge()

    def _merge(self) -> None:
        """Add up equal texts; one account stands for each, a privileged one where there is one."""
        parts = pl.concat(self._parts)
        if parts["text"].n_unique() == parts.height:
            self._parts, self._unmerged_rows = [parts], 0
            return
        merged = parts.group_by("text").agg(
            pl.col("rows").sum(), pl.col("privileged").sum(), pl.col("account").first()
        )
        privileged = parts.filter(pl.col("privileged") > 0)
        if privileged.height:
            named = privileged.group_by("text").agg(pl.col("account").first())
            merged = merged.update(named, on="text", how="left")
        self._parts, self._unmerged_rows = [merged], 0

    def repeated(self) -> pl.DataFrame:
        """Give the hashes of texts that stand more than once, as the column `text`."""
        return self._found().select("text")

    def _found(self) -> pl.DataFrame:
        if not self._parts:
            return pl.DataFrame(schema={"text": pl.UInt64, "rows": pl.UInt32})
        if self._unmerged_rows:
            self._merge()
        return self._parts[0].filter(pl.col("rows") > 1)

    def clusters(self) -> Clusters:
        """Give the texts that stand more than once, those of privileged accounts first."""
        found = self._found()
        if found.height == 0:
            return Clusters()
        order = ["privileged", "rows", "text"]
        named = found.top_k(ACCOUNTS_SHOWN, by=order, reverse=[False, False, True]).sort(
            order, descending=[True, True, False]
        )
        affected = Affected()
        affected.add(
            int(found["rows"].sum()),
            int(found["privileged"].sum()),
            named.filter(pl.col("privileged") > 0)["account"].to_list(),
            named.filter(pl.col("privileged") == 0)["account"].to_list(),
        )
        sizes = found.group_by("rows").len().sort("rows", descending=True)
        return Clusters(found.height, max(sizes["rows"].to_list()), affected, dict(sizes.rows()))
