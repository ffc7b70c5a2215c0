"""`progress`: counts, a history that is held against its own forecast, and what others read."""

import json
import sqlite3
from contextlib import closing
from datetime import UTC, datetime, timedelta
from pathlib import Path
from typing import Any

import pytest
from prometheus_client.parser import text_string_to_metric_families

from conftest import Portal, Program
from lean_tumbler.core.forecast.waiting import from_history
from lean_tumbler.errors import SourceError
from test_forecast import ago, dated_portal

HISTORY = "history.jsonl"


@pytest.fixture
def program(in_process: Program) -> Program:
    """Run in this process: there are many runs, and the built program is run elsewhere."""
    return in_process


def entry(days_ago: int, below: int, layered: int, forecast: dict[str, list[float]] | None) -> str:
    """Write a line as an earlier count would have."""
    taken_at = datetime.now(UTC) - timedelta(days=days_ago)
    store = {"table": "passengers", "rows": 200, "grades": {"fast-unsalted": below, "layered": layered},
             "below_floor": below, "layered": layered, "forecast": forecast}  # fmt: skip
    document = {"document": "lean-tumbler/progress-history/1", "taken_at": taken_at.isoformat(),
                "stores": {"passengers": store}}  # fmt: skip
    return json.dumps(document) + "\n"


def test_counts_without_dates(program: Program, portal: Portal) -> None:
    """The grades stand as before; a forecast says what it would need."""
    document = program("progress", "--format", "json").document
    assert document["stores"][0]["rows"] == len(portal.passengers)
    assert document["stores"][0]["forecast"] is None
    assert "No forecast" in program("progress").out


@pytest.mark.parametrize(
    ("promised", "verdict"),
    [
        ([130, 150, 170], "on course"),
        ([10, 20, 30], "behind"),
        ([190, 195, 199], "ahead"),
    ],
)
def test_the_course_is_held_against_the_start(
    program: Program, tmp_path: Path, promised: list[float], verdict: str
) -> None:
    """What was promised for today by the first count, beside what waits today."""
    dated_portal(tmp_path, [ago(n) for n in range(150)])
    intervals: dict[str, list[float]] = {"28": promised, "56": [1, 2, 3]}
    (tmp_path / HISTORY).write_text(entry(28, 120, 80, intervals))
    finished = program("progress", "--history", HISTORY, "--format", "json")
    store = finished.document["stores"][0]
    assert store["verdict"] == verdict
    assert store["forecast_of_start"] == dict(
        zip(("low", "expected", "high"), promised, strict=True)
    )
    assert (store["waiting_at_start"], store["waiting"]) == (200, 150)
    assert store["since_start"] == {"fast-unsalted": 30, "layered": -80}


def test_each_count_adds_a_line(program: Program, tmp_path: Path) -> None:
    """The history keeps what was counted and forecast; `--since` takes a part of it."""
    dated_portal(tmp_path, [ago(n) for n in range(100)])
    assert program("progress", "--history", HISTORY).code == 0
    assert "Since" in program("progress", "--history", HISTORY).out
    lines = (tmp_path / HISTORY).read_text().splitlines()
    kept: list[Any] = [json.loads(line)["stores"]["passengers"] for line in lines]
    assert len(kept) == 2
    assert kept[0]["below_floor"] == 100
    assert len(kept[0]["forecast"]["30"]) == 3
    assert "Since" not in program("progress", "--history", HISTORY, "--since", ago(-1)).out
    assert program("progress", "--history", HISTORY, "--since", "soon").code == 2


@pytest.mark.parametrize("first", [("plan",), ("audit", "passengers")])
def test_the_first_look_begins_the_history(
    first: tuple[str, ...], program: Program, tmp_path: Path
) -> None:
    """Before anything is changed, beside the policy, once; a report then knows its beginning."""
    dated_portal(tmp_path, [ago(n) for n in range(40)])
    kept = tmp_path / "tumbler.history.jsonl"
    for _ in range(2):
        assert program(*first).code == 0
        assert len(kept.read_text().splitlines()) == 1
    assert program("layer", "--no-backup", "--unproven", "portal-2004").code == 0
    told = program("progress", "--format", "json").document["stores"][0]
    assert (told["waiting_at_start"], told["since_start"]["layered"]) == (40, 40)
    assert len(kept.read_text().splitlines()) == 2
    report = program("report", "--format", "json").document
    assert len(report["done"]) == 2
    kept.write_text("{")
    assert program(*first).code == 0  # a line that cannot be read is no count
    assert len(kept.read_text().splitlines()) == 2


def test_a_count_that_cannot_be_kept_is_shown(
    in_process: Program, tmp_path: Path, monkeypatch: pytest.MonkeyPatch
) -> None:
    """The folder of the policy may be read-only; a history that was named has to be written."""
    dated_portal(tmp_path, [ago(n) for n in range(40)])

    def full(*_: object) -> None:
        raise SourceError("tumbler.history.jsonl: No space left on device")

    monkeypatch.setattr("lean_tumbler.stores.history.append_history", full)
    for command in (("progress",), ("plan",), ("audit", "passengers")):
        told = in_process(*command)
        assert (told.code, "No space left on device; " in told.err) == (0, True), command
    assert in_process("progress", "--history", HISTORY).code == 3


