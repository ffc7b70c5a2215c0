"""From the known accounts of a class to its cohorts: which formula, which rows, how sure."""

from collections import Counter
from collections.abc import Iterable, Iterator, Mapping, Sequence

import polars as pl
from msgspec import Struct, field

from lean_tumbler.core.drafting.classes import ClassKind, ValueClass
from lean_tumbler.core.drafting.explanations import Explanation, KnownRow, fewest
from lean_tumbler.core.drafting.splits import (
    MOST_VALUES,
    content,
    dated_apart,
    find_split,
    is_one_of,
    names_make,
)
from lean_tumbler.core.formulas import notation
from lean_tumbler.core.formulas.alternatives import Untested
from lean_tumbler.core.formulas.analysis import digests_used, inputs_used
from lean_tumbler.core.formulas.steps import Encode, Formula, Input, Join, Operand, Side
from lean_tumbler.core.policy.cohort_tables import split_then
from lean_tumbler.core.policy.tables import LONGEST_NAME

_ENOUGH = 2  # known accounts, by which formulas are told apart


class DraftedCohort(Struct, frozen=True, kw_only=True):
    """A cohort that known accounts prove."""

    explanation: Explanation
    value_class: ValueClass
    condition: str = ""  # which rows; empty for all of its make
    rows: int = 0  # of the class that it takes in; of a sample, where the table is large
    known: int = 0  # the known accounts that open by it
    guessed: int = 0  # the rows that open by it with a likely password
    also: tuple[str, ...] = ()  # other formulas that explain these accounts as well
    is_shared: bool = False  # whether another cohort takes in the same rows
    # what its accounts leave open: a login tries each alternative
    untested: tuple[Untested, ...] = ()
    unsure: tuple[str, ...] = ()  # what would settle what is not sure, as sentences
    notes: tuple[str, ...] = ()  # what was seen beside, as sentences


class Unproven(Struct, frozen=True, kw_only=True):
    """Rows that no known account explains."""

    value_class: ValueClass
    condition: str  # which rows of the class; empty for all
    rows: int
    failed: int = 0  # known accounts among them that nothing explains


class ClassRows(Struct, frozen=True, kw_only=True):
    """The rows of one class."""

    value_class: ValueClass
    rows: pl.DataFrame  # some or all, with the table's own column names
    total: int  # how many there are in all
    salt: str  # the own name of the salt column; empty where there is none
    columns: Mapping[str, str]  # of what stands beside: own name -> folded name


class _Stratum(Struct, frozen=True):
    """Rows that may have come about in a way of their own: by salt, and what names the make."""

    salted: bool | None  # whether the salt column holds something; None where that says nothing
    # what the column that names the make holds; None where there is no such column
    make: str | None


class _Placed(Struct):
    """Where one explanation holds: strata, and a condition within each."""

    strata: dict[_Stratum, str] = field(default_factory=dict)
    is_shared: bool = False
    unsure: list[str] = field(default_factory=list)
    notes: list[str] = field(default_factory=list)


def draft_class(
    found: ClassRows,  # its rows
    known: Sequence[KnownRow],  # its known accounts
    # explanation -> the lines of those that open by it, the plausible first
    explained: Mapping[Explanation, frozenset[int]],
) -> tuple[list[DraftedCohort], list[Unproven]]:
    """Draft the cohorts of one class."""
    marker = _marker(found, known)
    by_stratum: dict[_Stratum, list[KnownRow]] = {}
    for account in known:
        by_stratum.setdefault(_stratum_of(account, found, marker), []).append(account)
    counts = dict.fromkeys(by_stratum, 0) | _counted(found, marker)
    ranked = {each: explained[each] for each in fewest(explained, [a.line for a in known])}
    placed = {each: _Placed() for each in explained}
    unproven: dict[_Stratum, int] = {}
    for stratum in counts:
        accounts = by_stratum.get(stratum, [])
        covering = _covering(stratum, [account.line for account in accounts], ranked, explained)
        if not covering:
            unproven[stratum] = len(accounts)
        elif len(covering) == 1:
            placed[covering[0]].strata[stratum] = ""
        else:
            _tell_apart(found, stratum, marker, accounts, explained, covering, placed)
    strata = _Strata(found, marker, counts)
    cohorts = [
        cohort
        for each, where in placed.items()
        for cohort in _cohorts(each, where, strata, known, explained)
    ]
    return cohorts, [
        Unproven(
            value_class=found.value_class,
            condition=condition,
            rows=sum(counts[stratum] for stratum in group),
            failed=sum(unproven[stratum] for stratum in group),
        )
        for condition, group in strata.conditions(unproven)
    ]


