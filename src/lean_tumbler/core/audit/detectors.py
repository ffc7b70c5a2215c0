"""How each finding is seen: in a whole column, counted; and in a frame, row by row."""

import re
from collections.abc import Callable, Iterable
from dataclasses import dataclass, field
from typing import Protocol

import polars as pl

from lean_tumbler.core.audit.digest_lengths import TRUNCATED, length_of
from lean_tumbler.core.audit.elsewhere import Elsewhere, values_of_logins
from lean_tumbler.core.audit.evidence import unexplained_classes
from lean_tumbler.core.audit.opening import Opens
from lean_tumbler.core.audit.profile import Frame
from lean_tumbler.core.audit.results import Affected, Clusters, Profile, Reading
from lean_tumbler.core.grades import BELOW_FLOOR, Floor, Grade

_STATIC_SHARE = 0.5  # one salt for more than half of the salted rows is no salt
_STATIC_ROWS = 10
_FAST = frozenset({Grade.FAST_UNSALTED, Grade.FAST_SALTED})
_LEFTOVER_TABLE = re.compile(
    r"(^|_)(old|bak|backup|copy|tmp|temp|archive|\d{4,8})($|_)", re.IGNORECASE
)
_LOG_TABLE = re.compile(
    r"(^|_)(log|logs|audit|history|events?|trace|requests?)($|_)", re.IGNORECASE
)
_TWICE = frozenset({"double-sha1"})


@dataclass(frozen=True, slots=True, kw_only=True)
class Place:
    """Where a column stands, and what is known of it beside its values.

    Attributes:
        beside: other columns of the table that hold credentials.
        opens: the values of one of them that this column's content opens; None for none.
        elsewhere: what it shares with other columns of the source.
        characters: the most that the column holds; None where nothing bounds it.
        collation: a collation that takes upper and lower case for one; or empty.
        needed: the characters that a new value needs, and a layered one.
    """

    table: str = ""
    column: str = ""
    beside: tuple[str, ...] = ()
    opens: Opens | None = None
    elsewhere: Elsewhere = field(default_factory=Elsewhere)
    characters: int | None = None
    collation: str = ""
    needed: tuple[int, int] = (0, 0)


@dataclass(frozen=True, slots=True)
class Case:
    """What a detector looks at."""

    profile: Profile
    floor: Floor
    place: Place


class Detector(Protocol):
    """One way of seeing something wrong."""

    def count(self, case: Case) -> tuple[Affected, str]:
        """Give the rows that it concerns, and the evidence in numbers."""

    def members(self, case: Case, frame: Frame) -> pl.DataFrame:
        """Give the rows of one frame that it concerns; asked only where it counted some."""


def _total(parts: Iterable[Affected]) -> Affected:
    total = Affected()
    for part in parts:
        total.take(part)
    return total


def _gather(profile: Profile, wanted: Callable[[Reading], bool]) -> Affected:
    return _total(affected for reading, affected in profile.groups.items() if wanted(reading))


def _schemes_of(profile: Profile, wanted: Callable[[Reading], bool]) -> str:
    rows: dict[str, int] = {}
    for reading, affected in profile.groups.items():
        if wanted(reading):
            costs = " ".join(f"{name}={number}" for name, number in reading.parameters)
            name = f"{reading.scheme} {costs}".strip()
            rows[name] = rows.get(name, 0) + affected.rows
    ordered = sorted(rows.items(), key=lambda item: -item[1])
    return ", ".join(f"{count:,} {name}" for name, count in ordered)


def _of_reading(case: Case, frame: Frame, wanted: Callable[[Reading], bool]) -> pl.DataFrame:
    readings = case.profile.readings
    return frame.of(
        *(
            number
            for number, group in enumerate(frame.groups)
            if wanted(readings.get(group.reading, group.reading))
        )
    )


def _always(_: Case) -> bool:
    return True


@dataclass(frozen=True, slots=True)
class ByReading:
    """Groups by what they are; evidence may name {rows} {all} {schemes} {wrappers} {floor}."""

    wanted: Callable[[Reading], bool]
    evidence: str
    when: Callable[[Case], bool] = _always

    def count(self, case: Case) -> tuple[Affected, str]:
        """Add up the groups."""
        affected = _gather(case.profile, self.wanted) if self.when(case) else Affected()
        return affected, self.evidence.format(
            rows=f"{affected.rows:,}",
            wrappers=", ".join(
                sorted({name for reading in case.profile.groups for name in reading.wrappers})
            ),
            all=f"{case.profile.rows:,}",
            schemes=_schemes_of(case.profile, self.wanted),
            floor=case.floor.source,
            place=case.place,
            beside=", ".join(case.place.beside),
        )

    def members(self, case: Case, frame: Frame) -> pl.DataFrame:
        """Give the rows of these groups."""
        return _of_reading(case, frame, self.wanted)


