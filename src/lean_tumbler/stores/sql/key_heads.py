"""Under which keys the values of a table are, without reading all of them."""

from collections import Counter
from typing import Any

import sqlalchemy as sa

from lean_tumbler.core.schemes import keyed
from lean_tumbler.stores.sql.relation import Relation

_MOST_HEADS = 100  # a table has one or two; more are somebody's rubbish
_ODD_CHARACTERS = 40  # of a value that begins as a keyed one and is none


def key_heads(
    connection: sa.Connection, relation: Relation, stored: sa.ColumnElement[Any]
) -> Counter[tuple[str, bytes]]:
    """Count the rows under each key, by its name and its check.

    Args:
        connection: to the table's database.
        relation: what rows are read from.
        stored: the expression for the stored value's bytes.
    """
    found: Counter[tuple[str, bytes]] = Counter()
    seen: list[str] = []

    def begins(text: str) -> sa.ColumnElement[bool]:
        start = sa.func.substr(stored, 1, len(text), type_=sa.LargeBinary())
        return start == text.encode("ascii")

    while len(seen) < _MOST_HEADS:
        others = sa.and_(begins(keyed.TAG), *(sa.not_(begins(text)) for text in seen))
        row = connection.execute(relation.select(stored).where(others).limit(1)).first()
        if row is None:
            break
        text = bytes(row[0]).decode("ascii", "replace")
        value = keyed.read(text)
        if value is None:
            seen.append(text[:_ODD_CHARACTERS].encode("ascii", "ignore").decode("ascii"))
            continue
        head = value.head
        seen.append(keyed.beginning(head.name, head.check))
        counted = relation.select(sa.func.count()).where(begins(seen[-1]))
        found[head.name, head.check] = int(connection.execute(counted).scalar_one())
    return found
