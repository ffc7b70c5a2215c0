"""What the owner of a place can do, as a statement or command for review."""

import re
from collections.abc import Mapping
from types import MappingProxyType

from lean_tumbler.jobs.residue.search import NO_ROW
from lean_tumbler.stores.residue.searching import Spot

_REMEDIES: Mapping[str, str] = MappingProxyType(
    {
        "sqlite": (
            "rewrite the file, with freed pages overwritten: PRAGMA secure_delete = ON; VACUUM; "
            "PRAGMA wal_checkpoint(TRUNCATE)"
        ),
        "column": (
            "empty the column, or delete the rows, if nothing reads them: UPDATE {table} SET "
            "{column} = NULL; then see that the file or tablespace is written anew"
        ),
        "definition": "write the value out of the definition, and create it anew",
        "postgresql": (
            "write the table anew: VACUUM FULL TABLE; then CHECKPOINT, SELECT pg_switch_wal(), and "
            "expire archived write-ahead logs and base backups"
        ),
        "mariadb": (
            "write the table anew: OPTIMIZE TABLE TABLE; then FLUSH BINARY LOGS, and PURGE BINARY "
            "LOGS BEFORE NOW(); undo space is purged by itself"
        ),
        "har": "delete the recording; tell whoever it was sent to",
        "log": (
            "delete the log and its rotated copies, and stop what writes the value: a response or "
            "object is logged whole"
        ),
        "core": "delete the core dump, and forbid further ones for the service (LimitCORE=0)",
        "source": (
            "replace it by an invented value, and rewrite the history if the value is real "
            "(git filter-repo); whoever has a clone has the value"
        ),
        "dump": (
            "delete the dump, or seal it for a key that is kept offline; its copies too, and the "
            "place that they are taken to"
        ),
        "file": "delete the file, or take the values out of it; its backups too",
        "stream": "stop what writes the value into this stream",
    }
)
_BY_NAME: tuple[tuple[str, re.Pattern[str]], ...] = (
    ("har", re.compile(r"\.har$")),
    ("postgresql", re.compile(r"/(?:base|global|pg_wal|pg_tblspc)/[^ ]+$")),
    ("mariadb", re.compile(r"(?:\.ibd|ibdata\d+|ib_logfile\d+|undo\d+|-bin\.\d{6})$")),
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
        return _REMEDIES["sqlite"]
    if table and "file" not in table:
        return _REMEDIES["column"].format(table=table, column=column)
    if spot.column and not table:
        return _REMEDIES["definition"]
    if spot.place.path == "standard input":
        return _REMEDIES["stream"]
    name = str(spot.place).lower()
    kind = next((kind for kind, pattern in _BY_NAME if pattern.search(name)), "file")
    return _REMEDIES[kind]
