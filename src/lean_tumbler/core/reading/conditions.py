"""Conditions: which rows came about in one way, and which rows of a table are a store's.

    condition  =  all *("or" all)
    all        =  one *("and" one)
    one        =  test  |  "(" condition ")"
    test       =  COLUMN ("empty" | "present" | "null")
               |  COLUMN "=" ("TEXT" | NUMBER)  |  COLUMN "in" "(" "TEXT" *("," "TEXT") ")"
               |  COLUMN ("before" | "from") DATE
               |  COLUMN ("<" | "<=" | ">" | ">=") (NUMBER | DATE)
               |  "stored" "length" N  |  "stored" "begins" "TEXT"

COLUMN is a role of the store's columns or the table's own name, quoted as a JSON string where it
is no plain word. `empty` is NULL or no characters, `present` the opposite, `null` NULL alone. A
test on a column that is NULL, or on a date or number that cannot be read, does not hold, but for
`empty` and `null`.
"""

import json
import operator
import re
from collections.abc import Callable, Iterable, Iterator, Mapping
from dataclasses import dataclass, field
from datetime import date
from types import MappingProxyType
from typing import Any

from msgspec import Struct

from lean_tumbler.core.reading.rows import LOGIN, SALT, STORED, Row, text_of
from lean_tumbler.core.stored_days import day_in
from lean_tumbler.errors import ConditionError

TEXT_CHARACTERS = 4_000
LONGEST_STORED = 4_096
DEEPEST = 20  # brackets within brackets
_TOKEN = re.compile(
    r"""
      (?P<blank>\s+)
    | (?P<text>"(?:[^"\\]|\\.)*")
    | (?P<date>[0-9]{4}-[0-9]{2}-[0-9]{2})
    | (?P<number>-?[0-9]{1,18}(?:\.[0-9]{1,9})?)
    | (?P<word>[^\W\d][\w.-]*)
    | (?P<mark><=|>=|[=(),<>])
    """,
    re.VERBOSE,
)
_CARRIED = (STORED, SALT, LOGIN)
_JOINING = frozenset({"and", "or"})
_NUMBER = re.compile(r"\s*[-+]?[0-9]+(?:\.[0-9]*)?\s*", re.ASCII)
_ORDERS: Mapping[str, Callable[[Any, Any], bool]] = MappingProxyType(
    {"<": operator.lt, "<=": operator.le, ">": operator.gt, ">=": operator.ge}
)
_TESTS = (
    'empty, present, null, = "TEXT" or NUMBER, in ("TEXT", …), before DATE, from DATE, or a '
    "comparison (<, <=, >, >=) with a number or date"
)
_BARE_OPERANDS = frozenset({"before", "from", "length", *_ORDERS})


@dataclass(frozen=True, slots=True, kw_only=True)
class Test:
    """One test on one column."""

    column: str  # as the condition names it
    verb: str  # what is asked
    operands: tuple[str, ...]  # what it is compared with, as text
    is_bare: bool = False  # whether these are written without quotes
    role: str = ""  # of the column, where the row carries it by role
    name: str = ""  # the table's own name of the column
    # the column's bytes -> the answer
    holds_for: Callable[[bytes | None], bool] = field(repr=False, compare=False)

    def holds(self, row: Row) -> bool:
        """Tell whether it holds for a row."""
        return self.holds_for(row.content(self.name, role=self.role))

    @property
    def tests(self) -> Iterator["Test"]:
        """Give itself."""
        yield self

    def __str__(self) -> str:
        operands = self.operands if self.is_bare else [_quoted(each) for each in self.operands]
        column = self.column if is_plain_word(self.column) else _quoted(self.column)
        if self.verb == "in":
            return f"{column} in ({', '.join(operands)})"
        return " ".join([column, self.verb, *operands])


class Condition(Struct, frozen=True):
    """Parts that all must hold, or of which one must."""

    parts: tuple["Test | Condition", ...]  # tests, or conditions of their own
    is_any: bool = False  # whether one is enough

    def holds(self, row: Row) -> bool:
        """Tell whether a row is meant."""
        answers = (part.holds(row) for part in self.parts)
        return any(answers) if self.is_any else all(answers)

    @property
    def tests(self) -> Iterator[Test]:
        """Give all tests in it, in order."""
        for part in self.parts:
            yield from part.tests

    @property
    def columns(self) -> Iterator[str]:
        """Name the columns that must be read beside stored value, salt and login."""
        return (test.name for test in self.tests if not test.role)

    def __str__(self) -> str:
        word = " or " if self.is_any else " and "
        return word.join(self._bracketed(part) for part in self.parts)

    def _bracketed(self, part: "Test | Condition") -> str:
        needs = isinstance(part, Condition) and part.is_any and not self.is_any
        return f"({part})" if needs else str(part)


