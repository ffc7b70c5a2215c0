"""Choosing parameters: the rules on invented timings, and the command on this machine."""

import json
import math
import time
from collections.abc import Mapping
from concurrent.futures import ThreadPoolExecutor
from pathlib import Path
from typing import Any

import numpy as np
import pytest
from msgspec.structs import replace

from conftest import CHEAP_POLICY, DATA, Program, run_in_process
from lean_tumbler.core.grades import FLOORS, Floor
from lean_tumbler.core.schemes.base import Parameters
from lean_tumbler.core.schemes.catalogue import TUNED
from lean_tumbler.core.schemes.current.argon2 import memory_moved_kib
from lean_tumbler.core.tuning.attacker import CONSUMER_GPU_2022
from lean_tumbler.core.tuning.capacity import (
    MOST_UTILISATION,
    Service,
    erlang_c,
    response_p99,
    simulated_p99,
)
from lean_tumbler.core.tuning.choosing import Choice, Demand, choose, steps_of
from lean_tumbler.core.tuning.cost_lines import CostLine, fit, fit_all
from lean_tumbler.core.tuning.measuring import (
    QUICK,
    Bench,
    Measurement,
    at_once_levels,
    is_noisy,
    percentile,
    summed_up,
)
from lean_tumbler.stores.tuning_files import read_measurements

# What each scheme costs on an invented machine: milliseconds for a unit of its work.
_UNIT = {
    "argon2id": 0.0006, "bcrypt": 0.05, "scrypt": 0.0003, "pbkdf2-sha256": 0.0006,
    "pbkdf2-sha512": 0.0009,
}  # fmt: skip


def _work(scheme: str, costs: Parameters) -> float:
    if scheme == "argon2id":
        return costs["memory_kib"] * costs["passes"]
    if scheme == "bcrypt":
        return 2.0 ** costs["cost_log2"]
    if scheme == "scrypt":
        return 2.0 ** costs["cost_log2"] * costs["block_size"] * costs["lanes"]
    return costs["rounds"]


_POINTS: Mapping[str, list[Parameters]] = {
    "argon2id": [
        {"memory_kib": memory, "passes": passes, "lanes": 1}
        for memory, passes in ((16384, 1), (16384, 3), (19456, 2), (32768, 1), (65536, 3))
    ],
    "bcrypt": [{"cost_log2": cost} for cost in range(6, 12)],
    "scrypt": [{"cost_log2": cost, "block_size": 8, "lanes": 1} for cost in range(11, 17)],
    "pbkdf2-sha256": [{"rounds": 10_000 * 2**n} for n in range(6)],
    "pbkdf2-sha512": [{"rounds": 10_000 * 2**n} for n in range(6)],
}


def invented(slower: float = 1.25, noise: float = 0.0, cores: int = 2) -> list[Measurement]:
    """Measure an invented machine: time in proportion to work, slower with every core busy."""
    random = np.random.default_rng(7)
    return [
        Measurement(
            scheme=scheme,
            parameters=dict(costs),
            milliseconds_at_once={
                level: _UNIT[scheme] * _work(scheme, costs) * factor
                * (1 + noise * random.standard_normal())
                for level, factor in ((1, 1.0), (cores, slower))
            },
            spread=0.02,
            tail=1.1,
        )
        for scheme, points in _POINTS.items()
        for costs in points
    ]  # fmt: skip


LINES = fit_all(invented())
DEMAND = Demand(cores=2, memory_kib=4 << 20, within_milliseconds=250, logins_per_second=10)


def chosen(demand: Demand, lines: Mapping[str, CostLine] = LINES) -> Choice:
    return choose(lines, floor=Floor(), demand=demand, hardware=CONSUMER_GPU_2022)


@pytest.mark.parametrize(
    ("servers", "offered", "expected"),
    [(1, 0.5, 0.5), (2, 1.0, 1 / 3), (10, 7.0, 0.2217), (2, 2.0, 1.0), (4, 0.0, 0.0)],
)
def test_erlang_c(servers: int, offered: float, expected: float) -> None:
    """Known values: one server waits as often as it is busy; two at half load a third."""
    assert erlang_c(servers, offered) == pytest.approx(expected, abs=1e-4)


