"""Forecasts: the model on made-up lives, intervals, the baseline, the back-test, and bad dates."""

import json
import sqlite3
from contextlib import closing
from datetime import UTC, date, datetime, timedelta
from pathlib import Path

import numpy as np
import polars as pl
import pytest
from hypothesis import given, settings
from hypothesis import strategies as st

from conftest import CHEAP_POLICY, Program, make_portal
from foretold import KINDS, by_dates, by_history, by_log, tabled_log
from lean_tumbler.core.forecast.back_test import back_test, first_cut
from lean_tumbler.core.forecast.estimators import BASELINE, LIFE_TABLE, MEAN
from lean_tumbler.core.forecast.intervals import Interval
from lean_tumbler.core.forecast.last_logins import NEVER_SEEN, LastLogins, Population
from lean_tumbler.core.forecast.return_table import ReturnTable, from_counts
from lean_tumbler.core.forecast.strategies import LAYER, WAIT, advice, strategies
from lean_tumbler.core.forecast.times import Times, days_of
from lean_tumbler.core.forecast.waiting import DAYS, HORIZONS, Forecast, FromDates
from lean_tumbler.core.stored_days import day_in, is_never
from lives import NOW, POPULATIONS, Lives, lives

TODAY = date(2026, 10, 31)


@pytest.fixture
def program(in_process: Program) -> Program:
    """Run in this process: there are many runs, and the built program is run elsewhere."""
    return in_process


@given(st.floats(0.01, 0.4), st.integers(1, 26))
def test_a_steady_chance_is_found_again(chance: float, ahead: int) -> None:
    """Where one in so many returns each week, as many are left as the power of it says."""
    left = [100_000 * (1 - chance) ** week for week in range(13)]
    table = from_counts(left)
    returned, at_risk = table.counted(12, 52)
    assert np.allclose(returned / at_risk, chance)
    away = LIFE_TABLE.away(table, 6, 6, table.waiting(6))
    # Within what was seen it is known; beyond, the chance is taken to fall.
    assert away[0] == pytest.approx(left[6])
    assert (
        LIFE_TABLE.away(table, 12, ahead, table.waiting(12))
        >= 0.999 * left[12] * (1 - chance) ** np.arange(ahead + 1)
    ).all()


def some_log() -> st.SearchStrategy[pl.DataFrame]:
    """Invent a few logins over some weeks."""
    event = st.tuples(st.integers(0, 7), st.integers(0, 139))
    return st.lists(event, min_size=1, max_size=60).map(
        lambda events: pl.DataFrame(
            events, schema={"login": pl.UInt32, "day": pl.Int32}, orient="row"
        )
    )


def alive(log: pl.DataFrame) -> Lives:
    """Give eight people whose logins are these."""
    return Lives(typed=log, made=np.full(8, -1.0), seen=np.full(8, np.nan), log_days=(0, 139))


