"""Results of a query in Arrow's layout (arrow.apache.org/adbc): no object for each value."""

import os
import threading
from collections.abc import Generator, Iterator, Mapping
from contextlib import ExitStack, contextmanager
from functools import cached_property
from pathlib import Path
from types import ModuleType

import adbc_driver_manager as adbc
import nanoarrow
import polars as pl
from msgspec import Struct, field
from nanoarrow._utils import NanoarrowException

from lean_tumbler.core.records import Hidden, MaskedRecord

ARROW_ERRORS = (adbc.Error, NanoarrowException)

_STANDARD_ERROR = 2
_ONE_AT_A_TIME = threading.Lock()


class ArrowReading(MaskedRecord, Struct, frozen=True, dict=True):
    """Queries by a driver for Arrow, each on a connection of its own."""

    driver: ModuleType  # its module
    # of the database
    address: Hidden[str]  # may hold a password
    options: Mapping[str, str] = field(default_factory=dict)  # of the queries
    before: str = ""  # a statement that goes before each; or empty

    @cached_property
    def _database(self) -> adbc.AdbcDatabase:
        """What connections are made from: a driver may read the server's types for it, once."""
        found: adbc.AdbcDatabase = self.driver.connect(self.address)
        return found

    def batches(self, text: str) -> Generator[pl.DataFrame, None, None]:
        """Run the query, and give its rows as they come."""
        with ExitStack() as opened:
            with _standard_error_muted():
                connection = opened.enter_context(adbc.AdbcConnection(self._database))
                statement = opened.enter_context(adbc.AdbcStatement(connection))
                if self.before:
                    statement.set_sql_query(self.before)
                    statement.execute_update()
                statement.set_options(**self.options)
                statement.set_sql_query(text)
                handle, _ = statement.execute_query()
            with nanoarrow.ArrayStream(handle) as stream:
                for batch in stream:
                    yield pl.DataFrame(batch)


@contextmanager
def _standard_error_muted() -> Iterator[None]:
    """Drop what a driver's library prints by itself.

    libpq prints the last words of a server that goes away while a connection waits; the error
    that follows tells it.
    """
    with _ONE_AT_A_TIME, Path(os.devnull).open("wb") as nowhere:
        kept = os.dup(_STANDARD_ERROR)
        try:
            os.dup2(nowhere.fileno(), _STANDARD_ERROR)
            yield
        finally:
            os.dup2(kept, _STANDARD_ERROR)
            os.close(kept)
