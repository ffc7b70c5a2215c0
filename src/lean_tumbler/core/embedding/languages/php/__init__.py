"""PHP 8, in the syntax of 7.4."""

import re
from collections.abc import Mapping, Sequence

from lean_tumbler.core.embedding.check import CohortForm, FormulaForm, StoreCheck
from lean_tumbler.core.embedding.common_rule import common_rule
from lean_tumbler.core.embedding.language import Language, bare_pattern, is_lossy, ordered
from lean_tumbler.core.embedding.own_layouts import OWN_LAYOUTS, OwnLayout, formulas_of
from lean_tumbler.core.embedding.rendering import filled
from lean_tumbler.core.formulas.named import named_by_itself
from lean_tumbler.core.formulas.output import OutputShape
from lean_tumbler.core.reading.conditions import Test
from lean_tumbler.core.reading.rows import LOGIN, SALT, STORED

_DIGESTS = {
    name: name.replace("sha512-", "sha512/")
    for name in (
        "md4", "md5", "sha1", "sha224", "sha256", "sha384", "sha512", "sha512-224", "sha512-256",
        "sha3-224", "sha3-256", "sha3-384", "sha3-512", "ripemd160",
    )
}  # fmt: skip
_WIDTH = 110
_LONGEST_LINE = 120  # PSR-12 section 2.3
_LEAST_TEXT = 40
_TEXT = re.compile(r"'(?:[^'\\]|\\.)*'")
_SIGN = re.compile(r"\\\\\\\\|\\\\.|\\.|.", re.DOTALL)


