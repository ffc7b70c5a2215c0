"""Counting a column: groups of equal readings, odd rows, and texts that stand more than once."""

from collections import Counter
from collections.abc import Iterator
from typing import Any

import polars as pl
from msgspec import Struct
from msgspec.structs import replace

from lean_tumbler.core.audit.alike_values import reading_numbers
from lean_tumbler.core.audit.anomalies import odd, text_flags
from lean_tumbler.core.audit.cohort_marks import OTHER, marks
from lean_tumbler.core.audit.digest_guesses import LikelyMatcher, digests_of, is_folded, own_digests
from lean_tumbler.core.audit.digest_lengths import cut_lengths, length_of
from lean_tumbler.core.audit.frames import Frame, Group
from lean_tumbler.core.audit.keyed_rows import KEY, MOVED, opened
from lean_tumbler.core.audit.own_salts import folded, with_own_salt
from lean_tumbler.core.audit.representatives import explained, row_of
from lean_tumbler.core.audit.results import (
    ACCOUNTS_SHOWN,
    FOLDED,
    MOVED_VALUE,
    TRUNCATED,
    Affected,
    GroupReading,
    Profile,
    Span,
    affected_by,
)
from lean_tumbler.core.audit.shapes import with_shapes
from lean_tumbler.core.audit.tally import Tally, text_hash
from lean_tumbler.core.audit.whole_column import is_bare, may_be_blocks, weighed, without_digests
from lean_tumbler.core.formulas import notation
from lean_tumbler.core.grades import BELOW_FLOOR, Floor, Grade, grade
from lean_tumbler.core.reading.reader import RowReader
from lean_tumbler.core.reading.rows import Row
from lean_tumbler.core.reading.survey import Column, Survey
from lean_tumbler.core.schemes.base import Kind, ParsedValue

_HEXADECIMAL, _BLOCK_DIGITS = "^[0-9a-fA-F]+$", 32
_BLOCK_TEXT = 21  # characters of base64 that lie within the first 16 bytes
_SPREAD_ROWS = 200  # of one group and frame; a few thousand bytes show whether they are even
_OWN_ROWS = 20  # of one group and frame, each computed by itself
# What the column as a whole may show to be something else.
_SURVEYED = frozenset({"plain-text", "unknown", "des-crypt", "bigcrypt"})
_FAST = frozenset({Grade.FAST_UNSALTED, Grade.FAST_SALTED})
_SHAPE = ("shape", "salted", "mark", "folded", KEY, MOVED)
_READ_KEPT = 65_536
# While rows are looked at, nothing is known of the column; the survey says it at the end.
_UNSEEN = Column(rows=1)


class _Read(Struct, frozen=True, kw_only=True):
    parsed: ParsedValue
    reading: GroupReading
    odd: tuple[str, ...]


