"""From a source to a draft: every place that holds credentials, as a store under a name."""

import os
from collections.abc import Callable, Iterator, Sequence
from functools import partial
from pathlib import Path

from msgspec import Struct
from msgspec.structs import replace

from lean_tumbler.core.audit.discovery import folded
from lean_tumbler.core.drafting.class_solving import Search, part_name
from lean_tumbler.core.formulas.search_space import Constants
from lean_tumbler.core.policy import Columns
from lean_tumbler.errors import UsageError
from lean_tumbler.jobs.draft.drafting import DraftedStore, draft_store
from lean_tumbler.jobs.draft.equal import EqualPlaces, draft_equal, grouped
from lean_tumbler.jobs.draft.policy_text import PlacedStore, free_name
from lean_tumbler.jobs.draft.row_sources import guessed_places, joined_places
from lean_tumbler.stores.directory.connection import is_directory_url
from lean_tumbler.stores.files.nested import NestedTable
from lean_tumbler.stores.kinds import tables_at
from lean_tumbler.stores.known_accounts import KnownAccount
from lean_tumbler.stores.locators import names_around
from lean_tumbler.stores.scans.credential_places import (
    CredentialPlace,
    OtherPlaces,
    credential_places,
)
from lean_tumbler.stores.sql.recognition import SQLITE, is_database, is_url
from lean_tumbler.stores.sql.tables import DatabaseTable


class Draft(Struct, frozen=True, kw_only=True):
    """What was found at a source."""

    source: str  # what messages call it
    stores: tuple[PlacedStore, ...]  # the drafted stores under their names
    # places that hold credentials and can be no store, each with the reason
    left_out: tuple[str, ...]


def draft_source(
    locator: str,  # a path or a URL
    *,
    base: Path,  # the folder that a relative path starts from
    beside: Path,  # the folder of the policy, from which its own relative paths start
    # accounts whose password is known; they may stand in any of the tables
    known: Sequence[KnownAccount],
    search: Search,  # literals, budget and clock of the search for formulas
) -> Draft:
    """Draft every store at a source.

    Raises:
        UsageError: nothing there holds credentials.
        SourceError: it cannot be read.
    """
    name, tables = tables_at(locator, base=base)
    aside = OtherPlaces()
    places = list(credential_places(tables, Columns(), name, is_named=False, aside=aside))
    if not places:
        raise UsageError(f"{name}: no column that holds credentials was found")
    from_database = is_database(locator, base=base)
    several = len(tables) > 1
    stores: list[PlacedStore] = []
    left_out = list(_no_passwords(aside))

    def draft(place: CredentialPlace, known: Sequence[KnownAccount]) -> DraftedStore:
        of_place = partial(
            _drafted,
            known=known,
            search=_with_names(search, locator, place),
            beside=tuple(_beside(place, places)),
        )
        return _best(of_place, place, known)

    for group, place, drafted in _each(grouped(places, [t.name for t in tables]), known, draft):
        reason = _no_store(place, drafted)
        if reason:
            left_out.append(f"{place.table.name}.{place.columns.stored}: {reason}")
            continue
        stores.append(
            PlacedStore(
                name=free_name(_store_name(group), {store.name for store in stores}),
                locator=_locator(locator, base=base, beside=beside),
                needs_table=(from_database and not is_directory_url(locator)) or several,
                drafted=drafted,
                tables=group.patterns,
            )
        )
    return Draft(source=name, stores=tuple(stores), left_out=tuple(left_out))


def _no_passwords(aside: OtherPlaces) -> Iterator[str]:
    """Name the columns that hold something else than passwords, each with what it is."""
    for found, column, kind in aside.kinds:
        if kind.opens_something:
            yield f"{found.name}.{column}: {kind}s; `lean-tumbler audit` says how to keep them"
    for name in aside.digests:
        yield f"{name}: it holds digests, and nothing says that they are of people's passwords"