class Php(Language):
    """PHP 8, in the syntax of 7.4."""

    name, title, ending, comment = "php", "PHP 8.2", ".php", " * "
    needs = {
        "argon2id": "PHP built with Argon2, as distributions build it",
        "unicode": "the extensions intl and mbstring",
    }
    direct = frozenset({"argon2id", "argon2i", "bcrypt", "pbkdf2-sha1", "pbkdf2-sha256",
                        "pbkdf2-sha512"})  # fmt: skip
    on_top = frozenset({"argon2id", "pbkdf2-sha256", "pbkdf2-sha512"})
    writes = frozenset({"argon2id", "bcrypt", "pbkdf2-sha256", "pbkdf2-sha512"})
    crypt = frozenset({"md5-crypt", "sha256-crypt", "sha512-crypt", "des-crypt", "bsdi-crypt"})
    below = frozenset({"argon2id", "bcrypt", "pbkdf2-sha1", "pbkdf2-sha256", "pbkdf2-sha512"})
    calls = {
        "password": "$password",
        "salt": "self::given($way['salt'])",
        "login": "self::given($way['login'])",
        "key": "$this->key({0})",
        "part": "self::part($way, {0})",
        "number": "self::number($way, {0})",
        "utf8": "{0}",
        "text": "self::text({0})",
        "join text": "{0} . {1}",
        "join bytes": "{0} . {1}",
        "cut text": "mb_substr({0}, {1}, {2}, 'UTF-8')",
        "cut bytes": "substr({0}, {1}, {2})",
        "trim": "self::trimmedText({0})",
        "lower": "self::lower({0})",
        "upper": "mb_strtoupper({0}, 'UTF-8')",
        "nfc": r"(string) \Normalizer::normalize({0}, \Normalizer::FORM_C)",
        "nfd": r"(string) \Normalizer::normalize({0}, \Normalizer::FORM_D)",
        "escape-quotes": "addslashes({0})",
        "escape-html": "htmlspecialchars({0}, ENT_COMPAT | ENT_SUBSTITUTE, 'UTF-8')",
        "reverse": "implode('', array_reverse(mb_str_split({0}, 1, 'UTF-8')))",
        "length": "(string) mb_strlen({0}, 'UTF-8')",
        "double-utf-8": "(string) mb_convert_encoding({0}, 'UTF-8', 'ISO-8859-1')",
        "encode latin-1": "self::single({0}, 'ISO-8859-1')",
        "encode windows-1252": "self::single({0}, 'Windows-1252')",
        "encode utf-16le": "(string) mb_convert_encoding({0}, 'UTF-16LE', 'UTF-8')",
        "local-part": "self::localPart({0})",
        "hex": "bin2hex({0})",
        "hex-upper": "strtoupper(bin2hex({0}))",
        "base64": "base64_encode({0})",
        "base64-unpadded": "self::encoded({0})",
        "base64url": "strtr(base64_encode({0}), '+/', '-_')",
        "base64url-unpadded": "strtr(self::encoded({0}), '+/', '-_')",
        "unhex": "self::unhex({0})",
        "unbase64": "self::unbase64({0})",
        **{f"digest {n}": f"hash('{php}', {{0}}, true)" for n, php in _DIGESTS.items()},
        **{f"hmac {n}": f"hash_hmac('{php}', {{1}}, {{0}}, true)" for n, php in _DIGESTS.items()},
        **{f"pbkdf2 {n}": f"hash_pbkdf2('{php}', {{0}}, {{1}}, {{2}}, {{3}}, true)"
           for n, php in _DIGESTS.items()},
    }  # fmt: skip
    tests = {
        "empty": "self::isEmptyText({0})",
        "present": "!self::isEmptyText({0})",
        "null": "{0} === null",
        "text": "self::textOf({0}) === {1}",
        "in": "in_array(self::textOf({0}), {1}, true)",
        "number": "self::numberIn({0}) {1} {2}",
        "equals": "===",
        "before": "self::isBefore({0}, {1})",
        "from": "self::isFrom({0}, {1})",
        "length": "mb_strlen((string) self::textOf({0}), 'UTF-8') === {1}",
        "begins": "strpos((string) {0}, {1}) === 0",
    }
    joined = {True: " || ", False: " && "}

    def literal(self, value: str | bytes) -> str:
        """Write a constant text, or bytes."""
        raw = value.encode("utf-8", "surrogatepass") if isinstance(value, str) else value
        if all(32 <= byte < 127 for byte in raw) or (isinstance(value, str) and value.isprintable()):
            text = raw.decode("utf-8")
            return "'" + text.replace("\\", "\\\\").replace("'", "\\'") + "'"
        return '"' + "".join(f"\\x{byte:02x}" for byte in raw) + '"'

    def texts(self, values: Sequence[str]) -> str:
        """Write a constant list of texts, in one line."""
        return f"[{', '.join(map(self.literal, values))}]"

    def pattern(self, pattern: str, *, whole: bool) -> str:
        """Write a regular expression, for the whole text or for a part of it."""
        text = f"^(?:{pattern})$" if whole else pattern
        return self.literal("/" + text.replace("/", r"\/") + "/Du")

    def declared(self, kind: str, code: str) -> str:
        """Write the first assignment to the variable of a kind."""
        return f"${kind} = {code};"

    def assigned(self, kind: str, code: str) -> str:
        """Write a later one."""
        return f"${kind} = {code};"

    def variable(self, kind: str) -> str:
        """Name the variable of a kind."""
        return f"${kind}"

    def loop(self, times: str, body: Sequence[str]) -> list[str]:
        """Write a loop."""
        inside = [f"    {line}" for line in body]
        if times.isdigit():
            return [f"for ($round = 0; $round < {times}; $round++) {{", *inside, "}"]
        return [f"for ($rounds = {times}; $rounds > 0; $rounds--) {{", *inside, "}"]

    def inner(self, name: str) -> str:
        """Write the call of a function of a bracketed formula."""
        return f"$this->{name}($way, $password)"

    def content(self, test: Test) -> str:
        """Write what stands in a condition's column."""
        if test.role in {STORED, SALT, LOGIN}:
            return f"$row['{test.role}']"
        return f"($row['columns'][{self.literal(test.name)}] ?? null)"

    def usage(self, check: StoreCheck) -> Sequence[str]:
        """Give the lines of its head that show how it is called, with the swap."""
        name = self._class(check)
        keys = "$keys" if check.keys else ""
        return (
            f"    $login = new \\App\\Login\\{name}({keys});",
            "    $answer = $login->check($row, $_POST['password']);",
            "    if ($answer['new_value'] !== null) {",
            "        // UPDATE … SET stored = :new_value WHERE id = :id AND stored = :old_value",
            "    }",
            "",
            "A row that was changed meanwhile is left alone: the login is right all the same. A new",
            "or changed password is stored as `$login->newValue($password, $login_name)` gives it.",
        )

    def needed(self, check: StoreCheck) -> list[str]:
        """Name what a file needs beside the language."""
        found = ["the extensions intl and mbstring"]
        if any(name.startswith("argon2") for name in (*check.direct, *check.on_top)):
            found.append("PHP built with Argon2, as distributions build it")
        return [*found, "the extension openssl"] if check.is_keyed else found

    @staticmethod
    def _class(check: StoreCheck) -> str:
        words = re.findall("[A-Za-z0-9]+", check.store)
        return "".join(word.capitalize() for word in words) + "Login"

    def own_texts(self, check: StoreCheck) -> Mapping[str, str]:
        """Give the texts that its template asks for beside those of all languages."""
        strong = {
            "argon2id": "$first >= @M@ && $first * (3 * $second - 1) >= @M@ * (3 * @T@ - 1)",
            "bcrypt": "$first >= @C@",
            "pbkdf2-sha256": "$first >= @R@",
            "pbkdf2-sha512": "$first >= @R@",
        }.get(check.target.scheme, "false")
        costs = check.target.parameters
        for mark, cost in (("@M@", "memory_kib"), ("@T@", "passes"), ("@C@", "cost_log2"), ("@R@", "rounds")):
            strong = strong.replace(mark, str(costs.get(cost, 0)))
        return {
            "NAMESPACE": "App\\Login",
            "CLASS": self._class(check),
            "EXTENSIONS": (", 'openssl'" if check.is_keyed else "")
            + (", 'sodium'" if "argon2id" in check.below else ""),
            "AS_STRONG": strong,
        }

    def inserts(self, check: StoreCheck) -> Mapping[str, Sequence[str]]:
        """Give the lines that its template asks for."""
        return {
            "WORK": [
                f"        '{work.scheme}:{','.join(map(str, work.costs))}' => "
                f"[{self.literal(self.sample(work))}, {work.times}],"
                for work in self.work_of(check)
            ],
            "PREPARED": [line for cohort in check.cohorts for line in self._prepared(cohort)],
            "OWN_TAGS": self._own_tags(check),
            "OWN_PLACES": self._own_places(check),
            "COHORTS": [line for cohort in check.cohorts for line in self._cohort(cohort)]
            + self._own_ways(check) + self._plain(check),
            "PARTS": [
                f"            {self.literal(part)} => $row['columns'][{self.literal(column)}] ?? null,"
                for part, column in check.parts.items()
            ],
            "LIMITS": self._limits(check),
            "READY": self._ready(check),
            "SHARE": self._share(check),
            "MADE": self._made(check),
            "COMMON": self._common(check),
            "FORMULAS": self._constants(check),
            "FORMULA_PARTS": self._formula_parts(check),
            "DAYS": [f"            {form}," for form in self.days()],
            "NEVER": [f"            {form}," for form in self.never()],
        }  # fmt: skip

    def _prepared(self, cohort: CohortForm) -> list[str]:
        if not cohort.then:
            return []
        asked = [f"$direct['scheme'] === '{cohort.then}'"]
        asked += self.conditions(cohort.condition)
        return [
            f"        // {cohort.name}",
            *_if(asked),
            f"            $way = ['name' => {self.literal(cohort.name)}, 'value' => $direct];",
            f"            $ways[] = $way + ['formula' => '{cohort.formulas[0]}'] + $inputs;",
            "        }",
        ]

    def _cohort(self, cohort: CohortForm) -> list[str]:
        if cohort.then or cohort.is_plain:
            return []
        name, identity = self.literal(cohort.name), f"'{cohort.identity}'"
        if cohort.scheme:
            pattern, length = bare_pattern(cohort.scheme)
            lines = [
                f"$pattern = {self.pattern(pattern, whole=True)};",
                "if (preg_match($pattern, $bare) === 1) {",
                "    $ways[] = [",
                f"        'name' => {name},",
                f"        'identity' => {identity},",
                f"        'formula' => '{cohort.scheme}',",
                "        'wanted' => $bare,",
                f"        'salt' => substr($bare, 0, {length}),",
                "    ];",
                "}",
            ]
        else:
            given = "$tried, $row, $parts"
            main = f", 'main' => '{cohort.formulas[0]}'" if len(cohort.formulas) > 1 else ""
            lines = [f"$cohort = ['name' => {name}, 'identity' => {identity}{main}];"]
            if cohort.layout is not None:
                codings = ", ".join(f"'{n}' => '{c}'" for n, c in self.codings(cohort).items())
                pattern = self.pattern(cohort.layout.pattern, whole=True)
                lines += [
                    f"$pattern = {pattern};",
                    f"$apart = self::takenApart($bare, $pattern, [{codings}], $salt);",
                ]
                given = "$apart['tried'], $row, $own"
            calls = [
                f"array_push($ways, ...$this->fitting($cohort, '{key}', {given}));"
                for key in cohort.formulas
            ]
            if cohort.layout is not None:
                calls = ["if ($apart !== null) {", "    $own = $apart['parts'] + $parts;", *(f"    {call}" for call in calls), "}"]
            lines += calls
        return self._where(cohort, lines)

    def _where(self, cohort: CohortForm, lines: Sequence[str]) -> list[str]:
        head = f"        // {cohort.name}"
        if cohort.condition is None:
            return [head, *(f"        {line}" for line in lines)]
        return [
            head,
            *_if(self.conditions(cohort.condition)),
            *(f"            {line}" for line in lines),
            "        }",
        ]

    def _own(self, check: StoreCheck) -> list[OwnLayout]:
        return [OWN_LAYOUTS[name] for name in sorted(check.holds.layouts)]

    def _own_tags(self, check: StoreCheck) -> list[str]:
        lines = []
        for own in self._own(check):
            if not own.tag:
                continue
            key = named_by_itself(formulas_of(own)[0]).fingerprint
            pattern = self.pattern(rf"\{{(?i:{own.tag})\}}([A-Za-z0-9+/]+)={{0,2}}", whole=True)
            size = own.digest_bytes
            length = f"strlen($raw) {'>' if own.is_salted else '==='} {size}"
            lines += [
                f"        $pattern = {pattern};",
                "        if (preg_match($pattern, $bare, $found) === 1) {",
                "            $raw = (string) self::decoded($found[1]);",
                f"            $printed = [[bin2hex(substr($raw, 0, {size})), substr($raw, {size})]];",
                f"            return {length}",
                f"                ? $this->fitting(['name' => '{own.scheme}'], '{key}', $printed, $row, [])",
                "                : [];",
                "        }",
            ]
        return lines

    def _own_places(self, check: StoreCheck) -> list[str]:
        lines = []
        for own in self._own(check):
            if own.tag:
                continue
            pattern = self.pattern(own.layout.pattern, whole=True)
            lines += [
                f"        $pattern = {pattern};",
                "        if (preg_match($pattern, $bare, $found) === 1) {",
                "            $tried[] = [strtolower($found['digest']), $found['salt']];",
                "        }",
            ]
        return lines

    def _own_ways(self, check: StoreCheck) -> list[str]:
        lines: list[str] = []
        for own in self._own(check):
            if own.tag:
                continue
            pattern = self.pattern(own.layout.pattern, whole=True)
            lines += [f"        $pattern = {pattern};",
                      "        if ($ways === [] && preg_match($pattern, $bare, $found) === 1) {",
                      "            $printed = [[strtolower($found['digest']), $found['salt']]];"]
            for text in formulas_of(own):
                named = named_by_itself(text)
                length, scheme = named.output.length, text.split(", ")[1]
                asked = f"strlen($found['digest']) === {length}"
                if own.name.startswith("name"):
                    asked += f" && $found['name'] === '{scheme}'"
                lines += [f"            if ({asked}) {{",
                          f"                $cohort = ['name' => '{scheme}'];",
                          f"                $way = $this->fitting($cohort, '{named.fingerprint}', "
                          "$printed, $row, []);",
                          "                array_push($ways, ...$way);",
                          "            }"]  # fmt: skip
            lines += ["        }"]
        return lines

    def _plain(self, check: StoreCheck) -> list[str]:
        lines: list[str] = []
        for cohort in check.cohorts:
            if not cohort.is_plain:
                continue
            asked = ["$ways === []"]
            asked += self.conditions(cohort.condition)
            asked += ["$text === $row['stored']", "self::isPlain($text)"]
            cohort_of = f"'name' => {self.literal(cohort.name)}, 'identity' => '{cohort.identity}'"
            lines += [
                f"        // {cohort.name}: the password itself",
                *_if(asked),
                f"            $ways[] = [{cohort_of}] + ['wanted' => $text];",
                "        }",
            ]
        return lines

    def _limits(self, check: StoreCheck) -> list[str]:
        limits = check.limits
        over = {
            "argon2": (
                f"$first > {limits.memory_kib} || $first * $second > {limits.work_kib} "
                f"|| $third > {limits.lanes}"
            ),
            "bcrypt": f"$first > {limits.bcrypt_cost_log2}",
            "sha": f"$first > {limits.crypt_rounds}",
            "md5": f"$first > {limits.crypt_rounds}",
        }
        lines = []
        for scheme in dict.fromkeys((*check.direct, *check.on_top)):
            if scheme.startswith("pbkdf2"):
                size = {"pbkdf2-sha1": 20, "pbkdf2-sha256": 32, "pbkdf2-sha512": 64}[scheme]
                expression = f"$first * ceil($value['bytes'] / {size}) > {limits.rounds}"
            else:
                expression = next(code for start, code in over.items() if scheme.startswith(start))
            lines += [f"            case '{scheme}':",
                      f"                $is_over = {expression};", "                break;"]  # fmt: skip
        return lines

    def _ready(self, check: StoreCheck) -> list[str]:
        return [
            f"        if (date('Y-m-d') < '{check.readers_ready or '9999-12-31'}') {{",
            "            return 'readers-not-ready';",
            "        }",
        ]

    def _share(self, check: StoreCheck) -> list[str]:
        if check.share >= 1:
            return []
        limit = f"{round(check.share * 2**64):016x}"
        return [
            "        $reference = (string) $row['login'] !== '' ? $row['login'] : $reading['text'];",
            "        $place = substr(hash('sha256', 'share:' . $reference), 0, 16);",
            f"        if (strcmp($place, '{limit}') >= 0) {{",
            "            return 'outside-share';",
            "        }",
        ]

    def _made(self, check: StoreCheck) -> list[str]:
        target, costs = check.target, check.target.parameters
        if target.scheme == "argon2id":
            return [
                "        return password_hash($password, PASSWORD_ARGON2ID, [",
                f"            'memory_cost' => {costs['memory_kib']},",
                f"            'time_cost' => {costs['passes']},",
                f"            'threads' => {costs['lanes']},",
                "        ]);",
            ]
        if target.scheme == "bcrypt":
            return [
                f"        $value = password_hash($password, PASSWORD_BCRYPT, ['cost' => {costs['cost_log2']}]);",
                f"        return '${target.variant}$' . substr($value, 4);",
            ]
        name = target.scheme.removeprefix("pbkdf2-")
        form = target.derivation.on_top
        length = form.digest_bytes if form else 20
        return [
            "        $salt = random_bytes(16);",
            f"        $raw = hash_pbkdf2('{name}', $password, $salt, {costs['rounds']}, {length}, true);",
            f"        $head = '${target.scheme}$i={costs['rounds']},l={length}$';",
            "        return $head . self::encoded($salt) . '$' . self::encoded($raw);",
        ]

    def _common(self, check: StoreCheck) -> list[str]:
        rest = common_rule(check.rules.min_length).rest
        return filled([self.literal(text) for text in rest], indent="        ", width=_WIDTH)

    def _formula_parts(self, check: StoreCheck) -> list[str]:
        lines: list[str] = []
        forms = list(ordered(check))
        dispatch = [(form.key, f"$this->formula{number}($way, $password)", form)
                    for number, form in enumerate(forms, start=1)]  # fmt: skip
        lines += ["    /** Runs a formula. */",
                  "    private function formula(",
                  "        array $way,",
                  "        #[\\SensitiveParameter]",
                  "        string $password",
                  "    ): string {",
                  "        switch ($way['formula']) {"]  # fmt: skip
        for key, call, _ in dispatch:
            lines += [f"            case '{key}':", f"                return {call};"]
        for scheme in check.below:
            if scheme in self.below:
                lines += [f"            case '{scheme}':",
                          "                return $this->below((string) $way['salt'], $password);"]
                continue
            lines += [f"            case '{scheme}':",
                      "                return self::crypted($password, (string) $way['salt']);"]  # fmt: skip
        lines += ["            default:",
                  "                throw new \\RuntimeException('a formula that this check lacks');",
                  "        }", "    }", "",
                  "    /** Brings what stands in a row, or a result itself, into the text that is compared. */",
                  "    private static function canonical(string $formula, string $text): ?string",
                  "    {",
                  "        switch ($formula) {"]  # fmt: skip
        shapes: dict[str, list[str]] = {}
        for key, _, form in dispatch:
            shapes.setdefault(self._canonical(form.output), []).append(key)
        for call, keys in shapes.items():
            lines += [f"            case '{key}':" for key in keys]
            lines += [f"                return {call};"]
        lines += ["            default:", "                return $text;", "        }", "    }", ""]
        for number, form in enumerate(forms, start=1):
            lines += self._formula(check, form, f"formula{number}")
        return lines

    def _canonical(self, output: OutputShape) -> str:
        if output.text_encoding.startswith("hex") and output.length is not None:
            return f"self::canonicalHex($text, {output.length})"
        if output.text_encoding.startswith("base64") and "cut" not in output.text_encoding:
            segment = output.segments[0]
            length = "null" if segment.length is None else str(segment.length - segment.padding)
            signs = self.literal(segment.signs.replace("/", r"\/"))
            return f"self::canonicalBase64($text, {length}, {signs})"
        pattern = self.pattern("".join(f"({each.pattern})" for each in output.segments), whole=True)
        hexes = [str(number) for number, each in enumerate(output.segments)
                 if each.text_encoding.startswith("hex")]  # fmt: skip
        cut = "true" if output.is_fixed else "false"
        return f"self::canonicalParts($text, {pattern}, [{', '.join(hexes)}], {cut})"

    def _formula(self, check: StoreCheck, form: FormulaForm, name: str) -> list[str]:
        lines: list[str] = []
        for function in self.functions(form, name, self.kind_of(check, form)):
            result = function.result.code
            body = [f"        {line}" for line in function.lines]
            lines += [
                f"    /** {self._doc(function.text)} */",
                f"    private function {function.name}(",
                "        array $way,",
                "        #[\\SensitiveParameter]",
                "        string $password",
                "    ): string {",
                *body,
                f"        return {result};",
                "    }",
                "",
            ]
        return lines

    def source(self, check: StoreCheck, head: Sequence[str]) -> str:
        """Write the file of a check, with long texts in several lines."""
        lines = super().source(check, head).split("\n")
        return "\n".join(part for line in lines for part in _wrapped(line))

    @staticmethod
    def _doc(text: str) -> str:
        return text.replace("*/", "* /")

    def _constants(self, check: StoreCheck) -> list[str]:
        """Write what is known of each formula."""
        lines = []
        for form in ordered(check):
            named = form.named
            numbers = ", ".join(f"'{n}' => {most}" for n, most in form.numbers.items())
            yes = {True: "true", False: "false"}
            lines += [
                f"        // {named.name}",
                f"        '{form.key}' => [",
                *_listed("beside", form.beside),
                *_listed("folds", form.folds),
                f"            'lossy' => {yes[is_lossy(form)]},",
                f"            'salt' => {yes[named.takes_salt]},",
                f"            'login' => {yes[named.takes_login]},",
                f"            'parts' => {self.texts(sorted(named.parts))},",
                f"            'numbers' => [{numbers}],",
                "        ],",
            ]
        for scheme in check.below:
            lossy = "true" if scheme in {"des-crypt", "bsdi-crypt"} else "false"
            lines += [
                f"        '{scheme}' => [",
                f"            'lossy' => {lossy},",
                "        ],",
            ]
        return lines


