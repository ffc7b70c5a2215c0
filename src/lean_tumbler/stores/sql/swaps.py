"""Writing: new bytes go in only where exactly the old ones stand, and are read back."""

from collections import Counter
from collections.abc import Iterator, Sequence
from contextlib import closing, contextmanager
from functools import cached_property
from typing import Any

import sqlalchemy as sa
from sqlalchemy.sql.compiler import SQLCompiler

from lean_tumbler.errors import SourceError
from lean_tumbler.stores.interface import AccountKey, Swap, SwapResult
from lean_tumbler.stores.sql.rows import TableRows
from lean_tumbler.stores.sql.server import JoinedUpdate, TableName
from lean_tumbler.stores.sql.sqlite import WRITES


class SqlSwaps(TableRows):
    """Swaps in one table."""

    def swap(self, swap: Swap) -> SwapResult:
        """Write one value."""
        return self.swap_many([swap])[0]

    def fill(self, key: AccountKey, new: str) -> SwapResult:
        """Write a first value, only where none stands."""
        column = self._table.c[self._columns.stored or ""]
        filled = sa.update(self._table).where(self._key == self._as_key(key), column.is_(None))
        swap = Swap(key=key, old=b"", new=new)
        with self._writing() as connection:
            rows = connection.execute(filled.values({column: self._as_written(new)})).rowcount
            if rows != 1:
                return self._not_written(connection, swap, rows)
            self._require_written(connection, swap)
            return SwapResult.DONE

    def swap_many(self, swaps: Sequence[Swap]) -> list[SwapResult]:
        """Write many values in one short transaction; results in the same order."""
        with self._writing() as connection:
            changed = self._update(connection, swaps)
            results = [
                SwapResult.DONE if rows == 1 else self._not_written(connection, swap, rows)
                for swap, rows in zip(swaps, changed, strict=True)
            ]
            done = [swap for swap, rows in zip(swaps, changed, strict=True) if rows == 1]
            if done:
                self._require_written(connection, max(done, key=lambda swap: len(swap.new_bytes)))
            return results

    @contextmanager
    def _writing(self) -> Iterator[sa.Connection]:
        writer = self._database.engine.execution_options(**{WRITES: True})
        with self._database.errors(), writer.begin() as connection:
            yield connection

    def _update(self, connection: sa.Connection, swaps: Sequence[Swap]) -> list[int]:
        """Write each value where its old bytes stand; give how many rows each has changed.

        By the driver's own cursor: a statement of SQLAlchemy's takes five times as long, and
        psycopg sends many without waiting for each answer.
        """
        dated = any(swap.last_login is not None for swap in swaps)
        compiled = self._swap_while_away_statement if dated else self._swap_statement
        statement = str(compiled)
        parameters: list[Any] = [
            {
                "the_key": swap.key,
                "the_old": swap.old,
                "the_new": self._as_written(swap.new),
                "the_last_login": swap.last_login or b"",
            }
            for swap in swaps
        ]
        if compiled.positional:
            order = compiled.positiontup or []
            parameters = [tuple(values[name] for name in order) for values in parameters]
        with closing(connection.connection.cursor()) as opened:
            cursor: Any = opened
            joined = self._database.server.joined_update
            if joined is not None and not dated and all(type(swap.key) is int for swap in swaps):
                statement, values = joined(self._joined(swaps))
                cursor.execute(statement, values)
                return self._changed(connection, swaps, int(cursor.rowcount))
            return self._database.server.update_each(cursor, statement, parameters)

    def _joined(self, swaps: Sequence[Swap]) -> JoinedUpdate:
        stored = self._columns.stored or ""

        def quoted(name: str | TableName) -> str:
            return self._database.quoted(name).replace("%", "%%")  # there are parameters

        return JoinedUpdate(
            table=quoted(self._name),
            key=quoted(self._key_name),
            stored=quoted(stored),
            raw=str(self._raw(stored).compile(dialect=self._database.engine.dialect)),
            rows=[(int(swap.key), swap.old, self._as_written(swap.new)) for swap in swaps],
        )

    def _changed(self, connection: sa.Connection, swaps: Sequence[Swap], number: int) -> list[int]:
        """Give how many rows each swap has changed, where the number of all of them is known."""
        keys = {swap.key for swap in swaps}
        if number == len(keys):
            return [1] * len(swaps)
        query = sa.select(self._key, self._raw(self._columns.stored)).where(self._key.in_(keys))
        found = Counter(
            (key, bytes(value)) for key, value in connection.execute(query) if value is not None
        )
        return [found[swap.key, swap.new_bytes] for swap in swaps]

    @cached_property
    def _swap_statement(self) -> SQLCompiler:
        return self._swap_where().compile(dialect=self._database.engine.dialect)

    @cached_property
    def _swap_while_away_statement(self) -> SQLCompiler:
        last_login = sa.func.coalesce(self._raw(self._columns.last_login), sa.literal_column("''"))
        wanted = sa.bindparam("the_last_login", type_=sa.LargeBinary())
        unchanged = self._swap_where().where(sa.cast(last_login, sa.LargeBinary) == wanted)
        return unchanged.compile(dialect=self._database.engine.dialect)

    def _swap_where(self) -> sa.Update:
        stored = self._columns.stored or ""
        return (
            sa.update(self._table)
            .where(
                self._key == self._as_key(sa.bindparam("the_key")),
                self._raw(stored) == sa.bindparam("the_old", type_=sa.LargeBinary()),
            )
            .values({self._table.c[stored]: sa.bindparam("the_new")})
        )

    def _require_written(self, connection: sa.Connection, swap: Swap) -> None:
        """Read the longest value back before the transaction ends.

        Some servers cut off, and triggers change, what is written, without an error.
        """
        query = sa.select(self._raw(self._columns.stored)).where(
            self._key == self._as_key(swap.key)
        )
        found = connection.execute(query).scalar()
        if found is None or bytes(found) != swap.new_bytes:
            raise SourceError(
                f"{self._place}: the column “{self._columns.stored}” "
                "did not keep a value as written (too narrow, or changed by a trigger); "
                "nothing of this batch was written"
            )

    def _as_written(self, value: str | bytes) -> str | bytes:
        """Give a new value as the column takes it."""
        is_text = isinstance(value, str) and self._columns.stored in self._binary
        return value.encode("utf-8") if is_text else value  # type: ignore[union-attr] # text

    def _not_written(self, connection: sa.Connection, swap: Swap, rows: int) -> SwapResult:
        """Tell why a swap changed no row; more than one is an error."""
        if rows > 1:
            raise SourceError(
                f"{self._place}: the account column "
                f"“{self._key_name}” is not unique; nothing of this batch was written"
            )
        again = sa.select(self._raw(self._columns.stored)).where(
            self._key == self._as_key(swap.key)
        )
        found = connection.execute(again).first()
        if found is None:
            return SwapResult.GONE
        # After a lost connection the write may have been done already: salts make it unmistakable.
        written = found[0] is not None and bytes(found[0]) == swap.new_bytes
        return SwapResult.DONE if written else SwapResult.CHANGED
