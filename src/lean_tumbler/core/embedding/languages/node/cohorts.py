"""What cohorts declare of a row, in Node."""

import re
from collections.abc import Sequence

from lean_tumbler.core.embedding.check import CohortForm, StoreCheck
from lean_tumbler.core.embedding.languages.node.words import NodeWords
from lean_tumbler.core.embedding.own_layouts import OwnLayout, formulas_of
from lean_tumbler.core.formulas.named import named_by_itself

_WIDTH = 100


class NodeCohorts(NodeWords):
    """What cohorts declare of a row, in Node."""

    def _prepared(self, cohort: CohortForm) -> list[str]:
        if not cohort.then:
            return []
        asked = [f'value.scheme === "{cohort.then}"', *self.conditions(cohort.condition)]
        way = f'{{ name: {self.literal(cohort.name)}, value, formula: "{cohort.formulas[0]}" }}'
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

    def _own_tags(self, check: StoreCheck) -> list[str]:
        lines = []
        for number, own in enumerate(self.own_layouts(check)):
            if own.formula:
                lines += self._fields(own, number)
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

    def _fields(self, own: OwnLayout, number: int) -> list[str]:
        key = named_by_itself(own.formula).fingerprint
        salt = f'Buffer.from(fields{number}.groups.salt, "hex")' if own.is_salted else "null"
        return [
            f"  const form{number} = {self.pattern(own.layout.pattern, whole=True)};",
            f"  const fields{number} = form{number}.exec(bare);",
            f"  if (fields{number} !== null) {{",
            f"    const digest = fields{number}.groups.digest.toLowerCase();",
            f"    const printed = [[digest, {salt}]];",
            f'    return fitting({{ name: "{own.scheme}" }}, "{key}", printed, row, new Map());',
            "  }",
        ]

    def _own_places(self, check: StoreCheck) -> list[str]:
        lines = []
        for number, own in enumerate(self.own_layouts(check)):
            if own.says_all:
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
        for number, own in enumerate(self.own_layouts(check)):
            if own.says_all:
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

    def _if(self, parts: Sequence[str], body: Sequence[str], *, indent: str = "  ") -> list[str]:
        line = f"{indent}if ({' && '.join(parts)}) {{"
        inside = [f"{indent}  {each}" for each in body]
        if len(line) <= _WIDTH:
            return [line, *inside, f"{indent}}}"]
        asked = [*(f"{part} &&" for part in parts[:-1]), parts[-1]]
        return [f"{indent}if (", *(f"{indent}  {part}" for part in asked), f"{indent}) {{",
                *inside, f"{indent}}}"]  # fmt: skip
