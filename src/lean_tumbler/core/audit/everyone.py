"""Every account of a column, one by one: what its value is, and which findings concern it."""

from collections.abc import Sequence

import polars as pl

from lean_tumbler.core.audit.detectors import Place
from lean_tumbler.core.audit.findings import Finding, members
from lean_tumbler.core.audit.frames import Frame
from lean_tumbler.core.audit.results import Profile
from lean_tumbler.core.grades import Floor


def rows_of(
    frame: Frame, found: Sequence[Finding], profile: Profile, floor: Floor, place: Place
) -> pl.DataFrame:
    """Give the rows of one frame: `account`, `privileged`, `scheme`, `grade` and `findings`.

    A row without a value has neither scheme nor grade. Findings are joined with blanks, the worst
    first.
    """
    readings = [profile.readings.get(group.reading, group.reading) for group in frame.groups]
    groups = pl.DataFrame(
        {
            "group": range(len(readings)),
            "scheme": [reading.scheme for reading in readings],
            "grade": [str(reading.grade) for reading in readings],
        },
        schema={"group": pl.UInt32, "scheme": pl.String, "grade": pl.String},
    )
    valued = frame.rows.select("account", "privileged", "group").join(
        groups, on="group", how="left", maintain_order="left"
    )
    empty = [rows.select("account", "privileged") for code, rows in frame.flags
             if code == "no-credential"]  # fmt: skip
    rows = pl.concat([valued.drop("group"), *empty], how="diagonal")
    return rows.join(_codes(frame, found, profile, floor, place), on="account", how="left")


def _codes(
    frame: Frame, found: Sequence[Finding], profile: Profile, floor: Floor, place: Place
) -> pl.DataFrame:
    """Give the codes of the findings that concern each account."""
    parts = [
        rows.select("account", pl.lit(finding.code).alias("findings"))
        for finding, rows in members(found, profile, floor, place, frame)
    ]
    if not parts:
        return pl.DataFrame(schema={"account": pl.String, "findings": pl.String})
    each = pl.concat(parts).unique(maintain_order=True)
    return each.group_by("account", maintain_order=True).agg(pl.col("findings").str.join(" "))
