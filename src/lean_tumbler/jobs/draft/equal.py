"""Equal tables at a source: the schemas of many tenants, drafted as one store.

One table is drafted, and then only those that hold what it does not: known accounts that nothing
opens yet, or a class of values. What they add joins the cohorts of the one store; whether a
cohort holds in a table is for that table's own evidence to say.
"""

from collections import Counter
from collections.abc import Callable, Iterable, Iterator, Mapping, Sequence
from fnmatch import fnmatchcase

from msgspec import Struct
from msgspec.structs import replace

from lean_tumbler.core.audit.equal_names import shared_name
from lean_tumbler.core.drafting.class_cohorts import DraftedCohort
from lean_tumbler.core.drafting.classes import ValueClass
from lean_tumbler.core.drafting.likely_rows import opened_simply
from lean_tumbler.jobs.draft.class_scan import ClassScan, scanned
from lean_tumbler.jobs.draft.drafting import DraftedStore, known_rows, settled_roles
from lean_tumbler.jobs.draft.policy_text import free_name
from lean_tumbler.stores.known_accounts import KnownAccount
from lean_tumbler.stores.scans.credential_places import CredentialPlace
from lean_tumbler.stores.sql.tables import DatabaseTable

_MOST_DRAFTED = 8  # of equal tables; each search takes its time
_ACCOUNTS_TRIED = 100  # in each table, to see which it is likely to explain
_SAMPLE_ROWS = 20_000  # of each table, to see which classes it has


class EqualPlaces(Struct, frozen=True, kw_only=True):
    """Places that are drafted as one store."""

    places: tuple[CredentialPlace, ...]  # one, or those of equal tables
    patterns: tuple[str, ...] = ()  # what names the tables of them and no other; none for one place
    shared_name: str = ""  # what their names share, with a star for the rest


def grouped(places: Sequence[CredentialPlace], tables: Iterable[str]) -> list[EqualPlaces]:
    """Put places of equal tables together: the same columns, and names that are alike.

    Args:
        places: of a source.
        tables: the names of all its tables.
    """
    alike: dict[object, list[CredentialPlace]] = {}
    for number, place in enumerate(places):
        is_table = isinstance(place.table, DatabaseTable) and not place.only_rows
        own = (tuple(place.table.columns), place.columns) if is_table else number
        alike.setdefault(own, []).append(place)
    every = set(tables)
    groups = []
    for members in alike.values():
        names = {place.table.name for place in members}
        shared = shared_name(names)
        if shared:
            told = {name for name in every if fnmatchcase(name, shared)} == names
            patterns = (shared,) if told else tuple(sorted(names))
            groups.append(EqualPlaces(places=tuple(members), patterns=patterns, shared_name=shared))
        else:
            groups += [EqualPlaces(places=(place,)) for place in members]
    return groups


def draft_equal(
    group: EqualPlaces,  # their places
    # accounts whose password is known; they may stand in any of them
    known: Sequence[KnownAccount],
    # drafts one place, with the accounts that are not explained yet
    draft: Callable[[CredentialPlace, Sequence[KnownAccount]], DraftedStore],
) -> DraftedStore | None:
    """Draft equal tables as one store; None where they are not equal after all."""
    members = [_member(place, known) for place in group.places]
    ranked = sorted(members, key=lambda each: (len(each.lines), each.there), reverse=True)
    placed = {line for member in members for line in member.lines}
    merged: DraftedStore | None = None
    drafted: list[ClassScan] = []
    for member in ranked:
        seen = {found for other in drafted for found in _classes(other)}
        if merged is not None and not _adds(member.scan, seen, merged, known):
            continue
        if len(drafted) == _MOST_DRAFTED:
            break
        others = placed - member.lines | (merged.lines_opened if merged is not None else set())
        found = draft(member.place, [each for each in known if each.line not in others])
        merged = found if merged is None else _both(merged, found)
        if merged is None:
            return None
        drafted.append(member.scan)
    return _of_all(merged, drafted, [member.scan for member in members])


class _Member(Struct, frozen=True, kw_only=True):
    """One of the equal tables."""

    place: CredentialPlace
    scan: ClassScan
    there: int  # how many known logins stand in it
    # of the known accounts whose password opens their row under one simple formula
    lines: frozenset[int]


