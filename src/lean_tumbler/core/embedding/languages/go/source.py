"""Go 1.19: the lines of a file."""

import re
from collections.abc import Mapping, Sequence, Set

from lean_tumbler.core.embedding.check import StoreCheck
from lean_tumbler.core.embedding.formula_code import BYTES, operations
from lean_tumbler.core.embedding.language import is_lossy, ordered
from lean_tumbler.core.embedding.languages.go.words import GoWords
from lean_tumbler.core.embedding.rendering import set_apart

_WIDTH = 100
_NEXT_ROW = ",\n\t\t"  # of keys
_PATTERN = re.compile(r"regexp\.MustCompile\(`[^`]*`\)")
_DECLARED = re.compile(r"(var \w+ = regexp\.MustCompile)\(`([^`]*)`\)")
_LONG, _PIECE = 110, 95
_IMPORT = re.compile(r'\t"(?:[\w.-]+/)*(\w+)"')


class Go(GoWords):
    """Go 1.19."""

    def features(self, check: StoreCheck) -> Set[str]:
        """Name what a check has, with what its own lines name."""
        asked = " ".join(operations(form.named.formula for form in check.formulas))
        return super().features(check) | {name for name in ("blake2b", "blake2s") if name in asked}

    def source(self, check: StoreCheck, head: Sequence[str]) -> str:
        """Write the file of a check: patterns stand apart, and what is not used is not imported."""
        lines = _patterns_apart(super().source(check, head).split("\n"))
        used = set(re.findall(r"\b(\w+)\.", "\n".join(_without_comments(lines))))
        return "\n".join(line for line in lines if not (
            (found := _IMPORT.fullmatch(line)) and found[1] not in used
        ))  # fmt: skip

    def own_texts(self, check: StoreCheck) -> Mapping[str, str]:
        """Give the texts that its template asks for beside those of all languages."""
        uses_row, uses_form = self.kept_reads(check)
        return {"KEPT_ROW": "row" if uses_row else "_", "KEPT_FORM": "form" if uses_form else "_"}

    def inserts(self, check: StoreCheck) -> Mapping[str, Sequence[str]]:
        """Give the lines that its template asks for."""
        return {
            "WORK": [
                f'\t{{"{work.name}", '
                f"{self.literal(self.sample(work))}, {work.times}}},"
                for work in check.work
            ],
            "FORMULAS": self._known(check),
            **self.likely_lines(check, indent="\t", width=_WIDTH),
            **self.cohort_inserts(check),
            "PARTS": [
                line
                for part, own in check.parts.items()
                for line in (f"\tif raw := row.Columns[{self.literal(own)}]; raw != nil {{",
                             f"\t\tparts[{self.literal(part)}] = raw", "\t}")
            ],
            "CANONICAL": [
                line
                for call, keys in self.canonical_forms(check)
                for line in (f"\tcase {_NEXT_ROW.join(self.key_rows(keys))}:", f"\t\treturn {call}")
            ],
            "LIMITS": [
                line
                for scheme, over in self.over_limits(check)
                for line in (f'\tcase "{scheme}":', *_either(over))
            ],
            "SHARE": self._share(check),
            "MADE": self._made(check),
            "COMPOSITION": [
                line
                for reason, pattern in self.composition(check)
                for line in (f"\tif !regexp.MustCompile(`{pattern}`).MatchString(text) {{",
                             f'\t\treasons = append(reasons, "{reason}")', "\t}")
            ],
            "FORMULA_PARTS": self._formula_parts(check),
            "NEVER": [f"\t{form}," for form in self.never()],
            "DAYS": [f"\t{form}," for form in self.days()],
        }  # fmt: skip

    def _known(self, check: StoreCheck) -> list[str]:
        lines = []
        for form in ordered(check):
            named = form.named
            numbers = ", ".join(f'"{name}": {most}' for name, most in form.numbers.items())
            fields = [
                *(["lossy: true"] if is_lossy(form) else []),
                *(["salt: true"] if named.takes_salt else []),
                *(["login: true"] if named.takes_login else []),
                *([f"parts: {self.texts(sorted(named.parts))}"] if named.parts else []),
                *([f"numbers: map[string]int{{{numbers}}}"] if numbers else []),
                *([f"beside: {self.texts(form.beside)}"] if form.beside else []),
                *([f"folds: {self.texts(form.folds)}"] if form.folds else []),
            ]
            lines += [f"\t// {named.name}", *_entry(form.key, fields)]
        for scheme in check.below:
            lines += ["", f'\t"{scheme}": {{}},']
        return lines

    def _share(self, check: StoreCheck) -> list[str]:
        if check.share >= 1:
            return []
        return [
            "\treference := row.Login",
            '\tif reference == "" {',
            "\t\treference = r.text",
            "\t}",
            '\tplace := sha256.Sum256([]byte("share:" + reference))',
            f'\tif hex.EncodeToString(place[:8]) >= "{self.share_limit(check)}" {{',
            '\t\treturn "outside-share"',
            "\t}",
        ]

    def _made(self, check: StoreCheck) -> list[str]:
        target, costs = check.target, check.target.parameters
        if target.scheme == "bcrypt":
            return [
                f"\tvalue, err := bcrypt.GenerateFromPassword([]byte(password), {costs['cost_log2']})",
                "\tif err != nil {",
                "\t\tpanic(&ImpossibleError{err.Error()})",
                "\t}",
                f'\treturn "${target.variant}$" + string(value[4:])',
            ]
        head, size = self.target_value(check)
        return [
            "\tsalt := random(16)",
            f"\tcosts := {self.numbers(list(costs.values()))}",
            "\tv := &value{",
            f'\t\tscheme: "{target.scheme}", costs: costs, version: 19, salt: salt, digest: make([]byte, {size}),',
            "\t}",
            f'\treturn "{head}" + encoded(salt) + "$" + encoded(remade(v, []byte(password)))',
        ]

    def _formula_parts(self, check: StoreCheck) -> list[str]:
        formulas = self.written_formulas(check)
        lines = ["// formula runs a formula, and gives its result as bytes.",
                 "func (c *Checker) formula(w *way, password string, done map[string]int) []byte {",
                 "\tswitch w.formula {"]  # fmt: skip
        for formula in formulas:
            call = f"c.{formula.name}(w, password)"
            as_bytes = call if formula.kind == BYTES else f"[]byte({call})"
            lines += [f'\tcase "{formula.key}":', f"\t\treturn {as_bytes}"]
        for scheme in check.below:
            lines += [f'\tcase "{scheme}":', "\t\treturn below(string(w.salt), password, done)"]
        lines += ["\t}", '\tpanic(&ImpossibleError{"a formula that is not here"})', "}", ""]
        for formula in formulas:
            for function in formula.functions:
                gives = "[]byte" if function.result.kind == BYTES else "string"
                lines += [
                    f"// {function.text}",
                    f"func (c *Checker) {function.name}(w *way, password string) {gives} {{",
                    *(f"\t{line}" for line in function.lines),
                    f"\treturn {function.result.code}",
                    "}",
                    "",
                ]
        return lines


