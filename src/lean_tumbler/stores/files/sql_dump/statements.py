"""The rows of one SQL statement, as dump programs and people write them.

What is not read is said, never passed over: a statement of another form, a row whose values are
of another form, and what stands behind them.
"""

import re
from collections.abc import Callable, Iterator, Sequence

from lean_tumbler.core.reading.rows import text_of

Values = list[str | None]

_PART = r'(?:`[^`]+`|"[^"]+"|\[[^\]]+\]|[\w$]+)'
NAME = rf"(?:{_PART}\s*\.\s*){{0,2}}(?P<table>{_PART})"
# Comments count as blanks; those with an exclamation mark hold what some servers run.
# Possessive: blanks and comments can be divided in many ways, and none fits where one does not.
_LEAD = r"(?>\s|/\*!\d*|/\*(?!!)(?s:.)*?\*/|--[^\n]*\n|#[^\n]*\n)*+"
_MODIFIERS = r"(?:\s+(?:LOW_PRIORITY|DELAYED|HIGH_PRIORITY|IGNORE|OR\s+[A-Z]+))*"
INSERT = re.compile(
    rf"{_LEAD}(?:INSERT|REPLACE)\b{_MODIFIERS}(?:\s+INTO)?\s+{NAME}\s*(?:AS\s+{_PART}\s*)?"
    r"(?:\((?P<columns>[^)]*)\)\s*)?(?:OVERRIDING\s+(?:SYSTEM|USER)\s+VALUE\s+)?VALUES?\b\s*",
    re.IGNORECASE,
)
# What writes rows in forms that are not read.
WRITING = re.compile(
    rf"{_LEAD}(?:INSERT|REPLACE|UPDATE|MERGE|UPSERT|LOAD\s+(?:DATA|XML)|COPY|BULK|WITH|EXEC(?:UTE)?"
    r"|CALL)\b",
    re.IGNORECASE,
)
_ALWAYS = re.compile(
    rf"{_LEAD}(?:INSERT|REPLACE\s+INTO|UPDATE|MERGE|UPSERT|LOAD|COPY|BULK)\b", re.IGNORECASE
)
# Possessive: what goes back over a long text takes memory for each character of it.
_WITHIN = r"[^'\\]*+(?:(?:\\.|'')[^'\\]*+)*+"
_QUOTED = rf"'{_WITHIN}'"
_STRING_OR = re.compile(rf"{_QUOTED}|[;()']", re.DOTALL)
_VALUE = re.compile(
    rf"\s*(?:(?P<prefix>_\w+\s*|[NEXU]&?(?='))?'(?P<text>{_WITHIN})'"
    r"|0x(?P<hex>[0-9a-fA-F]*)|(?P<word>[^\s,()']+))"
    r'(?:\s*::\s*[\w". \[\]]+?(?:\(\d+(?:,\d+)?\))?)?\s*(?P<end>[,)])',
    re.DOTALL | re.IGNORECASE,
)
_OPEN = re.compile(rf"\s*(?:_\w+\s*|[NEXU]&?)?'{_WITHIN}\\?\Z", re.DOTALL | re.IGNORECASE)
_NEXT = re.compile(r"\s*(?:,\s*)?(?:ROW\s*)?\(", re.IGNORECASE)
_AFTER_NAME = re.compile(r"\s*(?:ROW\s*)?\(", re.IGNORECASE)
_TEXT_ESCAPES = {"0": "\0", "n": "\n", "r": "\r", "t": "\t", "Z": "\x1a", "b": "\b"}
_BINARY_HEX = re.compile(r"\\x((?:[0-9a-f]{2})*)")


class NotWhole(Exception):
    """The statement goes on in the next line."""


def names_of(text: str) -> tuple[str, ...]:
    """Split a list of columns."""
    return tuple(name.strip().strip('`"[]') for name in text.split(","))


def table_of(match: re.Match[str]) -> str:
    """Give the table that a statement names."""
    return match["table"].strip('`"[]')


def writes_rows(statement: str, tables: Sequence[str]) -> bool:
    """Tell a statement that writes rows, in another form than is read; for the report.

    Args:
        statement: its text.
        tables: those that the dump has named before.
    """
    if _ALWAYS.match(statement):
        return True
    return bool(WRITING.match(statement)) and any(
        re.search(rf"\b{re.escape(table)}\b", statement) for table in tables
    )


def inserted(
    statement: str, match: re.Match[str], refuse: Callable[[str], None]
) -> tuple[list[Values], str]:
    """Give the rows of an INSERT, and what stands behind it in the same text.

    Args:
        statement: its text, from its beginning.
        match: of INSERT.
        refuse: told of each row that cannot be read.

    Raises:
        NotWhole: its text ends within it.
    """
    rows: list[Values] = []
    at = match.end()
    opening = _AFTER_NAME.match(statement, at)
    while opening is not None:
        values, at = _row(statement, opening.end())
        if values is None:
            refuse("a row whose values are of a form that is not read, or not written to their end")
        else:
            rows.append(values)
        opening = _NEXT.match(statement, at)
    end = _end(statement, at)
    return rows, statement[end:]


def _row(statement: str, at: int) -> tuple[Values | None, int]:
    """Read one row from behind its bracket; None where it is of another form."""
    values: Values = []
    started = at
    while True:
        match = _VALUE.match(statement, at)
        if match is None:
            if _OPEN.match(statement, at):
                raise NotWhole
            return None, _closed(statement, started)
        values.append(_literal(match))
        at = match.end()
        if match["end"] == ")":
            return values, at


def _closed(statement: str, at: int) -> int:
    """Find the end of a row that is not read: its own bracket, outside quotes."""
    depth = 1
    for token in _STRING_OR.finditer(statement, at):
        depth += {"(": 1, ")": -1}.get(token[0], 0)
        if token[0] == "'":
            raise NotWhole
        if depth == 0:
            return token.end()
    raise NotWhole


def _end(statement: str, at: int) -> int:
    """Find the end of a statement: its semicolon, outside quotes."""
    for token in _STRING_OR.finditer(statement, at):
        if token[0] == ";":
            return token.end()
        if token[0] == "'":
            break
    raise NotWhole


def _literal(match: re.Match[str]) -> str | None:
    if match["text"] is not None:
        text = _unquote(match["text"])
        return hex_text(text) if (match["prefix"] or "").upper() == "X" else binary_text(text)
    if match["hex"] is not None:
        return hex_text(match["hex"])
    return None if match["word"].upper() == "NULL" else match["word"]


def binary_text(text: str) -> str:
    r"""Turn PostgreSQL's `\x` form of binary into its text where it is text."""
    match = _BINARY_HEX.fullmatch(text)
    return hex_text(match[1]) if match else text


def hex_text(digits: str) -> str:
    """Give the text that hexadecimal binary holds; half a byte more is no binary."""
    try:
        return text_of(bytes.fromhex(digits))
    except ValueError:
        return "0x" + digits


def _unquote(text: str) -> str:
    unescaped = re.sub(
        r"\\(.)", lambda match: _TEXT_ESCAPES.get(match[1], match[1]), text, flags=re.DOTALL
    )
    return unescaped.replace("''", "'")


def each_statement(text: str) -> Iterator[str]:
    """Split a text at semicolons outside quotes; the last part may be the beginning of one."""
    begun = 0
    for token in _STRING_OR.finditer(text):
        if token[0] == ";":
            yield text[begun : token.end()]
            begun = token.end()
    if text[begun:].strip():
        yield text[begun:]
