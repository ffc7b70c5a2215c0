"""Forecasts: the model on made-up lives, intervals, the baseline, the back-test, and bad dates."""

import json
import sqlite3
from contextlib import closing
from datetime import UTC, date, datetime, timedelta
from pathlib import Path

import numpy as np
import polars as pl
import pytest
from hypothesis import given
from hypothesis import strategies as st

from conftest import CHEAP_POLICY, Program, make_portal
from lean_tumbler.core.forecast.back_test import back_test
from lean_tumbler.core.forecast.forecasting import HORIZONS, Fitted, Forecast, fitted, forecast
from lean_tumbler.core.forecast.intervals import Interval
from lean_tumbler.core.forecast.observations import (
    NEVER_SEEN,
    Population,
    baseline,
    from_last_logins,
    from_log,
    population,
)
from lean_tumbler.core.forecast.return_model import ReturnModel, WatchedAccounts, expected, fit
from lean_tumbler.core.forecast.strategies import LAYER, WAIT, advice, strategies
from lean_tumbler.core.forecast.times import Times, days_of
from lean_tumbler.core.stored_days import day_in, is_never
from lives import POPULATIONS, lives, registered

TODAY = date(2026, 10, 31)


@pytest.fixture
def program(in_process: Program) -> Program:
    """Run in this process: there are many runs, and the built program is run elsewhere."""
    return in_process


@pytest.mark.parametrize(
    "true",
    [
        ReturnModel(never=0.3, scale_days=20, shape=1.2, watched_days=364),
        ReturnModel(never=0.05, scale_days=60, shape=3.0, watched_days=364),
        ReturnModel(never=0.6, scale_days=5, shape=0.8, watched_days=364),
    ],
)
def test_the_fit_finds_the_share_that_returns(true: ReturnModel) -> None:
    """From what such a population shows in a year, at every horizon within a hundredth."""
    exposure = WatchedAccounts(at_risk=100_000, returned=np.zeros(52))
    exposure = WatchedAccounts(at_risk=100_000, returned=expected(true, exposure, np.ones(52)))
    found = fit([exposure])
    assert found is not None
    days = np.array(HORIZONS, dtype=np.float64)
    assert np.abs(found.away(days) - true.away(days)).max() < 0.01


def test_conditional_shares_agree_with_the_whole() -> None:
    """Accounts by when they were seen, put together, return as the population does."""
    model = ReturnModel(never=0.2, scale_days=25, shape=1.1, watched_days=364)
    edges = np.linspace(0, 364, 20_001)
    weights = -np.diff(model.away(edges))
    days = np.array([30.0, 90.0, 180.0])
    recent = weights @ model.away_since((edges[1:] + edges[:-1]) / 2, days)
    dormant = model.away(np.array([364.0]))[0] * model.away_since(np.array([400.0]), days)[0]
    assert np.abs(recent + dormant - model.away(days)).max() < 0.002
    assert (np.diff(model.away_since(np.array([1.0, 20.0, 200.0, 400.0]), days)[:, 0]) > 0).all()


def test_a_forecast_from_a_log_beats_the_baseline_and_knows_its_errors() -> None:
    """Forecast at two days in the past of made-up populations, whose truth is known."""
    tried = [
        each
        for habits in (POPULATIONS["busy weeks"], POPULATIONS["leave"], POPULATIONS["mails"])
        for seed in (1, 2)
        for each in back_test(lives(800, seed, habits=habits), cuts=(182, 365), draws=30).tried
    ]
    assert [(each.cut, each.days) for each in tried[:8]] == [
        (cut, days) for cut in (182, 365) for days in HORIZONS
    ]
    assert np.mean([each.covered for each in tried]) >= 0.7
    assert np.mean([each.error < each.baseline_error for each in tried]) > 0.6
    assert np.mean([each.error for each in tried]) < 0.04


