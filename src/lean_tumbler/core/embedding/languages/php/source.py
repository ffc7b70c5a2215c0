"""PHP 8, in the syntax of 7.4."""

from collections.abc import Mapping, Sequence

from lean_tumbler.core.embedding.check import StoreCheck
from lean_tumbler.core.embedding.common_rule import common_rule
from lean_tumbler.core.embedding.language import WrittenFormula, is_lossy, is_lossy_scheme, ordered
from lean_tumbler.core.embedding.languages.php.words import PhpWords, wrapped
from lean_tumbler.core.embedding.rendering import filled
from lean_tumbler.core.embedding.samples import filler_of

_WIDTH = 110


class Php(PhpWords):
    """PHP 8, in the syntax of 7.4."""

    def own_texts(self, check: StoreCheck) -> Mapping[str, str]:
        """Give the texts that its template asks for beside those of all languages."""
        return {
            "NAMESPACE": "App\\Login",
            "EXTENSIONS": (", 'openssl'" if check.is_keyed else "")
            + (", 'sodium'" if "argon2id" in check.below else ""),
        }

    def inserts(self, check: StoreCheck) -> Mapping[str, Sequence[str]]:
        """Give the lines that its template asks for."""
        return {
            "WORK": [
                f"        '{work.name}' => "
                f"[{self.literal(self.sample(work))}, {work.times}],"
                for work in check.work
            ],
            **self.cohort_inserts(check),
            "PARTS": [
                f"            {self.literal(part)} => $row['columns'][{self.literal(column)}] ?? null,"
                for part, column in check.parts.items()
            ],
            "LIMITS": [
                line
                for scheme, over in self.over_limits(check)
                for line in (f"            case '{scheme}':",
                             *_either(over), "                break;")
            ],
            "SHARE": self._share(check),
            "MADE": self._made(check),
            "COMMON": self._common(check),
            "FORMULAS": self._constants(check),
            "FORMULA_PARTS": self._formula_parts(check),
            "COMPOSITION": [
                line
                for reason, pattern in self.composition(check)
                for line in (f"        if (preg_match('/{pattern}/u', $text) !== 1) {{",
                             f"            $reasons[] = '{reason}';", "        }")
            ],
            "DAYS": [f"            {form}," for form in self.days()],
            "NEVER": [f"            {form}," for form in self.never()],
        }  # fmt: skip

    def _share(self, check: StoreCheck) -> list[str]:
        if check.share >= 1:
            return []
        return [
            "        $reference = (string) $row['login'] !== '' ? $row['login'] : $reading['text'];",
            "        $place = substr(hash('sha256', 'share:' . $reference), 0, 16);",
            f"        if (strcmp($place, '{self.share_limit(check)}') >= 0) {{",
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
        head, length = self.target_value(check)
        return [
            "        $salt = random_bytes(16);",
            f"        $raw = hash_pbkdf2('{name}', $password, $salt, {costs['rounds']}, {length}, true);",
            f"        return '{head}' . self::encoded($salt) . '$' . self::encoded($raw);",
        ]

    def _common(self, check: StoreCheck) -> list[str]:
        rest = common_rule(check.rules.min_length).rest
        return filled([self.literal(text) for text in rest], indent="        ", width=_WIDTH)

    def _formula_parts(self, check: StoreCheck) -> list[str]:
        formulas = self.written_formulas(check)
        lines = ["    /** Runs a formula. */",
                  "    private function formula(",
                  "        array $way,",
                  "        #[\\SensitiveParameter]",
                  "        string $password",
                  "    ): string {",
                  "        switch ($way['formula']) {"]  # fmt: skip
        for formula in formulas:
            lines += [f"            case '{formula.key}':",
                      f"                return $this->{formula.name}($way, $password);"]  # fmt: skip
        for scheme in check.below:
            if scheme in self.below:
                lines += [
                    f"            case '{scheme}':",
                    "                return $this->below((string) $way['salt'], $password);",
                ]
                continue
            lines += [f"            case '{scheme}':",
                      f"                $filler = '{filler_of(scheme)}';",
                      "                return $this->cryptedBelow($way, $filler, $password);"]  # fmt: skip
        lines += ["            default:",
                  "                throw new \\RuntimeException('a formula that this check lacks');",
                  "        }", "    }", "",
                  "    /** Brings what stands in a row, or a result itself, into the text that is compared. */",
                  "    private static function canonical(string $formula, string $text): ?string",
                  "    {",
                  "        switch ($formula) {"]  # fmt: skip
        for call, keys in self.canonical_forms(check):
            lines += [f"            case '{key}':" for key in keys]
            lines += [f"                return {call};"]
        lines += ["            default:", "                return $text;", "        }", "    }", ""]
        for formula in formulas:
            lines += self._formula(formula)
        return lines

    def _formula(self, formula: WrittenFormula) -> list[str]:
        lines: list[str] = []
        for function in formula.functions:
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
        return "\n".join(part for line in lines for part in wrapped(line))

    @staticmethod
    def _doc(text: str) -> str:
        return text.replace("*/", "* /")

    def _constants(self, check: StoreCheck) -> list[str]:
        """Write what is known of each formula."""
        lines = []
        for form in ordered(check):
            named = form.named
            numbers = ", ".join(f"'{n}' => {most}" for n, most in form.numbers.items())
            lines += [
                f"        // {named.name}",
                f"        '{form.key}' => [",
                *_listed("beside", form.beside),
                *_listed("folds", form.folds),
                f"            'lossy' => {self.truth[is_lossy(form)]},",
                f"            'salt' => {self.truth[named.takes_salt]},",
                f"            'login' => {self.truth[named.takes_login]},",
                f"            'parts' => {self.texts(sorted(named.parts))},",
                f"            'numbers' => [{numbers}],",
                "        ],",
            ]
        for scheme in check.below:
            lines += [
                f"        '{scheme}' => [",
                f"            'lossy' => {self.truth[is_lossy_scheme(scheme)]},",
                "        ],",
            ]
        return lines


def _either(parts: Sequence[str]) -> list[str]:
    line = f"                $is_over = {' || '.join(parts)};"
    if len(line) <= _WIDTH:
        return [line]
    first, *others = parts
    return [f"                $is_over = {first}",
            *(f"                    || {part}" for part in others[:-1]),
            f"                    || {others[-1]};"]  # fmt: skip


def _listed(name: str, keys: Sequence[str]) -> list[str]:
    if not keys:
        return []
    return [f"            '{name}' => [", *(f"                '{key}'," for key in keys),
            "            ],"]  # fmt: skip


LANGUAGE = Php()
