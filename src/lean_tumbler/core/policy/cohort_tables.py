"""The cohorts of a store: `[[store.NAME.cohort]]` and `[store.NAME.parts]`."""

import difflib
import re
from collections.abc import Mapping, Sequence
from typing import Any

from lean_tumbler.core.formulas import notation
from lean_tumbler.core.formulas.alternatives import Untested
from lean_tumbler.core.formulas.named import NamedFormula
from lean_tumbler.core.policy.entries import Entries
from lean_tumbler.core.policy.tables import LONGEST_NAME, CohortTable
from lean_tumbler.core.reading.cohorts import Cohort, PlainText
from lean_tumbler.core.reading.conditions import Condition, parse_condition
from lean_tumbler.core.reading.layouts import DIGEST, SALT, ValueLayout, parse_layout
from lean_tumbler.core.schemes.catalogue import BARE_CRYPT_SCHEMES, CRYPT_SCHEMES, DERIVATIONS
from lean_tumbler.errors import ConditionError, FormulaError, LayoutError

_THEN = re.compile(r"(?P<before>.*\S)\s*,\s*then\s+(?P<then>[\w-]+)\s*", re.DOTALL)
# What a formula's result can have gone into: schemes that take any text as their password.
SLOW_SCHEMES = (
    *DERIVATIONS,
    *(name for name in CRYPT_SCHEMES if name not in BARE_CRYPT_SCHEMES),
)


def split_then(text: str) -> tuple[str, str]:
    """Split “FORMULA, then SCHEME”; the scheme is empty where there is none."""
    match = _THEN.fullmatch(text)
    return (match["before"], match["then"]) if match else (text, "")