class Profiler:
    """Takes frames in and gives the profile of all of them."""

    def __init__(
        self,
        *,
        floor: Floor,  # the least that counts as current
        reader: RowReader | None = None,  # of the store's rows; what its cohorts declare is certain
        # passwords to look for in plain text and unsalted digests; None to look for none
        likely: LikelyMatcher | None = None,
    ) -> None:
        self._floor = floor
        self._reader = (reader or RowReader()).seen_with(lambda: _UNSEEN)
        self.keyring = self._reader.keyring
        self._survey = Survey()
        self._likely = likely
        self._profile = Profile()
        self._digests = Tally()
        self._salts = Tally()
        self._copies = Tally(mostly_distinct=True)
        self._logins = Tally(mostly_distinct=True)
        self._first_blocks = Tally()
        self._read: dict[tuple[Any, ...], _Read] = {}

    def look(self, frame: pl.DataFrame, *, number: int) -> Frame:
        """Look at one frame; keeps nothing, so several threads may look at once.

        Args:
            frame: `account`, `stored`, `salt`, `login` and `seen` as text, `privileged` as a
                truth value.
            number: the frame's own, from 0; of a few, some rows are examined by themselves.
        """
        frame = opened(frame, self.keyring)
        rows = frame.filter(pl.col("stored").is_not_null())
        rows, groups = self._grouped(rows)
        flags = [("no-credential", frame.filter(pl.col("stored").is_null()))]
        salted, self_salted = rows.filter("salted"), with_own_salt(rows, groups)
        fast = [n for n, group in enumerate(groups) if group.reading.grade in _FAST]
        blocks = [n for n, group in enumerate(groups) if may_be_blocks(group.reading)]
        digests = _hashed_digests(rows, groups, fast)
        block = pl.when(pl.col("stored").str.contains(_HEXADECIMAL)).then(_BLOCK_DIGITS)
        length = block.otherwise(_BLOCK_TEXT)
        first_block = text_hash(pl.col("stored").str.slice(0, length))
        matches = list(self._matches(rows, groups, digests))
        hits = [found for _, _, found in matches]
        if hits:
            flags.append(("common-password", pl.concat(hits)))
        return Frame(
            height=frame.height,
            rows=rows,
            groups=groups,
            flags=[(code, found) for code, found in (*flags, *text_flags(rows, salted, groups))
                   if found.height],
            digests=digests,
            logins=_hashed_logins(frame),
            salts=pl.concat([
                salted.select("account", "privileged", text=text_hash(pl.col("salt"))),
                self_salted.select("account", "privileged", "text"),
            ]),
            copies=self_salted.select("account", "privileged", text="whole"),
            first_blocks=rows.filter(
                pl.col("group").is_in(blocks) & (pl.col("stored").str.len_bytes() > length)
            ).with_columns(text=first_block),
            matches=matches,
            spread=list(_spread(rows, groups)),
            own=list(_own(rows, groups)) if _is_examined(number) else [],
        )  # fmt: skip

    def _grouped(self, rows: pl.DataFrame) -> tuple[pl.DataFrame, list[Group]]:
        """Number the groups of a frame, and read a representative of each."""
        shaped = with_shapes(rows, column="stored", shape="shape")
        if not self._reader.cohorts:
            unshaped = pl.when(pl.col("shape").is_null()).then(pl.col("stored"))
            alike = reading_numbers(shaped.select(unshaped.alias("text"))["text"])
            shaped = shaped.with_columns(shape=pl.coalesce("shape", alike))
        shaped = shaped.with_columns(
            salted=pl.col("salt").str.len_bytes().fill_null(0) > 0,
            mark=marks(rows, self._reader),
            folded=folded(pl.col("stored")),
            position=pl.int_range(pl.len()),
            # A value without a shape is its own shape; the highest bit keeps it from the others.
            shape=pl.coalesce("shape", pl.col("stored").hash(seed=0) | (1 << 63)),
        )
        groups = shaped.group_by(_SHAPE, maintain_order=True).agg(
            pl.len().alias("rows"),
            pl.col("privileged").sum().alias("privileged_rows"),
            pl.col("stored").first(),
            pl.struct("salt", "login", pl.col(f"^{OTHER}.*$")).first().alias("row"),
            pl.col("account").head(ACCOUNTS_SHOWN).alias("others"),
            pl.col("account").first().alias("first"),
            pl.col("position").first().alias("begins"),
            pl.col("position").last().alias("ends"),
        )
        named = _named_by_privilege(shaped, groups)
        found = []
        for row in named.iter_rows(named=True):
            read = self._read_once(row)
            affected = Affected()
            affected.add(
                row["rows"], row["privileged_rows"], row["privileged"] or [], row["others"] or []
            )
            span = Span(row["begins"], row["ends"], row["first"])
            found.append(Group(row["stored"], read.parsed, read.reading, read.odd, affected, span))
        numbered = named.select(*_SHAPE, pl.int_range(pl.len(), dtype=pl.UInt32).alias("group"))
        return shaped.join(numbered, on=_SHAPE, maintain_order="left"), found

    def _read_once(self, row: dict[str, Any]) -> _Read:
        """Read a representative; the same text, salt and mark are read once."""
        key = (row["stored"], *(row[name] for name in _SHAPE[1:]))
        found = self._read.get(key)
        if found is None:
            if len(self._read) >= _READ_KEPT:
                self._read.clear()
            whole = row_of({**row, **row["row"]})
            found = self._read_row(whole, salted=row["salted"])
            found = _as_folded(found) if row["folded"] else found
            found = self._read[key] = _as_keyed(found, row[KEY], moved=row[MOVED])
        return found

    def _read_row(self, row: Row, *, salted: bool) -> _Read:
        understood = self._reader.read(row)
        parsed = understood.parsed
        odd_about = tuple(odd(parsed))
        salted_inside = parsed.salted
        salted_beside = salted and parsed.kind in {Kind.FAST, Kind.UNKNOWN}
        parsed, fitting, takes_salt, because = explained(understood)
        has_salt = salted_inside or (salted_beside if takes_salt is None else takes_salt)
        reading = GroupReading(
            scheme=parsed.scheme,
            layout=parsed.layout,
            salted=has_salt,
            grade=grade(parsed, self._floor, salted=has_salt),
            parameters=tuple(parsed.parameters.items()),
            confidence=parsed.contents.confidence,
            also_possible=parsed.contents.also_possible,
            because=because,
            formula=notation.write(fitting[0].formula.formula) if fitting else "",
            wrappers=understood.parsed.wrappers,
        )
        return _Read(parsed=parsed, reading=reading, odd=odd_about)

    def _matches(
        self, rows: pl.DataFrame, groups: list[Group], digests: pl.DataFrame
    ) -> Iterator[tuple[GroupReading, str, pl.DataFrame]]:
        """Find likely passwords in plain text and in unsalted digests."""
        if self._likely is None:
            return
        by_reading: dict[GroupReading, list[int]] = {}
        for number, group in enumerate(groups):
            by_reading.setdefault(group.reading, []).append(number)
        for reading, numbers in by_reading.items():
            of_reading = pl.col("group").is_in(numbers)
            if reading.scheme == "plain-text":
                found = rows.filter(of_reading).join(self._likely.plain, on="stored", how="semi")
                yield reading, "", found.select("account", "privileged")
            elif reading.grade is Grade.FAST_UNSALTED:
                first = groups[numbers[0]]
                of_group = digests.filter(of_reading)
                for formula, part in self._likely.find(of_group, first.stored, first.parsed):
                    yield reading, formula, part.select("account", "privileged")

    def add(self, frame: Frame) -> None:
        """Add up one frame."""
        profile = self._profile
        before = profile.rows - profile.without_value
        profile.rows += frame.height
        profile.without_value += frame.height - frame.rows.height
        profile.salted_rows += frame.salts.height
        for group in frame.groups:
            self._add_group(group)
            own = profile.spans.get(group.reading)
            profile.spans[group.reading] = group.span.after(before).joined(own)
        open_groups = [n for n, g in enumerate(frame.groups) if g.reading.scheme in _SURVEYED]
        if open_groups:
            self._survey.add(frame.of(*open_groups)["stored"])
        for code, rows in frame.flags:
            profile.flagged.setdefault(code, Affected()).take(affected_by(rows))
        for reading, formula, rows in frame.matches:
            profile.matches.setdefault(reading, Counter())[formula] += rows.height
        for reading, formulas in frame.own:
            profile.own.setdefault(reading, Counter()).update(formulas)
        for reading, bytes_seen in frame.spread:
            profile.spread.setdefault(reading, Counter()).update(bytes_seen)
        self._digests.add(frame.digests)
        self._salts.add(frame.salts)
        self._copies.add(frame.copies)
        self._logins.add(frame.logins)
        self._first_blocks.add(frame.first_blocks)
        _add_ages(profile.ages, frame)

    def _add_group(self, group: Group) -> None:
        profile, affected = self._profile, group.affected
        profile.groups.setdefault(group.reading, Affected()).take(affected)
        for code in group.odd:
            profile.flagged.setdefault(code, Affected()).take(affected)
        length = length_of(group.parsed)
        if length is not None and TRUNCATED not in group.odd:
            profile.lengths.setdefault(length, Affected()).take(affected)
        if affected.privileged_rows and group.reading.grade in BELOW_FLOOR:
            alone = affected.privileged_rows
            profile.flagged.setdefault("privileged-at-risk", Affected()).add(
                alone, alone, affected.privileged, []
            )

    def finish(self) -> Profile:
        """Give the profile of all frames."""
        profile = self._profile
        profile.digests = self._digests.clusters()
        profile.salts = self._salts.clusters()
        profile.copies = self._copies.clusters()
        profile.logins = self._logins.clusters()
        profile.first_blocks = self._first_blocks.clusters()
        profile.column = self._survey.column(profile.rows - profile.without_value)
        profile.cut = cut_lengths(Counter({n: each.rows for n, each in profile.lengths.items()}))
        for length in profile.cut:
            profile.flagged.setdefault(TRUNCATED, Affected()).take(profile.lengths[length])
        profile.readings = weighed(profile)
        groups: dict[GroupReading, Affected] = {}
        spans: dict[GroupReading, Span] = {}
        for reading, affected in profile.groups.items():
            said = profile.readings.get(reading, reading)
            groups.setdefault(said, Affected()).take(affected)
            spans[said] = profile.spans[reading].joined(spans.get(said))
        profile.groups, profile.spans = groups, spans
        without_digests(profile)
        profile.repeated_digests = self._digests.repeated()
        profile.repeated_salts = self._salts.repeated()
        profile.repeated_copies = self._copies.repeated()
        profile.repeated_logins = self._logins.repeated()
        return profile


