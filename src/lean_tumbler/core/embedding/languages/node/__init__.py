"""Node.js 20, as a CommonJS module."""

import json
import re
from collections.abc import Mapping, Sequence, Set

from lean_tumbler.core.embedding.check import CohortForm, StoreCheck
from lean_tumbler.core.embedding.common_rule import DATES, ENDINGS, YEARS, common_rule
from lean_tumbler.core.embedding.language import Language, bare_pattern, is_lossy, ordered
from lean_tumbler.core.embedding.own_layouts import OWN_LAYOUTS, OwnLayout, formulas_of
from lean_tumbler.core.embedding.rendering import filled
from lean_tumbler.core.formulas.named import named_by_itself
from lean_tumbler.core.formulas.output import OutputShape
from lean_tumbler.core.reading.conditions import Test
from lean_tumbler.core.reading.rows import LOGIN, SALT, STORED

# Of OpenSSL 3, which has MD4 no longer.
_DIGESTS = {
    "md5": "md5", "sha1": "sha1", "sha224": "sha224", "sha256": "sha256", "sha384": "sha384",
    "sha512": "sha512", "sha512-224": "sha512-224", "sha512-256": "sha512-256",
    "sha3-224": "sha3-224", "sha3-256": "sha3-256", "sha3-384": "sha3-384",
    "sha3-512": "sha3-512", "ripemd160": "ripemd160", "blake2b": "blake2b512",
    "blake2s": "blake2s256",
}  # fmt: skip
_WIDTH = 100
_CONTROL = "  // eslint-disable-next-line no-control-regex -- signs that nobody types"
_LONG_PATTERN = re.compile(r'(.*new RegExp)\(("(?:[^"\\]|\\.)*"|\'[^\']*\'), "s"\)(.*)')
_LONG_TEXT = re.compile(r'(\s*const \w+ =) ("(?:[^"\\]|\\.)*";)')
_LONG_CALL = re.compile(r"(\s*(?:\w+ = |return |let \w+ = )?(?:await )?[\w.]+)\((.*)\);")


