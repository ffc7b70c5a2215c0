"""What names a row: a column, or several together."""

import json
import operator
from collections.abc import Callable, Mapping, Sequence
from typing import Any

import sqlalchemy as sa

from lean_tumbler.stores.interface import AccountKey
from lean_tumbler.stores.sql.server import Column, Expression

_CHARACTERS = 255
_PARAMETER = "the_key"


class RowKey:
    """The columns that name a row. What several hold is one key: their texts, as a JSON list.

    Args:
        columns: of the table.
        types: of each.
        cast: types that the server compares with their own type alone.
    """

    def __init__(
        self, columns: Sequence[Column], types: Sequence[Any], cast: tuple[type[Any], ...]
    ) -> None:
        self.columns = tuple(columns)
        self._types: tuple[Any, ...] = tuple(types)
        self._cast = cast if self.is_single else (*cast, sa.types.DateTime, sa.types.Date)

    def __str__(self) -> str:
        """Name the columns, as a message does."""
        return ", ".join(f"“{column.name}”" for column in self.columns)

    @property
    def is_single(self) -> bool:
        """Whether one column names a row."""
        return len(self.columns) == 1

    def of(self, values: Sequence[Any]) -> AccountKey:
        """Give the key of a row, from what its columns hold."""
        if self.is_single:
            return _plain(values[0])
        return json.dumps([_listed(value) for value in values], ensure_ascii=False)

    def is_(self, key: AccountKey) -> Expression:
        """Tell the row with a key."""
        return self._compared(self._parts(key))

    def is_bound(self) -> Expression:
        """Tell the row with the key that `bound` gives."""
        return self._compared([sa.bindparam(name) for name in self._parameters])

    def bound(self, key: AccountKey) -> Mapping[str, Any]:
        """Give a key as parameters of a statement."""
        return dict(zip(self._parameters, self._parts(key), strict=True))

    def after(self, key: AccountKey) -> Expression:
        """Tell the rows that come after a key, in the columns' order."""
        return self._beyond(key, operator.gt, operator.ge)

    def before(self, key: AccountKey) -> Expression:
        """Tell the rows that come before a key."""
        return self._beyond(key, operator.lt, operator.le)

    def _beyond(
        self,
        key: AccountKey,
        beyond: Callable[[Any, Any], Expression],
        at_or_beyond: Callable[[Any, Any], Expression],
    ) -> Expression:
        parts = self._as_types(self._parts(key))
        later: Expression = sa.false()
        for column, part in reversed(list(zip(self.columns, parts, strict=True))):
            later = sa.or_(beyond(column, part), sa.and_(column == part, later))
        # The first part by itself, so that an index serves.
        return sa.and_(at_or_beyond(self.columns[0], parts[0]), later)

    def is_text(self, key: str) -> Expression:
        """Tell the row with a key that a person typed."""
        if not self.is_single:
            return self.is_(key)
        column, kind = self.columns[0], self._types[0]
        # Blanks at the end of a char(n) count for none of the server's, and a cast takes them off.
        is_text = isinstance(kind, sa.String)
        return (column if is_text else sa.cast(column, sa.String(_CHARACTERS))) == key

    @property
    def _parameters(self) -> list[str]:
        return [f"{_PARAMETER}_{number}" for number in range(len(self.columns))]

    def _parts(self, key: AccountKey) -> list[Any]:
        if self.is_single:
            return [key]
        try:
            parts = json.loads(str(key))
        except ValueError:
            parts = None
        right = isinstance(parts, list) and len(parts) == len(self.columns)
        return parts if right else [None] * len(self.columns)  # no row has such a key

    def _compared(self, parts: Sequence[Any]) -> Expression:
        typed = self._as_types(parts)
        return sa.and_(*(column == part for column, part in zip(self.columns, typed, strict=True)))

    def _as_types(self, parts: Sequence[Any]) -> list[Expression]:
        """Give parts as their columns' types; what Python has no type for is kept as text."""
        given = (part if isinstance(part, sa.ColumnElement) else sa.literal(part) for part in parts)
        return [
            sa.cast(part, self._types[number])
            if isinstance(self._types[number], self._cast)
            else part
            for number, part in enumerate(given)
        ]


def _plain(value: Any) -> AccountKey:
    return value if isinstance(value, int | str | bytes) else str(value)  # a UUID, for one


def _listed(value: Any) -> int | str:
    return value if isinstance(value, int | str) else str(value)
