"""`code` as people call it: what it prints, how it ends, and what it never prints."""

import shutil
from pathlib import Path

import pytest

from conftest import run_in_process

SECRETS = ("Quay-pepper-1998", "harbour-seed-7", "settings-pepper-3")
FILES = {
    "auth.php": (
        "<?php\nconst PEPPER = 'Quay-pepper-1998';\n"
        "function legacy($password, $salt) { return sha1($salt . md5($password . PEPPER)); }\n"
        "function sealed($password) {\n"
        "  return hash_hmac('sha256', $password, getenv('SEAL'));\n}\n"
        "function odd($password) { return hash('Quay-pepper-1998', $password); }\n"
    ),
    "seed.sql": "INSERT INTO users (login, password) VALUES ('admin', 'harbour-seed-7');\n",
    ".env": "SEAL=settings-pepper-3\n",
    "vendor/other.php": "<?php\nerror_log($_POST['password']);\n",
}
PEPPERED = "append key pepper, md5, hex, prepend salt, sha1, hex"


@pytest.fixture
def portal(tmp_path: Path) -> Path:
    """Give a small tree of an old portal."""
    folder = tmp_path / "portal"
    for name, text in FILES.items():
        (folder / name).parent.mkdir(parents=True, exist_ok=True)
        (folder / name).write_text(text)
    return folder


def test_mistakes_come_first_and_a_limit_sets_the_exit_code(portal: Path) -> None:
    """The first line counts; `--fail-on` ends with 1 only where something is as severe."""
    found = run_in_process("code", str(portal))
    assert found.code == 0
    assert not any(".env" in line for line in found.out.splitlines() if "is a constant" in line)
    assert "mistakes in 2 files" in found.out.splitlines()[0]
    assert "Not read, as others wrote them or programs did: vendor" in " ".join(found.out.split())
    assert run_in_process("code", str(portal), "--fail-on", "high").code == 1
    assert run_in_process("code", str(portal / "vendor"), "--fail-on", "critical").code == 0


@pytest.mark.parametrize("form", ["text", "json", "sarif"])
def test_no_secret_of_the_source_is_printed(portal: Path, form: str) -> None:
    """Keys, seeds and settings are named by their places alone, in every format."""
    found = run_in_process("code", str(portal), "--places", "--all-folders", "--format", form)
    assert found.code == 0
    for secret in SECRETS:
        assert secret not in found.out + found.err


def test_formulas_name_their_keys_and_open_known_accounts(portal: Path, tmp_path: Path) -> None:
    """A constant and a setting are keys, told by their places; `--known` counts what is opened."""
    known = tmp_path / "known.csv"
    # computed by hashlib: sha1("s1" + md5("gull" + pepper)), and a value that is none
    known.write_text(
        "login,password,stored,salt\n"
        "ada@tidepost.example,gull,7c19db386746c71d23267a5ab8793fbb52a99b87,s1\n"
        "ben@tidepost.example,tern,0000000000000000000000000000000000000000,s2\n"
    )
    document = run_in_process(
        "code", str(portal), "--known", str(known), "--format", "json"
    ).document
    formulas = {each["formula"]: each for each in document["formulas"]}
    assert formulas[PEPPERED]["keys"] == [
        {"name": "pepper", "path": str(portal / "auth.php"), "line": 2}
    ]
    assert (formulas[PEPPERED]["known"], formulas[PEPPERED]["opened"]) == (2, 1)
    assert formulas["utf-8, hmac-sha256 key seal, hex"]["keys"][0]["path"] == str(portal / ".env")


def test_an_archive_gives_what_its_folder_does(portal: Path, tmp_path: Path) -> None:
    """ZIP and tar are read member by member, within the same limits."""
    plain = run_in_process("code", str(portal), "--format", "json").document
    for form in ("zip", "gztar"):
        packed = shutil.make_archive(str(tmp_path / form), form, portal)
        found = run_in_process("code", packed, "--format", "json").document
        assert [(each["code"], each["line"]) for each in found["mistakes"]] == [
            (each["code"], each["line"]) for each in plain["mistakes"]
        ]


def test_what_is_not_read_is_counted(portal: Path, tmp_path: Path) -> None:
    """Large files and missing places are told; a link that leads around is not followed."""
    (portal / "big.php").write_bytes(b"<?php\n" + b"// x\n" * 300_000)
    (portal / "around").symlink_to(portal, target_is_directory=True)
    document = run_in_process("code", str(portal), "--format", "json").document
    assert document["unread"] == [{"path": str(portal / "big.php"), "reason": "larger than 1 MiB"}]
    assert document["files"] == 2
    assert run_in_process("code", str(tmp_path / "nowhere")).code == 3


def test_lines_that_are_not_shown_are_counted(tmp_path: Path) -> None:
    """A mistake of many lines shows some and counts the rest; the next one still has a line."""
    many = "".join(f"error_log($_POST['password'] . {place});\n" for place in range(60))
    (tmp_path / "log.php").write_text(f"<?php\n{many}mail('a', 'b', $_POST['password']);\n")
    found = run_in_process("code", str(tmp_path)).out
    assert "and 20 lines more" in found
    assert "log.php line 62: it goes into a mail" in " ".join(found.split())