def test_last_logins_beside_the_days_that_accounts_were_made() -> None:
    """Who is new tells how many have left: four times nearer to the truth than without."""
    now, errors = 700, []
    for seed in (1, 2, 3):
        log = lives(1500, seed)
        past, to_come = log.filter(pl.col("day") <= now), log.filter(pl.col("day") > now)
        seen = past.group_by("login").agg(ago=now - pl.col("day").max())
        made = np.floor(registered(1500, seed))[seen["login"].to_numpy()]
        returned = (
            to_come.join(seen, on="login", how="semi")
            .group_by("login")
            .agg(after=pl.col("day").min() - now)["after"]
        )
        for rows in (seen, seen.with_columns(known=now - made)):
            everybody = population(rows)
            found = forecast(everybody, everybody, fitted(from_last_logins(everybody)))
            errors.append([
                abs(found.days[days].expected - (everybody.total - int((returned <= days).sum())))
                / everybody.total
                for days in HORIZONS
            ])  # fmt: skip
    alone, beside = np.mean(errors[::2]), np.mean(errors[1::2])
    assert beside < 0.025
    assert beside < alone / 3


def test_who_has_been_known_for_long_is_watched_apart() -> None:
    """Newcomers who try it once, and old hands who come every day: each have their own model."""
    chance = np.random.default_rng(4)
    old = [(number, day) for number in range(60) for day in range(0, 400, 9)]
    once = [(100 + number, int(chance.integers(95, 400))) for number in range(600)]
    again = [(login, day + 5) for login, day in once[:300] if day < 390]
    log = pl.DataFrame(
        old + once + again, schema={"login": pl.UInt32, "day": pl.Int32}, orient="row"
    )
    watched = from_log(log, end=399)
    seen = np.array([5.0, 5.0])
    newcomer, old_hand = watched.class_of(
        Population(seen_days_ago=seen, accounts=np.ones(2), known_days=np.array([5.0, 300.0]))
    )
    assert newcomer != old_hand
    known = fitted(watched)
    away = [known.models[place].away(np.array([30.0]))[0] for place in (newcomer, old_hand)]
    assert away[0] > 0.3
    assert away[1] < 0.02


def test_intervals_widen_with_busy_weeks() -> None:
    """The same returns, evenly or in fits and starts: the interval knows the difference."""
    true = ReturnModel(never=0.2, scale_days=60, shape=1.5, watched_days=364)
    everyone = WatchedAccounts(at_risk=4000, returned=np.zeros(52))
    even, uneven = np.ones(52), np.tile([1.9, 1.9, 1.9, 1.9, 0.1, 0.1, 0.1, 0.1], 7)[:52]
    widths = []
    for busy in (even, uneven):
        weekly = expected(true, everyone, busy)
        everybody = Population(
            seen_days_ago=np.array([*np.arange(3.0, 364.0, 7.0), NEVER_SEEN]),
            accounts=np.array([*weekly, 4000 - weekly.sum()]),
        )
        found = forecast(everybody, everybody, fitted(from_last_logins(everybody)))
        assert found.fitted
        widths.append(found.days[30].high - found.days[30].low)
    assert widths[1] > 3 * widths[0]


def test_the_baseline_is_a_plain_count() -> None:
    """The share that was not seen in as many days; nothing is fitted."""
    ago = np.array([1.0, 10.0, 50.0, 400.0])
    everybody = Population(seen_days_ago=ago, accounts=np.array([5.0, 3.0, 1.0, 1.0]))
    assert baseline(everybody, 30) == pytest.approx(0.2)
    assert baseline(everybody, 5) == pytest.approx(0.5)


def test_too_few_returns_give_the_baseline_and_the_reason() -> None:
    """Never a curve out of nothing: the interval is empty, and the words say so."""
    some = Population(seen_days_ago=np.array([3.0, 40.0]), accounts=np.array([10.0, 9.0]))
    found = forecast(some, some, fitted(from_last_logins(some)))
    assert (found.fitted, found.never) == (False, None)
    assert "only 10 returns were seen, 30 are needed" in found.because
    assert found.days[30] == Interval(low=9, expected=9, high=9)


def test_a_log_is_watched_by_how_long_ago_accounts_were_seen() -> None:
    """Those who come daily return within the week, those who do not come stay away."""
    daily = [(number, day) for number in range(5) for day in range(400)]
    once = [(number, 5) for number in range(5, 55)]
    late = [(55 + number, day) for number in range(40) for day in (5, 395)]
    log = pl.DataFrame(
        daily + once + late, schema={"login": pl.UInt32, "day": pl.Int32}, orient="row"
    )
    watched = from_log(log, end=399)
    recent, *others = watched.classes
    assert all(each.returned[0] == each.at_risk == 5 for each in recent)
    for own in others:
        assert {(each.at_risk, each.returned.sum()) for each in own} == {(90, 40)}
    ago = np.array([0.0, 6.0, 7.0, 40.0, 400.0])
    some = Population(seen_days_ago=ago, accounts=np.ones(5))
    assert watched.class_of(some).tolist() == [0, 0, 1, 1, len(others)]


