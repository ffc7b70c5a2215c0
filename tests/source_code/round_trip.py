"""From code to values and back: what share of formulas is recovered from the code alone."""

import os
from collections.abc import Sequence
from pathlib import Path

from msgspec import Struct

from lean_tumbler.core.code.reading import CodeReader
from lean_tumbler.core.masked import Masked
from lean_tumbler.jobs.code.trying import opened_by
from lean_tumbler.stores.known_accounts import KnownAccount
from lean_tumbler.stores.source_trees import SourceTree
from source_code.written_programs import ACCOUNTS, made_values, write_programs


class RoundTrip(Struct):
    """How many formulas of a language came back."""

    tried: int = 0
    recovered: int = 0
    wrong: tuple[int, ...] = ()  # programs with a formula that was called complete and opens none
    lost: tuple[tuple[int, str], ...] = ()  # programs without a complete formula, and why


def round_trip(language: str, seeds: Sequence[int], folder: Path) -> RoundTrip:
    """Write programs, let them make values, and recover their formulas from the code."""
    numbers = write_programs(language, seeds, folder)
    environment = {
        **os.environ, "GO111MODULE": "off", "GOPATH": "/usr/share/gocode", "GOFLAGS": "",
    }  # fmt: skip
    values = made_values(language, folder, environment)
    found = RoundTrip(tried=len(numbers))
    for number in numbers:
        known = [
            KnownAccount(
                line=2, login=login, password=Masked(password), stored=Masked(stored),
                salt=salt.encode(),
            )
            for (login, password, salt), stored in zip(ACCOUNTS, values[number], strict=True)
        ]  # fmt: skip
        _judge(found, number, known, _places(language, folder, number))
    return found


def _places(language: str, folder: Path, number: int) -> list[Path]:
    if language == "go":
        return [folder / f"legacy{number}.go", folder / "sums0.go"]
    return [folder / str(number)]


def _judge(found: RoundTrip, number: int, known: list[KnownAccount], places: list[Path]) -> None:
    tree = SourceTree(places)
    reader = CodeReader(tree.load)
    for file in tree.files():
        reader.take(file)
    formulas = reader.read().formulas
    complete = [each for each in formulas if each.steps is not None]
    opened = [opened_by(each, known) for each in complete]
    if len(known) in opened:
        found.recovered += 1
    elif complete:
        texts = " / ".join(each.text for each in complete)
        found.wrong = (*found.wrong, number)
        found.lost = (*found.lost, (number, f"wrong: {texts}"))
    else:
        texts = " / ".join(each.text for each in formulas) or "nothing"
        found.lost = (*found.lost, (number, texts))
