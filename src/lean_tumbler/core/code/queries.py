"""Queries in text: what they write to columns, compare with them, and read from them."""

import re
from collections.abc import Iterator
from typing import TYPE_CHECKING, cast

from lean_tumbler.core.code.members import named_input
from lean_tumbler.core.code.naming import role_of
from lean_tumbler.core.code.operators import OPERATORS
from lean_tumbler.core.code.places import EventKind
from lean_tumbler.core.code.sites import Site, joined, number
from lean_tumbler.core.code.terms import (
    NOTHING,
    Constant,
    Either,
    Fields,
    Gap,
    Role,
    Term,
    TermInput,
    TermStep,
    either,
    gap,
    options,
)

if TYPE_CHECKING:
    from sqlglot import exp

_VERB = re.compile(r"(?i)\b(?:select|insert|update|replace|merge|alter|create)\b")
_QUOTED_PLACE = re.compile(r"(['\"])(:lt_\d+)\1")
_PERCENT = re.compile(r"%\((\w+)\)s")
_DOLLAR = re.compile(r"[$:](\d+)")
LONGEST_QUERY = 20_000  # characters; a longer one is not read
_FUNCTIONS = {
    "md5": "md5", "sha": "sha1", "sha1": "sha1", "sha256": "sha256", "sha512": "sha512",
    "sha224": "sha224", "sha384": "sha384", "md5_digest": "md5",
}  # fmt: skip
_TEXT = {"upper": "upper", "ucase": "upper", "lower": "lower", "lcase": "lower", "trim": "trim",
         "hex": "hex-upper", "to_base64": "base64", "reverse": "reverse"}  # fmt: skip
_OWN_PASSWORDS = frozenset({"password", "old_password", "encrypt", "crypt"})


def read_query(site: Site, sql: Term, given: tuple[Term, ...]) -> Term:
    """Read a query; gives the row that it finds.

    Args:
        site: where it is run.
        sql: its text.
        given: what is put into its places.
    """
    results = [_read(site, option, given) for option in options(sql)]
    return either(results) if results else NOTHING


def _read(site: Site, sql: Term, given: tuple[Term, ...]) -> Term:
    row = TermInput(Role.RECORD, "row", site.place)
    text, held = _flat(sql)
    if not _VERB.search(text) or len(text) > LONGEST_QUERY:
        return row
    found = parsed(text)
    if found is None:
        return row
    return Query(site, held, given).read(found)


def _flat(sql: Term) -> tuple[str, dict[str, Term]]:
    """Write a query's text, with a name in each place where a value is put into it."""
    held: dict[str, Term] = {}
    pieces: list[str] = []
    for part in sql.of if isinstance(sql, TermStep) and sql.name == "join" else (sql,):
        if isinstance(part, Constant) and isinstance(part.value, str):
            pieces.append(part.value)
        else:
            name = f"lt_{len(held)}"
            held[name] = part
            pieces.append(f":{name}")
    text = _QUOTED_PLACE.sub(r"\2", "".join(pieces))
    text = _PERCENT.sub(r":\1", text).replace("%s", "?")
    return _DOLLAR.sub(r":place_\1", text), held


def parsed(text: str) -> "exp.Expression | None":
    """Parse one statement, in the dialect that its quotes speak of; None where none reads it."""
    import sqlglot  # noqa: PLC0415 - of an extra
    from sqlglot.errors import SqlglotError  # noqa: PLC0415 - likewise

    for dialect in ("mysql", "postgres") if "`" in text else ("postgres", "mysql"):
        try:
            return cast("exp.Expression", sqlglot.parse_one(text, read=dialect))
        except (SqlglotError, RecursionError, ValueError):
            continue
    return None