def _covering(
    stratum: _Stratum,
    lines: Sequence[int],
    ranked: Mapping[Explanation, frozenset[int]],
    explained: Mapping[Explanation, frozenset[int]],
) -> list[Explanation]:
    """Choose what explains a stratum: where no salt is and formulas differ, one without salt."""
    if stratum.salted is False and len(ranked) > 1:
        without = {each: found for each, found in explained.items() if "salt" not in each.formula}
        covering = fewest(without, lines)
        if covering and set().union(*(without[each] for each in covering)) >= set(lines):
            return covering
    return fewest(ranked, lines)


def _marker(found: ClassRows, known: Sequence[KnownRow]) -> str:
    """Choose the column that names how values were made; empty where there is none."""
    best, most = "", 1
    for name, folded in found.columns.items():
        if not names_make(folded):
            continue
        values = found.rows[name].fill_null("").n_unique()
        if not 2 <= values <= MOST_VALUES:
            continue
        seen = len({content(account, name) for account in known})
        if not best or seen > most:
            best, most = name, seen
    return best


def _salt_counts(found: ClassRows) -> bool:
    """Tell whether an empty salt column can say anything of the class."""
    never = {ClassKind.WRITTEN, ClassKind.SAID, ClassKind.BARE, ClassKind.TEXT}
    return found.value_class.kind not in never and bool(found.salt)


def _counted(found: ClassRows, marker: str) -> dict[_Stratum, int]:
    """Count the rows of each stratum; of a sample, as many as there would be in all."""
    nothing = pl.lit(None)
    salted = (
        pl.col(found.salt).fill_null("").str.len_bytes() > 0 if _salt_counts(found) else nothing
    )
    make = pl.col(marker).fill_null("") if marker else nothing
    groups = found.rows.group_by(salted=salted, make=make).agg(pl.len().alias("rows"))
    scale = found.total / max(1, found.rows.height)
    rows = sorted(groups.iter_rows(named=True), key=lambda row: -row["rows"])
    return {_Stratum(row["salted"], row["make"]): round(scale * row["rows"]) for row in rows}


def _stratum_of(account: KnownRow, found: ClassRows, marker: str) -> _Stratum:
    salted = bool(account.row.salt) if _salt_counts(found) else None
    return _Stratum(salted, (content(account, marker) or "") if marker else None)


def _rows_of(found: ClassRows, stratum: _Stratum, marker: str) -> pl.DataFrame:
    rows = found.rows
    if stratum.salted is not None:
        has = pl.col(found.salt).fill_null("").str.len_bytes() > 0
        rows = rows.filter(has if stratum.salted else ~has)
    if stratum.make is not None:
        rows = rows.filter(pl.col(marker).fill_null("") == stratum.make)
    return rows


def _tell_apart(
    found: ClassRows,
    stratum: _Stratum,
    marker: str,
    accounts: Sequence[KnownRow],
    explained: Mapping[Explanation, frozenset[int]],
    covering: Sequence[Explanation],
    placed: Mapping[Explanation, _Placed],
) -> None:
    """Place several explanations of one stratum: by a condition, or side by side."""
    alone = {
        each: [
            account
            for account in accounts
            if account.line in explained[each]
            and not any(account.line in explained[o] for o in covering if o is not each)
        ]
        for each in covering
    }
    rows = _rows_of(found, stratum, marker)
    split = find_split(rows, alone, found.columns) if all(alone.values()) else None
    for each in covering:
        within = split.conditions[each] if split and split.is_sure else ""
        placed[each].strata[stratum] = within
        placed[each].is_shared |= not within
        if split is None:
            placed[each].unsure.append(
                "another cohort matches the same rows and no column distinguishes them, so a login "
                "tries both"
            )
        elif not split.is_sure:
            placed[each].unsure.append(
                f"it may be for rows with {split.conditions[each]} alone: {split.because}. Until "
                "then a login tries each cohort"
            )
        else:
            placed[each].notes.append(split.because)


