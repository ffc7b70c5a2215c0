"""Java 17: the lines of a file."""

import re
from collections.abc import Mapping, Sequence, Set

from lean_tumbler.core.embedding.check import StoreCheck
from lean_tumbler.core.embedding.formula_code import BYTES
from lean_tumbler.core.embedding.language import is_lossy, ordered
from lean_tumbler.core.embedding.languages.java.lines import broken
from lean_tumbler.core.embedding.languages.java.words import JavaWords
from lean_tumbler.core.embedding.rendering import set_apart
from lean_tumbler.core.embedding.vectors import Vector

_WIDTH = 100
_NEXT_ROW = ",\n" + " " * 20  # of keys
_PATTERN = re.compile(r'Pattern\.compile\("(?:[^"\\]|\\.)*", Pattern\.DOTALL\)')
_IMPORT = re.compile(r"import (?:[a-z]\w*\.)+(\w+);")


class Java(JavaWords):
    """Java 17."""

    def features(self, check: StoreCheck) -> Set[str]:
        """Name what a check has, with what its own lines name."""
        own = {
            "layouts": any(
                cohort.layout is not None for cohort in check.cohorts if not cohort.then
            ),
            "finds": any(own.says_all for own in self.own_layouts(check)),
        }
        return super().features(check) | {name for name, holds in own.items() if holds}

    def source(self, check: StoreCheck, head: Sequence[str]) -> str:
        """Write the file of a check: patterns stand apart, and what is not used is not imported."""
        lines = _patterns_apart(super().source(check, head).split("\n"))
        return _finished(lines)

    def test_source(self, check: StoreCheck, file: str, rows: Sequence[Vector]) -> str:
        """Write the test of a check, in the language's usual runner."""
        return _finished(super().test_source(check, file, rows).split("\n"))

    def inserts(self, check: StoreCheck) -> Mapping[str, Sequence[str]]:
        """Give the lines that its template asks for."""
        return {
            "WORK": self._work(check),
            "FORMULAS": self._known(check),
            **self.likely_lines(check, indent=" " * 12, width=_WIDTH),
            **self.cohort_inserts(check),
            "PARTS": [
                f"        put(parts, {self.literal(part)}, row.columns().get({self.literal(own)}));"
                for part, own in check.parts.items()
            ],
            "CANONICAL": [
                line
                for call, keys in self.canonical_forms(check)
                for line in (f"            case {_NEXT_ROW.join(self.key_rows(keys))}:", f"                return {call};")
            ],
            "LIMITS": [
                line
                for scheme, over in self.over_limits(check)
                for line in (f'            case "{scheme}":', *_either(over))
            ],
            "SHARE": self._share(check),
            "MADE": self._made(check),
            "COMPOSITION": [
                line
                for reason, pattern in self.composition(check)
                for line in (
                    f"        if (!{self.pattern(pattern, whole=False)}.matcher(text).find()) {{",
                    f'            reasons.add("{reason}");', "        }",
                )
            ],
            "FORMULA_PARTS": self._formula_parts(check),
            "NEVER": _listed(self.never()),
            "DAYS": _listed(self.days()),
        }  # fmt: skip

    def _work(self, check: StoreCheck) -> list[str]:
        return _listed([
            f'new Work("{work.name}", '
            f"{self.literal(self.sample(work))}, {work.times})"
            for work in check.work
        ])  # fmt: skip

    def _known(self, check: StoreCheck) -> list[str]:
        lines = []
        for form in ordered(check):
            named = form.named
            numbers = ", ".join(f'"{name}", {most}' for name, most in form.numbers.items())
            flags = (is_lossy(form), named.takes_salt, named.takes_login)
            lines += [
                f"        // {named.name}",
                f'        FORMULAS.put("{form.key}", new Known(',
                f"                {', '.join(self.truth[flag] for flag in flags)},",
                f"                {self.texts(sorted(named.parts))},",
                f"                Map.of({numbers}),",
                f"                {self.texts(form.beside)},",
                f"                {self.texts(form.folds)}));",
            ]
        for scheme in check.below:
            nothing = "false, false, false, List.of(), Map.of(), List.of(), List.of()"
            lines.append(f'        FORMULAS.put("{scheme}", new Known({nothing}));')
        return lines

    def _share(self, check: StoreCheck) -> list[str]:
        if check.share >= 1:
            return []
        return [
            "        String reference = isEmpty(bytesOf(row.login())) ? reading.text : row.login();",
            '        String place = hex(digested(new SHA256Digest(), utf8("share:" + reference)));',
            f'        if (place.substring(0, 16).compareTo("{self.share_limit(check)}") >= 0) {{',
            '            return "outside-share";',
            "        }",
        ]

    def _made(self, check: StoreCheck) -> list[str]:
        target, costs = check.target, check.target.parameters
        if target.scheme == "bcrypt":
            log = costs["cost_log2"]
            return [
                "        String salt = bcryptText(random(16));",
                f'        String head = "${target.variant}${log:02d}$" + salt;',
                f'        Value value = new Value("bcrypt", new long[] {{{log}}}, null, new byte[31], head, 0);',
                "        return head + textIn(remade(value, utf8(password)));",
            ]
        head, size = self.target_value(check)
        return [
            "        byte[] salt = random(16);",
            f"        long[] costs = {self.numbers(list(costs.values()))};",
            f'        Value value = new Value("{target.scheme}", costs, salt, new byte[{size}], "", 19);',
            f'        return "{head}" + encoded(salt) + "$" + encoded(remade(value, utf8(password)));',
        ]

    def _formula_parts(self, check: StoreCheck) -> list[str]:
        formulas = self.written_formulas(check)
        lines = ["    /** Runs a formula, and gives its result as bytes. */",
                 "    private byte[] formula(Way way, String password, Map<String, Integer> done) {",
                 "        switch (way.formula) {"]  # fmt: skip
        for formula in formulas:
            call = f"{formula.name}(way, password)"
            as_bytes = call if formula.kind == BYTES else f"utf8({call})"
            lines += [f'            case "{formula.key}":', f"                return {as_bytes};"]
        for scheme in check.below:
            lines += [f'            case "{scheme}":',
                      "                return below(way, password, done);"]  # fmt: skip
        lines += ["            default:",
                  '                throw new CheckImpossible("a formula that is not here");',
                  "        }", "    }", ""]  # fmt: skip
        for formula in formulas:
            for function in formula.functions:
                gives = "byte[]" if function.result.kind == BYTES else "String"
                lines += [
                    f"    /** {function.text.replace('*/', '* /')} */",
                    f"    private {gives} {function.name}(Way way, String password) {{",
                    *(f"        {line}" for line in function.lines),
                    f"        return {function.result.code};",
                    "    }",
                    "",
                ]
        return lines


