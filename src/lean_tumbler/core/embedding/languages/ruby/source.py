"""Ruby 3.1: the lines of a file."""

import re
from collections.abc import Mapping, Sequence

from lean_tumbler.core.embedding.check import StoreCheck
from lean_tumbler.core.embedding.language import is_lossy, is_lossy_scheme, ordered
from lean_tumbler.core.embedding.languages.ruby.lines import WIDTH, broken, pieces
from lean_tumbler.core.embedding.languages.ruby.words import RubyWords, grouped
from lean_tumbler.core.embedding.samples import filler_of
from lean_tumbler.core.embedding.vectors import Vector

_UNDER_WHEN = ",\n         "
_LAST_COMMA = re.compile(r",(\n *[]})])")


class Ruby(RubyWords):
    """Ruby 3.1."""

    def source(self, check: StoreCheck, head: Sequence[str]) -> str:
        """Write the file of a check, with long lines broken."""
        whole = _LAST_COMMA.sub(r"\1", super().source(check, head))
        lines = [part for line in whole.split("\n") for part in broken(line)]
        is_dated = any("Date." in line for line in lines)
        return "\n".join(line for line in lines if is_dated or line != "require 'date'")

    def test_source(self, check: StoreCheck, file: str, rows: Sequence[Vector]) -> str:
        """Write the test of a check, in the language's usual runner."""
        return _LAST_COMMA.sub(r"\1", super().test_source(check, file, rows))

    def own_texts(self, check: StoreCheck) -> Mapping[str, str]:
        """Give the texts that its template asks for beside those of all languages."""
        uses_row, uses_form = self.kept_reads(check)
        return {
            "KEPT_ARGUMENTS": (
                f"{'row' if uses_row else '_row'}, reading, way, {'form' if uses_form else '_form'}"
            ),
        }

    def inserts(self, check: StoreCheck) -> Mapping[str, Sequence[str]]:
        """Give the lines that its template asks for."""
        return {
            "WORK": self._work(check),
            "FORMULAS": self._known(check),
            **self.likely_lines(check, indent="    ", width=WIDTH - 10),
            **self.cohort_inserts(check),
            "PARTS": [
                f"      {self.literal(part)} => column(row, {self.literal(own)}),"
                for part, own in check.parts.items()
            ],
            "CANONICAL": self._canonical_lines(check),
            "LIMITS": [
                line
                for scheme, over in self.over_limits(check)
                for line in (f"    when '{scheme}'", *_either(over))
            ],
            "SHARE": self._share(check),
            "MADE": self._made(check),
            "COMPOSITION": [
                f"    reasons << '{reason}' unless /{pattern}/.match?(text)"
                for reason, pattern in self.composition(check)
            ],
            "FORMULA_PARTS": self._formula_parts(check),
            "NEVER": [f"    {form}," for form in self.never()],
            "DAYS": [f"    {form}," for form in self.days()],
        }  # fmt: skip

    def _work(self, check: StoreCheck) -> list[str]:
        return [
            line
            for work in check.work
            for line in (
                f"    '{work.name}' => [",
                *pieces(f"      {self.literal(self.sample(work))},"),
                f"      {work.times}",
                "    ],",
            )
        ]

    def _known(self, check: StoreCheck) -> list[str]:
        lines = []
        for form in ordered(check):
            named = form.named
            numbers = ", ".join(
                f"'{name}' => {grouped(str(most))}" for name, most in form.numbers.items()
            )
            lines += [
                f"    # {named.name}",
                f"    '{form.key}' => Known.new(",
                f"      lossy: {self.truth[is_lossy(form)]},",
                f"      salt: {self.truth[named.takes_salt]},",
                f"      login: {self.truth[named.takes_login]},",
                f"      parts: {self.texts(sorted(named.parts))},",
                f"      numbers: {f'{{ {numbers} }}' if numbers else '{}'},",
                f"      beside: {self.texts(form.beside)},",
                f"      folds: {self.texts(form.folds)}",
                "    ),",
            ]
        for scheme in check.below:
            lossy = self.truth[is_lossy_scheme(scheme)]
            nothing = "parts: [], numbers: {}, beside: [], folds: []"
            lines.append(f"    '{scheme}' => Known.new(lossy: {lossy}, {nothing}),")
        return lines

    def _canonical_lines(self, check: StoreCheck) -> list[str]:
        forms = self.canonical_forms(check)
        if not forms:
            return ["  def canonical(_formula, text)", "    text", "  end"]
        lines = []
        for call, keys in forms:
            lines += [f"    when {_UNDER_WHEN.join(self.key_rows(keys))}", f"      {call}"]
        return ["  def canonical(formula, text)", "    case formula", *lines, "    else text",
                "    end", "  end"]  # fmt: skip

    def _share(self, check: StoreCheck) -> list[str]:
        if check.share >= 1:
            return []
        return [
            "    reference = row.login.to_s.empty? ? reading.text : row.login",
            "    place = OpenSSL::Digest.hexdigest('SHA256', \"share:#{reference}\")[0, 16]",
            f"    return 'outside-share' if place >= '{self.share_limit(check)}'",
            "",
        ]

    def _made(self, check: StoreCheck) -> list[str]:
        target, costs = check.target, check.target.parameters
        if target.scheme == "bcrypt":
            return [
                f"    setting = BCrypt::Engine.generate_salt({costs['cost_log2']})",
                "    value = BCrypt::Engine.hash_secret(password, setting)",
                f'    "${target.variant}$#{{value[4..]}}"',
            ]
        head, size = self.target_value(check)
        return [
            "    salt = OpenSSL::Random.random_bytes(16)",
            f"    costs = {grouped(self.numbers(list(costs.values())))}",
            f"    value = Value.new(scheme: '{target.scheme}', costs: costs, salt: salt, digest: \"\\0\" * {size})",
            f'    "{head}#{{encoded(salt)}}$#{{encoded(remade(value, password.b))}}"',
        ]

    def _formula_parts(self, check: StoreCheck) -> list[str]:
        formulas = self.written_formulas(check)
        done = "done" if check.below else "_done"
        lines = ["  # Runs a formula.",
                 f"  def formula(way, password, {done})", "    case way.formula"]  # fmt: skip
        lines += [f"    when '{each.key}' then {each.name}(way, password)" for each in formulas]
        for scheme in check.below:
            call = "below(way.salt.to_s, password, done)"
            if scheme in self.crypt:
                call = f"crypted_below(way, '{filler_of(scheme)}', password, done)"
            lines.append(f"    when '{scheme}' then {call}")
        lines += ["    else raise CheckImpossible, 'a formula that is not here'",
                  "    end", "  end", ""]  # fmt: skip
        for formula in formulas:
            for function in formula.functions:
                body = "\n".join((*function.lines, function.result.code))
                way = "way" if "way" in body else "_way"
                password = "password" if "password" in body else "_password"
                lines += [
                    f"  # {function.text}",
                    f"  def {function.name}({way}, {password})",
                    *(f"    {line}" for line in function.lines),
                    f"    {function.result.code}",
                    "  end",
                    "",
                ]
        return lines


def _either(parts: Sequence[str]) -> list[str]:
    line = f"      {' || '.join(parts)}"
    if len(line) <= WIDTH:
        return [line]
    *others, last = parts
    first, *others = others
    return [f"      {first} ||", *(f"        {part} ||" for part in others), f"        {last}"]


LANGUAGE = Ruby()
