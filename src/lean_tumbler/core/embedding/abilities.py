"""What a language can check and write, and what it needs for that."""

from collections.abc import Mapping
from typing import ClassVar

from lean_tumbler.core.embedding.check import StoreCheck
from lean_tumbler.core.embedding.formula_code import operations
from lean_tumbler.core.schemes.base import ParsedValue


class Abilities:
    """What follows from a language's tables."""

    needs: ClassVar[Mapping[str, str]]  # scheme, `keyed` or `always` -> what must be there for it
    # operation of a formula -> how a call is written, with {0}, {1} … for what it takes
    calls: ClassVar[Mapping[str, str]]
    direct: ClassVar[frozenset[str]]  # slow schemes that it verifies where they stand alone
    on_top: ClassVar[frozenset[str]]  # and over a digest
    below: ClassVar[frozenset[str]]  # and below a layer, beside those of `crypt`
    writes: ClassVar[frozenset[str]]  # and writes
    # schemes whose whole values a function, or the one package, takes
    stock: ClassVar[frozenset[str]] = frozenset({"argon2id", "bcrypt"})
    crypt: ClassVar[frozenset[str]]  # what its library's crypt computes

    def needed(self, check: StoreCheck) -> list[str]:
        """Name what a file needs beside the language."""
        used = {*check.computed, "always"}
        used |= {"keyed"} if check.is_keyed else set()
        found = [
            need
            for scheme, need in self.needs.items()
            if any(name.startswith(scheme.removesuffix("id")) for name in used)
        ]
        return list(dict.fromkeys(found))

    def all_needs(self) -> list[str]:
        """Name what files may need beside the language, each with what it is for."""
        found: dict[str, list[str]] = {}
        for what, need in self.needs.items():
            told = {"always": [], "keyed": ["keyed values"]}.get(what, [what])
            found.setdefault(need, []).extend(told)
        return [f"{need}, for {', '.join(whats)}" if whats else need
                for need, whats in found.items()]  # fmt: skip

    def is_finished(self, check: StoreCheck) -> bool:
        """Tell whether a stock function, or the one package, checks all that is there."""
        is_target = check.holds.is_finished and check.holds.direct == {check.target.scheme}
        return is_target and not check.is_keyed and check.target.scheme in self.stock

    def computes(self, value: ParsedValue, *, is_below: bool) -> bool:  # noqa: ARG002 - as others need
        """Tell whether its library can run the scheme of one value with that value's settings.

        Args:
            value: of a scheme that the language has.
            is_below: whether it lies below a layer.
        """
        return True

    def lacks(self, check: StoreCheck) -> list[str]:
        """Name what the language lacks for a check; nothing where it can be written."""
        target = check.target.scheme
        own = f"{target}, which the policy's target writes; it has {', '.join(sorted(self.writes))}"
        found = [] if target in self.writes else [own]
        found += [name for name in check.direct if name not in {*self.direct, *self.crypt, target}]
        found += [f"{name} over a digest" for name in check.on_top if name not in self.on_top]
        known = {*self.crypt, *self.below}
        found += [f"{name} below a layer" for name in check.below if name not in known]
        asked = operations(form.named.formula for form in check.formulas)
        return found + [name for name in asked if name not in self.calls]