def _as_folded(read: _Read) -> _Read:
    """Give the reading of a value whose letters were folded: nobody can log in with it."""
    reading = replace(read.reading, grade=Grade.UNKNOWN, confidence=0.0)
    return replace(read, reading=reading, odd=(*read.odd, FOLDED))


def _as_keyed(read: _Read, key: str, *, moved: bool) -> _Read:
    """Give the reading of a value under a key; nobody can log in with one that was moved."""
    if not moved:
        return replace(read, reading=replace(read.reading, keyed_by=key)) if key else read
    reading = replace(read.reading, grade=Grade.UNKNOWN, keyed_by=key)
    return replace(read, reading=reading, odd=(*read.odd, MOVED_VALUE))


def _named_by_privilege(shaped: pl.DataFrame, groups: pl.DataFrame) -> pl.DataFrame:
    """Name accounts of each group, the privileged ones apart; mostly there are few, or none."""
    privileged = shaped.filter("privileged")
    if privileged.height == 0:
        return groups.with_columns(privileged=pl.lit(None, pl.List(pl.String)))
    account = pl.col("account").head(ACCOUNTS_SHOWN)
    named = privileged.group_by(_SHAPE).agg(account.alias("privileged"))
    others = shaped.filter(~pl.col("privileged")).group_by(_SHAPE).agg(account.alias("others"))
    return (
        groups.drop("others")
        .join(named, on=_SHAPE, how="left", maintain_order="left")
        .join(others, on=_SHAPE, how="left", maintain_order="left")
    )


