"""What kind of file is this? Told by its content, and by its name where content does not say."""

import re
from pathlib import Path

from lean_tumbler.errors import SourceError
from lean_tumbler.stores.formats.base import Table
from lean_tumbler.stores.formats.delimited.table import DelimitedTable
from lean_tumbler.stores.formats.json_documents import document_rows, holds_documents
from lean_tumbler.stores.formats.records import (
    ParquetTable,
    RecordTable,
    account_rows,
    json_rows,
    ldif_rows,
)
from lean_tumbler.stores.formats.sql_dump.dump import Dump
from lean_tumbler.stores.formats.streams import encoding_of, sample
from lean_tumbler.stores.json_text import load_record

_PARQUET = b"PAR1"  # parquet.apache.org, File Format
_LDIF = re.compile(r"(?:version: *1\s+)?(?:#[^\n]*\n|\s)*dn::? ", re.IGNORECASE)
_DUMP = re.compile(
    r"^\s*(?:(?:INSERT|REPLACE)\b(?: \w+)*? INTO |CREATE TABLE |COPY \S+.* FROM stdin\b)",
    re.IGNORECASE | re.MULTILINE,
)
_ACCOUNT_LINE = re.compile(r"[^:\s,;\t|]{1,128}:[^:\s]*(?::[^:]*){0,7}")


def tables_of_file(path: Path) -> list[Table]:
    """Find the tables of a file.

    Raises:
        SourceError: it cannot be read, or is of no kind that is known.
    """
    beginning = sample(path)
    if not beginning.strip():
        raise SourceError(f"{path}: holds no data")
    if beginning.startswith(_PARQUET):
        return [ParquetTable(path)]
    text = beginning.decode(encoding_of(beginning), "replace").removeprefix("\ufeff")
    if holds_documents(text):
        return [RecordTable(path, document_rows)]
    if _is_json(text):
        return [RecordTable(path, json_rows)]
    if _LDIF.match(text):
        return [RecordTable(path, ldif_rows)]
    if _DUMP.search(text):
        return list(Dump(path).tables)
    if _is_account_file(text):
        return [RecordTable(path, account_rows)]
    if _looks_binary(text):
        raise SourceError(f"{path}: neither a database nor text of a kind that is read")
    return [DelimitedTable(path)]


def _is_json(text: str) -> bool:
    first = text.split("\n", 1)[0].strip()
    if not first.startswith("{"):
        return False
    try:
        return isinstance(load_record(first), dict)
    except ValueError:
        return '":' in first  # the first line may be the broken one


def _is_account_file(text: str) -> bool:
    lines = [line for line in text.split("\n")[:50] if line.strip() and line[0] != "#"]
    whole = lines[:-1] if len(lines) > 1 and not text.endswith("\n") else lines
    return bool(whole) and all(_ACCOUNT_LINE.fullmatch(line.rstrip("\r")) for line in whole)


def _looks_binary(text: str) -> bool:
    odd = sum(ord(character) < 9 or character == "\ufffd" for character in text[:4096])
    return odd > len(text[:4096]) / 20
