"""What makes up a row, from the policy's tables `join`, `rows` and the column `write_to`."""

from collections.abc import Mapping
from typing import Any

from lean_tumbler.core.policy.entries import Entries
from lean_tumbler.core.policy.model import JoinedTable, RowSource, WriteTo
from lean_tumbler.core.policy.tables import JoinTable, RowsTable, StoreTable, WriteToTable
from lean_tumbler.core.reading.conditions import Condition, parse_condition
from lean_tumbler.errors import ConditionError


def row_source(
    entries: Entries, place: str, table: StoreTable, roles: Mapping[str, str]
) -> RowSource:
    """Read what makes up a row.

    Args:
        entries: reads tables, and says where a mistake is.
        place: the store's table.
        table: its content.
        roles: role -> the table's own name of its column, for the roles that are mapped.

    Raises:
        PolicyError: with the table and the key.
    """
    source = RowSource(
        join=None if table.join is None else _join(entries, f"{place}.join", table.join),
        rows=None if table.rows is None else _rows(entries, f"{place}.rows", table.rows, roles),
        write_to=_write_to(entries, f"{place}.columns", table.columns),
        key=_key(entries, f"{place}.columns", table.columns),
    )
    written = () if source.write_to is None else (source.write_to.column,)
    if source.join and any(map(source.join.own_name, written)):
        raise entries.error(place, "only columns of the store's own table can be written")
    return source


def _rows(
    entries: Entries, place: str, given: dict[str, Any], roles: Mapping[str, str]
) -> Condition:
    table = entries.read(place, given, RowsTable)
    try:
        return parse_condition(table.when, roles=roles)
    except ConditionError as error:
        raise entries.error(place, f"“when”, {error}") from None


def _join(entries: Entries, place: str, given: dict[str, Any]) -> JoinedTable:
    table = entries.read(place, given, JoinTable)
    return JoinedTable(table=table.table, key=table.key, by=table.by)


def _texts(entries: Entries, place: str, column: str, wanted: object) -> tuple[str, ...]:
    texts = wanted if isinstance(wanted, list) else [wanted]
    if not texts or not all(isinstance(text, str) for text in texts):
        raise entries.error(place, f"“{column}” must be text, or a list of texts")
    return tuple(texts)


def _key(entries: Entries, place: str, columns: dict[str, Any]) -> tuple[str, ...]:
    """Read `account` where it is a list."""
    account = columns.get("account")
    return _texts(entries, place, "account", account) if isinstance(account, list) else ()


def _write_to(entries: Entries, place: str, columns: dict[str, Any]) -> WriteTo | None:
    given = columns.get("write_to")
    if given is None:
        return None
    if isinstance(given, str):
        given = {"column": given}
    if not isinstance(given, dict):
        raise entries.error(place, "“write_to” must be text, or a table: column, empty_stored")
    table = entries.read(f"{place}.write_to", given, WriteToTable)
    if table.column == columns.get("stored"):
        raise entries.error(place, "“write_to” is the column “stored” itself")
    return WriteTo(column=table.column, empty_stored=table.empty_stored)