@pytest.mark.parametrize("servers", [1, 2, 8, 32])
@pytest.mark.parametrize("utilisation", [0.2, 0.5, 0.7])
@pytest.mark.parametrize("upgrading", [0.0, 0.3])
def test_the_queueing_formula_agrees_with_a_simulation(
    servers: int, utilisation: float, upgrading: float
) -> None:
    """Within a quarter over the grid, and never much below what really happens."""
    service = Service(seconds=0.1, tail=1.15, upgrading=upgrading)
    load = utilisation * servers / service.mean
    formula = response_p99(load, servers, service)
    simulated = simulated_p99(load, servers, service, random=np.random.default_rng(3))
    assert 0.9 < formula / simulated < 1.3


def test_more_load_than_there_is_never_answers() -> None:
    """At and above full load the wait has no end, by formula and by simulation."""
    service = Service(seconds=0.1)
    assert math.isinf(response_p99(20, 2, service))
    assert math.isinf(simulated_p99(21, 2, service, random=np.random.default_rng(1)))


@pytest.mark.parametrize("scheme", TUNED)
def test_a_line_predicts_what_was_measured(scheme: str) -> None:
    """Real timings, of two cores: each point from the line through the others, within a tenth."""
    measured = read_measurements(DATA / "measurements.json").measured
    points = [point for point in measured if point.scheme == scheme]
    for left_out in points[1:-1]:
        line = fit([point for point in points if point is not left_out])
        for at_once, milliseconds in left_out.milliseconds_at_once.items():
            predicted = line.milliseconds(left_out.parameters, at_once)
            assert predicted == pytest.approx(milliseconds, rel=0.1)


@pytest.mark.parametrize("scheme", TUNED)
def test_a_line_is_found_through_noise(scheme: str) -> None:
    """Timings with 3 % of noise give a line that predicts untried parameters within 8 %."""
    line = fit([point for point in invented(noise=0.03) if point.scheme == scheme])
    for costs in steps_of(scheme, Floor())[:8]:
        true = _UNIT[scheme] * _work(scheme, costs)
        assert line.milliseconds(costs, 1) == pytest.approx(true, rel=0.08)
        assert line.milliseconds(costs, 2) == pytest.approx(true * 1.25, rel=0.08)
    assert line.error is not None
    assert line.error < 0.1


def test_a_line_that_does_not_fit_says_so() -> None:
    """The point that was held back shows a machine whose timings follow no line."""
    odd = [point for point in invented() if point.scheme == "bcrypt"]
    odd[3] = replace(odd[3], milliseconds_at_once={1: 400.0, 2: 400.0})
    error = fit(odd).error
    assert error is not None
    assert error > 0.5


@pytest.mark.parametrize("name", list(FLOORS))
@pytest.mark.parametrize("scheme", TUNED)
def test_no_candidate_is_below_the_floor(name: str, scheme: str) -> None:
    """Each is at the floor or above; the floor's own parameters are among them, to the number."""
    floor = FLOORS[name]
    steps = steps_of(scheme, floor)
    assert all(floor.reached_by(scheme, step) for step in steps)
    alternatives = floor.alternatives.get(scheme, ())
    assert bool(steps) is bool(alternatives)
    for alternative in alternatives:
        assert any(alternative.items() <= step.items() for step in steps)
        for key in alternative:
            below = {**dict.fromkeys(("lanes",), 64), **alternative, key: alternative[key] - 1}
            assert below not in steps


def test_more_load_never_gives_a_costlier_choice() -> None:
    """The strength of the choice falls, or stays, as logins come quicker; in the end none fits."""
    strengths = []
    for load in range(1, 120, 3):
        found = chosen(replace(DEMAND, logins_per_second=load)).chosen
        strengths.append(found.strength if found else (-(10**9), 0, 0.0))
    assert strengths == sorted(strengths, reverse=True)
    assert strengths[0] > strengths[-1]


def test_a_longer_wait_never_gives_a_cheaper_choice() -> None:
    """The strength of the choice grows, or stays, with the permitted wait."""
    strengths = []
    for within in range(10, 2500, 60):
        found = chosen(replace(DEMAND, within_milliseconds=within, logins_per_second=2)).chosen
        strengths.append(found.strength if found else (-(10**9), 0, 0.0))
        assert found is None or found.p99_milliseconds <= within
    assert strengths == sorted(strengths)
    assert strengths[0] < strengths[-1]