def _listed(name: str, keys: Sequence[str]) -> list[str]:
    if not keys:
        return []
    return [f"            '{name}' => [", *(f"                '{key}'," for key in keys),
            "            ],"]  # fmt: skip


def _if(parts: Sequence[str]) -> list[str]:
    line = f"        if ({' && '.join(parts)}) {{"
    if len(line) <= _WIDTH:
        return [line]
    asked = [parts[0], *(f"&& {part}" for part in parts[1:])]
    return ["        if (", *(f"            {part}" for part in asked), "        ) {"]


def _wrapped(line: str) -> list[str]:
    """Write a long text in several, joined by dots, each in a line."""
    if len(line) <= _LONGEST_LINE:
        return [line]
    indent = " " * (len(line) - len(line.lstrip()))
    found = max(_TEXT.finditer(line), key=lambda match: len(match[0]), default=None)
    if found is None or len(found[0]) < _LEAST_TEXT:
        return [line]
    signs = _SIGN.findall(found[0][1:-1])
    parts, part = [], ""
    for sign in signs:
        if len(part) + len(sign) > _WIDTH - len(indent) - 20:
            parts.append(part)
            part = ""
        part += sign
    parts.append(part)
    head, tail = line[: found.start()], line[found.end() :]
    texts = [f"'{part}'" for part in parts]
    return [
        *([head + texts[0]] if len(head) < 40 else [head.rstrip(), f"{indent}    {texts[0]}"]),
        *(f"{indent}    . {text}" for text in texts[1:-1]),
        f"{indent}    . {texts[-1]}{tail}",
    ]


LANGUAGE = Php()