@settings(deadline=None)
@given(some_log())
def test_the_table_counts_what_the_log_says(log: pl.DataFrame) -> None:
    """Who is known at each week's end, and who has not come so much later, counted one by one."""
    table, accounts = tabled_log(alive(log), with_made=False)
    weeks = table.table.weeks
    start = 139 - 7 * weeks
    events = [(who, (day - start + 6) // 7) for who, day in log.iter_rows() if day > start]
    first = {who: min(week for one, week in events if one == who) for who, _ in events}
    # Who appears in the first weeks, or never, may have been there before the log.
    known_before = {who for who in range(8) if first.get(who, 0) <= 13}
    for cut in range(weeks):
        known = known_before | {who for who, week in first.items() if week <= cut}
        assert table.table.waiting(cut).total == len(known)
        for ahead in range(1, weeks - cut + 1):
            back = {who for who, week in events if cut < week <= cut + ahead}
            assert table.table.still_away(cut, ahead) == len(known - back)
    assert table.waiting(accounts).total == 8


@settings(deadline=None, max_examples=30)
@given(st.integers(0, 10_000), st.integers(10, 70), st.sampled_from([LIFE_TABLE, BASELINE]))
def test_no_forecast_looks_ahead(seed: int, cut: int, estimator: object) -> None:
    """What comes after the week of a forecast does not change it: it is only truth."""
    table, _ = tabled_log(lives(80, seed), with_made=True)
    gaps = table.table.gaps.copy()
    later = gaps[:, : cut + 1, cut + 1 :].sum(axis=2)
    gaps[:, :, cut + 1 :] = 0
    gaps[:, cut + 1 :, :] = 0
    gaps[:, : cut + 1, -1] = later
    blind = ReturnTable(gaps=gaps)
    away = estimator.away  # type: ignore[attr-defined]  # of both
    seen = away(table.table, cut, 20, table.table.waiting(cut))
    assert np.allclose(seen, away(blind, cut, 20, blind.waiting(cut)))


def test_a_forecast_from_a_log_beats_the_baseline_and_knows_its_errors() -> None:
    """Of invented populations whose truth is known; the benchmark has all of them."""
    inside, nearer, errors = [], [], []
    for name in ("busy and quiet weeks", "most leave within a year", "heavy tails and churn"):
        for seed in (1, 2, 3):
            found = by_log(lives(800, seed, POPULATIONS[name]))
            for day in HORIZONS:
                inside.append(found.is_inside(day))
                errors.append(found.error(day))
                plain = abs(found.forecast.baseline[day] - found.truth[day])
                nearer.append(found.error(day) * found.forecast.accounts < plain)
    told = [each for each in inside if each is not None]
    assert len(told) > len(inside) / 2
    assert np.mean(told) >= 0.7
    assert np.mean(nearer) > 0.8
    assert np.median(errors) < 0.03


def test_the_days_that_accounts_were_made_mend_last_logins() -> None:
    """Who leaves, and who is new, is counted by age: twice as near as without, and more."""
    alone, beside = (
        np.mean([by_dates(lives(1500, seed), with_made=with_made).error(day)
                 for seed in (1, 2, 3) for day in HORIZONS])
        for with_made in (False, True)
    )  # fmt: skip
    assert beside < 0.025
    assert beside < alone / 2


@pytest.mark.parametrize("days", [91, 182])
def test_what_has_happened_is_carried_on(days: int) -> None:
    """From counts alone, within a fiftieth of the accounts half a year on."""
    found = [by_history(lives(1500, seed), days=days) for seed in (1, 2, 3)]
    assert np.mean([each.error(day) for each in found for day in HORIZONS]) < 0.02


BROKEN = {
    "holidays ahead": ("a log and `created`", "season", "interval"),
    "a tax season ahead": ("a log", "season", "interval"),
    "an announced shutdown": ("a log", "lately", "interval"),
    "a log that begins late": ("a log", "short log", ""),
    "a log that lacks people": ("a log", "lacking log", "interval"),
    "lost dates": ("last logins", "no date", ""),
    "a column added late": ("last logins", "late column", ""),
    "a bulk import": ("last logins and `created`", "import", ""),
    "a batch that touched nearly all": ("last logins", "batch", "forecast"),
}


@pytest.mark.parametrize(("population", "expected"), BROKEN.items())
def test_what_breaks_a_forecast_is_seen(population: str, expected: tuple[str, str, str]) -> None:
    """It is named with its effect; where the forecast would be worth nothing, it is not told."""
    kind, name, withheld = expected
    found = KINDS[kind](lives(1000, 5, POPULATIONS[population]))
    assert name in found.names
    days = found.forecast.days
    if withheld == "interval":
        assert not any(each.is_drawn for each in days.values())
        assert found.forecast.no_interval
    if withheld == "forecast":
        assert found.forecast.withheld
        assert {each.expected for each in days.values()} == {found.forecast.accounts}


@pytest.mark.parametrize(
    "population", ["holidays ahead", "a tax season ahead", "an announced shutdown"]
)
def test_what_is_seen_is_reckoned_with(population: str) -> None:
    """A season of a year ago comes again, a change goes on: nearer than each simple estimator."""
    found = [by_log(lives(1000, seed, POPULATIONS[population])) for seed in range(4)]
    points = [(each, day) for each in found for day in HORIZONS]
    told = np.median([each.error(day) for each, day in points])
    for name in found[0].simple:
        assert told < np.median([each.error_of(name, day) for each, day in points])


def test_a_short_log_is_forecast_by_the_mean() -> None:
    """The life table says too little and the baseline too much; what both say is nearer."""
    found = [by_log(lives(1000, seed, POPULATIONS["a log that begins late"]), with_made=False)
             for seed in range(6)]  # fmt: skip
    off = {
        name: np.median([each.error_of(name, day) for each in found for day in HORIZONS])
        for name in found[0].simple
    }
    assert off[MEAN.name] < 0.7 * min(off[LIFE_TABLE.name], off[BASELINE.name])
    assert np.median([each.error(day) for each in found for day in HORIZONS]) == off[MEAN.name]


def test_accounts_without_a_day_of_creation_are_no_import() -> None:
    """A third without the day on which they were made: that is no day on which many were made."""
    chance = np.random.default_rng(3)
    made = np.where(np.arange(600) % 3 == 0, NEVER_SEEN, chance.integers(1, 900, 600))
    everybody = Population(
        seen_days_ago=chance.integers(0, 300, 600).astype(np.float64),
        accounts=np.ones(600),
        made_days_ago=made.astype(np.float64),
    )
    assert everybody.imported_days_ago is None
    assert everybody.age_days is everybody.made_days_ago


@pytest.mark.parametrize("kind", ["last logins", "last logins and `created`", "a log"])
def test_what_is_sound_is_not_doubted(kind: str) -> None:
    """Of lives without anything strange, nothing is said."""
    seen = [KINDS[kind](lives(1000, seed)).names for seed in range(6)]
    assert sum(map(len, seen)) <= 1


def test_an_interval_is_earned() -> None:
    """A short past draws none and says what would; a longer one reaches farther."""
    reach = []
    for begins in (NOW - 80, NOW - 300, NOW - 700):
        whole = lives(600, 3)
        found = by_log(Lives(typed=whole.typed, made=whole.made, seen=whole.seen,
                             log_days=(begins, NOW)))  # fmt: skip
        drawn = [day for day in DAYS if found.forecast.days[day].is_drawn]
        reach.append(max(drawn, default=0))
        if reach[-1] < HORIZONS[-1]:
            assert "more" in found.forecast.no_interval
    assert reach[0] < 30 <= reach[1] < reach[2]


def test_intervals_widen_with_busy_weeks() -> None:
    """What forecasts of the past missed is what the interval says."""
    widths = []
    for differ in ("steady", "busy and quiet weeks"):
        table, _ = tabled_log(lives(1500, 4, POPULATIONS[differ]), with_made=True)
        test = back_test(table.table, LIFE_TABLE, first_cut=first_cut(table.table.weeks))
        up, down = test.width(4)
        missed = np.abs(test.missed(4))
        # Being too hopeful costs more: there is more room above.
        assert missed.min() < down < up < missed.max()
        widths.append(up)
    assert widths[1] > 1.3 * widths[0]


def test_the_baseline_is_a_plain_count() -> None:
    """The share that was not seen in as many days; nothing is estimated."""
    ago = np.array([1.0, 10.0, 50.0, 400.0])
    known = LastLogins(
        everybody=Population(seen_days_ago=ago, accounts=np.array([5.0, 3.0, 1.0, 1.0]))
    )
    assert known.not_seen_share(30) == pytest.approx(0.2)
    assert known.not_seen_share(5) == pytest.approx(0.5)


def test_last_logins_alone_have_no_interval() -> None:
    """Nothing was foretold before, so nothing says how far off it is; who never came, never does."""
    ago = np.array([3.0, 40.0, 400.0, NEVER_SEEN])
    everybody = Population(seen_days_ago=ago, accounts=np.array([30.0, 20.0, 10.0, 5.0]))
    known = LastLogins(everybody=everybody)
    found = FromDates(everybody=everybody).forecast(everybody)
    assert not any(each.is_drawn for each in found.days.values())
    assert "`progress`" in found.no_interval
    assert found.days[30].expected == pytest.approx(35)
    recent, never = (
        Population(seen_days_ago=ago[[place]], accounts=np.array([10.0])) for place in (0, 3)
    )
    assert known.away(recent, 30) < 5
    assert known.away(never, 30) == 10


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
        ("2026-11-01", "2026-10-31", "of tomorrow"),
        ("2026-11-02", None, "in the future"),
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
    return Forecast(accounts=accounts, days=intervals, method="by hand")


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
    assert found["weak"]["method"] == "last logins"
    assert found["weak"]["accounts"] == 160
    day = found["weak"]["days"]["90"]
    assert (day["low"], day["high"]) == (None, None)
    assert found["strategies"][1]["weak"]["30"]["expected"] == 0
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
    """They are named and counted, and nothing is said without an interval as if it had one."""
    future = ago(-400)
    dated_portal(tmp_path, ["soon", future, "31/12/2025", *(ago(n) for n in range(8)), None])
    finished = program("plan")
    assert finished.code == 0, finished.err
    text = " ".join(finished.out.split())
    assert "No interval: last logins alone cannot be back-tested" in text
    assert "times that cannot be read, and are left out: 2" in text
    assert "times in the future, which are left out: 1" in text


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
    log = lives(200, 3).log
    lines = [
        f"{portal.passengers[login].login.upper()},{ago(NOW - day)} 08:00:00"
        for login, day in log.iter_rows()
    ]
    lines += ["stranger@tidepost.example,2026-01-01", f"{portal.passengers[0].login},yesterday"]
    (tmp_path / "logins.csv").write_text("\n".join(["email,at", *lines]) + "\n")
    finished = program("plan", "--logins", "logins.csv", "--back-test", "--format", "json")
    assert finished.code == 0, finished.err
    found = finished.document["forecast"]
    assert found["weak"]["days"]["30"]["low"] is not None
    test = found["back_test"]
    assert len(test["tried"]) >= 7
    assert test["mean_error"] < test["mean_error_of_baseline"]
    notes = " ".join(found["notes"])
    assert "logins that match no account, and are ignored: 1" in notes
    assert "times that cannot be read, and are left out: 1" in notes
    text = program("plan", "--logins", "logins.csv", "--back-test").out
    assert "13 weeks before the log's end" in text
    assert json.dumps(found).count(portal.passengers[0].login) == 0


def test_plan_has_a_season_come_again(program: Program, tmp_path: Path) -> None:
    """Holidays of a year ago are said with their weeks, and no interval is drawn."""
    portal = make_portal(tmp_path, ["md5"] * 500)
    log = lives(500, 5, POPULATIONS["holidays ahead"]).log
    lines = [f"{portal.passengers[who].login},{ago(NOW - day)}" for who, day in log.iter_rows()]
    (tmp_path / "logins.csv").write_text("\n".join(["email,at", *lines]) + "\n")
    found = program("plan", "--logins", "logins.csv", "--format", "json").document["forecast"]
    (season,) = found["irregularities"]
    assert season["what"] == "season"
    again = season["comes_again"]
    # They are 20 to 70 days ahead, and a quarter as many come: seven weeks from the third on.
    assert 3 <= again["first_week"] <= 5
    assert 8 <= again["last_week"] <= 11
    assert 0.15 < again["times_as_many"] < 0.5
    assert all(each["low"] is None for each in found["weak"]["days"].values())
    text = " ".join(program("plan", "--logins", "logins.csv").out.split())
    assert "fewer people than usual returned in weeks" in text
    assert "as it was seen once" in text


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
    assert any(f"accounts that are not in the log: {others};" in note for note in found["notes"])


@pytest.mark.parametrize("logged", [range(3), range(6, 8), range(8, 40), range(0, 400, 50)])
def test_a_log_that_lacks_most_people(logged: range, program: Program, tmp_path: Path) -> None:
    """Of whatever length it is: no more are told than there are, and it is said."""
    dated_portal(tmp_path, [ago(day % 40) for day in range(150)])
    with closing(sqlite3.connect(tmp_path / "harbour.db")) as connection:
        logins = [row[0] for row in connection.execute("SELECT email FROM passengers ORDER BY id")]
    lines = [f"{login},{ago(day)}" for login in logins[:20] for day in logged]
    (tmp_path / "logins.csv").write_text("\n".join(["email,at", *lines]) + "\n")
    finished = program("plan", "--logins", "logins.csv", "--format", "json")
    assert finished.code == 0, finished.err
    found = finished.document["forecast"]["weak"]["days"]
    assert all(0 <= each["expected"] <= 150 for each in found.values())


def test_a_log_in_a_table_of_the_database(program: Program, tmp_path: Path) -> None:
    """Named like a file; epoch seconds; the same logins give the same forecast as a file."""
    portal = make_portal(tmp_path, ["md5", "sha1"] * 60)
    log = lives(120, 5).log
    midnight = datetime.now(UTC).replace(hour=0, minute=0, second=0, microsecond=0)
    rows = [
        (portal.passengers[login].login, midnight - timedelta(days=NOW - day))
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
    assert found[0]["weak"]["method"].startswith("the log")
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