def test_a_choice_is_neither_too_busy_nor_too_large() -> None:
    """At most 70 % busy, and at most 60 % of memory for as many derivations as run at once."""
    for memory in (1 << 18, 1 << 20, 1 << 22):
        found = chosen(replace(DEMAND, memory_kib=memory, cores=8, logins_per_second=30)).chosen
        assert found is not None
        assert found.utilisation <= MOST_UTILISATION
        kib = found.parameters.get("memory_kib", 0) * found.at_once
        assert kib <= 0.6 * memory


def test_cores_that_share_bandwidth_are_not_all_used() -> None:
    """Where four at once get less done than two, two run at once."""
    points = [
        replace(point, milliseconds_at_once={1: time, 2: time * 1.1, 4: time * 3})
        for point in invented()
        if point.scheme == "argon2id"
        for time in [point.milliseconds]
    ]
    found = chosen(replace(DEMAND, cores=4), fit_all(points)).chosen
    assert found is not None
    assert found.at_once == 2


def test_where_nothing_fits_the_way_out_is_in_numbers() -> None:
    """So many cores with this wait, or this wait with so many cores; and both do."""
    demand = replace(DEMAND, logins_per_second=60, within_milliseconds=100)
    nothing = chosen(demand)
    assert nothing.chosen is None
    way = next(way for way in nothing.requirements if way.scheme == "argon2id")
    assert way.cores is not None
    assert chosen(replace(demand, cores=way.cores)).chosen is not None
    slow = replace(DEMAND, within_milliseconds=5, logins_per_second=1)
    way = next(way for way in chosen(slow).requirements if way.scheme == "argon2id")
    assert way.milliseconds is not None
    assert chosen(replace(slow, within_milliseconds=way.milliseconds + 1)).chosen is not None


def test_the_first_login_after_a_migration_counts_twice() -> None:
    """A share of logins that derive twice never makes the choice dearer, and slows the tail."""
    calm = chosen(DEMAND).chosen
    busy = chosen(replace(DEMAND, upgrading=0.5)).chosen
    assert calm is not None
    assert busy is not None
    assert busy.strength <= calm.strength
    assert Service(seconds=0.1, upgrading=0.5).p99 == pytest.approx(0.2)


def test_a_machine_with_slow_phases_is_promised_for_its_slow_phases() -> None:
    """Where one round took longer on the mean, waits are longer and nothing dearer is chosen."""
    even = chosen(DEMAND).chosen
    lines = fit_all([replace(point, slow=1.3) for point in invented()])
    uneven = chosen(DEMAND, lines).chosen
    assert even is not None
    assert uneven is not None
    assert uneven.strength <= even.strength
    same = next(
        each
        for each in chosen(DEMAND, lines).candidates
        if (each.scheme, each.parameters) == (even.scheme, even.parameters)
    )
    assert same.p99_milliseconds > even.p99_milliseconds
    assert same.milliseconds == even.milliseconds


@pytest.mark.parametrize(
    ("cores", "levels"), [(1, (1,)), (2, (1, 2)), (6, (1, 2, 3, 4, 6)), (16, (1, 2, 3, 4, 8, 16))]
)
def test_how_many_are_run_at_once(cores: int, levels: tuple[int, ...]) -> None:
    """All numbers up to four, then doubling, and always all cores."""
    assert at_once_levels(cores) == levels


def test_points_that_do_not_fit_into_memory_are_left_out_and_named() -> None:
    """With 16 MiB free, a derivation of 16 MiB is not run twice at once; it is named."""
    with ThreadPoolExecutor(2) as executor:
        bench = Bench(
            replace(QUICK, seconds=0.2), executor=executor, cores=2, memory_kib=16_384,
            clock=time.perf_counter,
        )  # fmt: skip
        points = bench.measure(("argon2id",), progress=lambda _: None)
    assert points == []
    assert {left.scheme for left in bench.left_out} == {"argon2id"}
    assert all("MiB for 2 at once" in left.why for left in bench.left_out)


def test_a_noisy_machine_is_told_by_the_spread_of_its_timings() -> None:
    """Half of the points with wide quartiles are enough."""
    points = invented()
    assert not is_noisy(points)
    assert is_noisy([replace(point, spread=0.4) for point in points])