class CohortTables:
    """Reads the cohorts of one store."""

    def __init__(
        self,
        entries: Entries,  # checks what stands in the document
        *,
        store: str,  # the store's name
        # role -> the table's own name of its column, for the roles that are mapped
        roles: Mapping[str, str],
        parts: Mapping[str, str],  # further inputs of formulas -> the table's own names
        formulas: Mapping[str, NamedFormula],  # those of [formulas], by name
    ) -> None:
        self._entries = entries
        self._store = store
        self._roles = roles
        self._parts = parts
        self._formulas = formulas

    def cohorts(self, tables: Sequence[Mapping[str, Any]]) -> tuple[Cohort, ...]:
        """Read all of them; their names are unique.

        Raises:
            PolicyError: naming file, store, cohort and place, and what was expected.
        """
        found: list[Cohort] = []
        for number, table in enumerate(tables, start=1):
            cohort = self._cohort(number, table)
            if cohort.name in {other.name for other in found}:
                raise self._error(cohort.name, "there is already a cohort of that name")
            found.append(cohort)
        return tuple(found)

    def _error(self, cohort: str, message: str) -> Exception:
        return self._entries.error(f"store.{self._store}.cohort", f"“{cohort}”: {message}")

    def _cohort(self, number: int, entries: Mapping[str, Any]) -> Cohort:
        table = self._entries.read(f"store.{self._store}.cohort", entries, CohortTable)
        name = table.name
        if not name or not name.isprintable():
            raise self._error(
                f"number {number}", f"expected a “name” of at most {LONGEST_NAME} characters"
            )
        plain_text = _plain_text(table)
        text, then = self._then(name, table.formula)
        formula = self._formula(name, text, may_end_in_bytes=bool(then))
        scheme = table.scheme
        ways = (formula is not None) + bool(scheme) + (plain_text is not PlainText.NONE)
        if ways != 1:
            raise self._error(
                name, "expected one of “formula”, “scheme” and “plain_text”: how values were made"
            )
        if scheme and scheme not in BARE_CRYPT_SCHEMES:
            known = ", ".join(BARE_CRYPT_SCHEMES)
            raise self._error(
                name, f"“scheme” is for values that do not name their scheme: {known}"
            )
        layout = self._layout(name, table.layout, formula, then)
        self._check_inputs(name, formula, layout)
        return Cohort(
            name=name,
            formula=formula,
            scheme=scheme,
            then=then,
            untested=self._untested(name, table, formula, then),
            plain_text=plain_text,
            text_classes=frozenset(table.plain_text if isinstance(table.plain_text, tuple) else ()),
            layout=layout,
            condition=self._condition(name, table.when),
        )

    def _untested(
        self, name: str, table: CohortTable, formula: NamedFormula | None, then: str
    ) -> frozenset[Untested]:
        if table.untested and (formula is None or then):
            raise self._error(name, "“untested” goes with a “formula” that prints the digest")
        return frozenset(map(Untested, table.untested))

    def _then(self, cohort: str, text: str) -> tuple[str, str]:
        """Take a formula apart that goes on into a slow scheme: “utf-8, md5, hex, then bcrypt”."""
        before, then = split_then(text)
        if then and then not in SLOW_SCHEMES:
            near = difflib.get_close_matches(then, SLOW_SCHEMES, n=1, cutoff=0.5)
            hint = f"did you mean “{near[0]}”?" if near else ", ".join(SLOW_SCHEMES)
            raise self._error(cohort, f"“formula”: expected a slow scheme after “then” ({hint})")
        return before, then

    def _formula(self, cohort: str, text: str, *, may_end_in_bytes: bool) -> NamedFormula | None:
        """Read a formula, or take one of [formulas] by its name."""
        if not text:
            return None
        if text in self._formulas:
            return self._formulas[text]
        try:
            return NamedFormula(cohort, notation.parse(text, may_end_in_bytes=may_end_in_bytes))
        except FormulaError as error:
            near = difflib.get_close_matches(text, self._formulas, n=1, cutoff=0.7)
            hint = f"; did you mean “{near[0]}” of [formulas]?" if near else ""
            raise self._error(cohort, f"“formula”, {error}{hint}") from None

    def _layout(
        self, name: str, text: str, formula: NamedFormula | None, then: str
    ) -> ValueLayout | None:
        if not text:
            return None
        if formula is None or then:
            raise self._error(name, "“layout” goes with a “formula” that prints the digest")
        output = formula.output
        pattern = "".join(segment.pattern for segment in output.segments)
        try:
            layout = parse_layout(
                text, digest_pattern=pattern, digest_is_fixed=output.length is not None
            )
        except LayoutError as error:
            raise self._error(name, f"“layout”, {error}") from None
        written = layout.encodings[DIGEST]
        family = written.partition("-")[0]
        if written != "text" and family != output.text_encoding.partition("-")[0]:
            prints = output.text_encoding or "text of several parts"
            raise self._error(
                name, f"“layout”: the digest is {written}, but the formula prints {prints}"
            )
        return layout

    def _check_inputs(
        self, name: str, formula: NamedFormula | None, layout: ValueLayout | None
    ) -> None:
        """Refuse a formula that takes what no row has."""
        if formula is None:
            return
        given = (layout.parts if layout else frozenset()) | self._parts.keys()
        missing = sorted(formula.parts - given)
        if missing:
            known = ", ".join(sorted(given)) or "none"
            raise self._error(
                name,
                f"the formula takes the part “{missing[0]}”, which neither its layout nor "
                f"[store.{self._store}.parts] gives; they give: {known}",
            )

    def _condition(self, name: str, text: str) -> Condition | None:
        if not text:
            return None
        try:
            return parse_condition(text, roles=self._roles)
        except ConditionError as error:
            raise self._error(name, f"“when”, {error}") from None


def takes_salt_column(cohort: Cohort) -> bool:
    """Tell whether a cohort's formula takes a salt that must stand in a column or in the value."""
    has_own = cohort.layout is not None and SALT in cohort.layout.parts
    return cohort.formula is not None and cohort.formula.takes_salt and not has_own


def _plain_text(table: CohortTable) -> PlainText:
    if table.plain_text is True:
        return PlainText.UNEXPLAINED
    if isinstance(table.plain_text, tuple):
        return PlainText.UNEXPLAINED if table.plain_text else PlainText.NONE
    return PlainText.ALL if table.plain_text else PlainText.NONE
