"""What is drawn: as wide as asked for, with words that are whole, in the signs that are there."""

import os
import subprocess
from pathlib import Path

import pytest

from conftest import PROGRAM
from lean_tumbler.demo.portal import write_portal

DRAWN = (
    ("audit", "passengers"),
    ("plan", "--logins", "sign-ins.csv"),
    ("progress", "--logins", "sign-ins.csv"),
)


# An estimate may come out in another unit at each run.
_TIMES = ("second", "seconds", "minute", "minutes", "a", "under")


def drawn(folder: Path, arguments: tuple[str, ...], **environment: str) -> str:
    done = subprocess.run(
        [PROGRAM, *arguments], cwd=folder, capture_output=True, check=True, timeout=120,
        env={**os.environ, **environment},
    )  # fmt: skip
    return done.stdout.decode()


@pytest.mark.parametrize("arguments", DRAWN, ids=lambda arguments: arguments[0])
def test_eighty_columns_break_no_word(arguments: tuple[str, ...], tmp_path: Path) -> None:
    """A pipe obeys COLUMNS, and every word of the tables stands there whole, dates too."""
    write_portal(tmp_path / "portal")
    drawn(tmp_path / "portal", arguments)  # the first look begins the history
    wide = drawn(tmp_path / "portal", arguments, COLUMNS="300")
    narrow = drawn(tmp_path / "portal", arguments, COLUMNS="80")
    rule = "─" * 10
    tables = [block for block in narrow.split("\n\n") if rule in block]
    assert tables
    assert max(len(line) for block in tables for line in block.splitlines()) <= 80
    whole = {*wide.split(), *_TIMES}
    broken = {word for block in tables for word in block.split() if rule not in word} - whole
    assert {word for word in broken if not any(sign.isdigit() for sign in word)} == set()
    assert "2026-" not in {word[:5] for word in broken if len(word) < 10}


@pytest.mark.parametrize("arguments", DRAWN, ids=lambda arguments: arguments[0])
def test_a_terminal_without_unicode(arguments: tuple[str, ...], tmp_path: Path) -> None:
    """Bars, rules and quotation marks of ours have signs of ASCII there."""
    write_portal(tmp_path / "portal")
    out = drawn(tmp_path / "portal", arguments, LC_ALL="C", PYTHONUTF8="0", PYTHONCOERCECLOCALE="0")
    assert out.isascii()
    assert "\\u" not in out
    assert "##" in out or arguments[0] == "plan"
