"""Findings that rest on what values themselves are."""

from collections.abc import Callable

import polars as pl
from msgspec import Struct

from lean_tumbler.core.audit.detectors import Case, Flagged, gather, of_reading, schemes_of
from lean_tumbler.core.audit.digest_lengths import length_of
from lean_tumbler.core.audit.frames import Frame
from lean_tumbler.core.audit.results import TRUNCATED, Affected, GroupReading
from lean_tumbler.core.audit.whole_column import unexplained_classes
from lean_tumbler.core.tuning.ceiling import CEILING, ceiling_seconds, is_unusual
from lean_tumbler.core.tuning.work import work_of

_TWICE = frozenset({"double-sha1"})


_NOT_WHOLE = Flagged(TRUNCATED, "{rows} values are not whole")


class CutOff(Struct, frozen=True):
    """Values that are not whole: by themselves, or beside the others of their scheme."""

    def count(self, case: Case) -> tuple[Affected, str]:
        """Take what the profile counted."""
        return _NOT_WHOLE.count(case)

    def members(self, case: Case, frame: Frame) -> pl.DataFrame:
        """Give the rows of both kinds."""
        short = [
            number
            for number, group in enumerate(frame.groups)
            if TRUNCATED not in group.odd and length_of(group.parsed) in case.profile.cut
        ]
        by_length = frame.of(*short).select("account", "privileged")
        return pl.concat([_NOT_WHOLE.members(case, frame), by_length])


def _seconds(reading: GroupReading) -> float:
    work = work_of(reading.scheme, dict(reading.parameters), formula=reading.formula)
    return work.seconds_of_a_core if work else 0.0


class UnusualWork(Struct, frozen=True):
    """Rows that ask for far more work than nine in ten of their column."""

    def count(self, case: Case) -> tuple[Affected, str]:
        """Add up the groups above the ceiling."""
        ceiling = self._ceiling(case)
        wanted = self._above(ceiling)
        affected = gather(case.profile, wanted)
        dearest = max(map(_seconds, case.profile.groups), default=0.0)
        return affected, (
            f"{schemes_of(case.profile, wanted)}; one check of the dearest takes about "
            f"{dearest:,.1f} s of a core, and of nine rows in ten under {ceiling / CEILING:,.2f} s"
        )

    def members(self, case: Case, frame: Frame) -> pl.DataFrame:
        """Give the rows of these groups."""
        return of_reading(case, frame, self._above(self._ceiling(case)))

    def _ceiling(self, case: Case) -> float:
        return ceiling_seconds(
            (_seconds(reading), affected.rows) for reading, affected in case.profile.groups.items()
        )

    @staticmethod
    def _above(ceiling: float) -> Callable[[GroupReading], bool]:
        return lambda reading: is_unusual(_seconds(reading), ceiling)


class DrawnAtRandom(Struct, frozen=True):
    """Texts that the column as a whole shows to be digests, where nothing else says so."""

    def count(self, case: Case) -> tuple[Affected, str]:
        """Take the classes of the survey."""
        classes = unexplained_classes(case.profile)
        affected = Affected()
        affected.add(sum(rows for _, rows in classes), 0, [], [])
        named = "; ".join(
            f"{rows:,} texts of {found.length} characters: {found.kind.name}"
            for found, rows in classes
        )
        return affected, named

    def members(self, case: Case, frame: Frame) -> pl.DataFrame:
        """Give the rows of the frame whose text is of one of them."""
        column = case.profile.column
        texts = frame.rows["stored"].to_list()
        hits = pl.Series([bool(column.suspects(text)) for text in texts], dtype=pl.Boolean)
        return frame.rows.filter(hits).select("account", "privileged")


_HOLDS_LIKELY = Flagged("common-password", "{rows} of {all} rows hold a likely password")


class CommonPassword(Struct, frozen=True):
    """Rows that hold a likely password: plain, unsalted, or tried within the budget."""

    def count(self, case: Case) -> tuple[Affected, str]:
        """Take what the profile counted, and say what was tried."""
        affected, evidence = _HOLDS_LIKELY.count(case)
        return affected, "; ".join(filter(None, (evidence, case.profile.coverage)))

    def members(self, case: Case, frame: Frame) -> pl.DataFrame:
        """Give the rows of the frame that it found."""
        found = _HOLDS_LIKELY.members(case, frame)
        if case.profile.opened.height == 0:
            return found
        opened = frame.rows.join(case.profile.opened, on="account", how="semi")
        return pl.concat([found, opened.select("account", "privileged")])


class MixedCase(Struct, frozen=True):
    """Hexadecimal digits in both cases, within values or from value to value."""

    def count(self, case: Case) -> tuple[Affected, str]:
        """Take the mixed ones, or the rarer case."""
        lower, upper, mixed = self._parts(case)
        evidence = f"{lower.rows:,} in lower case, {upper.rows:,} in upper, {mixed.rows:,} mixed"
        return self._rarer(lower, upper, mixed)[1], evidence

    @staticmethod
    def _parts(case: Case) -> tuple[Affected, Affected, Affected]:
        def of(layout: str) -> Affected:
            return gather(case.profile, lambda reading: reading.layout == layout)

        return of("hex"), of("hex-upper"), of("hex, mixed case")

    @staticmethod
    def _rarer(lower: Affected, upper: Affected, mixed: Affected) -> tuple[str, Affected]:
        if mixed.rows:
            return "hex, mixed case", mixed
        return min(("hex", lower), ("hex-upper", upper), key=lambda part: part[1].rows)

    def members(self, case: Case, frame: Frame) -> pl.DataFrame:
        """Give the rows of the layout that was counted."""
        layout, _ = self._rarer(*self._parts(case))
        return of_reading(case, frame, lambda reading: reading.layout == layout)


class Encrypted(Struct, frozen=True):
    """Whole cipher blocks."""

    def count(self, case: Case) -> tuple[Affected, str]:
        """Add up the blocks; equal first blocks in different values betray the mode."""
        affected = gather(case.profile, lambda reading: reading.scheme == "encrypted")
        evidence = f"{affected.rows:,} values are whole cipher blocks"
        firsts = case.profile.first_blocks.affected.rows
        if affected.rows and firsts > case.profile.digests.affected.rows:
            evidence += (
                f"; {firsts:,} share their first block with another: "
                "equal blocks are encrypted alike (ECB)"
            )
        return affected, evidence

    def members(self, case: Case, frame: Frame) -> pl.DataFrame:
        """Give the rows of whole blocks."""
        return of_reading(case, frame, lambda reading: reading.scheme == "encrypted")


class DigestOfDigest(Struct, frozen=True):
    """Digests of digests: named so by their scheme, or shown by likely passwords."""

    def count(self, case: Case) -> tuple[Affected, str]:
        """Add up the groups that are."""
        affected = gather(case.profile, _is_twice)
        return affected, f"{affected.rows:,} rows: {schemes_of(case.profile, _is_twice)}"

    def members(self, case: Case, frame: Frame) -> pl.DataFrame:
        """Give the rows of these groups."""
        return of_reading(case, frame, _is_twice)


def _is_twice(reading: GroupReading) -> bool:
    return reading.twice or reading.scheme in _TWICE
