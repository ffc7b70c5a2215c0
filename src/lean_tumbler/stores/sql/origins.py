"""Which formulas the layered values of a table refer to, without reading all of them."""

import re
from typing import Any

import sqlalchemy as sa

from lean_tumbler.core.formulas.notation import FINGERPRINT_DIGITS
from lean_tumbler.core.schemes import layered
from lean_tumbler.stores.sql.relation import Relation


def origins(
    connection: sa.Connection, relation: Relation, stored: sa.ColumnElement[Any]
) -> set[str]:
    """Name the fingerprints that heads begin with; a head of several is followed to its end.

    Args:
        connection: to the table's database.
        relation: what rows are read from.
        stored: the expression for the stored value's bytes.
    """
    found: set[str] = set()
    heads = [layered.TAG + "from="]
    while heads:
        head = heads.pop()
        for text in _continued(connection, relation, stored, head):
            if match := re.match(rf"({layered.FINGERPRINT})(\+?)", text, re.ASCII):
                found.add(match[1])
                heads += [head + match[0]] if match[2] else []
    return found


def _continued(
    connection: sa.Connection, relation: Relation, stored: sa.ColumnElement[Any], head: str
) -> set[str]:
    """Give how values go on that begin in one way: a fingerprint's length, and one more."""

    def beginning(length: int) -> sa.ColumnElement[Any]:
        return sa.func.substr(stored, 1, length, type_=sa.LargeBinary())

    start = beginning(len(head) + FINGERPRINT_DIGITS + 1)
    begins = beginning(len(head)) == head.encode("ascii")
    rows = connection.execute(relation.select(start).distinct().where(begins))
    return {bytes(row[0]).decode("ascii", "replace")[len(head) :] for row in rows}
