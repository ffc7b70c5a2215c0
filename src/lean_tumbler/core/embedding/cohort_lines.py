"""What cohorts and layouts declare of a row, as lines: each language gives its phrases."""

from abc import abstractmethod
from collections.abc import Mapping, Sequence
from typing import ClassVar

from lean_tumbler.core.embedding.check import CohortForm, StoreCheck
from lean_tumbler.core.embedding.language import Language, bare_pattern
from lean_tumbler.core.embedding.own_layouts import OwnLayout, formulas_of
from lean_tumbler.core.formulas.named import named_by_itself


class CohortLines(Language):
    """The lines of cohorts, from a language's phrases; `@NAME@` in one stands for what is given.

    The phrases are, of slow schemes, `is scheme` and `prepared`; of cohorts, `cohort`, `main`,
    `fit`, `layout`, `is apart`, `fit apart`, `is bare`, `bare`, `no ways`, `is plain` and `plain`;
    of layouts, `tag`, `fields`, `fields salt`, `place`, `own`, `of length`, `of name`, `own end`
    and `own formula`.
    """

    phrases: ClassVar[Mapping[str, str]]
    inside: ClassVar[str] = "    "  # what stands before a line of the functions
    own_inside: ClassVar[str] = "    "  # what stands before a line between `own` and `own end`
    line_comment: ClassVar[str] = "// "  # within functions
    no_salt: ClassVar[str]

    @abstractmethod
    def when(self, parts: Sequence[str], body: Sequence[str]) -> list[str]:
        """Write lines that run where all conditions hold."""

    def alone(self, body: Sequence[str]) -> list[str]:
        """Write lines that run always, and whose names are their own."""
        return list(body)

    @abstractmethod
    def codes(self, codings: Mapping[str, str]) -> str:
        """Write a constant list of names with what they are written in."""

    def cohort_inserts(self, check: StoreCheck) -> dict[str, list[str]]:
        """Give the lines that all templates ask for."""
        cohorts = [line for cohort in check.cohorts for line in self._cohort(cohort)]
        return {
            "PREPARED": [line for cohort in check.cohorts for line in self._prepared(cohort)],
            "OWN_TAGS": self._tags(check),
            "OWN_PLACES": self._places(check),
            "COHORTS": [*cohorts, *self._own_ways(check), *self._plain(check)],
        }

    def _tags(self, check: StoreCheck) -> list[str]:
        """Write the layouts that say all."""
        lines: list[str] = []
        for number, own in enumerate(self.own_layouts(check)):
            if own.formula:
                lines += self._fields(own, str(number))
            elif own.tag:
                lines += self._tag(own, str(number))
        return self._in(lines)

    def _places(self, check: StoreCheck) -> list[str]:
        """Write the layouts that say where digest and salt stand."""
        return self._in([
            line
            for number, own in enumerate(self.own_layouts(check)) if not own.says_all
            for line in self._said("place", NUMBER=str(number), PATTERN=self._pattern(own))
        ])  # fmt: skip

    def _in(self, lines: Sequence[str]) -> list[str]:
        return [f"{self.inside}{line}" for line in lines]

    def _said(self, name: str, **given: str) -> list[str]:
        text = self.phrases[name]
        for place, value in given.items():
            text = text.replace(f"@{place}@", value)
        return text.split("\n") if text else []

    def _pattern(self, own: OwnLayout) -> str:
        return self.pattern(own.layout.pattern, whole=True)

    def _key(self, text: str) -> str:
        return self.texts((named_by_itself(text).fingerprint,))

    def _named(self, cohort: CohortForm) -> dict[str, str]:
        main = self._said("main", KEY=cohort.formulas[0]) if len(cohort.formulas) > 1 else []
        identity = self.literal(cohort.identity)
        return {"NAME": self.literal(cohort.name), "IDENTITY": identity, "MAIN": "\n".join(main)}

    def _where(self, cohort: CohortForm, asked: Sequence[str], body: Sequence[str]) -> list[str]:
        parts = [*asked, *self.conditions(cohort.condition)]
        lines = self.when(parts, body) if parts else self.alone(body)
        return self._in([f"{self.line_comment}{cohort.name}", *lines])

    def _prepared(self, cohort: CohortForm) -> list[str]:
        if not cohort.then:
            return []
        asked = self._said("is scheme", SCHEME=cohort.then)
        given = {"NAME": self.literal(cohort.name), "KEY": cohort.formulas[0]}
        return self._where(cohort, asked, self._said("prepared", **given))

    def _cohort(self, cohort: CohortForm) -> list[str]:
        if cohort.then or cohort.is_plain:
            return []
        if cohort.scheme:
            pattern, length = bare_pattern(cohort.scheme)
            asked = self._said("is bare", PATTERN=self.pattern(pattern, whole=True))
            given = {"SCHEME": cohort.scheme, "LENGTH": str(length), **self._named(cohort)}
            return self._where(cohort, asked, self._said("bare", **given))
        given = self._named(cohort)
        if cohort.layout is not None:
            given["PATTERN"] = self.pattern(cohort.layout.pattern, whole=True)
            given["CODINGS"] = self.codes(self.codings(cohort))
        name = "fit" if cohort.layout is None else "fit apart"
        lines = self._said(name, KEYS=self.texts(cohort.formulas), **given)
        if cohort.layout is not None:
            asked = self._said("is apart", **given)
            lines = [*self._said("layout", **given), *self.when(asked, lines)]
        return self._where(cohort, [], [*self._said("cohort", **given), *lines])

    def _tag(self, own: OwnLayout, number: str) -> list[str]:
        return self._said(
            "tag", NUMBER=number, PATTERN=self._pattern(own), SCHEME=own.scheme,
            SIZE=str(own.digest_bytes), SIGN=">" if own.is_salted else self.tests["equals"],
            KEYS=self._key(formulas_of(own)[0]),
        )  # fmt: skip

    def _fields(self, own: OwnLayout, number: str) -> list[str]:
        return self._said(
            "fields", NUMBER=number, PATTERN=self._pattern(own), SCHEME=own.scheme,
            KEYS=self._key(own.formula),
            SALT=self._said("fields salt", NUMBER=number)[0] if own.is_salted else self.no_salt,
        )  # fmt: skip

    def _own_ways(self, check: StoreCheck) -> list[str]:
        lines: list[str] = []
        for number, own in enumerate(self.own_layouts(check)):
            if own.says_all:
                continue
            given = {"NUMBER": str(number), "PATTERN": self._pattern(own)}
            lines += self._said("own", **given)
            for text in formulas_of(own):
                named, scheme = named_by_itself(text), text.split(", ")[1]
                asked = self._said("of length", LENGTH=str(named.output.length), **given)
                if own.name.startswith("name"):
                    asked += self._said("of name", SCHEME=scheme, **given)
                body = self._said("own formula", SCHEME=scheme, KEYS=self._key(text), **given)
                lines += [f"{self.own_inside}{line}" for line in self.when(asked, body)]
            lines += self._said("own end")
        return self._in(lines)

    def _plain(self, check: StoreCheck) -> list[str]:
        lines: list[str] = []
        for cohort in check.cohorts:
            if cohort.is_plain:
                body = self._said("plain", **self._named(cohort))
                conditions = self.conditions(cohort.condition)
                asked = [*self._said("no ways"), *conditions, *self._said("is plain")]
                what = f"{self.line_comment}{cohort.name}: the password itself"
                lines += self._in([what, *self.when(asked, body)])
        return lines
