"""What the owner of a place can do, as statements or commands for review."""

import re
from collections.abc import Mapping
from types import MappingProxyType

from msgspec import Struct

from lean_tumbler.jobs.residue.search import NO_ROW, SERVER_FILES
from lean_tumbler.stores.residue.piecewise import Spot


class Remedy(Struct, frozen=True):
    """What is to be done, and the statements that do it; `{table}` and `{column}` are names."""

    does: str
    statements: tuple[str, ...] = ()

    def text(self, *, table: str = "TABLE", column: str = "COLUMN") -> str:
        """Write it in one sentence."""
        if not self.statements:
            return self.does
        statements = "; ".join(self.statements)
        return f"{self.does}: {statements.format(table=table, column=column)}"


REMEDIES: Mapping[str, Remedy] = MappingProxyType(
    {
        "freed": Remedy(
            "rewrite the file, and overwrite what was freed",
            ("PRAGMA secure_delete = ON", "VACUUM", "PRAGMA wal_checkpoint(TRUNCATE)"),
        ),
        "column": Remedy(
            "if nothing reads the column, empty it, and have the table written anew",
            ("UPDATE {table} SET {column} = NULL",),
        ),
        "definition": Remedy("take the value out of the definition, and create it anew"),
        "postgresql": Remedy(
            "write the table anew, and end the write-ahead log's old segments; archived logs and "
            "base backups expire separately",
            (
                "VACUUM FULL {table}",
                "ALTER SYSTEM SET wal_recycle = off",
                "SELECT pg_reload_conf()",
                "SELECT pg_switch_wal()",
                "CHECKPOINT",
                "ALTER SYSTEM RESET wal_recycle",
            ),
        ),
        "mysql": Remedy(
            "write the table anew, purge the binary log, and have the redo log written anew by "
            "another size",
            (
                "SET GLOBAL innodb_immediate_scrub_data_uncompressed = ON",
                "OPTIMIZE TABLE {table}",
                "FLUSH BINARY LOGS",
                "PURGE BINARY LOGS BEFORE NOW() + INTERVAL 1 SECOND",
                "SET GLOBAL innodb_log_file_size = 2 * @@innodb_log_file_size",
            ),
        ),
        "recording": Remedy("delete the recording, and tell whoever it was sent to"),
        "log": Remedy(
            "delete the log and its rotated copies, and stop what writes the value: a response or "
            "an object is logged whole"
        ),
        "core": Remedy("delete the core dump, and forbid further ones (LimitCORE=0)"),
        "source": Remedy(
            "replace it by an invented value; if it is real, rewrite the history too: whoever has "
            "a clone has the value"
        ),
        "dump": Remedy("delete the dump and its copies, or seal it for a key that is kept offline"),
        "file": Remedy("delete the file, or take the values out of it; its backups too"),
        "stream": Remedy("stop what writes the value into this stream"),
    }
)
_BY_NAME: tuple[tuple[str, re.Pattern[str]], ...] = (
    *SERVER_FILES.items(),
    ("recording", re.compile(r"\.har$")),
    ("core", re.compile(r"(?:^|/)core(?:\.\d+)?$|\.core$|\.dmp$")),
    ("log", re.compile(r"(?:\.log(?:[.-]\w+)*|/log/[^/]+|_log)$")),
    ("source", re.compile(r"\.(?:py|js|ts|rb|go|java|php|rs|c|cs|pl|ya?ml|toml|md|rst)$")),
    (
        "dump",
        re.compile(r"\.(?:sql|dump|bak|backup|csv|jsonl?|ldif|tar|tgz|zip|gz|xz|zst|parquet)"),
    ),
)


def remedy_of(spot: Spot) -> str:
    """Say what the owner of a place can do about what was found there."""
    table, _, column = spot.column.rpartition(".")
    if spot.column == NO_ROW:
        return REMEDIES["freed"].text()
    if spot.is_of_database:
        kind = "column" if table else "definition"
        return REMEDIES[kind].text(table=table, column=column)
    if spot.place.path == "standard input":
        return REMEDIES["stream"].text()
    name = str(spot.place).lower()
    kind = next((kind for kind, pattern in _BY_NAME if pattern.search(name)), "file")
    return REMEDIES[kind].text()
