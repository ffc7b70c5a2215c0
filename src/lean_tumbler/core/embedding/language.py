"""What one language needs to have so that a check can be written in it."""

import re
from abc import abstractmethod
from collections.abc import Iterator, Mapping, Sequence, Set
from importlib.resources import files
from typing import ClassVar

from msgspec import Struct

from lean_tumbler.core.embedding import plain_texts
from lean_tumbler.core.embedding.abilities import Abilities
from lean_tumbler.core.embedding.check import CohortForm, FormulaForm, KindOfWork, StoreCheck
from lean_tumbler.core.embedding.common_rule import DATES, ENDINGS, YEARS, common_rule
from lean_tumbler.core.embedding.condition_lines import ConditionLines
from lean_tumbler.core.embedding.cost_lines import CostLines
from lean_tumbler.core.embedding.formula_code import (
    BYTES,
    TEXT,
    FormulaWriter,
    Function,
)
from lean_tumbler.core.embedding.own_layouts import OWN_LAYOUTS, OwnLayout
from lean_tumbler.core.embedding.rendering import filled, rendered
from lean_tumbler.core.embedding.samples import sample_of
from lean_tumbler.core.embedding.vectors import INVENTED_PASSWORD, Vector
from lean_tumbler.core.formulas.output import OutputShape
from lean_tumbler.core.login.new_passwords import COMPOSITION
from lean_tumbler.core.login.sharing import first_outside
from lean_tumbler.core.reading.layouts import DIGEST
from lean_tumbler.core.schemes.catalogue import CRYPT_SCHEMES
from lean_tumbler.core.schemes.keyed import Bound
from lean_tumbler.core.schemes.lock_markers import LAYOUTS as LOCKED
from lean_tumbler.core.schemes.obsolete.remnants import LAYOUTS as REMNANTS
from lean_tumbler.core.stored_days import CALENDAR_FORMS, MILLISECONDS, SECONDS

_KEYS_IN_A_ROW = 4


class WrittenFormula(Struct, frozen=True):
    """A formula as functions; the last is the formula's own."""

    key: str
    functions: list[Function]

    @property
    def name(self) -> str:
        """Of its function."""
        return self.functions[-1].name

    @property
    def kind(self) -> str:
        """What its function gives."""
        return self.functions[-1].result.kind