@pytest.mark.parametrize(
    ("text", "expected_day", "form"),
    [
        ("2026-10-01", "2026-10-01", "ISO 8601"),
        ("2026-10-01T23:30:00+02:00", "2026-10-01", "with a zone"),
        ("2026-10-01 07:00:00", "2026-10-01", "ISO 8601"),
        ("1790812800", "2026-10-01", "seconds"),
        ("1790812800123", "2026-10-01", "milliseconds"),
        ("1.10.2026", "2026-10-01", "DD.MM.YYYY"),
        ("01.10.2026 17:45", "2026-10-01", "DD.MM.YYYY"),
        ("2026/10/01", "2026-10-01", "YYYY/MM/DD"),
        ("20261001", "2026-10-01", "YYYYMMDD"),
        ("20261001074500", "2026-10-01", "YYYYMMDD"),
        ("01/10/2026", None, "unreadable"),  # nothing says which is the month
        ("31.02.2026", None, "unreadable"),
        ("2026-02-31", None, "unreadable"),
        ("2031-01-01", None, "in the future"),
        ("", None, "none"),
    ],
)
def test_times_in_their_forms(text: str, expected_day: str | None, form: str) -> None:
    """ISO 8601 with and without zones, epochs; what is no time or not yet is counted, not used."""
    times = Times()
    found = days_of(pl.Series([text]), today=TODAY, times=times)[0]
    day = None if found is None else (date(1970, 1, 1) + timedelta(days=found)).isoformat()
    assert (day, times.forms[form]) == (expected_day, 1)


@given(
    st.one_of(
        st.text(alphabet="0123456789-/. T:Z", max_size=20),
        st.dates(date(1990, 1, 1), date(2026, 10, 1)).flatmap(
            lambda day: st.sampled_from(
                [f"{day:{form}}" for form in ("%Y-%m-%d", "%Y%m%d", "%Y/%m/%d", "%d.%m.%Y")]
            )
        ),
    )
)
def test_columns_and_single_values_are_read_alike(text: str) -> None:
    """A condition, a lock and a forecast take a text for the same day."""
    single = None if is_never(text) else day_in(text)
    found = days_of(pl.Series([text]), today=date(2100, 1, 1), times=Times())[0]
    several = None if found is None else date(1970, 1, 1) + timedelta(days=found)
    assert (single, text) == (several, text)


def flat(accounts: int, remaining: float) -> Forecast:
    intervals = {
        day: Interval(low=remaining, expected=remaining, high=remaining) for day in HORIZONS
    }
    return Forecast(
        accounts=accounts, days=intervals, baseline=dict.fromkeys(HORIZONS, 0.0), fitted=True
    )


def test_strategies_and_advice() -> None:
    """Layering leaves only what it cannot take; locking ends the layers; advice says which."""
    wait, layer, lock = strategies(
        flat(100, 40), flat(10, 4), left=20, seconds_each=36.0, lock_after_days=90
    )
    assert wait.weak[180].expected == 40
    assert layer.weak[180].expected == pytest.approx(8)
    assert layer.layered[180].expected == pytest.approx(36)
    assert lock.layered[90].expected == 0
    assert lock.layered[60].expected == pytest.approx(36)
    assert lock.locked == 36
    assert layer.bulk_hours == pytest.approx(0.8)
    assert wait.bulk_hours == 0
    partly = advice(flat(100, 40), flat(0, 0), left=20, lock_after_days=90)
    assert partly.take == f"{LAYER}; 20 accounts are left for later"
    assert "a bulk run protects the other 80 tonight, whether they return or not" in partly.reasons
    assert advice(flat(100, 40), flat(0, 0), left=100, lock_after_days=90).take == WAIT
    assert advice(flat(100, 0), flat(0, 0), left=0, lock_after_days=90).take == WAIT
    assert (
        advice(flat(0, 0), flat(0, 0), left=0, lock_after_days=90).take == "nothing is left to do"
    )


