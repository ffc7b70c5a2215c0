"""Delimited lines as a format: what no other format recognises, and is text."""

from lean_tumbler.stores.files.base import FileFormat
from lean_tumbler.stores.files.delimited.copying import DelimitedExport
from lean_tumbler.stores.files.delimited.table import DelimitedTable

FORMAT = FileFormat(
    recognises=lambda beginning: not beginning.looks_binary,
    tables=lambda path: [DelimitedTable(path)],
    copied=DelimitedExport,
)
