"""Counting a column: groups of equal readings, and digests that stand more than once."""

from collections.abc import Sequence
from dataclasses import replace
from functools import lru_cache

import polars as pl

from lean_tumbler.core.audit.results import ACCOUNTS_SHOWN, Affected, Profile, Reading
from lean_tumbler.core.audit.shapes import with_shapes
from lean_tumbler.core.formulas.analysis import digests_used
from lean_tumbler.core.grades import Floor, Grade, grade
from lean_tumbler.core.policy import NamedFormula
from lean_tumbler.core.schemes.base import Kind, ParsedValue
from lean_tumbler.core.schemes.catalogue import read_value

_MERGE_ROWS = 1 << 20


class Profiler:
    """Takes frames in and gives the profile of all of them.

    Args:
        floor: the least that counts as current.
        formulas: the store's formulas; where one fits a value, it names the scheme for certain.
    """

    def __init__(self, *, floor: Floor, formulas: Sequence[NamedFormula] = ()) -> None:
        self._floor = floor
        self._formulas = tuple(formulas)
        self._profile = Profile()
        self._digests: list[pl.DataFrame] = []
        self._digest_rows = 0
        self._read = lru_cache(maxsize=65_536)(self._read_value)

    def add(self, frame: pl.DataFrame) -> None:
        """Count one frame: `account`, `stored`, `salt` as text, `privileged` as a truth value."""
        profile = self._profile
        profile.rows += frame.height
        profile.without_value += frame["stored"].null_count()
        self._count(frame.filter(pl.col("stored").is_not_null()))

    def _count(self, rows: pl.DataFrame) -> None:
        shaped = with_shapes(rows, column="stored", shape="shape").with_columns(
            salted=pl.col("salt").str.len_bytes().fill_null(0) > 0,
            # A value without a shape is its own shape.
            shape=pl.coalesce("shape", pl.concat_str(pl.lit("="), pl.col("stored"))),
        )
        privileged = pl.col("privileged")
        accounts = pl.col("account")
        groups = shaped.group_by("shape", "salted", maintain_order=True).agg(
            pl.len().alias("rows"),
            privileged.sum().alias("privileged_rows"),
            accounts.filter(privileged).head(ACCOUNTS_SHOWN).alias("privileged"),
            accounts.filter(~privileged).head(ACCOUNTS_SHOWN).alias("others"),
            pl.col("stored").first(),
        )
        fast: list[tuple[str, bool, bool]] = []
        for row in groups.iter_rows(named=True):
            reading = self._read(row["stored"], row["salted"])
            if reading.grade in {Grade.FAST_UNSALTED, Grade.FAST_SALTED}:
                fast.append((row["shape"], row["salted"], "hex" in reading.layout))
            self._profile.groups.setdefault(reading, Affected()).add(
                row["rows"], row["privileged_rows"], row["privileged"], row["others"]
            )
        if fast:
            self._note_digests(shaped, fast)

    def _read_value(self, stored: str, salted: bool) -> Reading:
        parsed = read_value(stored)
        salted_inside = parsed.salted
        salted_beside = salted and parsed.kind in {Kind.FAST, Kind.UNKNOWN}
        parsed, takes_salt = self._explained(parsed, stored, salted=salted)
        has_salt = salted_inside or (salted_beside if takes_salt is None else takes_salt)
        return Reading(
            scheme=parsed.scheme,
            layout=parsed.layout,
            salted=has_salt,
            grade=grade(parsed, self._floor, salted=has_salt),
            parameters=tuple(parsed.parameters.items()),
            confidence=parsed.contents.confidence,
            also_possible=parsed.contents.also_possible,
        )

    def _explained(
        self, parsed: ParsedValue, stored: str, *, salted: bool
    ) -> tuple[ParsedValue, bool | None]:
        """Let the store's formulas say what a bare value is, where only one kind fits."""
        if parsed.kind not in {Kind.FAST, Kind.UNKNOWN}:
            return parsed, None
        salt = b"salt" if salted else None
        fitting = [named for named in self._formulas if named.fits(stored, salt=salt)]
        digests = {(digests_used(named.formula) or ("",))[-1] for named in fitting}
        takes_salt = {named.takes_salt or named.takes_login for named in fitting}
        if len(digests) != 1 or len(takes_salt) != 1:
            return parsed, None
        contents = replace(parsed.contents, confidence=1.0, also_possible=())
        explained = replace(parsed, scheme=digests.pop(), kind=Kind.FAST, contents=contents)
        return explained, takes_salt.pop()

    def _note_digests(self, shaped: pl.DataFrame, fast: list[tuple[str, bool, bool]]) -> None:
        """Keep a 64-bit hash of each distinct digest with its salt, and how often it stands."""
        schema = {"shape": pl.String, "salted": pl.Boolean, "is_hex": pl.Boolean}
        keys = pl.DataFrame(fast, schema=schema, orient="row")
        digests = shaped.join(keys, on=["shape", "salted"], maintain_order="left")
        folded = (
            pl.when(pl.col("is_hex"))
            .then(pl.col("stored").str.to_lowercase())
            .otherwise(pl.col("stored"))
        )
        hashed = digests.select(
            pl.struct(folded.alias("digest"), "salt").hash(seed=0).alias("digest"),
            pl.lit(1, pl.UInt32).alias("rows"),
            pl.col("privileged").cast(pl.UInt32),
            pl.col("account"),
        )
        self._digests.append(_merged(hashed))
        self._digest_rows += self._digests[-1].height
        if self._digest_rows > 2 * _MERGE_ROWS and len(self._digests) > 1:
            self._digests = [_merged(pl.concat(self._digests))]
            self._digest_rows = self._digests[0].height

    def finish(self) -> Profile:
        """Give the profile of all frames."""
        if self._digests:
            merged = _merged(pl.concat(self._digests))
            clusters = merged.filter(pl.col("rows") > 1).sort(
                "privileged", "rows", "digest", descending=[True, True, False]
            )
            self._profile.shared_clusters = clusters.height
            self._profile.largest_cluster = max(clusters["rows"].to_list(), default=0)
            named = clusters.head(ACCOUNTS_SHOWN)
            self._profile.shared.add(
                int(clusters["rows"].sum()),
                int(clusters["privileged"].sum()),
                named.filter(pl.col("privileged") > 0)["account"].to_list(),
                named.filter(pl.col("privileged") == 0)["account"].to_list(),
            )
        return self._profile


def _merged(digests: pl.DataFrame) -> pl.DataFrame:
    """Add up equal digests; one account stands for each, a privileged one where there is one."""
    return digests.group_by("digest").agg(
        pl.col("rows").sum(),
        pl.col("privileged").sum(),
        pl.col("account").get(pl.col("privileged").arg_max()),
    )
