"""The conditions of cohorts, in a language."""

import re
from abc import ABC, abstractmethod
from collections.abc import Mapping, Sequence
from datetime import date, timedelta
from typing import ClassVar

from lean_tumbler.core.reading.conditions import Condition, Test

_NEXT_DAY = timedelta(days=1)


class ConditionLines(ABC):
    """The conditions, from how a language asks."""

    tests: ClassVar[Mapping[str, str]]  # verb of a condition -> how it is asked
    joined: ClassVar[Mapping[bool, str]]  # whether one is enough -> the sign between conditions

    @abstractmethod
    def content(self, test: Test) -> str:
        """Write what stands in a condition's column."""

    @abstractmethod
    def literal(self, value: str | bytes) -> str:
        """Write a constant text, or bytes."""

    @abstractmethod
    def texts(self, values: Sequence[str]) -> str:
        """Write a constant list of texts, in one line."""

    def conditions(self, found: Condition | None) -> list[str]:
        """Write a cohort's condition in parts that all must hold; nothing where it has none."""
        if found is None:
            return []
        if found.is_any:
            return [f"({self.condition(found)})"]
        return [
            f"({text})" if isinstance(part, Condition) else text
            for part in found.parts
            for text in [self.condition(part)]
        ]

    def condition(self, found: Condition | Test) -> str:
        """Write a condition."""
        if isinstance(found, Test):
            return self._test(found)
        parts = [
            f"({text})" if isinstance(part, Condition) and part.is_any is not found.is_any else text
            for part in found.parts
            for text in [self.condition(part)]
        ]
        return self.joined[found.is_any].join(parts)

    def _test(self, test: Test) -> str:
        content, verb = self.content(test), test.verb
        if verb == "in":
            return self.tests["in"].format(content, self.texts(test.operands))
        if verb == "begins":
            return self.tests["begins"].format(content, self.literal(test.operands[0]))
        if verb == "length" or not test.operands:
            return self.tests[verb].format(content, *test.operands)
        if verb == "=" and not test.is_bare:
            return self.tests["text"].format(content, self.literal(test.operands[0]))
        if re.fullmatch(r"\d{4}-\d\d-\d\d", test.operands[0]):
            return self._dated(content, verb, date.fromisoformat(test.operands[0]))
        sign = {"=": self.tests["equals"]}.get(verb, verb)
        return self.tests["number"].format(content, sign, _decimal(test.operands[0]))

    def _dated(self, content: str, verb: str, day: date) -> str:
        if verb in {"<=", ">"}:
            day += _NEXT_DAY
        name = "before" if verb in {"before", "<", "<="} else "from"
        return self.tests[name].format(content, self.literal(day.isoformat()))


def _decimal(text: str) -> str:
    return text if "." in text else f"{text}.0"