def _each(
    groups: Sequence[EqualPlaces],
    known: Sequence[KnownAccount],
    draft: Callable[[CredentialPlace, Sequence[KnownAccount]], DraftedStore],
) -> Iterator[tuple[EqualPlaces, CredentialPlace, DraftedStore]]:
    """Draft each place, and equal tables as one."""
    for group in groups:
        together = draft_equal(group, known, draft) if group.patterns else None
        if together is not None:
            yield group, group.places[0], together
            continue
        for place in group.places:
            yield EqualPlaces(places=(place,)), place, draft(place, known)


def _drafted(
    place: CredentialPlace,
    *,
    known: Sequence[KnownAccount],
    search: Search,
    beside: Sequence[str],
    is_guess: bool = False,
) -> DraftedStore:
    drafted = draft_store(
        place.table, place.columns, known=known, search=search, beside=beside, is_guess=is_guess
    )
    table = place.table
    return replace(drafted, source=table.source) if isinstance(table, DatabaseTable) else drafted


def _best(
    draft: Callable[..., DraftedStore],
    place: CredentialPlace,
    known: Sequence[KnownAccount],
) -> DraftedStore:
    """Draft a place; where its table does not hold the logins, beside a table that does."""
    found = draft(place)
    if not found.columns.login or (known and not found.known and not found.repeated):
        for beside in joined_places(place):
            other = draft(beside)
            if other.columns.login and _rank(other) >= _rank(found):
                place, found = beside, other
            if other.opened or (other.columns.login and not known):
                break
        for beside in guessed_places(place) if known and not found.opened else ():
            other = _of_one_kind(draft, beside, draft(beside, is_guess=True))
            if other.opened:
                return other
    return _of_one_kind(draft, place, found)


def _of_one_kind(
    draft: Callable[..., DraftedStore], place: CredentialPlace, found: DraftedStore
) -> DraftedStore:
    """Draft the rows of one kind alone, where a login has several and one kind opens."""
    if found.told_apart_by is not None:
        live = draft(place.only(found.told_apart_by))
        if live.opened >= found.opened and not live.logins_repeated:
            return live
    if found.repeated <= found.known:
        return found
    only = [draft(place.only(condition)) for condition in found.kinds]
    return max([found, *only], key=lambda each: each.opened)


def _rank(drafted: DraftedStore) -> tuple[int, int]:
    return drafted.opened, max(drafted.known, drafted.repeated)


def _with_names(search: Search, locator: str, place: CredentialPlace) -> Search:
    names = names_around(locator, place.table.name)
    return replace(search, constants=Constants(search.constants.literals, names))


def _beside(place: CredentialPlace, places: Sequence[CredentialPlace]) -> Iterator[str]:
    for other in places:
        if other.table is place.table and other.columns.stored != place.columns.stored:
            yield other.columns.stored or ""


def _no_store(place: CredentialPlace, drafted: DraftedStore) -> str:
    """Say why a place can be no store of a policy; empty where it can."""
    if isinstance(place.table, NestedTable):
        return "it is in documents inside a column, which only `audit` reads"
    if not drafted.columns.login:
        return (
            "no column of the table holds logins, nor of one that it refers to; name both in the "
            "policy yourself, with “join”"
        )
    if isinstance(place.table, DatabaseTable) and not place.table.can_be_paged:
        return "no column of the table names a row alone: add a key or a unique index"
    return ""


def _store_name(group: EqualPlaces) -> str:
    """Name a store by its table; a file by its name; equal tables by what they share."""
    named = Path(group.places[0].table.name).stem
    if group.patterns:
        shared = group.shared_name
        parts = [part.replace("*", "") for part in shared.split(".")]
        named = parts[-1] or "_".join(filter(None, parts)) or "tables"
    return part_name(folded(named)).replace("_column", "")


def _locator(locator: str, *, base: Path, beside: Path) -> str:
    """Write a locator as the policy needs it: relative paths start from the policy's folder."""
    if is_url(locator) and not locator.startswith(SQLITE):
        return locator
    path = locator.removeprefix(SQLITE)
    scheme = locator[: len(locator) - len(path)]
    if Path(path).is_absolute():
        return locator
    return scheme + os.path.relpath(base / path, beside)
