"""Every command line of README and docs, run on the demonstration's files."""

import gzip
import re
import shlex
import shutil
import sqlite3
import tarfile
from collections.abc import Iterator
from contextlib import chdir, closing
from pathlib import Path

import pytest

from conftest import DATA, made_once, run_in_process
from lean_tumbler.cli.main import build_parser
from lean_tumbler.demo.portal import write_portal

ROOT = Path(__file__).parent.parent
PAGES = [page for folder in (ROOT, ROOT / "docs") for page in sorted(folder.glob("*.md"))]
CHEAP = ("memory_kib = 19456\npasses = 2", "memory_kib = 256\npasses = 1")
MORE_POLICY = """
[floor]
argon2id = { memory_kib = 256, passes = 1 }

[formulas]
again = "utf-8, append salt, sha1, hex"
"""
# Further stores of the policy, for the lines that name one.
STORES = {
    "kiosk": """
[store.kiosk]
locator = "kiosk.jsonl"
readers_ready = 2026-05-01
checked_by_application = true
columns = { login = "user", stored = "profile.passcode" }
""",
    "desk": """
[store.desk]
locator = "sqlite:///bookings.db"
table = "customers"
readers_ready = 2026-05-01
columns = { login = "mail", stored = "code", salt = "code_salt" }
""",
}
# What stands for something that readers have, in the order in which it is looked for.
PLACEHOLDERS = {
    "SOURCE": "portal.db", "KNOWN": "known.csv", "KEY": "recovery.private.pem",
    "BACKUP": "layer-1.sealed", "FILE": "a-file", "PLACE": "backups", "DATE": "2026-05-01",
    "SEVERITY": "high", "NUMBER": "3", "TEXT": "again", "FORMULA": "again",
    "NAME-OR-TEXT": "again",
}  # fmt: skip
# Hosts and folders that are not here, and what an SQLite file has not.
ELSEWHERE = ("://", "/var/", "/mnt/", "--max-replica-lag")
# What is made by a line, and so is not there before it.
MADE_BY = {
    "draft": ["tumbler.toml"],
    "keys new recovery": ["recovery.private.pem", "recovery.public.pem"],
    "keys new pepper-2026": ["pepper-2026.key", "pepper-2026.key.sealed"],
    "keys open pepper-2026.key.sealed": ["pepper-2026.key"],
    "layer": ["layer-1.sealed"],
    "lock-dormant": ["lock-1.sealed"],
}
# Lines that go on until they are stopped, or take the whole tour: other tests run these.
ONLY_READ = {"serve", "demo"}


def lines_of(page: Path) -> Iterator[str]:
    text = page.read_text("utf-8")
    fenced = re.findall(r"(?ms)^```(\w*)\n(.*?)^```$", text)
    blocks = [block for language, block in fenced if not language]
    found = re.findall(r"`(lean-tumbler (?:[^\s`]+\s+){2}[^`]+)`", text)
    inline = [" ".join(line.split()) for line in found]
    for line in re.sub(r"\\\n\s*", " ", "\n".join([*blocks, *inline])).splitlines():
        typed = re.split(r"   +|  # | < | \| ", line.strip())[0]
        if typed.startswith("lean-tumbler ") and "{" not in typed:
            yield typed


LINES = sorted({line for page in PAGES for line in lines_of(page)})


@pytest.fixture(scope="module")
def harbour(tmp_path_factory: pytest.TempPathFactory) -> tuple[Path, str]:
    """A folder that has gone some of the way, with a login whose password is known."""
    folder = made_once(tmp_path_factory, "harbour", _prepare)
    return folder, (folder / "known.csv").read_text().splitlines()[1].split(",")[0]


def _prepare(folder: Path) -> None:
    write_portal(folder)
    policy = (folder / "tumbler.toml").read_text()
    policy = re.sub(r"mode = .*", "readers_ready = 2026-05-01", policy).replace(*CHEAP)
    (folder / "tumbler.toml").write_text(policy + MORE_POLICY)
    shutil.copy(folder / "harbour.db", folder / "portal.db")
    for name in ("host.json", "production.json"):
        shutil.copy(DATA / "measurements.json", folder / name)
    shutil.copy(folder / "sign-ins.csv", folder / "logins.csv")
    with closing(sqlite3.connect(folder / "harbour.db")) as connection:
        dump = "\n".join(connection.iterdump())
    (folder / "dump.sql").write_text(dump)
    (folder / "old-portal.sql.gz").write_bytes(gzip.compress(dump.encode()))
    for name in ("backups", "src"):
        (folder / name).mkdir()
        shutil.copy(folder / "dump.sql", folder / name)
    for name in ("portal", "desk"):
        (folder / name).mkdir()
        (folder / name / "legacy.php").write_text(
            "<?php\nfunction legacy($password, $salt) { return sha1($password . $salt); }\n"
        )
    shutil.make_archive(str(folder / "portal"), "zip", folder / "portal")
    with tarfile.open(folder / "dump.tar.gz", "w:gz") as archive:
        archive.add(folder / "dump.sql", "dump.sql")
    sealed = ("--to", "recovery.public.pem", "--store", "passengers")
    with chdir(folder):
        assert run_in_process("verify", "known.csv", "--store", "passengers").code == 0
        for words in (
            ("keys", "new", "recovery"),
            ("layer", "--share", "10%", "--backup", "layer-1.sealed", *sealed,
             "--fingerprints", "layer-1.fingerprints"),
            ("lock-dormant", "--inactive-days", "180", "--share", "5%", "--backup", "lock-1.sealed", *sealed,
             "--list", "reset.csv"),
            ("progress",),
        ):  # fmt: skip
            done = run_in_process(*words)
            assert done.code == (words[0] == "layer"), (words, done.err)  # the clerks wait
        _write_known(folder)


