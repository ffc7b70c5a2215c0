"""How each finding is seen: in a whole column, counted; and in a frame, row by row."""

import re
from collections.abc import Callable, Iterable
from typing import Protocol

import polars as pl
from msgspec import Struct, field

from lean_tumbler.core.audit.elsewhere import Elsewhere, values_of_logins
from lean_tumbler.core.audit.frames import Frame
from lean_tumbler.core.audit.opening import Opens
from lean_tumbler.core.audit.results import Affected, Clusters, GroupReading, Profile
from lean_tumbler.core.grades import BELOW_FLOOR, Floor, Grade

_STATIC_SHARE = 0.5  # one salt for more than half of the salted rows is no salt
_STATIC_ROWS = 10
_NEWEST_ROWS = 3  # in a column of two kinds, so many at the end are chance in one of thousands
_FAST = frozenset({Grade.FAST_UNSALTED, Grade.FAST_SALTED})
_LEFTOVER_TABLE = re.compile(
    r"(^|_)(old|bak|backup|copy|tmp|temp|archive|\d{4,8})($|_)", re.IGNORECASE
)
_LOG_TABLE = re.compile(
    r"(^|_)(log|logs|audit|history|events?|trace|requests?)($|_)", re.IGNORECASE
)


class Place(Struct, frozen=True, kw_only=True):
    """Where a column stands, and what is known of it beside its values."""

    table: str = ""
    column: str = ""
    beside: tuple[str, ...] = ()  # other columns of the table that hold credentials
    # the values of one of them that this column's content opens; None for none
    opens: Opens | None = None
    # the column that holds the stored values, where a program wrote the two the wrong way round
    exchanged_with: str = ""
    # what it shares with other columns of the source
    elsewhere: Elsewhere = field(default_factory=Elsewhere)
    characters: int | None = None  # the most that the column holds; None where nothing bounds it
    collation: str = ""  # a collation that takes upper and lower case for one; or empty
    needed: tuple[int, int] = (0, 0)  # the characters that a new value needs, and a layered one


class Case(Struct, frozen=True):
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


def gather(profile: Profile, wanted: Callable[[GroupReading], bool]) -> Affected:
    """Add up the groups that are wanted."""
    return _total(affected for reading, affected in profile.groups.items() if wanted(reading))


def schemes_of(profile: Profile, wanted: Callable[[GroupReading], bool]) -> str:
    """Count the rows of wanted groups by scheme and costs, in words."""
    rows: dict[str, int] = {}
    for reading, affected in profile.groups.items():
        if wanted(reading):
            costs = " ".join(f"{name}={number}" for name, number in reading.parameters)
            name = f"{reading.scheme} {costs}".strip()
            rows[name] = rows.get(name, 0) + affected.rows
    ordered = sorted(rows.items(), key=lambda item: -item[1])
    return ", ".join(f"{count:,} {name}" for name, count in ordered)


def of_reading(case: Case, frame: Frame, wanted: Callable[[GroupReading], bool]) -> pl.DataFrame:
    """Give the rows of the wanted groups in a frame."""
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


class ByReading(Struct, frozen=True):
    """Groups by what they are; evidence may name {rows} {all} {schemes} {wrappers} {floor}."""

    wanted: Callable[[GroupReading], bool]
    evidence: str
    when: Callable[[Case], bool] = _always

    def count(self, case: Case) -> tuple[Affected, str]:
        """Add up the groups."""
        affected = gather(case.profile, self.wanted) if self.when(case) else Affected()
        return affected, self.evidence.format(
            rows=f"{affected.rows:,}",
            wrappers=", ".join(
                sorted({name for reading in case.profile.groups for name in reading.wrappers})
            ),
            all=f"{case.profile.rows:,}",
            schemes=schemes_of(case.profile, self.wanted),
            floor=case.floor.source,
            place=case.place,
            beside=", ".join(case.place.beside),
        )

    def members(self, case: Case, frame: Frame) -> pl.DataFrame:
        """Give the rows of these groups."""
        return of_reading(case, frame, self.wanted)


class Flagged(Struct, frozen=True):
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


class PrivilegedBelowFloor(Struct, frozen=True):
    """Administrators whose values are below the floor."""

    def count(self, case: Case) -> tuple[Affected, str]:
        """Take what the profile counted."""
        affected = case.profile.flagged.get("privileged-at-risk", Affected())
        return affected, f"{affected.rows:,} administrators below the floor"

    def members(self, case: Case, frame: Frame) -> pl.DataFrame:
        """Give the administrators among the rows below the floor."""
        below = of_reading(case, frame, lambda reading: reading.grade in BELOW_FLOOR)
        return below.filter("privileged")