class Query:
    """One parsed statement, and what is put into its places."""

    def __init__(self, site: Site, held: dict[str, Term], given: tuple[Term, ...]) -> None:
        self._site = site
        self._named = dict(held)
        self._in_order: list[Term] = []
        for each in given:
            self._take(each)
        self._next = 0
        self.table = ""

    def _take(self, term: Term) -> None:
        if isinstance(term, Fields):
            for key, value in term.pairs:
                if term.is_list and not isinstance(value, Fields):
                    self._in_order.append(value)
                    self._named[str(len(self._in_order))] = value
                else:
                    self._named[key.lstrip(":$@")] = value
        elif isinstance(term, Either):
            self._take(term.options[0])
        else:
            self._in_order.append(term)
            self._named[str(len(self._in_order))] = term

    def read(self, found: "exp.Expression") -> Term:
        """Note what the statement writes and compares, and give the row that it finds."""
        from sqlglot import exp  # noqa: PLC0415 - of an extra

        table = found.find(exp.Table)
        self.table = table.name if table is not None else ""
        if isinstance(found, exp.Insert):
            self._insert(found)
        elif isinstance(found, exp.Update):
            for each in found.expressions:
                if isinstance(each, exp.EQ):
                    self._write(each.this.name, self.value(each.expression))
        row = self._row(found) if isinstance(found, exp.Select) else NOTHING
        where = found.args.get("where")
        if where is not None:
            self._where(where)
        return row if row != NOTHING else TermInput(Role.RECORD, "row", self._site.place)

    def _insert(self, found: "exp.Expression") -> None:
        from sqlglot import exp  # noqa: PLC0415 - of an extra

        columns = [each.name for each in found.this.expressions]
        values = found.expression
        if isinstance(values, exp.Values):
            for row in values.expressions[:50]:
                for column, value in zip(columns, row.expressions, strict=False):
                    self._write(column, self.value(value))
        elif isinstance(values, exp.Select):
            for column, value in zip(columns, values.expressions, strict=False):
                self._write(column, self.value(value))

    def _write(self, column: str, value: Term) -> None:
        if role_of(column) in {Role.PASSWORD, Role.STORED, Role.SALT}:
            self._site.tell(EventKind.WRITES, value, how=column, table=self.table)

    def _where(self, where: "exp.Expression") -> None:
        from sqlglot import exp  # noqa: PLC0415 - of an extra

        for each in where.find_all(exp.EQ, exp.Is, exp.Like, exp.NullSafeEQ):
            left, right = self.value(each.this), self.value(each.expression)
            for column, value in ((each.this, right), (each.expression, left)):
                if isinstance(column, exp.Column) and role_of(column.name) in {
                    Role.PASSWORD, Role.STORED,
                }:  # fmt: skip
                    self._site.tell(EventKind.FINDS, value, how=column.name, table=self.table)
                    break

    def _row(self, found: "exp.Expression") -> Term:
        from sqlglot import exp  # noqa: PLC0415 - of an extra

        pairs: list[tuple[str, Term]] = []
        for each in found.expressions:
            if isinstance(each, exp.Star) or each.find(exp.Star):
                whole = TermInput(Role.RECORD, "row", self._site.place, table=self.table)
                pairs.append(("...", whole))
            elif each.alias_or_name:
                pairs.append((each.alias_or_name, self._column(each)))
        return Fields(tuple(pairs), name="rows")

    def _column(self, each: "exp.Expression") -> Term:
        from sqlglot import exp  # noqa: PLC0415 - of an extra

        return self.value(each.this if isinstance(each, exp.Alias) else each)

    # Values

    def value(self, node: "exp.Expression") -> Term:
        """Follow an expression of the statement."""
        from sqlglot import exp  # noqa: PLC0415 - of an extra

        if isinstance(node, exp.Column):
            found = named_input(node.name, self._site.place, table=self.table)
            is_ours = node.name.startswith("lt_")
            return self._named.get(node.name, found) if is_ours else found
        if isinstance(node, exp.Literal):
            return Constant(node.this if node.is_string else int(node.this), self._site.place)
        if isinstance(node, exp.Placeholder | exp.Parameter):
            return self._placed(node)
        if isinstance(node, exp.Paren | exp.Cast):
            return self.value(node.this)
        if isinstance(node, exp.Concat | exp.ConcatWs | exp.DPipe):
            return joined(self._site, *[self.value(each) for each in _operands(node)])
        if isinstance(node, exp.Func):
            return self._function(node)
        return Gap("an expression of a query", self._site.place)

    def _placed(self, node: "exp.Expression") -> Term:
        name = node.name or str(getattr(node.this, "name", "") or "")
        name = name.removeprefix("place_")
        if name and name != "?":
            return self._named.get(name, Gap("a value of a query", self._site.place))
        self._next += 1
        if self._next <= len(self._in_order):
            return self._in_order[self._next - 1]
        return Gap("a value of a query", self._site.place)

    def _function(self, node: "exp.Expression") -> Term:
        from sqlglot import exp  # noqa: PLC0415 - of an extra

        name = node.name.lower() if isinstance(node, exp.Anonymous) else node.key
        operands = [self.value(each) for each in _operands(node)]
        use = OPERATORS
        algorithm = _FUNCTIONS.get(name, "")
        if name in {"sha2", "sha2digest"}:
            algorithm = f"sha{(number(operands[1]) if len(operands) > 1 else 256) or 256}"
        if algorithm and operands:
            made = use["digest"](self._site, Constant(algorithm), operands[0])
            return use["hex"](self._site, made)
        if name in {"hex", "lower_hex"} and operands and isinstance(operands[0], TermStep):
            return use["upper"](self._site, operands[0])
        if name in _TEXT and operands:
            return use[_TEXT[name].replace("-", "_")](self._site, operands[0])
        if name in _OWN_PASSWORDS and operands:
            return use["scheme"](self._site, Constant(f"sql {name}"), *operands)
        if name in {"digest", "encode"} and len(operands) == 2:
            is_digest = name == "digest"
            ordered = operands[::-1] if is_digest else operands
            return use["digest" if is_digest else "encoded"](self._site, *ordered)
        return self._cut(name, operands)

    def _cut(self, name: str, operands: list[Term]) -> Term:
        numbers = [number(each) for each in operands[1:]]
        if name == "left" and numbers and numbers[0]:
            numbers = [1, numbers[0]]
        if name in {"left", "substring", "substr"} and len(numbers) == 2 and all(numbers):
            start, length = Constant((numbers[0] or 1) - 1), Constant(numbers[1])
            return OPERATORS["cut"](self._site, operands[0], start, length)
        return gap(f"{name} in a query", self._site.place, tuple(operands))


def _operands(node: "exp.Expression") -> Iterator["exp.Expression"]:
    from sqlglot import exp  # noqa: PLC0415 - of an extra

    if isinstance(node, exp.DPipe):
        for side in (node.this, node.expression):
            yield from _operands(side) if isinstance(side, exp.DPipe) else (side,)
        return
    for key in ("this", "expression", "expressions", "start", "length"):
        found = node.args.get(key)
        if isinstance(found, list):
            yield from found
        elif isinstance(found, exp.Expression):
            yield found