class _Strata(Struct, frozen=True):
    """All strata of a class, and how their conditions are written."""

    found: ClassRows
    marker: str
    counts: Mapping[_Stratum, int]

    def conditions(self, strata: Iterable[_Stratum]) -> Iterator[tuple[str, list[_Stratum]]]:
        """Write conditions that take in these strata and no others, as briefly as can be."""
        left = set(strata)
        if left == set(self.counts):
            yield "", list(left)
            return
        for salted, test in ((True, "salt present"), (False, "salt empty")):
            side = {stratum for stratum in self.counts if stratum.salted is salted}
            if side and side <= left:
                yield test, list(side)
                left -= side
        for is_empty in (False, True):  # a condition says “empty” by a word of its own
            makes = {s.make for s in left if (s.make == "") is is_empty}
            whole = {m for m in makes if {s for s in self.counts if s.make == m} <= left}
            rest = makes - whole
            if whole:
                yield self._by_make(whole), [s for s in left if s.make in whole]
            for salted, test in ((True, "salt present"), (False, "salt empty")):
                group = [s for s in left if s.make in rest and s.salted is salted]
                if group:
                    yield f"{test} and {self._by_make({s.make for s in group})}", group

    def _by_make(self, makes: Iterable[str | None]) -> str:
        return is_one_of(self.marker, [make or "" for make in makes])

    def dated(self, strata: Sequence[_Stratum]) -> str:
        """Say whether a date stands beside the empty salt that tells rows apart."""
        own = {stratum.salted for stratum in strata}
        if {stratum.salted for stratum in self.counts} != {True, False} or len(own) != 1:
            return ""
        side = own.pop()
        rows = _rows_of(self.found, _Stratum(side, None), self.marker)
        others = _rows_of(self.found, _Stratum(not side, None), self.marker)
        return dated_apart(rows, others, tuple(self.found.columns))


def _cohorts(
    explanation: Explanation,
    where: _Placed,
    strata: _Strata,
    known: Sequence[KnownRow],
    explained: Mapping[Explanation, frozenset[int]],
) -> Iterator[DraftedCohort]:
    """Write an explanation's cohorts: one, unless no condition takes in all of its strata."""
    lines = explained[explanation]
    also = tuple(
        other.formula
        for other, opened in explained.items()
        if opened == lines and other != explanation and other.layout == explanation.layout
    )
    for within in dict.fromkeys(where.strata.values()):
        chosen = [stratum for stratum, test in where.strata.items() if test == within]
        for condition, group in strata.conditions(chosen):
            own = [a for a in known if _stratum_of(a, strata.found, strata.marker) in group]
            proven = [account for account in own if account.line in lines]
            failed = [
                a.line
                for a in own
                if a.line > 0 and not any(a.line in each for each in explained.values())
            ]
            unsure = list(dict.fromkeys(where.unsure))
            if failed:
                named_lines = ", ".join(map(str, failed))
                unsure.append(f"nothing explains known accounts of these rows: lines {named_lines}")
            if len(proven) < _ENOUGH:
                unsure.append("one known account shows it; add a second with another password")
            dated = strata.dated(group)
            yield DraftedCohort(
                explanation=explanation,
                value_class=strata.found.value_class,
                condition=" and ".join(filter(None, (condition, within))),
                rows=sum(strata.counts[stratum] for stratum in group),
                known=sum(account.line > 0 for account in proven),
                guessed=sum(account.line < 0 for account in proven),
                also=also,
                is_shared=where.is_shared,
                unsure=tuple(unsure),
                notes=(*dict.fromkeys(where.notes), *filter(None, (dated,))),
            )


def named(cohorts: Iterable[DraftedCohort]) -> dict[str, DraftedCohort]:
    """Give each cohort a name of its own, by what it is."""
    found: dict[str, DraftedCohort] = {}
    used: Counter[str] = Counter()
    for cohort in cohorts:
        base = _name_of(cohort.explanation)
        used[base] += 1
        found[base if used[base] == 1 else f"{base}-{used[base]}"] = cohort
    return found


_SALT_WORDS = {Side.APPEND: "behind", Side.PREPEND: "before", Side.SURROUND: "around"}


def _salt_word(formula: Formula) -> str:
    """Say where the salt goes in; where it is no plain join, that there is one."""
    salt = Operand(Input.SALT)
    sides = [s.side for s in formula.steps if isinstance(s, Join) and s.operand == salt]
    return f"salt-{_SALT_WORDS[sides[0]]}" if len(sides) == 1 else "salted"


def _name_of(explanation: Explanation) -> str:
    if explanation.plain_text:
        return "plain-text"
    if explanation.scheme:
        return explanation.scheme
    before, then = split_then(explanation.formula)
    formula = notation.parse(before, may_end_in_bytes=bool(then))
    words = list(dict.fromkeys(digests_used(formula)))[:3]
    words += ["windows-1252"] if Encode("windows-1252") in formula.steps else []
    words += [_salt_word(formula)] if Input.SALT in inputs_used(formula) else []
    words += ["by-login"] if Input.LOGIN in inputs_used(formula) else []
    words += ["in", then] if then else []
    return "-".join(words or ["formula"])[: LONGEST_NAME - 4]