def test_a_noisy_measurement_is_made_again(
    tmp_path: Path, measurements: Path, monkeypatch: pytest.MonkeyPatch
) -> None:
    """Once, and said; what varied less counts, though it still may vary."""
    monkeypatch.chdir(tmp_path)
    quiet = read_measurements(measurements).measured
    made = [
        [replace(point, spread=spread) for point in quiet if point.scheme == "argon2id"]
        for spread in (0.4, 0.2)
    ]
    monkeypatch.setattr(Bench, "measure", lambda *_, **__: made.pop(0))
    found = run_in_process("tune", "--schemes", "argon2id", "--measurements", "new.json")
    assert "timings varied by 40%: measuring again" in found.err
    assert made == []
    assert {point.spread for point in read_measurements(tmp_path / "new.json").measured} == {0.2}


def test_a_slow_round_is_told_beside_the_median() -> None:
    """The median is of all rounds, with that of slow phases beside it; alone, it is another."""
    even, slow = [0.05] * 9, [0.09] * 8 + [0.10]
    point = summed_up("bcrypt", {"cost_log2": 10}, {1: [even] * 3, 2: [even, slow, even]})
    assert point.milliseconds_at_once == {1: pytest.approx(50), 2: pytest.approx(50)}
    assert point.slow == pytest.approx(0.82 / 9 / 0.05)
    assert point.tail == pytest.approx(2.0)
    assert point.spread == pytest.approx(0.0)


@pytest.mark.parametrize(
    ("values", "share", "expected"),
    [([5.0], 0.99, 5.0), ([1.0, 2.0, 3.0, 4.0], 0.5, 2.0), (list(range(1, 201)), 0.99, 198)],
)
def test_percentile(values: list[float], share: float, expected: float) -> None:
    """The least value that the share does not exceed."""
    assert percentile(values, share) == expected


# The command


@pytest.fixture
def measurements(tmp_path: Path) -> Path:
    """Measurements of the invented machine, as the command writes them."""
    path = tmp_path / "measured.json"
    path.write_text(json.dumps(measured_document()))
    return path


def measured_document() -> dict[str, Any]:
    return {
        "document": "lean-tumbler/measurements/1",
        "taken_at": "2026-03-01T08:00:00+00:00",
        "host": {"system": "Linux", "machine": "x86_64", "cores": 2, "memory_kib": 4 << 20},
        "measured": [
            {
                "scheme": point.scheme,
                "parameters": dict(point.parameters),
                "milliseconds_at_once": {
                    str(level): value for level, value in point.milliseconds_at_once.items()
                },
                "spread": point.spread,
                "tail": point.tail,
                "slow": point.slow,
            }
            for point in invented()
        ],
    }


def test_a_quick_measurement_is_written_and_taken_again(tmp_path: Path, program: Program) -> None:
    """All schemes are measured; the second run measures nothing and gives the same document."""
    arguments = ("tune", "--quick", "--measurements", "here.json", "--within", "5s", "--peak-logins",
                 "1/s", "--format", "json")  # fmt: skip
    first, second = program(*arguments), program(*arguments)
    assert "here.json: measurements written" in first.err
    assert second.err == ""
    assert (tmp_path / "here.json").stat().st_mode & 0o777 == 0o600
    document = first.document
    assert {entry["scheme"] for entry in document["measured"]} == set(TUNED)
    assert {"milliseconds", "milliseconds_at_load"} <= set(document["measured"][0])
    again = second.document
    assert {**again, "left_out": []} == {**document, "left_out": []}


def test_the_first_line_is_the_choice(measurements: Path, program: Program) -> None:
    """Then the reason, with the next step up; the chosen row is marked."""
    finished = program(
        "tune", "--measurements", str(measurements), "--peak-logins", "600/min", "--within", "250ms"
    )
    assert finished.code == 0
    first, reason = finished.out.splitlines()[:2]
    assert first.startswith("argon2id: ")
    assert reason.startswith("Of all at or above the floor it costs an attacker most")
    words = " ".join(finished.out.split())
    assert "at 10 logins a second; the next step up: " in words
    assert sum(line.startswith("→") for line in finished.out.splitlines()) == 1
    assert "by simulation" in finished.out