def _hashed_digests(rows: pl.DataFrame, groups: list[Group], fast: list[int]) -> pl.DataFrame:
    """Hash fast digests with their salts; the letter case of hexadecimal does not count."""
    folded = [n for n in fast if is_folded(groups[n].reading.layout)
              and groups[n].reading.layout != "hex"]  # fmt: skip
    digests = rows.filter(pl.col("group").is_in(fast))
    stored = pl.col("stored")
    if folded:
        to_fold = pl.col("group").is_in(folded)
        stored = pl.when(to_fold).then(stored.str.to_lowercase()).otherwise(stored)
    salt = None if digests["salt"].null_count() == digests.height else pl.col("salt")
    return digests.select("account", "privileged", "group", "stored", text=text_hash(stored, salt))


def _hashed_logins(frame: pl.DataFrame) -> pl.DataFrame:
    """Hash logins as people type them: letter case and blanks around do not count.

    An account with several values, as directories have them, is one login.
    """
    named = frame.filter(pl.col("login").is_not_null())
    text = text_hash(pl.col("login").str.strip_chars().str.to_lowercase())
    account, login = pl.col("account"), pl.col("login")
    if named.select((account == account.shift(1)).any()).item():
        again = (account == account.shift(1)) & (login == login.shift(1)) & (account != login)
        named = named.filter(again.not_().fill_null(value=True))
    return named.select("account", "privileged", text=text)


def _spread(rows: pl.DataFrame, groups: list[Group]) -> Iterator[tuple[GroupReading, Counter[int]]]:
    """Count the bytes of some digests of each group that may be one."""
    for number, group in enumerate(groups):
        if is_bare(group.reading):
            texts = rows.filter(pl.col("group") == number)["stored"].head(_SPREAD_ROWS).unique()
            yield group.reading, Counter(digests_of(texts))


def _is_examined(number: int) -> bool:
    """Choose the first frames and ever fewer of the later ones: 0, 1, 2, 4, 8 and so on."""
    return number & (number - 1) == 0


def _own(rows: pl.DataFrame, groups: list[Group]) -> Iterator[tuple[GroupReading, Counter[str]]]:
    """Look for digests of the login or of nothing in some rows of each ambiguous group."""
    for number, group in enumerate(groups):
        if is_bare(group.reading) and not group.reading.salted and group.reading.also_possible:
            some = rows.filter(pl.col("group") == number).head(_OWN_ROWS)
            yield group.reading, Counter(own_digests(some, group.parsed))


def _add_ages(ages: Counter[tuple[str, Grade]], frame: Frame) -> None:
    """Count rows by month of the last login; other dates than ISO 8601 are left out."""
    if frame.rows["seen"].null_count() == frame.rows.height:
        return
    month = pl.col("seen").str.extract(r"^((?:19|20)\d\d-(?:0[1-9]|1[0-2]))", 1)
    counted = frame.rows.group_by("group", month.alias("month")).len().drop_nulls()
    for number, when, rows in counted.iter_rows():
        ages[when, frame.groups[number].reading.grade] += rows