class Node(Language):
    """Node.js 20, as a CommonJS module."""

    name, title, ending, comment = "node", "Node.js 20", ".js", " * "
    needs = {"argon2id": "the package argon2", "bcrypt": "the package bcryptjs, version 2 or 3"}
    direct = frozenset({"argon2id", "argon2i", "argon2d", "bcrypt", "scrypt", "pbkdf2-sha1",
                        "pbkdf2-sha256", "pbkdf2-sha512"})  # fmt: skip
    on_top = frozenset({"argon2id", "scrypt", "pbkdf2-sha256", "pbkdf2-sha512"})
    writes = on_top | {"bcrypt"}
    below = direct
    crypt: frozenset[str] = frozenset()
    calls = {
        "password": "password",
        "salt": "given(way.salt)",
        "login": "given(way.login)",
        "key": "this.key({0})",
        "part": "part(way, {0})",
        "number": "number(way, {0})",
        "utf8": "Buffer.from({0})",
        "text": "fitText({0})",
        "join text": "{0} + {1}",
        "join bytes": "Buffer.concat([{0}, {1}])",
        "cut text": "cutText({0}, {1}, {2})",
        "cut bytes": "{0}.subarray({1}, {1} + {2})",
        "trim": "trimmed({0})",
        "lower": "{0}.toLowerCase()",
        "upper": "{0}.toUpperCase()",
        "nfc": '{0}.normalize("NFC")',
        "nfd": '{0}.normalize("NFD")',
        "escape-quotes": "escapeQuotes({0})",
        "escape-html": "escapeHtml({0})",
        "reverse": 'Array.from({0}).reverse().join("")',
        "length": "String(Array.from({0}).length)",
        "double-utf-8": 'Buffer.from({0}).toString("latin1")',
        "encode latin-1": 'single({0}, "latin-1")',
        "encode windows-1252": 'single({0}, "windows-1252")',
        "encode utf-16le": 'Buffer.from({0}, "utf16le")',
        "local-part": "localPart({0})",
        "hex": '{0}.toString("hex")',
        "hex-upper": '{0}.toString("hex").toUpperCase()',
        "base64": '{0}.toString("base64")',
        "base64-unpadded": "encoded({0})",
        "base64url": '{0}.toString("base64").replaceAll("+", "-").replaceAll("/", "_")',
        "base64url-unpadded": '{0}.toString("base64url")',
        "unhex": "unhex({0})",
        "unbase64": "unbase64({0})",
        **{f"digest {n}": f'digestOf("{own}", {{0}})' for n, own in _DIGESTS.items()},
        **{f"hmac {n}": f'hmac("{own}", {{0}}, {{1}})' for n, own in _DIGESTS.items()},
        **{f"pbkdf2 {n}": f'await pbkdf2({{0}}, {{1}}, {{2}}, {{3}}, "{own}")'
           for n, own in _DIGESTS.items()},
    }  # fmt: skip
    tests = {
        "empty": "isEmpty({0})",
        "present": "!isEmpty({0})",
        "null": "{0} === null",
        "text": "textOf({0}) === {1}",
        "in": '{1}.includes(textOf({0}) ?? "")',
        "number": "numberIn({0}) {1} {2}",
        "equals": "===",
        "before": "isBefore({0}, {1})",
        "from": "isFrom({0}, {1})",
        "length": 'Array.from(textOf({0}) ?? "").length === {1}',
        "begins": '(textOf({0}) ?? "").startsWith({1})',
    }
    joined = {True: " || ", False: " && "}

    def literal(self, value: str | bytes) -> str:
        """Write a constant text, or bytes."""
        if isinstance(value, bytes):
            return f'Buffer.from("{value.hex()}", "hex")'
        if '"' in value and "'" not in value and "\\" not in value and value.isprintable():
            return f"'{value}'"
        return json.dumps(value, ensure_ascii=False)

    def texts(self, values: Sequence[str]) -> str:
        """Write a constant list of texts, in one line."""
        return f"[{', '.join(map(self.literal, values))}]"

    def pattern(self, pattern: str, *, whole: bool) -> str:
        """Write a regular expression, for the whole text or for a part of it."""
        own = pattern.replace("(?P<", "(?<").replace("(?s:.*)", "[^]*").replace("(?s:.)", "[^]")
        text = f"^(?:{own})$" if whole else own
        return f'new RegExp({self.literal(text)}, "s")'

    def declared(self, kind: str, code: str) -> str:
        """Write the first assignment to the variable of a kind."""
        return f"let {kind} = {code};"

    def assigned(self, kind: str, code: str) -> str:
        """Write a later one."""
        return f"{kind} = {code};"

    def variable(self, kind: str) -> str:
        """Name the variable of a kind."""
        return kind

    def loop(self, times: str, body: Sequence[str]) -> list[str]:
        """Write a loop."""
        inside = [f"  {line}" for line in body]
        return [f"for (let rounds = {times}; rounds > 0; rounds -= 1) {{", *inside, "}"]

    def inner(self, name: str) -> str:
        """Write the call of a function of a bracketed formula."""
        return f"await this.{name}(way, password)"

    def content(self, test: Test) -> str:
        """Write what stands in a condition's column."""
        if test.role in {STORED, SALT, LOGIN}:
            return f"row.{test.role}"
        return f"column(row, {self.literal(test.name)})"

    def usage(self, check: StoreCheck) -> Sequence[str]:
        """Give the lines of its head that show how it is called, with the swap."""
        name = self._class(check)
        return (
            f"    const login = new {name}({'keys' if check.keys else ''});",
            "    const answer = await login.check(row, password);",
            "    if (answer.newValue !== null) {",
            "      // UPDATE … SET stored = :newValue WHERE id = :id AND stored = :oldValue",
            "    }",
            "",
            "A row that was changed meanwhile is left alone: the login is right all the same. A",
            "new or changed password is stored as `login.newValue(password, name)` gives it.",
        )

    def source(self, check: StoreCheck, head: Sequence[str]) -> str:
        """Write the file of a check, with long lines broken as its formatter breaks them."""
        lines = super().source(check, head).split("\n")
        return "\n".join(part for line in lines for part in _broken(line))

    def needed(self, check: StoreCheck) -> list[str]:
        """Name what a file needs beside the language."""
        used = {*check.direct, *check.on_top, *check.below}
        return [
            need
            for scheme, need in self.needs.items()
            if any(name.startswith(scheme.removesuffix("id")) for name in used)
        ]

    @staticmethod
    def _class(check: StoreCheck) -> str:
        words = re.findall("[A-Za-z0-9]+", check.store)
        return "".join(word.capitalize() for word in words) + "Login"

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
            "CLASS": self._class(check),
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
        return [*(["row"] if needs_row else []), "reading", "way", *(["form"] if needs_form else [])]

    def inserts(self, check: StoreCheck) -> Mapping[str, Sequence[str]]:
        """Give the lines that its template asks for."""
        return {
            "WORK": [
                line
                for work in self.work_of(check)
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

    def _if(self, parts: Sequence[str], body: Sequence[str], *, indent: str = "  ") -> list[str]:
        line = f"{indent}if ({' && '.join(parts)}) {{"
        inside = [f"{indent}  {each}" for each in body]
        if len(line) <= _WIDTH:
            return [line, *inside, f"{indent}}}"]
        asked = [*(f"{part} &&" for part in parts[:-1]), parts[-1]]
        return [f"{indent}if (", *(f"{indent}  {part}" for part in asked), f"{indent}) {{",
                *inside, f"{indent}}}"]  # fmt: skip

    def _prepared(self, cohort: CohortForm) -> list[str]:
        if not cohort.then:
            return []
        asked = [f'value.scheme === "{cohort.then}"', *self.conditions(cohort.condition)]
        way = f"{{ name: {self.literal(cohort.name)}, value, formula: \"{cohort.formulas[0]}\" }}"
        return [f"  // {cohort.name}", *self._if(asked, [f"const way = {way};",
                "ways.push({ ...way, ...inputs });"])]  # fmt: skip

    def _cohort(self, cohort: CohortForm) -> list[str]:
        if cohort.then or cohort.is_plain or cohort.scheme:
            return []
        body = self._cohort_object(cohort)
        given = "tried, row, parts"
        if cohort.layout is not None:
            codings = " ".join(f"{n}:{c}" for n, c in self.codings(cohort).items())
            body += [
                f"const pattern = {self.pattern(cohort.layout.pattern, whole=True)};",
                f'const codings = "{codings}";',
                "const apart = takenApart(bare, pattern, codings, salt);",
            ]
            given = "apart.tried, row, own"
        calls = [f'ways.push(...fitting(cohort, "{key}", {given}));' for key in cohort.formulas]
        if cohort.layout is not None:
            own = "const own = new Map([...parts, ...apart.parts]);"
            calls = ["if (apart !== null) {", *(f"  {line}" for line in (own, *calls)), "}"]
        body += calls
        lines = [f"  // {cohort.name}"]
        if cohort.condition is None:
            return [*lines, "  {", *(f"    {line}" for line in body), "  }"]
        return [*lines, *self._if(self.conditions(cohort.condition), body)]

    def _cohort_object(self, cohort: CohortForm) -> list[str]:
        fields = [f"name: {self.literal(cohort.name)}", f'identity: "{cohort.identity}"']
        if len(cohort.formulas) > 1:
            fields.append(f'main: "{cohort.formulas[0]}"')
        return ["const cohort = {", *(f"  {field}," for field in fields), "};"]

    def _own(self, check: StoreCheck) -> list[OwnLayout]:
        return [OWN_LAYOUTS[name] for name in sorted(check.holds.layouts)]

    def _own_tags(self, check: StoreCheck) -> list[str]:
        lines = []
        for own in self._own(check):
            if not own.tag:
                continue
            key = named_by_itself(formulas_of(own)[0]).fingerprint
            tag = "".join(f"[{c}{c.lower()}]" if c.isalpha() else c for c in own.tag)
            pattern = self.pattern(rf"\{{{tag}\}}([A-Za-z0-9+/]+)={{0,2}}", whole=True)
            size, name = own.digest_bytes, own.tag.lower()
            sign = ">" if own.is_salted else "==="
            lines += [
                f"  const {name}Shape = {pattern};",
                f"  const {name} = {name}Shape.exec(bare);",
                f"  if ({name} !== null) {{",
                f"    const raw = decoded({name}[1]) ?? Buffer.alloc(0);",
                f'    const digest = raw.toString("hex", 0, {size});',
                f"    const printed = [[digest, raw.subarray({size})]];",
                f'    const cohort = {{ name: "{own.scheme}" }};',
                f'    const found = fitting(cohort, "{key}", printed, row, new Map());',
                f"    return raw.length {sign} {size} ? found : [];",
                "  }",
            ]
        return lines

    def _own_places(self, check: StoreCheck) -> list[str]:
        lines = []
        for number, own in enumerate(self._own(check)):
            if own.tag:
                continue
            lines += [
                f"  const shape{number} = {self.pattern(own.layout.pattern, whole=True)};",
                f"  const apart{number} = shape{number}.exec(bare);",
                f"  if (apart{number} !== null) {{",
                f"    const {{ digest, salt: own }} = apart{number}.groups;",
                "    tried.push([digest.toLowerCase(), Buffer.from(own)]);",
                "  }",
            ]
        return lines

    def _own_ways(self, check: StoreCheck) -> list[str]:
        lines: list[str] = []
        for number, own in enumerate(self._own(check)):
            if own.tag:
                continue
            lines += [
                f"  if (ways.length === 0 && apart{number} !== null) {{",
                f"    const {{ digest, salt: own }} = apart{number}.groups;",
                "    const printed = [[digest.toLowerCase(), Buffer.from(own)]];",
            ]
            for text in formulas_of(own):
                named, scheme = named_by_itself(text), text.split(", ")[1]
                asked = [f"digest.length === {named.output.length}"]
                if own.name.startswith("name"):
                    asked.append(f'apart{number}.groups.name === "{scheme}"')
                call = f'fitting(cohort, "{named.fingerprint}", printed, row, new Map())'
                body = [f'const cohort = {{ name: "{scheme}" }};', f"ways.push(...{call});"]
                lines += self._if(asked, body, indent="    ")
            lines.append("  }")
        return lines

    def _plain(self, check: StoreCheck) -> list[str]:
        lines: list[str] = []
        for cohort in check.cohorts:
            if not cohort.is_plain:
                continue
            asked = ["ways.length === 0", *self.conditions(cohort.condition),
                     "isText(row.stored)", "isPlain(text)"]  # fmt: skip
            body = [*self._cohort_object(cohort), "ways.push({ ...cohort, wanted: text });"]
            lines += [f"  // {cohort.name}: the password itself", *self._if(asked, body)]
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
        limits, lines = check.limits, []
        for scheme in dict.fromkeys((*check.direct, *check.on_top)):
            if scheme.startswith("argon2"):
                over = (f"first > {limits.memory_kib}", f"first * second > {limits.work_kib}",
                        f"third > {limits.lanes}")  # fmt: skip
            elif scheme == "scrypt":
                numbers = f"{limits.memory_kib}, {limits.work_kib}, {limits.lanes}"
                over = (f"isLargerThan(costs, {numbers})",)
            elif scheme == "bcrypt":
                over = (f"first > {limits.bcrypt_cost_log2}",)
            else:
                size = {"pbkdf2-sha1": 20, "pbkdf2-sha256": 32, "pbkdf2-sha512": 64}[scheme]
                over = (f"first * Math.ceil(digest.length / {size}) > {limits.rounds}",)
            lines += [f'    case "{scheme}":', f"      return {' || '.join(over)};"]
        return lines

    def _share(self, check: StoreCheck) -> list[str]:
        if check.share >= 1:
            return []
        return [
            "    const reference = row.login || reading.text;",
            '    const place = crypto.createHash("sha256").update(`share:${reference}`);',
            f'    if (place.digest("hex").slice(0, 16) >= "{round(check.share * 2**64):016x}") {{',
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
        return [f"{pattern[1]}(", f"{indent}  {pattern[2]},", f'{indent}  "s",', f"{indent}){pattern[3]}"]
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
