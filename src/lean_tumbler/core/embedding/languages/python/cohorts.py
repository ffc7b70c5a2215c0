"""What cohorts declare of a row, in Python."""

from collections.abc import Sequence

from lean_tumbler.core.embedding.check import CohortForm, StoreCheck
from lean_tumbler.core.embedding.languages.python.words import PythonWords
from lean_tumbler.core.embedding.own_layouts import OwnLayout, formulas_of
from lean_tumbler.core.formulas.named import named_by_itself


class PythonCohorts(PythonWords):
    """What cohorts declare of a row, in Python."""

    def _if(self, parts: Sequence[str], body: Sequence[str]) -> list[str]:
        return [f"    if {' and '.join(parts)}:", *(f"        {line}" for line in body)]

    def _prepared(self, cohort: CohortForm) -> list[str]:
        if not cohort.then:
            return []
        asked = [f'value.scheme == "{cohort.then}"', *self.conditions(cohort.condition)]
        way = (
            f'_Way(name={self.literal(cohort.name)}, formula="{cohort.formulas[0]}", value=value, '
            "salt=_bytes_of(row.salt) or b'', login=row.login, parts=_parts_of(row))"
        )
        return [f"    # {cohort.name}", *self._if(asked, [f"ways.append({way})"])]

    def _cohort_way(self, cohort: CohortForm) -> str:
        main = f', main="{cohort.formulas[0]}"' if len(cohort.formulas) > 1 else ""
        return f'_Way(name={self.literal(cohort.name)}, identity="{cohort.identity}"{main})'

    def _cohort(self, cohort: CohortForm) -> list[str]:
        if cohort.then or cohort.is_plain or cohort.scheme:
            return []
        body = [f"cohort = {self._cohort_way(cohort)}"]
        given = "tried, row, parts"
        if cohort.layout is not None:
            codings = ", ".join(f'"{n}": "{c}"' for n, c in self.codings(cohort).items())
            body += [
                f"pattern = {self.pattern(cohort.layout.pattern, whole=True)}",
                f"apart = _taken_apart(bare, pattern, {{{codings}}}, salt)",
            ]
            given = "apart[0], row, {**parts, **apart[1]}"
        calls = [f'ways += _fitting(cohort, "{key}", {given})' for key in cohort.formulas]
        if cohort.layout is not None:
            calls = ["if apart is not None:", *(f"    {line}" for line in calls)]
        body += calls
        lines = [f"    # {cohort.name}"]
        if cohort.condition is None:
            return [*lines, *(f"    {line}" for line in body)]
        return [*lines, *self._if(self.conditions(cohort.condition), body)]

    def _own_tags(self, check: StoreCheck) -> list[str]:
        lines = []
        for own in self.own_layouts(check):
            if own.formula:
                lines += self._fields(own)
            if not own.tag:
                continue
            key = named_by_itself(formulas_of(own)[0]).fingerprint
            size, sign = own.digest_bytes, ">" if own.is_salted else "=="
            pattern = rf"\{{(?i:{own.tag})\}}([A-Za-z0-9+/]+)={{0,2}}"
            lines += [
                f"    found = re.fullmatch({self.literal(pattern)}, bare, re.ASCII)",
                "    if found:",
                '        raw = _decoded(found[1]) or b""',
                f"        printed = [(raw[:{size}].hex(), raw[{size}:])]",
                f"        if len(raw) {sign} {size}:",
                f'            cohort = _Way(name="{own.scheme}")',
                f'            ways += _fitting(cohort, "{key}", printed, row, {{}})',
                "        return ways",
            ]
        return lines

    def _fields(self, own: OwnLayout) -> list[str]:
        key = named_by_itself(own.formula).fingerprint
        salt = 'bytes.fromhex(found["salt"])' if own.is_salted else "None"
        return [
            f"    found = re.fullmatch({self.literal(own.layout.pattern)}, bare, re.ASCII)",
            "    if found:",
            f'        cohort, digest = _Way(name="{own.scheme}"), found["digest"].lower()',
            f'        return _fitting(cohort, "{key}", [(digest, {salt})], row, {{}})',
        ]

    def _own_places(self, check: StoreCheck) -> list[str]:
        lines = []
        for number, own in enumerate(self.own_layouts(check)):
            if not own.says_all:
                pattern = self.literal(own.layout.pattern)
                lines += [
                    f"    apart{number} = re.fullmatch({pattern}, bare, re.ASCII)",
                    f"    if apart{number}:",
                    f'        own = apart{number}["salt"].encode()',
                    f'        tried.append((apart{number}["digest"].lower(), own))',
                ]
        return lines

    def _own_ways(self, check: StoreCheck) -> list[str]:
        lines: list[str] = []
        for number, own in enumerate(self.own_layouts(check)):
            if own.says_all:
                continue
            lines += [
                f"    if not ways and apart{number}:",
                f'        digest, own = apart{number}["digest"], apart{number}["salt"].encode()',
            ]
            for text in formulas_of(own):
                named, scheme = named_by_itself(text), text.split(", ")[1]
                asked = f"len(digest) == {named.output.length}"
                if own.name.startswith("name"):
                    asked += f' and apart{number}["name"] == "{scheme}"'
                lines += [
                    f"        if {asked}:",
                    "            printed = [(digest.lower(), own)]",
                    f'            cohort = _Way(name="{scheme}")',
                    f'            ways += _fitting(cohort, "{named.fingerprint}", printed, row, {{}})',
                ]
        return lines

    def _plain(self, check: StoreCheck) -> list[str]:
        lines: list[str] = []
        for cohort in check.cohorts:
            if cohort.is_plain:
                is_text = "_bytes_of(row.stored) == text.encode()"
                asked = ["not ways", *self.conditions(cohort.condition), is_text, "_is_plain(text)"]
                body = [f"ways.append(replace({self._cohort_way(cohort)}, wanted=text))"]
                lines += [f"    # {cohort.name}: the password itself", *self._if(asked, body)]
        return lines
