"""Node.js 20, as a CommonJS module."""

import re
from collections.abc import Mapping, Sequence, Set

from lean_tumbler.core.embedding.check import StoreCheck
from lean_tumbler.core.embedding.common_rule import DATES, ENDINGS, YEARS, common_rule
from lean_tumbler.core.embedding.language import is_lossy, ordered
from lean_tumbler.core.embedding.languages.node.cohorts import NodeCohorts
from lean_tumbler.core.embedding.rendering import filled
from lean_tumbler.core.formulas.output import OutputShape
from lean_tumbler.core.schemes.catalogue import DERIVATIONS

_WIDTH = 100
_CONTROL = "  // eslint-disable-next-line no-control-regex -- signs that nobody types"
_LONG_PATTERN = re.compile(r'(.*new RegExp)\(("(?:[^"\\]|\\.)*"|\'[^\']*\'), "s"\)(.*)')
_LONG_TEXT = re.compile(r'(\s*const \w+ =) ("(?:[^"\\]|\\.)*";)')
_LONG_CALL = re.compile(r"(\s*(?:\w+ = |return |let \w+ = )?(?:await )?[\w.]+)\((.*)\);")


class Node(NodeCohorts):
    """Node.js 20, as a CommonJS module."""

    def source(self, check: StoreCheck, head: Sequence[str]) -> str:
        """Write the file of a check, with long lines broken as its formatter breaks them."""
        lines = super().source(check, head).split("\n")
        return "\n".join(part for line in lines for part in _broken(line))

    def own_texts(self, check: StoreCheck) -> Mapping[str, str]:
        """Give the texts that its template asks for beside those of all languages."""
        costs = check.target.parameters
        memory, passes = costs.get("memory_kib", 0), costs.get("passes", 0)
        log, block, lanes = (costs.get(n, 0) for n in ("cost_log2", "block_size", "lanes"))
        strong = {
            "argon2id": (
                f"first >= {memory} && first * (3 * second - 1) >= {memory * (3 * passes - 1)}"
            ),
            "bcrypt": f"first >= {log}",
            "scrypt": f"isAsLarge(way.value.costs, [{log}, {block}, {lanes}])",
        }.get(check.target.scheme, f"first >= {costs.get('rounds', 0)}")
        rule = common_rule(check.rules.min_length)
        over = " ".join(self._limits(check))
        return {
            "CLASS": self.class_name(check),
            "AS_STRONG": strong,
            "PARTS_ROW": "row" if check.parts else "",
            "DONE": ", done" if check.below else "",
            "NEW_DONE": ", new Map()" if check.below else "",
            "TARGET_COSTS": "".join(f", {name}" for name in ("second", "third") if name in strong),
            "MORE_COSTS": "".join(f", {name}" for name in ("second", "third") if name in over),
            "MORE_FIELDS": ", digest" if "digest" in over else "",
            "KEPT_ARGUMENTS": ", ".join(self._kept_arguments(check)),
            "MOST_LN": "62",
            "COMMON_WORDS_LITERAL": self.literal("|".join(map(re.escape, rule.words))),
            "COMMON_ALTERED_LITERAL": self.literal("|".join(map(re.escape, rule.altered))),
            "ENDINGS_LITERAL": self.literal(ENDINGS),
            "YEARS_LITERAL": self.literal(YEARS),
            "DATES_LITERAL": self.literal(DATES),
        }

    def features(self, check: StoreCheck) -> Set[str]:
        """Name what a check has, with what its own lines name."""
        by_costs = {"over_by_costs": "first" in " ".join(self._limits(check)),
                    "uses_parts": any(c.formulas and not c.then for c in check.cohorts),
                    "strong_by_costs": check.target.scheme != "scrypt"}  # fmt: skip
        return super().features(check) | {name for name, holds in by_costs.items() if holds}

    def _kept_arguments(self, check: StoreCheck) -> list[str]:
        if check.observes:
            return []
        features = self.features(check)
        needs_row = check.share < 1 or {"sealing", "bound"} <= features
        needs_form = {"keeps", "alternatives"} <= features
        return [
            *(["row"] if needs_row else []),
            "reading",
            "way",
            *(["form"] if needs_form else []),
        ]

    def inserts(self, check: StoreCheck) -> Mapping[str, Sequence[str]]:
        """Give the lines that its template asks for."""
        return {
            "WORK": [
                line
                for work in check.work
                for line in (
                    "  {",
                    f'    kind: "{work.scheme}:{",".join(map(str, work.costs))}",',
                    *_assigned("    ", "value:", f"{self.literal(self.sample(work))},"),
                    f"    times: {work.times},",
                    "  },",
                )
            ],
            "FORMULAS": self._known(check),
            "COMMON": filled(
                common_rule(check.rules.min_length).rest, indent="  ", width=_WIDTH, mark=""
            ),
            "PREPARED": [line for cohort in check.cohorts for line in self._prepared(cohort)],
            "OWN_TAGS": self._own_tags(check),
            "OWN_PLACES": self._own_places(check),
            "COHORTS": [line for cohort in check.cohorts for line in self._cohort(cohort)]
            + self._own_ways(check) + self._plain(check),
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
            "CANONICAL": self._canonical_lines(check),
            "FORMULA_PARTS": self._formula_parts(check),
            "NEVER": [
                line
                for form in self.never()
                for line in (*([_CONTROL] if "x00" in form else []), f"  {form},")
            ],
            "DAYS": [f"  {form}," for form in self.days()],
        }  # fmt: skip

    def _known(self, check: StoreCheck) -> list[str]:
        lines = []
        for form in ordered(check):
            named = form.named
            yes = {True: "true", False: "false"}
            numbers = ", ".join(f'["{name}", {most}]' for name, most in form.numbers.items())
            lines += [
                f"  // {named.name}",
                "  [",
                f'    "{form.key}",',
                "    {",
                *_listed("beside", form.beside),
                *_listed("folds", form.folds),
                f"      lossy: {yes[is_lossy(form)]},",
                f"      salt: {yes[named.takes_salt]},",
                f"      login: {yes[named.takes_login]},",
                f"      parts: {self.texts(sorted(named.parts))},",
                f"      numbers: new Map([{numbers}]),",
                "    },",
                "  ],",
            ]
        for scheme in check.below:
            lines += ["  [", f'    "{scheme}",', "    {", "      lossy: false,", "    },", "  ],"]
        return lines

    def _limits(self, check: StoreCheck) -> list[str]:
        limits, lines = check.limits, []
        for scheme in dict.fromkeys((*check.direct, *check.on_top)):
            if scheme.startswith("argon2"):
                over = [f"first > {limits.memory_kib}", f"first * second > {limits.work_kib}",
                        f"third > {limits.lanes}"]  # fmt: skip
            elif scheme == "scrypt":
                numbers = f"{limits.memory_kib}, {limits.work_kib}, {limits.lanes}"
                over = [f"isLargerThan(costs, {numbers})"]
            elif scheme == "bcrypt":
                over = [f"first > {limits.bcrypt_cost_log2}"]
            else:
                size = DERIVATIONS[scheme].block_bytes
                over = [f"first * Math.ceil(digest.length / {size}) > {limits.rounds}"]
            lines += [f'    case "{scheme}":', f"      return {' || '.join(over)};"]
        return lines

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
        form = target.derivation.on_top
        size = form.digest_bytes if form else 32
        head = {
            "argon2id": "$argon2id$v=19$m={memory_kib},t={passes},p={lanes}",
            "scrypt": "$scrypt$ln={cost_log2},r={block_size},p={lanes}",
        }.get(target.scheme, f"${target.scheme}$i={{rounds}},l={size}").format(**costs)
        version = " version: 19," if target.scheme == "argon2id" else ""
        return [
            *lines,
            f"  const costs = [{', '.join(map(str, costs.values()))}];",
            f"  const digest = Buffer.alloc({size});",
            f'  const value = {{ scheme: "{target.scheme}", costs,{version} salt, digest }};',
            "  const raw = await remade(value, Buffer.from(password));",
            f"  return `{head}$${{encoded(salt)}}$${{encoded(raw)}}`;",
        ]

    def _formula_parts(self, check: StoreCheck) -> list[str]:
        forms = list(ordered(check))
        lines = ["  // Runs a formula.", f"  async #formula(way, password{', done' if check.below else ''}) {{",
                 "    switch (way.formula) {"]  # fmt: skip
        for number, form in enumerate(forms, start=1):
            lines += [f'      case "{form.key}":',
                      f"        return this.formula{number}(way, password);"]  # fmt: skip
        for scheme in check.below:
            lines += [f'      case "{scheme}":',
                      "        return below(String(way.salt), password, done);"]  # fmt: skip
        lines += ["      default:", '        throw new CheckImpossible("a formula that is not here");',
                  "    }", "  }", ""]  # fmt: skip
        for number, form in enumerate(forms, start=1):
            for function in self.functions(form, f"formula{number}", self.kind_of(check, form)):
                lines += [
                    f"  // {function.text}",
                    f"  async {function.name}(way, password) {{",
                    *(f"    {line}" for line in function.lines),
                    f"    return {function.result.code};",
                    "  }",
                    "",
                ]
        return lines

    def _canonical_lines(self, check: StoreCheck) -> list[str]:
        """Write how what a formula prints is brought into the text that is compared."""
        shapes: dict[str, list[str]] = {}
        for form in ordered(check):
            shapes.setdefault(self._canonical(form.output), []).append(form.key)
        lines = []
        for call, keys in shapes.items():
            lines += [*(f'    case "{key}":' for key in keys), f"      return {call};"]
        return lines

    def _canonical(self, output: OutputShape) -> str:
        if output.text_encoding.startswith("hex") and output.length is not None:
            return f"canonicalHex(text, {output.length})"
        if output.text_encoding.startswith("base64") and "cut" not in output.text_encoding:
            segment = output.segments[0]
            length = "null" if segment.length is None else str(segment.length - segment.padding)
            return f"canonicalBase64(text, {length}, /^{segment.signs}+$/)"
        pattern = self.pattern("".join(f"({each.pattern})" for each in output.segments), whole=True)
        hexes = [str(number) for number, each in enumerate(output.segments)
                 if each.text_encoding.startswith("hex")]  # fmt: skip
        cut = "true" if output.is_fixed else "false"
        return f"canonicalParts(text, {pattern}, [{', '.join(hexes)}], {cut})"


def _broken(line: str) -> list[str]:
    """Break a long line: behind the sign of an assignment, or at the arguments of a call."""
    if len(line) <= _WIDTH or line.lstrip().startswith(("//", "*")):
        return [line]
    indent = " " * (len(line) - len(line.lstrip()))
    pattern = _LONG_PATTERN.fullmatch(line)
    if pattern:
        return [
            f"{pattern[1]}(",
            f"{indent}  {pattern[2]},",
            f'{indent}  "s",',
            f"{indent}){pattern[3]}",
        ]
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