@dataclass(frozen=True, slots=True)
class Flagged:
    """Rows that the profile flagged under a code."""

    code: str
    evidence: str

    def count(self, case: Case) -> tuple[Affected, str]:
        """Take what the profile counted."""
        affected = case.profile.flagged.get(self.code, Affected())
        return affected, self.evidence.format(
            rows=f"{affected.rows:,}", all=f"{case.profile.rows:,}"
        )

    def members(self, case: Case, frame: Frame) -> pl.DataFrame:
        """Give the rows that the frame flags, by their texts or their groups."""
        del case
        odd = (number for number, group in enumerate(frame.groups) if self.code in group.odd)
        named = [rows.select("account", "privileged") for code, rows in frame.flags
                 if code == self.code]  # fmt: skip
        return pl.concat([frame.of(*odd).select("account", "privileged"), *named])


_NOT_WHOLE = Flagged(TRUNCATED, "{rows} values are not whole")


@dataclass(frozen=True, slots=True)
class CutOff:
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


@dataclass(frozen=True, slots=True)
class DrawnAtRandom:
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


@dataclass(frozen=True, slots=True)
class CommonPassword:
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


@dataclass(frozen=True, slots=True)
class PrivilegedBelowFloor:
    """Administrators whose values are below the floor."""

    def count(self, case: Case) -> tuple[Affected, str]:
        """Take what the profile counted."""
        affected = case.profile.flagged.get("privileged-at-risk", Affected())
        return affected, f"{affected.rows:,} administrators below the floor"

    def members(self, case: Case, frame: Frame) -> pl.DataFrame:
        """Give the administrators among the rows below the floor."""
        below = _of_reading(case, frame, lambda reading: reading.grade in BELOW_FLOOR)
        return below.filter("privileged")


@dataclass(frozen=True, slots=True)
class SharedDigest:
    """Equal fast digests."""

    def count(self, case: Case) -> tuple[Affected, str]:
        """Take the clusters."""
        found = case.profile.digests
        fast = _gather(case.profile, lambda reading: reading.grade in _FAST)
        return (found.affected if fast.rows else Affected()), (
            f"{found.number:,} digests stand more than once, the commonest {found.largest:,} times"
        )

    def members(self, case: Case, frame: Frame) -> pl.DataFrame:
        """Give the rows whose digest stands elsewhere too."""
        return frame.digests.join(case.profile.repeated_digests, on="text", how="semi")


@dataclass(frozen=True, slots=True)
class SharedSalt:
    """Equal salts: one for most rows, or some that repeat."""

    static: bool

    def count(self, case: Case) -> tuple[Affected, str]:
        """Take the clusters, where they are of this kind."""
        salts = case.profile.salts
        if self.static is not _is_static(case, salts):
            return Affected(), ""
        if self.static:
            rows = case.profile.salted_rows
            return salts.affected, f"one salt stands in {salts.largest:,} of {rows:,} salted rows"
        return salts.affected, (
            f"{salts.number:,} salts stand more than once, the commonest {salts.largest:,} times"
        )

    def members(self, case: Case, frame: Frame) -> pl.DataFrame:
        """Give the rows whose salt stands elsewhere too."""
        return frame.salts.join(case.profile.repeated_salts, on="text", how="semi")


def _is_static(case: Case, salts: Clusters) -> bool:
    return salts.largest >= max(_STATIC_ROWS, _STATIC_SHARE * case.profile.salted_rows)


@dataclass(frozen=True, slots=True)
class SharedLogin:
    """Logins that stand more than once."""

    def count(self, case: Case) -> tuple[Affected, str]:
        """Take the clusters."""
        found = case.profile.logins
        return found.affected, (
            f"{found.number:,} logins stand more than once, the commonest {found.largest:,} times, "
            "letter case and blanks around aside"
        )

    def members(self, case: Case, frame: Frame) -> pl.DataFrame:
        """Give the rows whose login stands elsewhere too."""
        return frame.logins.join(case.profile.repeated_logins, on="text", how="semi")


