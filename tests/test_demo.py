"""The demo: the whole job on the Coldharbour portal."""

import sqlite3
import subprocess
import sys
from contextlib import closing
from pathlib import Path

from conftest import PROGRAM, Finished, Program
from lean_tumbler.demo.portal import write_portal


def test_the_demo_runs_the_whole_job(tmp_path: Path, program: Program) -> None:
    """Every step is run and shown, half a year passes, and nothing waits in the end."""
    done = bare_shell(f"{PROGRAM} demo --into coldharbour", tmp_path)
    finished = Finished(done.returncode, done.stdout, done.stderr)
    assert finished.code == 0
    for step in (
        "$ lean-tumbler audit harbour.db --table passengers",
        "$ lean-tumbler audit freight.ldif | head -n 1",
        "$ lean-tumbler formula solve agents-known.csv --save agents-1998",
        'Solved: latin-1, sha1, hex-upper, prepend "|", prepend login:lower, md5, hex',
        "$ lean-tumbler formula show agents-1998",
        "$ lean-tumbler verify known.csv --store passengers",
        "$ lean-tumbler tune --quick",
        "$ lean-tumbler layer --store passengers",
        "$ lean-tumbler residue harbour-2025.zip api.log harbour.db --backup layer-1.sealed",
        "No stored value was found",
        "| lean-tumbler admit ",
        "$ lean-tumbler progress",
        "$ lean-tumbler rekey --backup rekey-2.sealed --to recovery.public.pem",
        "492 values went under the key “pepper-2027”.",
        "  1 value moved from another row, or damaged: account",
        "Every keyed value opens.",
        "$ lean-tumbler lock-dormant --inactive-days 180 --include-never-seen",
        "$ lean-tumbler enforce constraint --apply",
        "passengers: accepted 0 accounts that are weak or not understood",
        "$ lean-tumbler report --backup lock-1.sealed",
    ):
        assert step in finished.out
    assert finished.out.count("All 45 known accounts accepted.") == 2
    for headline in (
        "passengers_2019_backup.pw: 240 of 240 accounts are below the floor",
        "freight.ldif.userPassword: 80 of 80 accounts are below the floor",
        "kiosk.jsonl.profile.passcode: 59 of 60 accounts are below the floor",
        "crew.shadow.value: 36 of 40 accounts are below the floor",
        "agents.csv.code: 60 of 60 accounts are below the floor",
        "loyalty.csv.secret: 100 of 100 accounts are below the floor",
    ):
        assert headline in finished.out
    assert "447 of 500 accounts are below the floor, 6 administrators among them" in finished.out
    assert "0 of 500 accounts still below the floor" in finished.out
    for day in ("2026-06-03", "2026-08-02", "2026-10-31"):
        assert f"Until {day}, " in finished.out
    assert finished.out.count("On course. ") == 3
    assert "Finished. " in finished.out
    progress = program("progress", "--policy", "coldharbour/tumbler.toml", "--format", "json")
    (store,) = progress.document["stores"]
    assert (store["below_floor"], store["waiting"]) == (0, 0)
    assert len(store["grades"]) == 2
    assert 200 < store["grades"]["locked"] < 230
    assert (
        (tmp_path / "coldharbour" / "report.html").read_text("utf-8").startswith("<!doctype html>")
    )
    what_is_printed_works(finished.out, tmp_path)


def what_is_printed_works(out: str, folder: Path) -> None:
    """The last lines of the demo, and README's “Try it”, work as they are printed."""
    printed = out.partition("Try it by hand:\n")[2]
    assert printed.count("lean-tumbler ") == 5
    (folder / ".venv").symlink_to(sys.prefix)
    readme = (Path(__file__).parent.parent / "README.md").read_text("utf-8")
    (tried,) = [block for block in readme.split("```") if "untouched\n" in block]
    for lines in (printed, tried):
        done = bare_shell(lines, folder)
        assert (done.returncode, done.stderr) == (0, ""), lines
        assert "447 of 500 accounts are below the floor" in done.stdout
        assert "All 45 known accounts accepted." in done.stdout


def bare_shell(lines: str, folder: Path) -> subprocess.CompletedProcess[str]:
    """Run lines in a shell that knows nothing of this environment."""
    return subprocess.run(
        ["/bin/sh", "-e", "-c", lines], check=False, cwd=folder, capture_output=True, text=True, timeout=600,
        env={"PATH": "/usr/local/bin:/usr/bin:/bin", "HOME": str(folder), "LANG": "C.UTF-8"},
    )  # fmt: skip


def test_the_data_is_the_same_at_every_run(tmp_path: Path) -> None:
    """Two demos hold the same rows, and an earlier demo in the folder is replaced."""
    dumps = []
    for _ in range(2):
        write_portal(tmp_path / "portal")
        with closing(sqlite3.connect(tmp_path / "portal" / "harbour.db")) as connection:
            dumps.append("\n".join(connection.iterdump()))
    assert dumps[0] == dumps[1]
    assert dumps[0].count('INSERT INTO "passengers" ') == 500


def test_all_logins_are_invented(tmp_path: Path) -> None:
    """No login could be a real person's: every domain ends in .example (RFC 2606)."""
    write_portal(tmp_path / "portal")
    with closing(sqlite3.connect(tmp_path / "portal" / "harbour.db")) as connection:
        logins = [row[0] for row in connection.execute("SELECT email FROM passengers")]
    assert len(set(logins)) == 500
    assert all(login.endswith(".example") for login in logins)