def _member(place: CredentialPlace, known: Sequence[KnownAccount]) -> _Member:
    scan = scanned(place.table, place.columns, known, sample_rows=_SAMPLE_ROWS)
    columns, _ = settled_roles(place.columns, scan, len(known))
    accounts = known_rows(columns, scan, known)
    there = len(accounts)
    accounts = accounts[:: max(1, there // _ACCOUNTS_TRIED)]
    opened = opened_simply([(each.row, each.password) for each in accounts])
    lines = frozenset(accounts[number].line for number in opened)
    return _Member(place=place, scan=scan, there=there, lines=lines)


def _classes(scan: ClassScan) -> Iterator[ValueClass]:
    return (each for number, each in enumerate(scan.classes) if scan.totals[number])


def _adds(
    scan: ClassScan, seen: set[ValueClass], merged: DraftedStore, known: Sequence[KnownAccount]
) -> bool:
    """Tell whether a table has a class, or known accounts, that were not explained yet."""
    if any(each not in seen for each in _classes(scan)):
        return True
    login = merged.columns.login
    if not login:
        return False
    there = set(scan.known[login].drop_nulls().str.to_lowercase())
    return any(
        account.login.casefold() in there and account.line not in merged.lines_opened
        for account in known
    )


def _both(first: DraftedStore, second: DraftedStore) -> DraftedStore | None:
    """Join what two equal tables show; of equal cohorts, accounts and doubts count together.

    Where one of them has rows that are left alone, deleted ones for instance, all are read so.
    """
    live = first if first.source.rows is not None else second
    for each in (first, second):
        told = each.source if each.source.rows is not None else live.source
        if (each.columns, told) != (first.columns, live.source):
            return None
    cohorts = dict(first.cohorts)
    names = {_identity(cohort): name for name, cohort in cohorts.items()}
    for name, cohort in second.cohorts.items():
        same = names.get(_identity(cohort))
        if same is None:
            cohorts[free_name(name, cohorts)] = cohort
        else:
            own = cohorts[same]
            cohorts[same] = replace(
                own,
                rows=own.rows + cohort.rows,
                known=own.known + cohort.known,
                guessed=own.guessed + cohort.guessed,
                untested=tuple(dict.fromkeys((*own.untested, *cohort.untested))),
            )
    explained = {cohort.value_class for cohort in cohorts.values()}
    unproven = [*first.unproven, *second.unproven]
    opened = first.lines_opened | second.lines_opened
    return replace(
        first,
        source=live.source,
        parts={**second.parts, **first.parts},
        cohorts=cohorts,
        unproven=[each for each in unproven if each.failed or each.value_class not in explained],
        said=Counter(first.said) + Counter(second.said),
        sampled=first.sampled or second.sampled,
        lines_opened=opened,
        not_opened=tuple(sorted({*first.not_opened, *second.not_opened} - opened)),
        guessed=first.guessed + second.guessed,
        repeated=first.repeated + second.repeated,
        logins_repeated=first.logins_repeated + second.logins_repeated,
    )


def _identity(cohort: DraftedCohort) -> object:
    return cohort.explanation, cohort.condition, cohort.value_class


def _of_all(
    merged: DraftedStore | None, drafted: Sequence[ClassScan], every: Sequence[ClassScan]
) -> DraftedStore | None:
    """Give the rows of all tables, where those of the drafted ones stand."""
    if merged is None:
        return None
    looked, all_rows = _by_label(drafted), _by_label(every)

    def scaled(label: str, rows: int) -> int:
        return round(rows * all_rows[label] / looked[label]) if looked[label] else rows

    split = any(cohort.condition for cohort in merged.cohorts.values())
    return replace(
        merged,
        rows=sum(scan.rows for scan in every),
        without_value=sum(scan.without_value for scan in every),
        sampled=merged.sampled or (split and len(drafted) < len(every)),
        said={label: scaled(label, rows) for label, rows in merged.said.items()},
        cohorts={
            name: replace(cohort, rows=scaled(cohort.value_class.label, cohort.rows))
            for name, cohort in merged.cohorts.items()
        },
        unproven=[
            replace(each, rows=scaled(each.value_class.label, each.rows))
            for each in merged.unproven
        ],
    )


def _by_label(scans: Sequence[ClassScan]) -> Mapping[str, int]:
    found: Counter[str] = Counter()
    for scan in scans:
        for number, each in enumerate(scan.classes):
            found[each.label] += scan.totals[number]
    return found
