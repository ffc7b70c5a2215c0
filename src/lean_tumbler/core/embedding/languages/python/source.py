"""Python 3.11: the lines of a file."""

import re
from collections.abc import Mapping, Sequence

from lean_tumbler.core.embedding.check import CohortForm, StoreCheck
from lean_tumbler.core.embedding.formula_code import BYTES
from lean_tumbler.core.embedding.language import is_lossy, ordered
from lean_tumbler.core.embedding.languages.python.lines import broken
from lean_tumbler.core.embedding.languages.python.words import PythonWords, column_variable

_WIDTH = 100
_ENCODED = re.compile(r'(?<![fr\w])("(?:[^"\\]|\\.)*")\.encode\(\)')


class Python(PythonWords):
    """Python 3.11."""

    def source(self, check: StoreCheck, head: Sequence[str]) -> str:
        """Write the file of a check, with long lines broken as its formatter breaks them."""
        text = super().source(check, head)
        lines = [part for line in text.split("\n") for part in broken(_bytes_literals(line))]
        used = "\n".join(line for line in lines if not line.startswith(("import ", "from ")))
        return "\n".join(line for line in lines if _is_used(line, used))

    def inserts(self, check: StoreCheck) -> Mapping[str, Sequence[str]]:
        """Give the lines that its template asks for."""
        return {
            "WORK": [
                f'    "{work.name}": '
                f"({self.literal(self.sample(work))}, {work.times}),"
                for work in check.work
            ],
            "FORMULAS": self._known(check),
            **self.likely_lines(check, indent="    ", width=_WIDTH),
            **self.cohort_inserts(check),
            "PREPARED_COLUMNS": self._columns([c for c in check.cohorts if c.then]),
            "COHORT_COLUMNS": self._columns([c for c in check.cohorts if not c.then]),
            "PARTS": [
                f"        {self.literal(part)}: _column(row, {self.literal(own)}),"
                for part, own in check.parts.items()
            ],
            "CANONICAL": [
                line
                for call, keys in self.canonical_forms(check)
                for line in (f"    if formula in {self.texts(keys)}:", f"        return {call}")
            ],
            "LIMITS": [
                line
                for scheme, over in self.over_limits(check)
                for line in (f'    if value.scheme == "{scheme}":', *_or(over))
            ],
            "SHARE": self._share(check),
            "MADE": self._made(check),
            "COMPOSITION": self._composition(check),
            "FORMULA_PARTS": self._formula_parts(check),
            "NEVER": [f"    {form}," for form in self.never()],
            "DAYS": [f"    {form}," for form in self.days()],
        }  # fmt: skip

    def _columns(self, cohorts: Sequence[CohortForm]) -> list[str]:
        """Read the columns that conditions name, each once."""
        names = [name for cohort in cohorts if cohort.condition and not cohort.scheme
                 for name in cohort.condition.columns]  # fmt: skip
        return [
            f"    {column_variable(name)} = _column(row, {self.literal(name)})"
            for name in dict.fromkeys(names)
        ]

    def _composition(self, check: StoreCheck) -> list[str]:
        asked = {
            "needs-a-digit": "str.isdigit", "needs-a-lower-case-letter": "str.islower",
            "needs-an-upper-case-letter": "str.isupper",
        }  # fmt: skip
        lines = []
        for reason, _ in self.composition(check):
            test = asked.get(reason, "lambda sign: not sign.isalnum()")
            lines += [f"    if not any(map({test}, text)):", f'        reasons.append("{reason}")']
        return lines

    def _known(self, check: StoreCheck) -> list[str]:
        lines = []
        for form in ordered(check):
            named = form.named
            numbers = ", ".join(f'"{name}": {most}' for name, most in form.numbers.items())
            lines += [
                f"    # {named.name}",
                f'    "{form.key}": _Known(',
                f"        lossy={is_lossy(form)},",
                f"        salt={named.takes_salt},",
                f"        login={named.takes_login},",
                f"        parts={self.texts(sorted(named.parts))},",
                f"        numbers={{{numbers}}},",
                f"        beside={self.texts(form.beside)},",
                f"        folds={self.texts(form.folds)},",
                "    ),",
            ]
        return lines + [f'    "{scheme}": _Known(),' for scheme in check.below]

    def _share(self, check: StoreCheck) -> list[str]:
        if check.share >= 1:
            return []
        return [
            "        reference = row.login or reading.text",
            '        place = hashlib.sha256(b"share:" + reference.encode()).hexdigest()[:16]',
            f'        if place >= "{self.share_limit(check)}":',
            '            return "outside-share"',
        ]

    def _made(self, check: StoreCheck) -> list[str]:
        target, costs = check.target, check.target.parameters
        if target.scheme == "bcrypt":
            return [
                f"    value = bcrypt.hashpw(password.encode(), bcrypt.gensalt({costs['cost_log2']}))",
                f'    return "${target.variant}$" + value.decode()[4:]',
            ]
        head, size = self.target_value(check)
        numbers = ", ".join(map(str, costs.values()))
        costs_text = f"({numbers},)" if len(costs) == 1 else f"({numbers})"
        return [
            "    salt = os.urandom(16)",
            f'    head = f"{head}{{_encoded(salt)}}$"',
            f'    value = _Value("{target.scheme}", {costs_text}, salt, bytes({size}), head)',
            "    return head + _encoded(_remade(value, password.encode()))",
        ]

    def _formula_parts(self, check: StoreCheck) -> list[str]:
        formulas = self.written_formulas(check)
        lines = ["    def _formula(self, way: _Way, password: str, done: dict[str, int]) -> str | bytes:",
                 '        """Run a formula."""']  # fmt: skip
        for formula in formulas:
            lines += [f'        if way.formula == "{formula.key}":',
                      f"            return self.{formula.name}(way, password)"]  # fmt: skip
        for scheme in check.below:
            lines += [f'        if way.formula == "{scheme}":',
                      '            return _below((way.salt or b"").decode("utf-8", "replace"), password, done)']  # fmt: skip
        lines += ['        raise CheckImpossible("a formula that is not here")', ""]
        for formula in formulas:
            for function in formula.functions:
                gives = "bytes" if function.result.kind == BYTES else "str"
                lines += [
                    f"    def {function.name}(self, way: _Way, password: str) -> {gives}:",
                    f"        # {function.text}",
                    *(f"        {line}" for line in function.lines),
                    f"        return {function.result.code}",
                    "",
                ]
        return lines


def _or(parts: Sequence[str]) -> list[str]:
    line = f"        return {' or '.join(parts)}"
    if len(line) <= _WIDTH:
        return [line]
    first, *others = parts
    asked = [f"            {first}", *(f"            or {part}" for part in others)]
    return ["        return (", *asked, "        )"]


def _bytes_literals(line: str) -> str:
    """Write constant texts that are encoded as bytes."""
    return _ENCODED.sub(lambda match: f"b{match[1]}" if match[1].isascii() else match[0], line)


def _is_used(line: str, text: str) -> bool:
    """Tell whether a module that a line imports is named elsewhere."""
    match = re.fullmatch(r"import (\w+)", line)
    return match is None or re.search(rf"\b{match[1]}\.", text) is not None


LANGUAGE = Python()