def _write_known(folder: Path) -> None:
    """Write known accounts of one generation, with the stored values and salts."""
    passwords = dict(
        line.split(",", 1) for line in (folder / "known.csv").read_text().splitlines()[1:]
    )
    with closing(sqlite3.connect(folder / "portal.db")) as connection:
        rows = connection.execute(
            "SELECT email, pw, pw_salt FROM passengers WHERE length(pw) = 40 ORDER BY email"
        )
        known = [(*row[:1], passwords[row[0]], *row[1:]) for row in rows if row[0] in passwords]
    lines = ["login,password,stored,salt", *(",".join(row) for row in known)]
    for name in ("known.csv", "more.csv"):
        (folder / name).write_text("\n".join(lines) + "\n")


def _locked_login(folder: Path) -> str:
    with closing(sqlite3.connect(folder / "harbour.db")) as connection:
        found = connection.execute("SELECT email FROM passengers WHERE pw LIKE '!%'").fetchone()
    return str(found[0])


def _put_keys(folder: Path, *, named: bool) -> None:
    """Make the key that the pages speak of, and name it in the policy."""
    with chdir(folder):
        new = ("keys", "new", "pepper-2026", "--over-values", "--copy-for", "recovery.public.pem")
        assert run_in_process(*new).code == 0
    policy = folder / "tumbler.toml"
    told = 'lanes = 1\nrealm = "coldharbour"\n' + 'keyed_by = "pepper-2026"\n' * named
    keys = '\n[keys]\npepper-2026 = { file = "pepper-2026.key", form = "base64" }\n'
    policy.write_text(policy.read_text().replace("lanes = 1\n", told, 1) + keys)


@pytest.mark.parametrize("line", LINES)
def test_a_line_of_the_documents_does_what_it_is_shown_for(
    line: str, harbour: tuple[Path, str], tmp_path: Path, monkeypatch: pytest.MonkeyPatch
) -> None:
    """It is done, or the answer is no; a host that is not there is named in a sentence."""
    words = [PLACEHOLDERS.get(word, word) for word in shlex.split(line)[1:]]
    assert build_parser(words).parse_args(words).command == words[0]
    if words[0] in ONLY_READ:
        return
    ready, login = harbour
    words = [login if word == "LOGIN" or word.startswith("ada") else word for word in words]
    named = "again" if words[:2] == ["formula", "show"] else "passengers"
    words = [named if word in {"NAME", "portal-2011"} else word for word in words]
    if words[0] == "tune" and "--measurements" not in words:
        words += ["--measurements", "host.json"]
    here = tmp_path / "here"
    shutil.copytree(ready, here)
    with (here / "tumbler.toml").open("a") as policy:
        policy.writelines(text for name, text in STORES.items() if name in words)
    listed = words[words.index("--list") + 1 :][:1] if "--list" in words else []
    if words[0] in {"keys", "rekey"}:
        _put_keys(here, named="--remove" not in words)
    made = MADE_BY.get(words[0], MADE_BY.get(" ".join(words[:3]), []))
    for name in (*made, *listed):
        if "--merge" not in words:
            (here / name).unlink(missing_ok=True)
    if words[:2] == ["formula", "solve"]:  # from the table as it was found, and not for long
        shutil.copy(here / "portal.db", here / "harbour.db")
        words += ["--budget", "0.5"]
    if words[0] == "set-password":
        words[1] = _locked_login(here)
    if words[0] == "evidence":  # an empty file shows nothing, and says so
        (here / words[2]).touch()
        monkeypatch.setenv("LEAN_TUMBLER_VERDICTS_KEY", "k" * 32)
    with chdir(here):
        done = run_in_process(*words, stdin=b"Dunlin 42 gulls\nDunlin 42 gulls\n")
    expected = {1, 2, 3} if any(mark in line for mark in ELSEWHERE) else {0, 1}
    assert done.code in expected, (words, done.err)
    assert "internal error" not in done.err


def test_the_documents_show_many_lines() -> None:
    """A change of their form that hides lines from this test is seen."""
    assert len(LINES) > 100
