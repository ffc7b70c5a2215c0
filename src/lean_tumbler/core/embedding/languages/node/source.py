"""Node.js 20, as a CommonJS module."""

import re
from collections.abc import Mapping, Sequence

from lean_tumbler.core.embedding.check import StoreCheck
from lean_tumbler.core.embedding.language import is_lossy, ordered
from lean_tumbler.core.embedding.languages.node.words import NodeWords

_WIDTH = 100
_CONTROL = "  // eslint-disable-next-line no-control-regex -- signs that nobody types"
_LONG_PATTERN = re.compile(r'(.*new RegExp)\(("(?:[^"\\]|\\.)*"|\'[^\']*\'), "s"\)(.*)')
_LONG_TEXT = re.compile(r'(\s*const \w+ =) ("(?:[^"\\]|\\.)*";)')
_LONG_LIST = re.compile(r"(\s*const formulas = )\[(.*)\];")
_LONG_CALL = re.compile(r"(\s*(?:\w+ = |return |let \w+ = )?(?:await )?[\w.]+)\((.*)\);")


class Node(NodeWords):
    """Node.js 20, as a CommonJS module."""

    def source(self, check: StoreCheck, head: Sequence[str]) -> str:
        """Write the file of a check, with long lines broken as its formatter breaks them."""
        lines = super().source(check, head).split("\n")
        return "\n".join(part for line in lines for part in _broken(line))

    def own_texts(self, check: StoreCheck) -> Mapping[str, str]:
        """Give the texts that its template asks for beside those of all languages."""
        return {
            "PARTS_ROW": "row" if check.parts else "",
            "DONE": ", done" if check.below else "",
            "NEW_DONE": ", new Map()" if check.below else "",
            "MORE_FIELDS": ", digest" if "pbkdf2" in self.features(check) else "",
            "KEPT_ARGUMENTS": ", ".join(self._kept_arguments(check)),
        }

    def _kept_arguments(self, check: StoreCheck) -> list[str]:
        if check.observes:
            return []
        needs_row, needs_form = self.kept_reads(check)
        return [
            *(["row"] if needs_row else []),
            "reading",
            "way",
            *(["form"] if needs_form else []),
        ]

    def inserts(self, check: StoreCheck) -> Mapping[str, Sequence[str]]:
        """Give the lines that its template asks for."""
        return {
            "WORK": self._work(check),
            "FORMULAS": self._known(check),
            **self.likely_lines(check, indent="  ", width=_WIDTH),
            **self.cohort_inserts(check),
            "PARTS": [line for part, own in check.parts.items() for line in self._part(part, own)],
            "LIMITS": self._limits(check),
            "SHARE": self._share(check),
            "MADE": self._made(check),
            "COMPOSITION": [
                line
                for reason, pattern in self.composition(check)
                for line in (f"  if (!/{pattern}/u.test(text)) {{",
                             f'    reasons.push("{reason}");', "  }")
            ],
            "CANONICAL": [
                line
                for call, keys in self.canonical_forms(check)
                for line in (*(f'    case "{key}":' for key in keys), f"      return {call};")
            ],
            "FORMULA_PARTS": self._formula_parts(check),
            "NEVER": [
                line
                for form in self.never()
                for line in (*([_CONTROL] if "x00" in form else []), f"  {form},")
            ],
            "DAYS": [f"  {form}," for form in self.days()],
        }  # fmt: skip

    def _work(self, check: StoreCheck) -> list[str]:
        return [
            line
            for work in check.work
            for line in (
                "  {",
                f'    kind: "{work.name}",',
                *_assigned("    ", "value:", f"{self.literal(self.sample(work))},"),
                f"    times: {work.times},",
                "  },",
            )
        ]

    def _known(self, check: StoreCheck) -> list[str]:
        lines = []
        for form in ordered(check):
            named = form.named
            numbers = ", ".join(f'["{name}", {most}]' for name, most in form.numbers.items())
            lines += [
                f"  // {named.name}",
                "  [",
                f'    "{form.key}",',
                "    {",
                *_listed("beside", form.beside),
                *_listed("folds", form.folds),
                f"      lossy: {self.truth[is_lossy(form)]},",
                f"      salt: {self.truth[named.takes_salt]},",
                f"      login: {self.truth[named.takes_login]},",
                f"      parts: {self.texts(sorted(named.parts))},",
                f"      numbers: new Map([{numbers}]),",
                "    },",
                "  ],",
            ]
        for scheme in check.below:
            lines += ["  [", f'    "{scheme}",', "    {", "      lossy: false,", "    },", "  ],"]
        return lines

    def _part(self, part: str, own: str) -> list[str]:
        name = "column_" + re.sub("[^a-z0-9]", "_", part.lower())
        return [
            f"  const {name} = column(row, {self.literal(own)});",
            f"  if ({name} !== null) {{",
            f"    parts.set({self.literal(part)}, bytesOf({name}));",
            "  }",
        ]

    def _limits(self, check: StoreCheck) -> list[str]:
        return [
            line
            for scheme, over in self.over_limits(check)
            for line in (f'    case "{scheme}":', *_either(over))
        ]

    def _share(self, check: StoreCheck) -> list[str]:
        if check.share >= 1:
            return []
        return [
            "    const reference = row.login || reading.text;",
            '    const place = crypto.createHash("sha256").update(`share:${reference}`);',
            f'    if (place.digest("hex").slice(0, 16) >= "{self.share_limit(check)}") {{',
            '      return "outside-share";',
            "    }",
        ]

    def _made(self, check: StoreCheck) -> list[str]:
        target, costs = check.target, check.target.parameters
        lines = ["  const salt = crypto.randomBytes(16);"]
        if target.scheme == "bcrypt":
            return [
                f"  const value = await bcrypt.hash(password, {costs['cost_log2']});",
                f"  return `${target.variant}$${{value.slice(4)}}`;",
            ]
        head, size = self.target_value(check)
        version = " version: 19," if target.scheme == "argon2id" else ""
        return [
            *lines,
            f"  const costs = [{', '.join(map(str, costs.values()))}];",
            f"  const digest = Buffer.alloc({size});",
            f'  const value = {{ scheme: "{target.scheme}", costs,{version} salt, digest }};',
            "  const raw = await remade(value, Buffer.from(password));",
            f"  return `{head}${{encoded(salt)}}$${{encoded(raw)}}`;",
        ]

    def _formula_parts(self, check: StoreCheck) -> list[str]:
        formulas = self.written_formulas(check)
        lines = ["  // Runs a formula.", f"  async #formula(way, password{', done' if check.below else ''}) {{",
                 "    switch (way.formula) {"]  # fmt: skip
        for formula in formulas:
            lines += [f'      case "{formula.key}":',
                      f"        return this.{formula.name}(way, password);"]  # fmt: skip
        for scheme in check.below:
            lines += [f'      case "{scheme}":',
                      "        return below(String(way.salt), password, done);"]  # fmt: skip
        lines += ["      default:", '        throw new CheckImpossible("a formula that is not here");',
                  "    }", "  }", ""]  # fmt: skip
        for formula in formulas:
            for function in formula.functions:
                lines += [
                    f"  // {function.text}",
                    f"  async {function.name}(way, password) {{",
                    *(f"    {line}" for line in function.lines),
                    f"    return {function.result.code};",
                    "  }",
                    "",
                ]
        return lines