def _quoted(text: str) -> str:
    return json.dumps(text, ensure_ascii=False)


def is_plain_word(text: str) -> bool:
    """Tell whether a column's name stands in a condition without quotes."""
    match = _TOKEN.fullmatch(text)
    return match is not None and match.lastgroup == "word" and text not in _JOINING


def day_of(raw: bytes | None) -> date | None:
    """Read the day of a date or time as programs store it; None where it is none."""
    return None if raw is None else day_in(raw.decode("utf-8", "replace"))


def _number_of(raw: bytes | None) -> float | None:
    text = "" if raw is None else text_of(raw)
    return float(text) if _NUMBER.fullmatch(text) else None


def _text_of(raw: bytes | None) -> str | None:
    return None if raw is None else text_of(raw)


def _compared(
    read: Callable[[bytes | None], Any], compare: Callable[[Any, Any], bool], limit: object
) -> Callable[[bytes | None], bool]:
    def holds(raw: bytes | None) -> bool:
        found = read(raw)
        return found is not None and compare(found, limit)

    return holds


class _Parser:
    """Reads one condition; an error names the position and what was expected."""

    def __init__(self, text: str, roles: Mapping[str, str]) -> None:
        self._roles = roles
        self._tokens = list(_tokens(text))
        self._at = 0

    def _take(self) -> tuple[str, str, int]:
        token = self._tokens[self._at]
        self._at += token[0] != "end"
        return token

    def _next_is(self, kind: str, text: str) -> bool:
        if self._tokens[self._at][:2] != (kind, text):
            return False
        self._at += 1
        return True

    def _expected(self, what: str, token: tuple[str, str, int]) -> ConditionError:
        kind, text, offset = token
        found = {"end": "the end", "mark": f"“{text}”"}.get(kind, f"a {kind}")
        return ConditionError(f"position {offset + 1}: expected {what}, found {found}")

    def whole(self) -> Condition:
        found = self._several(depth=0)
        end = self._take()
        if end[0] != "end":
            raise self._expected("“and”, “or” or the end", end)
        return found if isinstance(found, Condition) else Condition((found,))

    def _several(self, *, depth: int) -> Test | Condition:
        """Read what “or” joins, which binds after “and”."""
        several = [self._all(depth=depth)]
        while self._next_is("word", "or"):
            several.append(self._all(depth=depth))
        return several[0] if len(several) == 1 else Condition(tuple(several), is_any=True)

    def _all(self, *, depth: int) -> Test | Condition:
        every = [self._one(depth=depth)]
        while self._next_is("word", "and"):
            every.append(self._one(depth=depth))
        return every[0] if len(every) == 1 else Condition(tuple(every))

    def _one(self, *, depth: int) -> Test | Condition:
        if not self._next_is("mark", "("):
            return self._test()
        if depth == DEEPEST:
            raise self._expected(f"at most {DEEPEST} brackets in each other", self._take())
        found = self._several(depth=depth + 1)
        closing = self._take()
        if closing[1] != ")":
            raise self._expected("“and”, “or” or “)”", closing)
        return found

    def _test(self) -> Test:
        token = self._take()
        if token[0] not in {"word", "text"} or (token[0] == "word" and token[1] in _JOINING):
            raise self._expected("a column", token)
        column = self._unescaped(token) if token[0] == "text" else token[1]
        verb = self._take()
        if column == STORED and verb[1] in {"length", "begins"}:
            return self._stored(verb[1])
        operands, is_bare, holds = self._asked(verb)
        name = self._roles.get(column, column)
        mapped = {own: role for role, own in self._roles.items() if role in _CARRIED}
        return Test(
            column=column,
            verb=verb[1],
            operands=operands,
            is_bare=is_bare,
            role=column if column in mapped.values() else mapped.get(column, ""),
            name=name,
            holds_for=holds,
        )

    def _asked(
        self, verb: tuple[str, str, int]
    ) -> tuple[tuple[str, ...], bool, Callable[[bytes | None], bool]]:
        word = verb[1] if verb[0] in {"word", "mark"} else ""
        if word == "empty":
            return (), True, lambda raw: not raw
        if word == "present":
            return (), True, bool
        if word == "null":
            return (), True, lambda raw: raw is None
        if word == "=":
            return self._equal()
        if word == "in":
            several = self._texts()
            return several, False, lambda raw: _text_of(raw) in several
        if word in {"before", "from"}:
            limit = self._date()
            order = _ORDERS["<" if word == "before" else ">="]
            return (limit.isoformat(),), True, _compared(day_of, order, limit)
        if word in _ORDERS:
            return self._ordered(_ORDERS[word])
        raise self._expected(_TESTS, verb)

    def _equal(self) -> tuple[tuple[str, ...], bool, Callable[[bytes | None], bool]]:
        if self._tokens[self._at][0] == "number":
            text = self._take()[1]
            return (text,), True, _compared(_number_of, operator.eq, float(text))
        wanted = self._text()
        return (wanted,), False, lambda raw: _text_of(raw) == wanted

    def _ordered(
        self, order: Callable[[Any, Any], bool]
    ) -> tuple[tuple[str, ...], bool, Callable[[bytes | None], bool]]:
        if self._tokens[self._at][0] == "number":
            text = self._take()[1]
            return (text,), True, _compared(_number_of, order, float(text))
        limit = self._date("a number, or a date like 2011-03-01")
        return (limit.isoformat(),), True, _compared(day_of, order, limit)

    def _stored(self, verb: str) -> Test:
        if verb == "begins":
            text = self._text()
            start = text.encode("utf-8")
            operand, holds = text, lambda raw: raw is not None and raw.startswith(start)
        else:
            token = self._take()
            if not token[1].isdigit() or not 1 <= int(token[1][:6]) <= LONGEST_STORED:
                raise self._expected(f"a length from 1 to {LONGEST_STORED:,}", token)
            length = int(token[1])
            operand, holds = token[1], lambda raw: raw is not None and len(text_of(raw)) == length
        return Test(
            column=STORED,
            verb=verb,
            operands=(operand,),
            is_bare=verb == "length",
            role=STORED,
            name=STORED,
            holds_for=holds,
        )

    def _text(self) -> str:
        token = self._take()
        if token[0] != "text":
            raise self._expected("a text in double quotes", token)
        return self._unescaped(token)

    def _unescaped(self, token: tuple[str, str, int]) -> str:
        try:
            return str(json.loads(token[1]))
        except ValueError:
            raise self._expected("a text with JSON escapes", token) from None

    def _texts(self) -> tuple[str, ...]:
        opening = self._take()
        if opening[1] != "(":
            raise self._expected("“(”", opening)
        found = [self._text()]
        while (mark := self._take())[1] == ",":
            found.append(self._text())
        if mark[1] != ")":
            raise self._expected("“,” or “)”", mark)
        return tuple(found)

    def _date(self, what: str = "a date like 2011-03-01") -> date:
        token = self._take()
        try:
            return date.fromisoformat(token[1]) if token[0] == "date" else date.fromisoformat("")
        except ValueError:
            raise self._expected(what, token) from None


def _tokens(text: str) -> Iterator[tuple[str, str, int]]:
    offset = 0
    while offset < len(text):
        match = _TOKEN.match(text, offset)
        if match is None:
            raise ConditionError(f"position {offset + 1}: a character that no test begins with")
        if match.lastgroup != "blank":
            yield match.lastgroup or "", match.group(), offset
        offset = match.end()
    yield "end", "", len(text)


def one_of(column: str, texts: Iterable[str]) -> Condition:
    """Give the condition that a column holds one of some texts."""
    listed = ", ".join(map(_quoted, texts))
    return parse_condition(f"{_quoted(column)} in ({listed})", roles={})


def parse_condition(text: str, *, roles: Mapping[str, str]) -> Condition:
    """Read a condition.

    Args:
        text: as the policy has it.
        roles: role -> the table's own name of its column, for the roles that are mapped.

    Raises:
        ConditionError: with the position and what was expected.
    """
    if len(text) > TEXT_CHARACTERS:
        raise ConditionError(f"a condition has at most {TEXT_CHARACTERS:,} characters")
    return _Parser(text, roles).whole()
