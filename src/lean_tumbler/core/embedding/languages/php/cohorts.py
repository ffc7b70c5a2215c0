"""What cohorts declare of a row, in Php."""

from collections.abc import Sequence

from lean_tumbler.core.embedding.check import CohortForm, StoreCheck
from lean_tumbler.core.embedding.language import bare_pattern
from lean_tumbler.core.embedding.languages.php.words import PhpWords
from lean_tumbler.core.embedding.own_layouts import OwnLayout, formulas_of
from lean_tumbler.core.formulas.named import named_by_itself

_WIDTH = 110


class PhpCohorts(PhpWords):
    """What cohorts declare of a row, in Php."""

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
            lines = self._bare(cohort)
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
                calls = [
                    "if ($apart !== null) {",
                    "    $own = $apart['parts'] + $parts;",
                    *(f"    {call}" for call in calls),
                    "}",
                ]
            lines += calls
        return self._where(cohort, lines)

    def _bare(self, cohort: CohortForm) -> list[str]:
        pattern, length = bare_pattern(cohort.scheme)
        return [
            f"$pattern = {self.pattern(pattern, whole=True)};",
            "if (preg_match($pattern, $bare) === 1) {",
            "    $ways[] = [",
            f"        'name' => {self.literal(cohort.name)},",
            f"        'identity' => '{cohort.identity}',",
            f"        'formula' => '{cohort.scheme}',",
            "        'wanted' => $bare,",
            f"        'salt' => substr($bare, 0, {length}),",
            "    ];",
            "}",
        ]

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

    def _own_tags(self, check: StoreCheck) -> list[str]:
        lines = []
        for own in self.own_layouts(check):
            if own.formula:
                lines += self._fields(own)
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

    def _fields(self, own: OwnLayout) -> list[str]:
        key = named_by_itself(own.formula).fingerprint
        salt = "(string) hex2bin($found['salt'])" if own.is_salted else "null"
        return [
            f"        $pattern = {self.pattern(own.layout.pattern, whole=True)};",
            "        if (preg_match($pattern, $bare, $found) === 1) {",
            f"            $printed = [[strtolower($found['digest']), {salt}]];",
            f"            return $this->fitting(['name' => '{own.scheme}'], '{key}', $printed, $row, []);",
            "        }",
        ]

    def _own_places(self, check: StoreCheck) -> list[str]:
        lines = []
        for own in self.own_layouts(check):
            if own.says_all:
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
        for own in self.own_layouts(check):
            if own.says_all:
                continue
            pattern = self.pattern(own.layout.pattern, whole=True)
            lines += [
                f"        $pattern = {pattern};",
                "        if ($ways === [] && preg_match($pattern, $bare, $found) === 1) {",
                "            $printed = [[strtolower($found['digest']), $found['salt']]];",
            ]
            for text in formulas_of(own):
                named = named_by_itself(text)
                length, scheme = named.output.length, text.split(", ")[1]
                asked = f"strlen($found['digest']) === {length}"
                if own.name.startswith("name"):
                    asked += f" && $found['name'] === '{scheme}'"
                lines += [f"            if ({asked}) {{",
                          f"                $cohort = ['name' => '{scheme}'];",
                          f"                $formula = '{named.fingerprint}';",
                          "                $way = $this->fitting($cohort, $formula, $printed, $row, []);",
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


def _if(parts: Sequence[str]) -> list[str]:
    line = f"        if ({' && '.join(parts)}) {{"
    if len(line) <= _WIDTH:
        return [line]
    asked = [parts[0], *(f"&& {part}" for part in parts[1:])]
    return ["        if (", *(f"            {part}" for part in asked), "        ) {"]
