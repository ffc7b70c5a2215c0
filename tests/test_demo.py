"""The demo: the whole job on the Coldharbour portal."""

import sqlite3
from contextlib import closing
from pathlib import Path

from conftest import Program
from lean_tumbler.demo.portal import write_portal


def test_the_demo_runs_the_whole_job(tmp_path: Path, program: Program) -> None:
    """Every step is run and shown, half a year passes, and nothing waits in the end."""
    finished = program("demo", "--into", "coldharbour", timeout=300)
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
        "$ lean-tumbler progress --history progress.jsonl",
        "$ lean-tumbler lock-dormant --inactive-days 180 --include-never-seen",
        "$ lean-tumbler enforce constraint --apply",
        "passengers: accepted 0 accounts that are weak or not understood",
        "$ lean-tumbler report --history progress.jsonl",
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
    assert finished.out.count("On course: ") == 3
    assert "Finished: " in finished.out
    progress = program("progress", "--policy", "coldharbour/tumbler.toml", "--format", "json")
    (store,) = progress.document["stores"]
    assert (store["below_floor"], store["waiting"]) == (0, 0)
    assert len(store["grades"]) == 2
    assert 200 < store["grades"]["locked"] < 230
    assert (
        (tmp_path / "coldharbour" / "report.html").read_text("utf-8").startswith("<!doctype html>")
    )


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
