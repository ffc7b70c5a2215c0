"""Where the login stands in another table than the value, or several rows stand for one login."""

from collections.abc import Iterable, Iterator
from typing import Any

from msgspec.structs import replace

from lean_tumbler.core.audit.discovery import folded, roles_beside
from lean_tumbler.core.policy import Columns, RowSource
from lean_tumbler.core.policy.model import JoinedTable
from lean_tumbler.stores.scans.credential_places import CredentialPlace
from lean_tumbler.stores.sql.database import Database, TableName
from lean_tumbler.stores.sql.relation import Relation
from lean_tumbler.stores.sql.tables import DatabaseTable, tables_of_database

# What a joined table is asked for, where the store's own has no such column.
_JOINED_ROLES = ("login", "last_login", "privileged", "created", "updated", "origin")
_MOST_JOINS = 12
_PLURALS = ("", "s", "es")


def joined_places(place: CredentialPlace) -> Iterator[CredentialPlace]:
    """Give a place beside each table that a foreign key or a name points to, likeliest first.

    Args:
        place: whose own table does not hold the logins.
    """
    table = place.table
    if isinstance(table, DatabaseTable) and table.source.is_plain:
        yield from _beside(place, table, (*_by_foreign_key(table), *_by_name(table)))


def guessed_places(place: CredentialPlace) -> Iterator[CredentialPlace]:
    """Give a place beside each table of logins that a number of its own may refer to.

    Numbers of one table are found in any other: only known accounts that open prove such a join.
    """
    table = place.table
    if isinstance(table, DatabaseTable) and table.source.is_plain:
        yield from _beside(place, table, _guesses(table))


def _beside(
    place: CredentialPlace, table: DatabaseTable, joins: Iterable[JoinedTable]
) -> Iterator[CredentialPlace]:
    for join in list(dict.fromkeys(joins))[:_MOST_JOINS]:
        source = RowSource(join=join)
        relation = Relation(table.database, table.table, source)
        joined = replace(table, source=source, columns=tuple(relation.names))
        yield CredentialPlace(joined, _with_joined(place.columns, join, relation), place.opens)


def _by_foreign_key(table: DatabaseTable) -> Iterator[JoinedTable]:
    for by, other, key in table.database.foreign_keys(table.table):
        if key in table.database.keys(other):
            yield JoinedTable(table=str(other), key=key, by=by)


def _by_name(table: DatabaseTable) -> Iterator[JoinedTable]:
    """Take `person_id` for a row of `person` or `persons`, as customary schemas have it."""
    named = {folded(other.name): other for other in table.database.tables()}
    for column in table.columns:
        stem = folded(column).removesuffix("_id")
        if stem == folded(column):
            continue
        for other in (named.get(stem + plural) for plural in _PLURALS):
            key = _single_key(table.database, other) if other and other != table.table else ""
            if key:
                yield JoinedTable(table=str(other), key=key, by=column)


def _guesses(table: DatabaseTable) -> Iterator[JoinedTable]:
    """Take each number of a row for one of each table that has a column of logins."""
    own_key = _single_key(table.database, table.table)
    numbers = [n for n in table.columns if folded(n).endswith("id") and n != own_key]
    for other in tables_of_database(table.database):
        key = _single_key(table.database, other.table)
        if key and other.table != table.table and roles_beside(other.columns, Columns()).login:
            yield from (
                JoinedTable(table=str(other.table), key=key, by=number) for number in numbers
            )


def _single_key(database: Database, table: TableName) -> str:
    keys = database.primary_key(table)
    return keys[0] if len(keys) == 1 else ""


def _with_joined(columns: Columns, join: JoinedTable, relation: Relation) -> Columns:
    """Take the joined table's columns for roles that nothing in the store's own table has."""
    own = {name: n for n in relation.names if (name := join.own_name(n)) is not None}
    found = roles_beside(tuple(own), Columns())
    roles: dict[str, Any] = {
        role: own[name]
        for role in _JOINED_ROLES
        if (name := getattr(found, role)) and (role == "login" or not getattr(columns, role))
    }
    return replace(columns, **roles)
