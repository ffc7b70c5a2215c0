"""Formulas are recovered from code alone, in six languages, and open what the code made."""

from pathlib import Path

import pytest

from conftest import oracle
from source_code.round_trip import round_trip

PROGRAMS = {
    "php": "php", "javascript": "node", "python": "python3", "ruby": "ruby", "go": "go",
    "java": "javac",
}  # fmt: skip


@pytest.mark.parametrize("language", PROGRAMS)
def test_formulas_come_back_from_code(language: str, tmp_path: Path) -> None:
    """All of thirty random programs give a formula that opens the values they made."""
    oracle(PROGRAMS[language])
    found = round_trip(language, range(30), tmp_path)
    assert found.tried >= 25
    assert not found.wrong
    assert found.recovered == found.tried, found.lost
