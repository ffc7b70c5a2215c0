"""SQL files: statements, and the bodies of triggers and routines, as far as they are read."""

import re
from collections.abc import Iterator

from lean_tumbler.core.code.places import CodeEvent, EventKind
from lean_tumbler.core.code.queries import Query, parsed
from lean_tumbler.core.code.terms import NOTHING, SourceLine, Term

_INTO_NEW = re.compile(r"(?is)\bNEW\s*\.\s*(\w+)\s*:?=\s*([^;]+)")
_STATEMENT = re.compile(r"(?is)^\s*(insert|update|replace|select)\b")
_CODE = re.compile(r"(?is)^\s*(create|alter)\s.*?\b(trigger|function|procedure)\b")
MOST_STATEMENTS = 5_000


class _Site:
    """Where a statement stands."""

    def __init__(self, path: str, line: int, name: str, events: list[CodeEvent]) -> None:
        self.place = SourceLine(path, line)
        self._name = name
        self._events = events

    def tell(self, kind: EventKind, *terms: Term, how: str = "", table: str = "") -> None:
        self._events.append(
            CodeEvent(kind=kind, place=self.place, function=self._name, language="sql", terms=terms,
                  how=how, table=table)
        )  # fmt: skip

    def query(self, _text: Term, _given: tuple[Term, ...]) -> Term:
        return NOTHING

    def apply(self, _routine: Term, *_given: Term) -> Term:
        return NOTHING

    def setting(self, _name: str) -> Term:
        return NOTHING

    def loads(self, _module: str) -> None:
        """Load nothing."""


def read_sql(path: str, source: bytes) -> list[CodeEvent]:
    """Note what the statements of a file do to columns of passwords.

    Args:
        path: of the file.
        source: its bytes.
    """
    events: list[CodeEvent] = []
    text = source.decode("utf-8", "replace")
    for count, (line, statement) in enumerate(_statements(text)):
        if count >= MOST_STATEMENTS:
            break
        _read(path, line, statement, events)
    return events


def _statements(text: str) -> Iterator[tuple[int, str]]:
    """Cut at semicolons; comments and the line of each are kept, strings stay whole."""
    line, start, quote = 1, 0, ""
    begin = 1
    for place, sign in enumerate(text):
        if sign == "\n":
            line += 1
        if quote:
            quote = "" if sign == quote else quote
        elif sign in "'\"`":
            quote = sign
        elif sign == ";":
            yield from _one(begin, text[start : place + 1])
            start, begin = place + 1, line
    yield from _one(begin, text[start:])


def _one(line: int, piece: str) -> Iterator[tuple[int, str]]:
    bare = re.sub(r"(?m)--[^\n]*$|/\*.*?\*/", lambda found: " " * len(found[0]), piece)
    stripped = bare.lstrip()
    if stripped.rstrip("; \n"):
        yield line + bare[: len(bare) - len(stripped)].count("\n"), stripped


def _read(path: str, line: int, statement: str, events: list[CodeEvent]) -> None:
    opening = re.sub(r"(?is)^.*?\b(begin|then|else|do)\b", "", statement)
    name = "a trigger or routine" if _CODE.search(statement) or _INTO_NEW.search(statement) else ""
    for found in _INTO_NEW.finditer(statement):
        at = line + statement[: found.start()].count("\n")
        site = _Site(path, at, name, events)
        expression = parsed(f"SELECT {found[2]}")
        if expression is None or not expression.expressions:
            continue
        value = Query(site, {}, ()).value(expression.expressions[0])
        site.tell(EventKind.WRITES, value, how=found[1])
    for text in dict.fromkeys((statement, opening)):
        if _STATEMENT.search(text):
            query = parsed(text.rstrip("; \n"))
            if query is not None:
                Query(_Site(path, line, name, events), {}, ()).read(query)
                return