@pytest.mark.parametrize(
    ("options", "schemes"),
    [
        (("--schemes", "bcrypt"), {"bcrypt"}),
        (("--schemes", "bcrypt,pbkdf2-sha256"), {"bcrypt", "pbkdf2-sha256"}),
        (("--approved-only",), {"pbkdf2-sha256", "pbkdf2-sha512"}),
        (("--floor", "rfc9106"), {"argon2id"}),
        (("--floor", "nist"), {"pbkdf2-sha256", "pbkdf2-sha512"}),
    ],
)
def test_what_may_be_chosen(
    options: tuple[str, ...], schemes: set[str], measurements: Path, program: Program
) -> None:
    """The options narrow the schemes; the floor too, by what it says nothing of."""
    finished = program(
        "tune", "--measurements", str(measurements), "--within", "9s", "--format", "json", *options
    )
    document = finished.document
    assert {entry["scheme"] for entry in document["candidates"]} == schemes
    assert document["chosen"]["scheme"] in schemes


def test_a_floor_from_a_file(tmp_path: Path, measurements: Path, program: Program) -> None:
    """Its numbers hold to the unit; a file without the table is refused."""
    (tmp_path / "floor.toml").write_text("[floor]\nbcrypt = { cost_log2 = 13 }\n")
    options = ("tune", "--measurements", str(measurements), "--within", "60s", "--format", "json")
    document = program(*options, "--floor", "floor.toml", "--schemes", "bcrypt").document
    costs = [entry["parameters"]["cost_log2"] for entry in document["candidates"]]
    assert min(costs) == 13
    (tmp_path / "empty.toml").write_text("")
    refused = program(*options, "--floor", "empty.toml")
    assert (refused.code, refused.out) == (2, "")
    assert "empty.toml: has no table [floor]" in refused.err


def test_save_writes_the_choice_and_keeps_the_rest(
    tmp_path: Path, measurements: Path, program: Program
) -> None:
    """Comments and order stay; the policy's own floor holds for what is saved."""
    policy = tmp_path / "tumbler.toml"
    policy.write_text("# the portal\n" + CHEAP_POLICY)
    options = ("tune", "--measurements", str(measurements), "--save", "--format", "json")
    chosen = program(*options, "--within", "200").document["chosen"]
    text = policy.read_text()
    assert text.startswith("# the portal\n[target]")
    assert f'scheme = "{chosen["scheme"]}"' in text
    assert all(f"{name} = {value}" in text for name, value in chosen["parameters"].items())
    policy.write_text("[floor]\npbkdf2-sha256 = { rounds = 900000 }\n")
    before = policy.read_text()
    refused = program(*options, "--within", "9s", "--floor", "nist", "--schemes", "pbkdf2-sha256",
                      "--peak-logins", "7/s", "--cores", "4")  # fmt: skip
    assert refused.code == 2
    assert "below the policy's own floor" in refused.err
    assert policy.read_text() == before


def test_nothing_fits_is_an_answer(tmp_path: Path, measurements: Path, program: Program) -> None:
    """Exit 1, nothing saved, and for each scheme what would be needed."""
    policy = tmp_path / "tumbler.toml"
    policy.write_text(CHEAP_POLICY.replace("256", "65536"))
    before = policy.read_text()
    options = ("tune", "--measurements", str(measurements), "--peak-logins", "500/s", "--save")
    finished = program(*options, "--within", "100")
    assert finished.code == 1
    assert finished.out.startswith("Nothing at or above the floor answers within 100 ms at 500")
    assert "cores would be enough" in finished.out
    assert policy.read_text() == before
    assert program(*options, "--format", "json").document["chosen"] is None


@pytest.mark.parametrize("kind", ["png", "svg"])
def test_the_plot_is_a_picture(
    kind: str, tmp_path: Path, measurements: Path, program: Program
) -> None:
    """By its first bytes; drawn with and without a choice."""
    for within in ("250", "1"):
        program(
            "tune", "--measurements", str(measurements), "--plot", f"t.{kind}", "--within", within
        )
        head = (tmp_path / f"t.{kind}").read_bytes()[:200]
        assert head.startswith(b"\x89PNG") if kind == "png" else b"<?xml" in head