def _entry(key: str, fields: Sequence[str]) -> list[str]:
    """Write an entry in one line, or its fields below each other, their values aligned."""
    line = f'\t"{key}": {{{", ".join(fields)}}},'
    if len(line) <= _LONG:
        return [line]
    pairs = [field.split(": ", 1) for field in fields]
    width = max(len(name) for name, _ in pairs) + 2
    inside = [f"\t\t{f'{name}:':{width}}{value}," for name, value in pairs]
    return [f'\t"{key}": {{', *inside, "\t},"]


def _either(parts: Sequence[str]) -> list[str]:
    first, *others = parts
    return [f"\t\treturn {first}{' ||' if others else ''}",
            *(f"\t\t\t{part} ||" for part in others[:-1]),
            *(f"\t\t\t{part}" for part in others[-1:])]  # fmt: skip


def _without_comments(lines: Sequence[str]) -> list[str]:
    return [line for line in lines if not line.lstrip().startswith("//")]


def _patterns_apart(lines: Sequence[str]) -> list[str]:
    """Make each pattern once, instead of at each call."""
    kept, found = set_apart(
        lines, _PATTERN, name="pattern{0}", stays=lambda line: line.startswith("var ")
    )
    declared = [f"var {name} = {pattern}" for name, pattern in found.items()]
    apart = ["// What rows are told by.", *declared] if declared else []
    return [
        part
        for line in ("\n".join([*kept, *apart]).rstrip() + "\n").split("\n")
        for part in _broken(line)
    ]


def _broken(line: str) -> list[str]:
    """Break a long pattern into pieces."""
    found = _DECLARED.fullmatch(line)
    if len(line) <= _LONG or found is None:
        return [line]
    pieces = [found[2][start : start + _PIECE] for start in range(0, len(found[2]), _PIECE)]
    lines = [f"\t\t`{piece}` +" for piece in pieces]
    lines[0] = lines[0].removeprefix("\t")
    lines[-1] = lines[-1].removesuffix(" +") + ")"
    return [f"{found[1]}(", *lines]


LANGUAGE = Go()