def _either(parts: Sequence[str]) -> list[str]:
    line = f"      return {' || '.join(parts)};"
    if len(line) <= _WIDTH:
        return [line]
    together = f"        {' || '.join(parts)}"
    *others, last = parts
    asked = [*(f"        {part} ||" for part in others), f"        {last}"]
    return ["      return (", *([together] if len(together) <= _WIDTH else asked), "      );"]


def _broken(line: str) -> list[str]:
    """Break a long line: behind the sign of an assignment, or at the arguments of a call."""
    if len(line) <= _WIDTH or line.lstrip().startswith(("//", "*")):
        return [line]
    indent = " " * (len(line) - len(line.lstrip()))
    listed = _LONG_LIST.fullmatch(line)
    if listed:
        items = [f"{indent}  {each}," for each in listed[2].split(", ")]
        return [f"{listed[1]}[", *items, f"{indent}];"]
    pattern = _LONG_PATTERN.fullmatch(line)
    if pattern:
        return [
            f"{pattern[1]}(",
            f"{indent}  {pattern[2]},",
            f'{indent}  "s",',
            f"{indent}){pattern[3]}",
        ]
    both = line.strip().removeprefix("return ").removesuffix(";").split(" && ")
    if line.lstrip().startswith("return ") and len(both) > 1:
        asked = [f"{indent}  {part} &&" for part in both[:-1]]
        return [f"{indent}return (", *asked, f"{indent}  {both[-1]}", f"{indent});"]
    text = _LONG_TEXT.fullmatch(line)
    if text:
        return [text[1], f"{indent}  {text[2]}"]
    call = _LONG_CALL.fullmatch(line)
    if call is None:
        return [line]
    arguments = _arguments(call[2])
    return [f"{call[1]}(", *(f"{indent}  {each}," for each in arguments), f"{indent});"]


def _arguments(text: str) -> list[str]:
    """Split what a call is given."""
    found, depth = [""], 0
    for sign in text:
        depth += (sign in "([{") - (sign in ")]}")
        if sign == "," and depth == 0:
            found.append("")
        else:
            found[-1] += sign
    return [each.strip() for each in found]


def _assigned(indent: str, name: str, value: str) -> list[str]:
    """Write what a name gets, in a line of its own where it is long."""
    line = f"{indent}{name} {value}"
    return [line] if len(line) <= _WIDTH else [f"{indent}{name}", f"{indent}  {value}"]


def _listed(name: str, keys: Sequence[str]) -> list[str]:
    if not keys:
        return []
    line = f"      {name}: [{', '.join(f'{chr(34)}{key}{chr(34)}' for key in keys)}],"
    if len(line) <= _WIDTH:
        return [line]
    return [f"      {name}: [", *(f'        "{key}",' for key in keys), "      ],"]


LANGUAGE = Node()