@pytest.mark.parametrize(
    ("change", "place"),
    [
        ({"document": "lean-tumbler/measurements/2"}, "“document” must be lean-tumbler/"),
        ({"document": None}, "“document” is missing"),
        ({"measured": []}, "“measured” must be a list of measurements"),
        ({"host": {"cores": 0, "memory_kib": 1}}, "“host.cores” must be 1 or more"),
        ({"measured": [{"scheme": "md5"}]}, "“measured[0].parameters” is missing"),
        ({"scheme": "md5"}, "measured[0].scheme"),
        ({"scheme": "argon2id", "parameters": {"memory_kib": 1}}, "measured[0].parameters"),
        ({"milliseconds_at_once": {"2": 1.0}}, "measured[0].milliseconds_at_once"),
        ({"milliseconds_at_once": {"1": -4.0}}, "“measured[0].milliseconds_at_once"),
        ({"milliseconds_at_once": {"1": "fast"}}, "“measured[0].milliseconds_at_once"),
        ({"milliseconds_at_once": {"1": 1e300}}, "“measured[0].milliseconds_at_once"),
        ({"tail": 0.2}, "“measured[0].tail"),
        ({"slow": 0.9}, "“measured[0].slow"),
    ],
)
def test_an_impossible_file_of_measurements(
    change: dict[str, Any], place: str, tmp_path: Path, program: Program
) -> None:
    """One clear line that names the entry; exit 2, no report."""
    document = measured_document()
    if set(change) & {"document", "measured", "host"}:
        document.update(change)
    else:
        document["measured"][0].update(change)
    (tmp_path / "m.json").write_text(json.dumps(document))
    finished = program("tune", "--measurements", "m.json")
    assert (finished.code, finished.out) == (2, "")
    assert f"m.json: {place}" in finished.err
    assert len(finished.err.splitlines()) == 1


def test_an_attackers_own_hardware(tmp_path: Path, measurements: Path, program: Program) -> None:
    """Twice the bandwidth is twice the guesses at Argon2; a missing number is named."""
    names = {
        "name": '"two of them"', "integer_operations_per_second": 8.3e13,
        "memory_bytes_per_second": 2.016e12, "on_chip_bytes": 2.6e7, "on_chip_latency_cycles": 30,
        "clock_hertz": 2.5e9, "watts": 900, "price_per_hour": 0.8,
    }  # fmt: skip
    options = ("tune", "--measurements", str(measurements), "--schemes", "argon2id", "--format",
               "json")  # fmt: skip
    usual = program(*options).document
    (tmp_path / "h.toml").write_text(
        "[hardware]\n" + "\n".join(f"{key} = {value}" for key, value in names.items())
    )
    doubled = program(*options, "--attacker", "h.toml").document
    assert doubled["attacker"]["hardware"] == "two of them"
    one, other = (
        {str(each["parameters"]): each["guesses_per_second"] for each in found["candidates"]}
        for found in (usual, doubled)
    )
    assert other == {costs: pytest.approx(2 * rate, abs=0.11) for costs, rate in one.items()}
    (tmp_path / "h.toml").write_text("[passwords]\ncovered = [[1, 0.01], [1000000, 0.02]]\n")
    careful = program(*options, "--attacker", "h.toml").document["attacker"]
    assert careful["likeliest"][0]["share_cracked"] == pytest.approx(0.01 * 2 ** (4 / 6))
    assert careful["hardware"] == usual["attacker"]["hardware"]
    (tmp_path / "h.toml").write_text("[passwords]\ncovered = [[9, 0.01], [1, 0.02]]\n")
    refused = program(*options, "--attacker", "h.toml")
    assert refused.code == 2
    assert (
        "h.toml: [passwords]: covered: expected guesses and shares in rising order" in refused.err
    )
    del names["watts"]
    (tmp_path / "h.toml").write_text(
        "[hardware]\n" + "\n".join(f"{key} = {value}" for key, value in names.items())
    )
    refused = program(*options, "--attacker", "h.toml")
    assert refused.code == 2
    assert "h.toml: [hardware]: “watts” is missing" in refused.err


def test_the_floors_of_the_grid_cost_what_the_rfc_says() -> None:
    """Memory traffic of m KiB in t passes: m·(2 + 3(t − 1)) KiB."""
    assert memory_moved_kib({"memory_kib": 19456, "passes": 2, "lanes": 1}) == 19456 * 5