class Language(Abilities, ConditionLines, CostLines):
    """One language. It says how things are said in it; what is said is the same in all."""

    name: ClassVar[str]  # as `embed` takes it
    title: ClassVar[str]  # as people call it, with the version that is meant
    ending: ClassVar[str]  # of files
    comment: ClassVar[str]  # what stands before a line of the head
    empty_lines: ClassVar[int] = 1  # that stand between definitions

    # ---- what each language writes in its own way ----

    @abstractmethod
    def literal(self, value: str | bytes) -> str:
        """Write a constant text, or bytes."""

    @abstractmethod
    def texts(self, values: Sequence[str]) -> str:
        """Write a constant list of texts, in one line."""

    @abstractmethod
    def pattern(self, pattern: str, *, whole: bool) -> str:
        """Write a regular expression, for the whole text or for a part of it."""

    @abstractmethod
    def declared(self, kind: str, code: str) -> str:
        """Write the first assignment to the variable of a kind."""

    @abstractmethod
    def assigned(self, kind: str, code: str) -> str:
        """Write a later one."""

    def variable(self, kind: str) -> str:
        """Name the variable of a kind."""
        return {TEXT: "text", BYTES: "raw"}[kind]

    @abstractmethod
    def loop(self, times: str, body: Sequence[str]) -> list[str]:
        """Write a loop."""

    @abstractmethod
    def inner(self, name: str) -> str:
        """Write the call of a function of a bracketed formula."""

    formula_name: ClassVar[str] = "formula{0}"  # of the function that computes one

    def inner_name(self, name: str, number: int) -> str:
        """Name the function of a bracketed formula."""
        return f"{name}Part{number}"

    truth: ClassVar[Mapping[bool, str]] = {True: "true", False: "false"}
    # the three checks of what a formula prints, as they are called
    shapes: ClassVar[Mapping[str, str]]
    nothing: ClassVar[str]  # a length that is not fixed

    @abstractmethod
    def inserts(self, check: StoreCheck) -> Mapping[str, Sequence[str]]:
        """Give the lines that its template asks for."""

    @abstractmethod
    def usage(self, check: StoreCheck) -> Sequence[str]:
        """Give the lines of its head that show how it is called, with the swap."""

    def numbers(self, values: Sequence[int]) -> str:
        """Write a constant list of numbers."""
        return f"[{', '.join(map(str, values))}]"

    def own_texts(self, check: StoreCheck) -> Mapping[str, str]:  # noqa: ARG002 - as others need it
        """Give the texts that its template asks for beside those of all languages."""
        return {}

    # ---- what follows ----

    def canonical_forms(self, check: StoreCheck) -> list[tuple[str, list[str]]]:
        """Give the calls that check what formulas print, each with the formulas' keys."""
        found: dict[str, list[str]] = {}
        for form in ordered(check):
            found.setdefault(self._canonical(form.output), []).append(form.key)
        return list(found.items())

    def _canonical(self, output: OutputShape) -> str:
        if output.text_encoding.startswith("hex") and output.length is not None:
            return self.shapes["hex"].format(output.length)
        if output.text_encoding.startswith("base64") and "cut" not in output.text_encoding:
            segment = output.segments[0]
            length = None if segment.length is None else segment.length - segment.padding
            told = self.nothing if length is None else str(length)
            return self.shapes["base64"].format(told, self.signs(segment.signs))
        pattern = self.pattern("".join(f"({each.pattern})" for each in output.segments), whole=True)
        hexes = [number for number, each in enumerate(output.segments)
                 if each.text_encoding.startswith("hex")]  # fmt: skip
        return self.shapes["parts"].format(
            pattern, self.numbers(hexes), self.truth[output.is_fixed]
        )

    def signs(self, alphabet: str) -> str:
        """Write what a text in base64 may consist of, as the check of it takes that."""
        return self.literal(alphabet)

    def target_value(self, check: StoreCheck) -> tuple[str, int]:
        """Give what stands before the salt of the target's PHC string, and its digest's bytes."""
        form = check.target.derivation.on_top
        head = sample_of(check.target.scheme, check.target.parameters).rsplit("$", 2)[0]
        return f"{head}$", form.digest_bytes if form is not None else 0

    def __str__(self) -> str:
        return self.name

    def _template(self, check: StoreCheck) -> str:
        name = "finished" if self.is_finished(check) else "login"
        place = files(__package__).joinpath("languages", self.name, f"{name}.template")
        return place.read_text("utf-8")

    def source(self, check: StoreCheck, head: Sequence[str]) -> str:
        """Write the file of a check.

        Args:
            check: of the store.
            head: lines of its head, as a person reads them.
        """
        lines = [f"{self.comment}{line}".rstrip() for line in head]
        return rendered(
            self._template(check),
            features=self.features(check),
            inserts={"HEAD": lines, **self.inserts(check)},
            empty_lines=self.empty_lines,
            texts={**self._texts(check), **self.own_texts(check)},
        )

    def test_source(self, check: StoreCheck, file: str, rows: Sequence[Vector]) -> str:
        """Write the test of a check, in the language's usual runner.

        Args:
            check: of the store.
            file: the name of the check's file, which stands beside the test.
            rows: with what opens them.
        """
        place = files(__package__).joinpath("languages", self.name, "test.template")
        head = (f"Holds {file} against invented rows.", "",
                f"Written by `lean-tumbler embed {self.name} --with-test`.")  # fmt: skip
        return rendered(
            place.read_text("utf-8"),
            features=self.features(check),
            inserts={
                "HEAD": [f"{self.comment}{line}".rstrip() for line in head],
                "VECTORS": [line for row in rows for line in self.vector(row)],
            },
            empty_lines=self.empty_lines,
            texts={
                **self._texts(check), **self.own_texts(check), "FILE": file,
                "MODULE": file.partition(".")[0],
                "PASSWORD": self.literal(INVENTED_PASSWORD),
            },
        )  # fmt: skip

    @abstractmethod
    def vector(self, row: Vector) -> list[str]:
        """Write one row of a test."""

    def features(self, check: StoreCheck) -> Set[str]:
        """Name what a check has, for the conditions of templates."""
        slow = set(check.computed)
        kinds = {
            "argon2": any(name.startswith("argon2") for name in slow),
            "bcrypt": "bcrypt" in slow,
            "pbkdf2": any(name.startswith("pbkdf2") for name in slow),
            "scrypt": "scrypt" in slow,
            "sha_crypt": bool(slow & {"sha256-crypt", "sha512-crypt"}),
            "md5_crypt": "md5-crypt" in slow,
            "crypt": bool(slow & set(CRYPT_SCHEMES)),
            **{
                f"{name}_below": any(scheme.startswith(name) for scheme in check.below)
                for name in ("argon2", "bcrypt", "pbkdf2", "scrypt")
            },
            "layered": bool(check.on_top),
            "keyed": check.is_keyed,
            "sealing": bool(check.target.keyed_by),
            "bound": check.target.bound_to is Bound.ACCOUNT,
            "salts": check.has_salts,
            "observes": check.observes,
            "keeps": not check.replace_lossy,
            "words": bool(check.rules.words),
            "keys": bool(check.keys),
            "prepared": any(cohort.then for cohort in check.cohorts),
            "parts": bool(check.parts),
            "uses_parts": any(cohort.formulas and not cohort.then for cohort in check.cohorts),
            "alternatives": any(form.beside for form in check.formulas),
        }
        return {name for name, holds in kinds.items() if holds}

    def _texts(self, check: StoreCheck) -> dict[str, str]:
        target, rules = check.target, check.rules
        most = target.derivation.password_bytes
        limit = check.limits.password_bytes
        return {
            "STORE": check.store,
            "CLASS": self.class_name(check),
            "AS_STRONG": self.as_strong(check),
            "STORE_LITERAL": self.literal(check.store),
            "TARGET": target.scheme,
            "PASSWORD_BYTES": str(limit),
            "MOST_STORED": str(min(most or limit, limit)),
            "MIN_LENGTH": str(rules.min_length),
            "MAX_LENGTH": str(rules.max_length),
            "WORDS": self.texts([word.casefold() for word in rules.words]),
            "KEYED_BY": target.keyed_by,
            "BOUND": str(target.bound_to),
            "VARIANT": target.variant,
            "REALM": target.realm,
            "ON_TOP": self.texts(check.on_top),
            "LOCKED": self.pattern("|".join(layout.pattern for layout in LOCKED), whole=True),
            "REMNANTS": self.pattern("|".join(each.pattern for each in REMNANTS), whole=True),
            "RUN": self.pattern(plain_texts.RUN, whole=False),
            "CLASS_RUN": self.pattern(plain_texts.CLASS_RUN, whole=False),
            "CHANGES": str(plain_texts.CHANGES),
            "EACH": str(plain_texts.EACH),
            "LONGEST_PLAIN": str(plain_texts.LONGEST),
            "SECONDS": self.pattern(SECONDS, whole=False),
            "MILLISECONDS": self.pattern(MILLISECONDS, whole=False),
            "ARGON2_TYPES": "|".join(n for n in ("argon2id", "argon2i", "argon2d")
                                     if n in check.computed),
            "PBKDF2_TYPES": "|".join(n for n in ("pbkdf2-sha1", "pbkdf2-sha256", "pbkdf2-sha512")
                                     if n in check.computed),
            **self._common_texts(check),
            "READY": str(check.readers_ready or "9999-12-31"),
            **{name.upper(): str(number) for name, number in target.parameters.items()},
        }  # fmt: skip

    def _common_texts(self, check: StoreCheck) -> dict[str, str]:
        rule = common_rule(check.rules.min_length)
        return {
            "ENDINGS_LITERAL": self.literal(ENDINGS),
            "YEARS_LITERAL": self.literal(YEARS),
            "DATES_LITERAL": self.literal(DATES),
            "COMMON_WORDS_LITERAL": self.literal("|".join(map(re.escape, rule.words))),
            "COMMON_ALTERED_LITERAL": self.literal("|".join(map(re.escape, rule.altered))),
        }

    def never(self) -> list[str]:
        """Write the patterns of texts that nobody types."""
        return [self.pattern(each, whole=False) for each in plain_texts.NEVER]

    def days(self) -> list[str]:
        """Write the patterns of days."""
        return [self.pattern(each, whole=False) for each in CALENDAR_FORMS.values()]

    def composition(self, check: StoreCheck) -> list[tuple[str, str]]:
        """Give objections with the patterns whose absence they tell."""
        patterns = {
            "digit": r"\p{Nd}",
            "lower": r"\p{Ll}",
            "upper": r"\p{Lu}",
            "other": r"[^\p{L}\p{N}]",
        }
        return [(COMPOSITION[kind][0], patterns[kind]) for kind in check.rules.composition]

    def written_formulas(self, check: StoreCheck) -> list[WrittenFormula]:
        """Write the formulas out; what goes into a slow scheme gives bytes, the others text."""
        go_on = {key for cohort in check.cohorts if cohort.then for key in cohort.formulas}
        return [
            WrittenFormula(
                form.key,
                FormulaWriter(self, self.formula_name.format(number)).functions(
                    form.named.formula, kind=BYTES if form.key in go_on else TEXT
                ),
            )
            for number, form in enumerate(ordered(check), start=1)
        ]

    def key_rows(self, keys: Sequence[str]) -> list[str]:
        """Write formulas' keys, some in each row."""
        texts = list(map(self.literal, keys))
        starts = range(0, len(texts), _KEYS_IN_A_ROW)
        return [", ".join(texts[start : start + _KEYS_IN_A_ROW]) for start in starts]

    @staticmethod
    def likely_lines(check: StoreCheck, *, indent: str, width: int) -> dict[str, list[str]]:
        """Write the likely passwords, in three lists, without quotes."""
        rule = common_rule(check.rules.min_length)
        lists = {"COMMON": rule.rest, "WORDS": rule.words, "ALTERED": rule.altered}
        return {name: filled(texts, indent=indent, width=width, mark="")
                for name, texts in lists.items()}  # fmt: skip

    def kept_reads(self, check: StoreCheck) -> tuple[bool, bool]:
        """Tell whether the row, and what was typed, say why a right login writes nothing."""
        features = self.features(check)
        reads_row = check.share < 1 or {"sealing", "bound"} <= features
        return reads_row, {"keeps", "alternatives"} <= features

    @staticmethod
    def class_name(check: StoreCheck) -> str:
        """Name the class of a check, by its store."""
        words = re.findall("[A-Za-z0-9]+", check.store)
        return "".join(word.capitalize() for word in words) + "Login"

    @staticmethod
    def own_layouts(check: StoreCheck) -> list[OwnLayout]:
        """Give the layouts of fast values that the column held."""
        return [OWN_LAYOUTS[name] for name in sorted(check.holds.layouts)]

    @staticmethod
    def sample(work: KindOfWork) -> str:
        """Give a value that costs what a kind of work does; no password opens it."""
        return sample_of(work.scheme, work.parameters)

    @staticmethod
    def share_limit(check: StoreCheck) -> str:
        """Write the first place outside the share: that of a digest's first 16 hex digits."""
        return f"{first_outside(check.share):016x}"

    @staticmethod
    def codings(cohort: CohortForm) -> dict[str, str]:
        """Give the parts of a cohort's layout, but for the digest, with how they are written."""
        encodings = {} if cohort.layout is None else cohort.layout.encodings
        return {name: coding for name, coding in encodings.items() if name != DIGEST}


def is_lossy(form: FormulaForm) -> bool:
    """Tell whether other passwords open what a formula made."""
    return bool(form.named.lossy)


def is_lossy_scheme(scheme: str) -> bool:
    """Tell whether other passwords open what a scheme made."""
    return scheme in CRYPT_SCHEMES and bool(CRYPT_SCHEMES[scheme].lossy)


def bare_pattern(scheme: str) -> tuple[str, int]:
    """Give the pattern of a bare scheme's values, and how many characters its setting has."""
    from lean_tumbler.core.schemes.obsolete.crypt_family import LAYOUTS  # noqa: PLC0415 - of few

    pattern = next(layout.pattern for layout in LAYOUTS if layout.scheme == scheme)
    return pattern, 9 if scheme == "bsdi-crypt" else 2


def ordered(check: StoreCheck) -> Iterator[FormulaForm]:
    """Give the formulas in the order of the cohorts that use them, the others after them."""
    used = [key for cohort in check.cohorts for key in cohort.formulas]
    yield from sorted(
        check.formulas, key=lambda form: used.index(form.key) if form.key in used else len(used)
    )
