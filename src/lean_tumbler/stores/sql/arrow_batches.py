"""Results of a query in Arrow's layout (arrow.apache.org/adbc): no object for each value."""

from collections.abc import Generator, Mapping
from dataclasses import dataclass, field
from types import ModuleType

import adbc_driver_manager as adbc
import nanoarrow
import polars as pl
from nanoarrow._utils import NanoarrowException

ARROW_ERRORS = (adbc.Error, NanoarrowException)


@dataclass(frozen=True, slots=True)
class ArrowReading:
    """One query on one connection of a driver for Arrow.

    Attributes:
        driver: its module.
        address: of the database.
        options: of the query.
        before: a statement that goes before it; or empty.
    """

    driver: ModuleType
    address: str = field(repr=False)  # may hold a password
    options: Mapping[str, str] = field(default_factory=dict)
    before: str = ""

    def batches(self, text: str) -> Generator[pl.DataFrame, None, None]:
        """Run the query, and give its rows as they come."""
        with (
            self.driver.connect(self.address) as database,
            adbc.AdbcConnection(database) as connection,
            adbc.AdbcStatement(connection) as statement,
        ):
            if self.before:
                statement.set_sql_query(self.before)
                statement.execute_update()
            statement.set_options(**self.options)
            statement.set_sql_query(text)
            handle, _ = statement.execute_query()
            with nanoarrow.ArrayStream(handle) as stream:
                for batch in stream:
                    yield pl.DataFrame(batch)