@dataclass(frozen=True, slots=True)
class SameElsewhere:
    """Values that stand in another column for the same login."""

    def count(self, case: Case) -> tuple[Affected, str]:
        """Take what was compared once all columns were read."""
        found = case.place.elsewhere
        return found.affected, f"equal values for the same login: {found}"

    def members(self, case: Case, frame: Frame) -> pl.DataFrame:
        """Give the rows of the frame whose value stands there too."""
        return values_of_logins(frame).join(case.place.elsewhere.texts, on="text", how="semi")


@dataclass(frozen=True, slots=True)
class MixedCase:
    """Hexadecimal digits in both cases, within values or from value to value."""

    def count(self, case: Case) -> tuple[Affected, str]:
        """Take the mixed ones, or the rarer case."""
        lower, upper, mixed = self._parts(case)
        evidence = f"{lower.rows:,} in lower case, {upper.rows:,} in upper, {mixed.rows:,} mixed"
        return self._rarer(lower, upper, mixed)[1], evidence

    @staticmethod
    def _parts(case: Case) -> tuple[Affected, Affected, Affected]:
        def of(layout: str) -> Affected:
            return _gather(case.profile, lambda reading: reading.layout == layout)

        return of("hex"), of("hex-upper"), of("hex, mixed case")

    @staticmethod
    def _rarer(lower: Affected, upper: Affected, mixed: Affected) -> tuple[str, Affected]:
        if mixed.rows:
            return "hex, mixed case", mixed
        return min(("hex", lower), ("hex-upper", upper), key=lambda part: part[1].rows)

    def members(self, case: Case, frame: Frame) -> pl.DataFrame:
        """Give the rows of the layout that was counted."""
        layout, _ = self._rarer(*self._parts(case))
        return _of_reading(case, frame, lambda reading: reading.layout == layout)


@dataclass(frozen=True, slots=True)
class Encrypted:
    """Whole cipher blocks."""

    def count(self, case: Case) -> tuple[Affected, str]:
        """Add up the blocks; equal first blocks in different values betray the mode."""
        affected = _gather(case.profile, lambda reading: reading.scheme == "encrypted")
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
        return _of_reading(case, frame, lambda reading: reading.scheme == "encrypted")


@dataclass(frozen=True, slots=True)
class DigestOfDigest:
    """Digests of digests: named so by their scheme, or shown by likely passwords."""

    def count(self, case: Case) -> tuple[Affected, str]:
        """Add up the groups that are."""
        affected = _gather(case.profile, _is_twice)
        return affected, f"{affected.rows:,} rows: {_schemes_of(case.profile, _is_twice)}"

    def members(self, case: Case, frame: Frame) -> pl.DataFrame:
        """Give the rows of these groups."""
        return _of_reading(case, frame, _is_twice)


def _is_twice(reading: Reading) -> bool:
    return reading.twice or reading.scheme in _TWICE


@dataclass(frozen=True, slots=True)
class WholeColumn:
    """What the schema declares concerns every row."""

    when: Callable[[Case], bool]
    evidence: Callable[[Case], str]

    def count(self, case: Case) -> tuple[Affected, str]:
        """Count all rows that hold a value."""
        if not self.when(case):
            return Affected(), ""
        return _gather(case.profile, lambda _: True), self.evidence(case)

    def members(self, case: Case, frame: Frame) -> pl.DataFrame:
        """Give all rows that hold a value."""
        del case
        return frame.rows


def is_too_narrow(case: Case) -> bool:
    """Tell whether a new or a layered value would not fit into the column."""
    width = case.place.characters
    return width is not None and width < max(case.place.needed)


def how_narrow(case: Case) -> str:
    """Say what fits and what is needed."""
    direct, layered = case.place.needed
    return (
        f"{case.place.column} holds {case.place.characters} characters; "
        f"a new value needs {direct}, a layered one {layered}"
    )


def is_leftover_table(case: Case) -> bool:
    """Tell whether the table's name is one of a copy."""
    return bool(_LEFTOVER_TABLE.search(case.place.table))


def is_log(case: Case) -> bool:
    """Tell whether the table's name is one of a log."""
    return bool(_LOG_TABLE.search(case.place.table))


def is_not_locked(reading: Reading) -> bool:
    """Tell whether a group holds something that could open an account."""
    return reading.grade is not Grade.LOCKED