def dated_portal(folder: Path, dates: list[str | None]) -> None:
    """Give a store of MD5 digests a column of last logins."""
    portal = make_portal(folder, ["md5"] * len(dates))
    with closing(sqlite3.connect(portal.database)) as connection, connection:
        connection.execute("ALTER TABLE passengers ADD COLUMN seen TEXT")
        connection.executemany(
            "UPDATE passengers SET seen = ? WHERE id = ?",
            [(text, number) for number, text in enumerate(dates, start=1)],
        )
    policy = CHEAP_POLICY.replace('stored = "pw"', 'stored = "pw"\nlast_login = "seen"')
    (folder / "tumbler.toml").write_text(policy)


def ago(days: int) -> str:
    return (datetime.now(UTC).date() - timedelta(days=days)).isoformat()


def test_plan_says_how_it_will_finish(program: Program, tmp_path: Path) -> None:
    """From last logins: numbers by date and strategy, the baseline beside them, a picture."""
    dated_portal(tmp_path, [ago(n * n // 40) for n in range(150)] + [None] * 10)
    finished = program("plan", "--format", "json", "--plot", "burn.png", "--lock-after", "90")
    found = finished.document["forecast"]
    assert found["weak"]["fitted"]
    assert found["weak"]["accounts"] == 160
    day = found["weak"]["days"]["90"]
    assert day["low"] <= day["expected"] <= day["high"] <= 160
    assert found["strategies"][1]["weak"]["30"]["high"] == 0
    assert abs(found["weak"]["cohorts"]["md5"]["90"] - day["expected"]) <= 1
    assert found["strategies"][2]["locked"] == day["expected"]
    assert found["advice"]["take"] == "layer now"
    assert (tmp_path / "burn.png").read_bytes().startswith(b"\x89PNG")
    text = program("plan").out
    assert "How it will finish: layer now." in text
    assert "--session-days" in text
    later = program("plan", "--session-days", "60", "--format", "json").document["forecast"]
    assert later["weak"]["days"]["30"]["expected"] > found["weak"]["days"]["30"]["expected"]


def test_plan_with_dates_that_are_of_no_use(program: Program, tmp_path: Path) -> None:
    """They are named and counted; with too few left, the baseline stands alone and says so."""
    future = ago(-400)
    dated_portal(tmp_path, ["soon", future, "31/12/2025", *(ago(n) for n in range(8)), None])
    finished = program("plan")
    assert finished.code == 0, finished.err
    assert "only 7 returns were seen, 30 are needed" in finished.out
    assert "2 times cannot be read" in " ".join(finished.out.split())
    assert "1 times are in the future" in " ".join(finished.out.split())


def test_plan_without_dates(program: Program, tmp_path: Path) -> None:
    """The rest of the plan stands; the forecast says what it would need."""
    make_portal(tmp_path, ["md5"] * 3)
    assert "No forecast: name “last_login” in the store's [columns]" in program("plan").out
    assert program("plan", "--format", "json").document["forecast"] is None
    for arguments in (("--plot", "x.png"), ("--back-test",)):
        refused = program("plan", *arguments)
        assert (refused.code, refused.err.count("\n")) == (2, 1)


def test_plan_with_a_log_and_its_back_test(program: Program, tmp_path: Path) -> None:
    """A file of logins is held against the store: strangers and bad lines counted, errors told."""
    portal = make_portal(tmp_path, ["md5"] * 200)
    log = lives(200, 3, days=500)
    last = int(log["day"].max() or 0)  # type: ignore[arg-type]
    lines = [
        f"{portal.passengers[login].login.upper()},{ago(last - day)} 08:00:00"
        for login, day in log.iter_rows()
    ]
    lines += ["stranger@tidepost.example,2026-01-01", f"{portal.passengers[0].login},yesterday"]
    (tmp_path / "logins.csv").write_text("\n".join(["email,at", *lines]) + "\n")
    finished = program("plan", "--logins", "logins.csv", "--back-test", "--format", "json")
    assert finished.code == 0, finished.err
    found = finished.document["forecast"]
    assert found["weak"]["fitted"]
    test = found["back_test"]
    assert len(test["tried"]) >= 7
    assert 0 <= test["coverage"] <= 1
    notes = " ".join(found["notes"])
    assert "1 logins of the log are no accounts of the store" in notes
    assert "1 times cannot be read" in notes
    assert json.dumps(found).count(portal.passengers[0].login) == 0


def test_accounts_that_the_log_does_not_know(program: Program, tmp_path: Path) -> None:
    """A log of a year, and accounts that are not in it: their own dates count, and it is said."""
    known, others = 120, 7
    dates: list[str | None] = [ago(n % 7) for n in range(known)]
    dated_portal(tmp_path, [*dates, *(ago(500 + n) for n in range(others))])
    with closing(sqlite3.connect(tmp_path / "harbour.db")) as connection:
        logins = [row[0] for row in connection.execute("SELECT email FROM passengers ORDER BY id")]
    lines = [
        f"{login},{ago(day)}"
        for number, login in enumerate(logins[:known])
        for every in ((7, 60)[number % 2],)
        for day in range(number % every, 364, every)
    ]
    (tmp_path / "logins.csv").write_text("\n".join(["email,at", *lines]) + "\n")
    finished = program("plan", "--logins", "logins.csv", "--format", "json")
    assert finished.code == 0, finished.err
    found = finished.document["forecast"]
    weak = found["weak"]["days"]["180"]
    assert others <= weak["expected"] < others + known / 10
    assert any(f"the log does not know {others} of the accounts" in note for note in found["notes"])


def test_a_log_in_a_table_of_the_database(program: Program, tmp_path: Path) -> None:
    """Named like a file; epoch seconds; the same logins give the same forecast as a file."""
    portal = make_portal(tmp_path, ["md5", "sha1"] * 60)
    log = lives(120, 5, days=300)
    last = int(log["day"].max() or 0)  # type: ignore[arg-type]
    midnight = datetime.now(UTC).replace(hour=0, minute=0, second=0, microsecond=0)
    rows = [
        (portal.passengers[login].login, midnight - timedelta(days=last - day))
        for login, day in log.iter_rows()
    ]
    with closing(sqlite3.connect(portal.database)) as connection, connection:
        connection.execute("CREATE TABLE sign_ins (account TEXT, at INTEGER)")
        connection.executemany(
            "INSERT INTO sign_ins VALUES (?, ?)",
            [(login, int(when.timestamp())) for login, when in rows],
        )
    lines = "".join(f"{login},{when.date()}\n" for login, when in rows)
    (tmp_path / "logins.csv").write_text("account,at\n" + lines)
    found = [
        program("plan", "--logins", named, "--format", "json").document["forecast"]
        for named in ("sign_ins", "logins.csv")
    ]
    assert found[0]["weak"]["fitted"]
    assert found[0]["weak"] == found[1]["weak"]
    assert set(found[0]["weak"]["cohorts"]) == {"md5", "sha1"}
    assert program("plan", "--logins", "nothing").code == 2


@pytest.mark.parametrize(
    ("text", "expected_words"),
    [
        ("email,at\n", "no column holds times"),
        ("who,at\nx,2026-01-01\n", "no column says who logged in"),
        ("email,at\np,yesterday\n", "no column holds times"),
        ("email,at\np,2026-01-01\n", "none of its logins is an account"),
    ],
)
def test_logs_that_say_nothing(
    program: Program, tmp_path: Path, text: str, expected_words: str
) -> None:
    """One line, exit code 2."""
    make_portal(tmp_path, ["md5"] * 3)
    (tmp_path / "logins.csv").write_text(text)
    finished = program("plan", "--logins", "logins.csv")
    assert (finished.code, finished.out) == (2, "")
    assert expected_words in finished.err


def test_a_fit_that_is_not_found_leaves_the_baseline() -> None:
    """There were returns enough, and no maximum: that is said, and no interval is made up."""
    some = Population(seen_days_ago=np.array([3.0, 40.0]), accounts=np.array([60.0, 40.0]))
    unfitted = Fitted(watched=from_last_logins(some), models=(), draws=())
    found = forecast(some, some, unfitted, parts={"md5": some})
    assert (found.fitted, found.because) == (False, "no fit was found")
    assert found.days[30] == Interval(low=40, expected=40, high=40)
    assert found.parts["md5"][30] == 40
