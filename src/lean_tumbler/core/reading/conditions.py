"""Conditions of cohorts: which rows came about in one way.

    condition  =  test *("and" test)
    test       =  COLUMN ("empty" | "present" | "null")
               |  COLUMN "=" "TEXT"  |  COLUMN "in" "(" "TEXT" *("," "TEXT") ")"
               |  COLUMN ("before" | "from") DATE
               |  "stored" "length" N  |  "stored" "begins" "TEXT"

COLUMN is a role of the store's columns or the table's own name, quoted as a JSON string where it
is no plain word. `empty` is NULL or no characters, `present` the opposite, `null` NULL alone. A
test on a column that is NULL, or on a date that cannot be read, does not hold, but for `empty` and
`null`.
"""

import json
import re
from collections.abc import Callable, Iterator, Mapping
from dataclasses import dataclass, field
from datetime import date

from lean_tumbler.core.reading.rows import LOGIN, SALT, STORED, Row, text_of
from lean_tumbler.core.stored_days import day_in
from lean_tumbler.errors import ConditionError

TEXT_CHARACTERS = 4_000
LONGEST_STORED = 4_096
_TOKEN = re.compile(
    r"""
      (?P<blank>\s+)
    | (?P<text>"(?:[^"\\]|\\.)*")
    | (?P<date>[0-9]{4}-[0-9]{2}-[0-9]{2})
    | (?P<number>[0-9]+)
    | (?P<word>[^\W\d][\w.-]*)
    | (?P<mark>[=(),])
    """,
    re.VERBOSE,
)
_CARRIED = (STORED, SALT, LOGIN)
_TESTS = 'empty, present, null, = "TEXT", in ("TEXT", …), before DATE or from DATE'


@dataclass(frozen=True, slots=True, kw_only=True)
class Test:
    """One test on one column.

    Attributes:
        column: as the condition names it.
        verb: what is asked.
        operands: what it is compared with, as text.
        role: of the column, where the row carries it by role.
        name: the table's own name of the column.
        holds: the column's bytes -> the answer.
    """

    column: str
    verb: str
    operands: tuple[str, ...]
    role: str = ""
    name: str = ""
    holds: Callable[[bytes | None], bool] = field(repr=False, compare=False)

    def of(self, row: Row) -> bool:
        """Tell whether it holds for a row."""
        return self.holds(row.content(self.name, role=self.role))

    def __str__(self) -> str:
        quoted = [
            operand if self.verb in {"before", "from", "length"} else _quoted(operand)
            for operand in self.operands
        ]
        column = self.column if is_plain_word(self.column) else _quoted(self.column)
        if self.verb == "in":
            return f"{column} in ({', '.join(quoted)})"
        return " ".join([column, self.verb, *quoted])


@dataclass(frozen=True, slots=True)
class Condition:
    """Tests that all must hold."""

    tests: tuple[Test, ...]

    def holds(self, row: Row) -> bool:
        """Tell whether a row is of the cohort."""
        return all(test.of(row) for test in self.tests)

    @property
    def columns(self) -> Iterator[str]:
        """Name the columns that must be read beside stored value, salt and login."""
        return (test.name for test in self.tests if not test.role)

    def __str__(self) -> str:
        return " and ".join(map(str, self.tests))


def _quoted(text: str) -> str:
    return json.dumps(text, ensure_ascii=False)


def is_plain_word(text: str) -> bool:
    """Tell whether a column's name stands in a condition without quotes."""
    match = _TOKEN.fullmatch(text)
    return match is not None and match.lastgroup == "word" and text != "and"


def day_of(raw: bytes | None) -> date | None:
    """Read the day of a date or time as programs store it; None where it is none."""
    return None if raw is None else day_in(raw.decode("utf-8", "replace"))


def _text_of(raw: bytes | None) -> str | None:
    return None if raw is None else text_of(raw)


def _dated(is_before: bool, limit: date) -> Callable[[bytes | None], bool]:
    def holds(raw: bytes | None) -> bool:
        day = day_of(raw)
        return day is not None and (day < limit) is is_before

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

    def _expected(self, what: str, token: tuple[str, str, int]) -> ConditionError:
        kind, text, offset = token
        found = {"end": "the end", "mark": f"“{text}”"}.get(kind, f"a {kind}")
        return ConditionError(f"position {offset + 1}: expected {what}, found {found}")

    def whole(self) -> Condition:
        tests = [self._test()]
        while (token := self._take())[0] != "end":
            if token[:2] != ("word", "and"):
                raise self._expected("“and” or the end", token)
            tests.append(self._test())
        return Condition(tuple(tests))

    def _test(self) -> Test:
        token = self._take()
        if token[0] not in {"word", "text"} or token[:2] == ("word", "and"):
            raise self._expected("a column", token)
        column = self._unescaped(token) if token[0] == "text" else token[1]
        verb = self._take()
        if column == STORED and verb[1] in {"length", "begins"}:
            return self._stored(verb[1])
        operands, holds = self._asked(verb)
        name = self._roles.get(column, column)
        mapped = {own: role for role, own in self._roles.items() if role in _CARRIED}
        role = column if column in mapped.values() else mapped.get(column, "")
        return Test(
            column=column, verb=verb[1], operands=operands, role=role, name=name, holds=holds
        )

    def _asked(
        self, verb: tuple[str, str, int]
    ) -> tuple[tuple[str, ...], Callable[[bytes | None], bool]]:
        word = verb[1] if verb[0] in {"word", "mark"} else ""
        if word == "empty":
            return (), lambda raw: not raw
        if word == "present":
            return (), bool
        if word == "null":
            return (), lambda raw: raw is None
        if word == "=":
            wanted = self._text()
            return (wanted,), lambda raw: _text_of(raw) == wanted
        if word == "in":
            several = self._texts()
            return several, lambda raw: _text_of(raw) in several
        if word in {"before", "from"}:
            limit = self._date()
            return (limit.isoformat(),), _dated(word == "before", limit)
        raise self._expected(_TESTS, verb)

    def _stored(self, verb: str) -> Test:
        if verb == "begins":
            text = self._text()
            start = text.encode("utf-8")
            operand, holds = text, lambda raw: raw is not None and raw.startswith(start)
        else:
            token = self._take()
            if token[0] != "number" or not 1 <= int(token[1][:6]) <= LONGEST_STORED:
                raise self._expected(f"a length from 1 to {LONGEST_STORED:,}", token)
            length = int(token[1])
            operand, holds = token[1], lambda raw: raw is not None and len(text_of(raw)) == length
        return Test(
            column=STORED, verb=verb, operands=(operand,), role=STORED, name=STORED, holds=holds
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

    def _date(self) -> date:
        token = self._take()
        try:
            return date.fromisoformat(token[1]) if token[0] == "date" else date.fromisoformat("")
        except ValueError:
            raise self._expected("a date like 2011-03-01", token) from None


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
