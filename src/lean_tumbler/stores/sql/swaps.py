"""Writing: new bytes go in only where exactly the old ones stand, and are read back."""

from collections import Counter
from collections.abc import Iterator, Sequence
from contextlib import closing, contextmanager
from functools import cache, cached_property, partial
from typing import Any

import sqlalchemy as sa
from sqlalchemy.sql.compiler import SQLCompiler

from lean_tumbler.errors import SourceError
from lean_tumbler.stores.interface import AccountKey, Swap, SwapResult
from lean_tumbler.stores.sql.database import AS_TEXT, TableName
from lean_tumbler.stores.sql.rows import TableRows
from lean_tumbler.stores.sql.server import Expression, JoinedUpdate
from lean_tumbler.stores.sql.sqlite import WRITES


class SqlSwaps(TableRows):
    """Swaps in one table."""

    def swap(self, swap: Swap) -> SwapResult:
        """Write one value."""
        return self.swap_many([swap])[0]

    def fill(self, key: AccountKey, new: str) -> SwapResult:
        """Write a first value, only where none stands."""
        swap = Swap(key=key, old=b"", new=new)
        filled = sa.update(self._table).where(self._key.is_(key), self._stored.is_(None))
        values = self._assigned(sa.literal(self._as_written(swap)), sa.literal(b""))
        with self._writing() as connection:
            rows = connection.execute(filled.values(values)).rowcount
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

    def require_writable(self) -> None:
        """Have the server plan a write, and not run it: it looks at rights all the same."""
        written = self._table.c[self._relation.written]
        planned = sa.update(self._table).values({written: written}).where(sa.false())
        text = planned.compile(self._database.engine, compile_kwargs=AS_TEXT)
        with self._writing() as connection:
            connection.exec_driver_sql(f"EXPLAIN {text}").close()

    @contextmanager
    def _writing(self) -> Iterator[sa.Connection]:
        writer = self._database.engine.execution_options(**{WRITES: True})
        with self._database.errors(), writer.begin() as connection:
            yield connection

    def _update(self, connection: sa.Connection, swaps: Sequence[Swap]) -> list[int]:
        """Write each value where its old bytes stand; give how many rows each has changed."""
        forward = [number for number, swap in enumerate(swaps) if not swap.puts_back]
        back = [number for number, swap in enumerate(swaps) if swap.puts_back]
        changed = [0] * len(swaps)
        for numbers in filter(None, (forward, back)):
            rows = self._update_alike(connection, [swaps[number] for number in numbers])
            for number, count in zip(numbers, rows, strict=True):
                changed[number] = count
        return changed

    def _update_alike(self, connection: sa.Connection, swaps: Sequence[Swap]) -> list[int]:
        """Write by one statement, with the driver's own cursor.

        A statement of SQLAlchemy's takes five times as long, and psycopg sends many without
        waiting for each answer.
        """
        dated = any(swap.last_login is not None for swap in swaps)
        compiled = self._statement(dated=dated, puts_back=swaps[0].puts_back)
        parameters: list[Any] = [
            {
                **self._key.bound(swap.key),
                "the_old": swap.old,
                "the_new": self._as_written(swap),
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
            is_usual = not dated and not swaps[0].puts_back
            if joined and is_usual and all(type(swap.key) is int for swap in swaps):
                statement, values = joined(self._joined(swaps))
                cursor.execute(statement, values)
                return self._changed(connection, swaps, int(cursor.rowcount))
            return self._database.server.update_each(cursor, str(compiled), parameters)

    def _joined(self, swaps: Sequence[Swap]) -> JoinedUpdate:
        compiled = partial(_as_text, dialect=self._database.engine.dialect)

        def quoted(name: str | TableName) -> str:
            return self._database.quoted(name).replace("%", "%%")  # there are parameters

        beside = self._set_beside(sa.literal_column("swap_old"))
        return JoinedUpdate(
            table=quoted(self._name),
            key=quoted(self._key.columns[0].name),
            stored=quoted(self._relation.written),
            beside="".join(
                f", {quoted(name)} = {compiled(value)}" for name, value in beside.items()
            ),
            raw=compiled(self._stored),
            rows=[(int(swap.key), swap.old, self._as_written(swap)) for swap in swaps],
        )

    def _changed(self, connection: sa.Connection, swaps: Sequence[Swap], number: int) -> list[int]:
        """Give how many rows each swap has changed, where the number of all of them is known."""
        keys = {swap.key for swap in swaps}
        if number == len(keys):
            return [1] * len(swaps)
        (key,) = self._key.columns
        query = sa.select(key, self._stored).where(key.in_(keys))
        found = Counter(
            (key, bytes(value)) for key, value in connection.execute(query) if value is not None
        )
        return [found[swap.key, swap.new_bytes] for swap in swaps]

    @cached_property
    def _stored(self) -> Expression:
        return self._raw(self._columns.stored)

    def _set_beside(self, old: Expression) -> dict[str, Expression]:
        """What a write sets beside the value: columns that stay as they are, or are emptied.

        The column that is left behind is emptied of the old value alone, which a backup holds.
        """
        relation, write_to = self._relation, self._relation.source.write_to
        beside: dict[str, Expression] = {name: self._table.c[name] for name in self._kept}
        if write_to is not None and write_to.empty_stored:
            stored = self._columns.stored or ""
            beside[stored] = sa.case(
                (relation.raw_alone(stored) == old, relation.emptied(stored)),
                else_=self._table.c[stored],
            )
        return beside

    @cached_property
    def _kept(self) -> list[str]:
        return self._relation.kept()

    def _assigned(
        self, new: Expression, old: Expression, *, puts_back: bool = False
    ) -> dict[Any, Expression]:
        """Give what a write sets: column -> value."""
        relation, stored = self._relation, self._columns.stored or ""
        written = {relation.written: new}
        if puts_back:
            written = {relation.written: relation.emptied(relation.written), stored: new}
        return {
            self._table.c[name]: value
            for name, value in {**self._set_beside(old), **written}.items()
        }

    @cache  # noqa: B019 - as long as the store
    def _statement(self, *, dated: bool, puts_back: bool) -> SQLCompiler:
        """Give the statement of a swap, whose parameters are the_key_0, the_old and the_new."""
        old = sa.bindparam("the_old", type_=sa.LargeBinary())
        swapped = sa.update(self._table).where(self._key.is_bound(), self._stored == old)
        if dated:
            last_login = self._relation.raw_in_update(self._columns.last_login or "")
            seen = sa.func.coalesce(last_login, sa.literal_column("''"))
            wanted = sa.bindparam("the_last_login", type_=sa.LargeBinary())
            swapped = swapped.where(sa.cast(seen, sa.LargeBinary) == wanted)
        swapped = swapped.values(self._assigned(sa.bindparam("the_new"), old, puts_back=puts_back))
        return swapped.compile(dialect=self._database.engine.dialect)

    def _require_written(self, connection: sa.Connection, swap: Swap) -> None:
        """Read the longest value back before the transaction ends.

        Some servers cut off, and triggers change, what is written, without an error.
        """
        relation, stored = self._relation, self._columns.stored or ""
        write_to = relation.source.write_to
        is_emptied = write_to is not None and write_to.empty_stored and swap.is_left_behind
        left = relation.raw_alone(stored) if is_emptied else sa.null()
        query = sa.select(self._stored, left).where(self._key.is_(swap.key))
        found, left_behind = connection.execute(query).first() or (None, None)
        if found is None or bytes(found) != swap.new_bytes or left_behind:
            raise SourceError(
                f"{self._place}: the column “{stored if left_behind else relation.written}” "
                "did not keep a value as written (too narrow, or changed by a trigger); "
                "nothing of this batch was written"
            )

    def _as_written(self, swap: Swap) -> str | bytes:
        """Give a new value as the column takes it."""
        column = (self._columns.stored or "") if swap.puts_back else self._relation.written
        is_text = isinstance(swap.new, str) and self._relation.is_binary(column)
        return swap.new.encode("utf-8") if is_text else swap.new  # type: ignore[union-attr] # text

    def _not_written(self, connection: sa.Connection, swap: Swap, rows: int) -> SwapResult:
        """Tell why a swap changed no row; more than one is an error."""
        if rows > 1:
            raise SourceError(
                f"{self._place}: the account column "
                f"{self._key} is not unique; nothing of this batch was written"
            )
        again = sa.select(self._stored).where(self._key.is_(swap.key))
        found = connection.execute(again).first()
        if found is None:
            return SwapResult.GONE
        # After a lost connection the write may have been done already: salts make it unmistakable.
        stands = None if found[0] is None else bytes(found[0])
        if stands == swap.old and swap.last_login is None:
            raise SourceError(
                f"{self._place}: the server accepted the write of a row and kept the old value, as "
                "a trigger or a rule makes it do; nothing of this batch was written: look at the "
                "table's triggers, which `plan` lists"
            )
        return SwapResult.STOOD if stands == swap.new_bytes else SwapResult.CHANGED


def _as_text(expression: Expression, *, dialect: sa.Dialect) -> str:
    return str(expression.compile(dialect=dialect))