class SharedDigest(Struct, frozen=True):
    """Equal fast digests."""

    def count(self, case: Case) -> tuple[Affected, str]:
        """Take the clusters."""
        found = case.profile.digests
        fast = gather(case.profile, lambda reading: reading.grade in _FAST)
        return (found.affected if fast.rows else Affected()), (
            f"{found.number:,} digests occur more than once, the commonest {found.largest:,} times"
        )

    def members(self, case: Case, frame: Frame) -> pl.DataFrame:
        """Give the rows whose digest stands elsewhere too."""
        return frame.digests.join(case.profile.repeated_digests, on="text", how="semi")


class NewestWeaker(Struct, frozen=True):
    """The newest rows, made otherwise than all before, and worse."""

    def count(self, case: Case) -> tuple[Affected, str]:
        """Add up the groups that stand behind all better ones."""
        weaker = self._weaker(case)
        affected = gather(case.profile, weaker.__contains__)
        if not affected.rows:
            return affected, ""
        first = min((case.profile.spans[reading] for reading in weaker), key=lambda s: s.first)
        return affected, (
            f"from account {first.account} on: {schemes_of(case.profile, weaker.__contains__)}; "
            f"all {first.first:,} rows before are better"
        )

    def members(self, case: Case, frame: Frame) -> pl.DataFrame:
        """Give the rows of these groups."""
        return of_reading(case, frame, self._weaker(case).__contains__)

    def _weaker(self, case: Case) -> set[GroupReading]:
        """Give the groups below the floor that begin where all others have ended."""
        spans = case.profile.spans
        below = {each for each in case.profile.groups if each.grade in BELOW_FLOOR}
        better = [each for each in case.profile.groups if each not in below]
        rows = sum(case.profile.groups[each].rows for each in below)
        before = sum(case.profile.groups[each].rows for each in better)
        if not _NEWEST_ROWS <= rows <= before:
            return set()
        ended = max(spans[each].last for each in better)
        return below if all(spans[each].first > ended for each in below) else set()


class SharedSalt(Struct, frozen=True):
    """Equal salts: one for most rows, or some that repeat."""

    static: bool

    def count(self, case: Case) -> tuple[Affected, str]:
        """Take the clusters, where they are of this kind."""
        salts = case.profile.salts
        if salts.affected.rows == case.profile.copies.affected.rows:
            return Affected(), ""  # copies of whole values have equal salts
        if self.static is not _is_static(case, salts):
            return Affected(), ""
        if self.static:
            rows = case.profile.salted_rows
            return salts.affected, f"one salt is in {salts.largest:,} of {rows:,} salted rows"
        return salts.affected, (
            f"{salts.number:,} salts occur more than once, the commonest {salts.largest:,} times"
        )

    def members(self, case: Case, frame: Frame) -> pl.DataFrame:
        """Give the rows whose salt stands elsewhere too."""
        return frame.salts.join(case.profile.repeated_salts, on="text", how="semi")


def _is_static(case: Case, salts: Clusters) -> bool:
    return salts.largest >= max(_STATIC_ROWS, _STATIC_SHARE * case.profile.salted_rows)


class Repeated(Struct, frozen=True):
    """Texts of one sort that stand more than once."""

    clusters: Callable[[Profile], Clusters]
    texts: Callable[[Profile], pl.DataFrame]  # their hashes
    rows: Callable[[Frame], pl.DataFrame]  # of one frame, with the hashes of their texts
    names: tuple[str, str]  # one of them, and several, with what they do
    aside: str = ""  # what does not count

    def count(self, case: Case) -> tuple[Affected, str]:
        """Take the clusters."""
        found = self.clusters(case.profile)
        occur = self.names[found.number != 1]
        return found.affected, (
            f"{found.number:,} {occur} more than once, the commonest {found.largest:,} times"
            f"{self.aside}"
        )

    def members(self, case: Case, frame: Frame) -> pl.DataFrame:
        """Give the rows whose text stands elsewhere too."""
        return self.rows(frame).join(self.texts(case.profile), on="text", how="semi")


class SameElsewhere(Struct, frozen=True):
    """Values that stand in another column for the same login."""

    def count(self, case: Case) -> tuple[Affected, str]:
        """Take what was compared once all columns were read."""
        found = case.place.elsewhere
        return found.affected, f"equal values for the same login: {found}"

    def members(self, case: Case, frame: Frame) -> pl.DataFrame:
        """Give the rows of the frame whose value stands there too."""
        return values_of_logins(frame).join(case.place.elsewhere.texts, on="text", how="semi")


class WholeColumn(Struct, frozen=True):
    """What the schema declares concerns every row."""

    when: Callable[[Case], bool]
    evidence: Callable[[Case], str]

    def count(self, case: Case) -> tuple[Affected, str]:
        """Count all rows that hold a value."""
        if not self.when(case):
            return Affected(), ""
        return gather(case.profile, lambda _: True), self.evidence(case)

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


def is_not_locked(reading: GroupReading) -> bool:
    """Tell whether a group holds something that could open an account."""
    return reading.grade is not Grade.LOCKED
