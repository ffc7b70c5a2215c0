"""`doctor`: a list of what is installed, readable and reachable, with remedies."""

from pathlib import Path

import pytest

from conftest import CHEAP_POLICY, Program, make_portal


@pytest.fixture
def program(in_process: Program) -> Program:
    """Run in this process: there are many runs, and the built program is run elsewhere."""
    return in_process


def states(program: Program, *arguments: str) -> tuple[int, dict[str, tuple[str, str]]]:
    finished = program("doctor", "--format", "json", *arguments)
    found = finished.document["examined"]
    return finished.code, {one["what"]: (one["state"], one["remedy"]) for one in found}


def test_all_is_well(program: Program, tmp_path: Path) -> None:
    """Every extra of the full install, the policy and the store that answers; exit 0."""
    make_portal(tmp_path, ["md5"] * 2)
    code, found = states(program)
    assert code == 0
    assert {state for state, _ in found.values()} == {"ok"}
    assert found["store passengers"] == ("ok", "")
    assert {name for name in found if name.startswith("extra ")} >= {
        "extra analysis",
        "extra mysql",
    }
    text = program("doctor").out
    assert text.startswith("0 problems, 0 missing, of ")
    assert (
        "✓ store passengers: answers; this account may read and write it; "
        "readers ready since 2026-01-01" in " ".join(text.split())
    )


@pytest.mark.parametrize(
    ("change", "what", "remedy"),
    [
        (("harbour.db", "nowhere.db"), "store passengers", "mend what it says"),
        (("[target]", "[aim]"), "policy", "docs/POLICY.md"),
        (("[target]", "[keys]\ndesk = { environment = \"NOT_SET_HERE\" }\n[target]"), "key desk",
         "set it"),
    ],
)  # fmt: skip
def test_what_is_wrong_has_a_remedy(
    program: Program, tmp_path: Path, change: tuple[str, str], what: str, remedy: str
) -> None:
    """It is named, the exit code is 1, and the line beneath says what to do."""
    make_portal(tmp_path, ["md5"] * 2)
    (tmp_path / "tumbler.toml").write_text(CHEAP_POLICY.replace(*change))
    code, found = states(program)
    assert code == 1
    assert found[what][0] == "wrong"
    assert remedy in found[what][1]
    assert f"✗ {what}: " in program("doctor").out


def test_without_a_policy(program: Program, tmp_path: Path) -> None:
    """That is missing and not wrong: the next step is a draft."""
    code, found = states(program)
    assert code == 0
    assert found["policy"][0] == "missing"
    assert "lean-tumbler draft" in found["policy"][1]