def _listed(items: Sequence[str]) -> list[str]:
    """Write what a list is made of, each in a line."""
    return [f"            {item}{',' if number + 1 < len(items) else ');'}"
            for number, item in enumerate(items)]  # fmt: skip


def _either(parts: Sequence[str]) -> list[str]:
    first, *others = parts
    lines = [
        f"                return {first}",
        *(f"                        || {p}" for p in others),
    ]
    return [*lines[:-1], f"{lines[-1]};"]


def _patterns_apart(lines: Sequence[str]) -> list[str]:
    """Make each pattern once, instead of at each call."""
    kept, found = set_apart(
        lines, _PATTERN, name="PATTERN_{0}",
        stays=lambda line: line.lstrip().startswith(("private static final", "Pattern.compile")),
    )  # fmt: skip
    declared = [
        f"    private static final Pattern {name} = {pattern};" for name, pattern in found.items()
    ]
    apart = ["", "    // What rows are told by.", *declared] if declared else []
    end = len(kept) - 1 - kept[::-1].index("}")
    return [*kept[:end], *apart, *kept[end:]]


def _finished(lines: Sequence[str]) -> str:
    text = "\n".join(line for line in lines if not line.startswith("import "))
    used = set(re.findall(r"\b[A-Z]\w*", text))
    return "\n".join(
        part for line in lines
        if not (found := _IMPORT.fullmatch(line)) or found[1] in used
        for part in broken(line)
    )  # fmt: skip


LANGUAGE = Java()