def test_a_history_with_a_broken_last_line(program: Program, tmp_path: Path) -> None:
    """It is named, left out and kept; the next count stands on a line of its own."""
    dated_portal(tmp_path, [ago(n) for n in range(40)])
    broken = entry(10, 150, 0, None)[:60]
    (tmp_path / HISTORY).write_text(entry(20, 180, 0, None) + broken)
    finished = program("progress", "--history", HISTORY)
    assert "line 2 cannot be read and is left out" in finished.out
    lines = (tmp_path / HISTORY).read_text().splitlines()
    assert lines[1] == broken
    assert json.loads(lines[2])["stores"]["passengers"]["below_floor"] == 40


def test_what_has_happened_is_carried_on_by_hand_made_counts() -> None:
    """A burn-down with a floor is carried on towards that floor, by hand-made counts."""
    counted = [(7 * week, round(300 + 700 * (30 / (30 + 7 * week)) ** 1.5)) for week in range(20)]
    found = from_history(counted, waiting=counted[-1][1])
    assert found is not None
    assert found.accounts == counted[-1][1]
    truth = 300 + 700 * (30 / (30 + 133 + 180)) ** 1.5
    assert abs(found.days[180].expected - truth) < 15
    near, truth = found.days[30], 300 + 700 * (30 / (30 + 133 + 30)) ** 1.5
    assert near.low is not None
    assert near.high is not None
    assert near.low <= truth <= near.high
    half = from_history(counted, waiting=counted[-1][1] // 2)
    assert half is not None
    assert abs(half.days[180].expected / found.days[180].expected - 0.5) < 0.01
    assert from_history(counted[:3], waiting=9) is None
    assert from_history([(0, 100), (30, 98), (50, 95), (70, 90)], waiting=90) is None
    assert from_history([(0, 1000), (70, 500)], waiting=500) is None


def test_others_read_the_counts(program: Program, tmp_path: Path) -> None:
    """Prometheus' text, readable by its exporter, and a picture."""
    dated_portal(tmp_path, [ago(n) for n in range(60)])
    policy = tmp_path / "tumbler.toml"
    odd = policy.read_text().replace("store.passengers", "store.'north \"quay\"'")
    policy.write_text(odd)
    assert program("progress", "--prometheus", "t.prom", "--plot", "p.svg").code == 0
    text = (tmp_path / "t.prom").read_text()
    found = {
        (sample.name, frozenset(sample.labels.values())): sample.value
        for family in text_string_to_metric_families(text)
        for sample in family.samples
    }
    name = 'north "quay"'
    assert found["tumbler_progress_rows", frozenset({name, "fast-unsalted"})] == 60
    assert found["tumbler_progress_waiting", frozenset({name})] == 60
    assert 0 < found["tumbler_progress_forecast", frozenset({name, "30", "expected"})] <= 60
    assert (tmp_path / "t.prom").stat().st_mode & 0o777 == 0o644
    assert (tmp_path / "p.svg").read_text().startswith("<?xml")


def test_what_is_still_needed(program: Program, tmp_path: Path) -> None:
    """By scheme: how many values need its check, and how many of these people came lately."""
    dated_portal(tmp_path, [ago(n) for n in range(50)])
    with closing(sqlite3.connect(tmp_path / "harbour.db")) as connection, connection:
        connection.execute("UPDATE passengers SET pw = '!' WHERE id <= 5")
    finished = program("progress", "--lately", "10", "--format", "json")
    needed = finished.document["stores"][0]["still_needed"]
    assert needed == [{"grade": "fast-unsalted", "needs": "md5", "rows": 45, "seen_lately": 6}]
    assert program("layer", "--no-backup").code == 0
    finished = program("progress", "--lately", "10", "--format", "json")
    needed = finished.document["stores"][0]["still_needed"]
    assert needed == [{"grade": "layered", "needs": "portal-2004", "rows": 45, "seen_lately": 6}]
    today = datetime.now(UTC).date().isoformat()
    assert finished.document["stores"][0]["fewer"] == {"since": today, "needs": {"md5": 45}}
    assert program("progress", "--history", HISTORY).code == 0
    with closing(sqlite3.connect(tmp_path / "harbour.db")) as connection, connection:
        connection.execute("UPDATE passengers SET pw = '!' WHERE id <= 9")
    text = program("progress", "--history", HISTORY).out
    assert f"fewer since {today}" in text
    finished = program("progress", "--history", HISTORY, "--format", "json")
    assert finished.document["stores"][0]["fewer"] == {"since": today, "needs": {"portal-2004": 4}}


@pytest.mark.parametrize(
    ("name", "value"),
    [("forecast", {"30": "many"}), ("forecast", [1]), ("needed", {"md5": "all"}), ("grades", None)],
)
def test_a_count_of_another_form(
    program: Program, tmp_path: Path, name: str, value: object
) -> None:
    """A line of the history that somebody edited is left out by its number, not guessed at."""
    dated_portal(tmp_path, [ago(n) for n in range(40)])
    document = json.loads(entry(20, 180, 0, None))
    document["stores"]["passengers"][name] = value
    (tmp_path / HISTORY).write_text(json.dumps(document) + "\n")
    finished = program("progress", "--history", HISTORY)
    assert finished.code == 0
    assert "line 1 cannot be read and is left out" in finished.out
