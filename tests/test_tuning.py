"""Choosing parameters: the rules on invented timings, and the command on this machine."""

import json
from itertools import pairwise
from pathlib import Path

import pytest

from conftest import CHEAP_POLICY, Program
from lean_tumbler.core.grades import Floor
from lean_tumbler.core.schemes.argon2 import memory_moved_kib
from lean_tumbler.core.schemes.base import Parameters
from lean_tumbler.core.tuning.choosing import (
    candidates,
    choose,
    guesses_per_second,
    measure_until_too_slow,
)
from lean_tumbler.core.tuning.measuring import Measurement, percentile


def invented(parameters: Parameters, *, microseconds_per_kib: float = 0.5) -> Measurement:
    """Time that grows with memory traffic, a third more under load."""
    alone = memory_moved_kib(parameters) * microseconds_per_kib / 1000
    return Measurement(
        scheme="argon2id",
        parameters=parameters,
        milliseconds=alone,
        milliseconds_at_load=alone * 1.3,
        p99_milliseconds=alone * 1.5,
    )


def test_candidates_start_at_the_floor_and_grow_dearer() -> None:
    """No candidate is below the floor, and each costs an attacker more than the one before."""
    points = candidates(Floor())
    assert points[0] == {"memory_kib": 19456, "passes": 2, "lanes": 1}
    assert all(Floor().reached_by("argon2id", point) for point in points)
    costs = [memory_moved_kib(point) for point in points]
    assert all(less < more for less, more in pairwise(costs))


def test_a_floor_of_the_policys_own_is_a_candidate() -> None:
    """A lowered or a raised floor is itself measured, and nothing below it."""
    low = Floor({"argon2id": ({"memory_kib": 256, "passes": 1},)}, "test")
    assert candidates(low)[0] == {"memory_kib": 256, "passes": 1, "lanes": 1}
    high = Floor({"argon2id": ({"memory_kib": 100_000, "passes": 3},)}, "test")
    assert min(point["memory_kib"] for point in candidates(high)) == 100_000


def test_a_longer_wait_never_gives_a_cheaper_choice() -> None:
    """The choice is monotonous in the permitted wait, and none fits in no time."""
    points = [invented(parameters) for parameters in candidates(Floor())]
    assert choose(points, within_milliseconds=1) is None
    dearest = 0
    for within in range(50, 2000, 50):
        choice = choose(points, within_milliseconds=within)
        if choice is None:
            continue
        assert choice.measurement.p99_milliseconds <= within
        cost = memory_moved_kib(choice.measurement.parameters)
        assert cost >= dearest
        dearest = cost
    assert dearest == memory_moved_kib(points[-1].parameters)


def test_measuring_ends_after_two_that_are_too_slow() -> None:
    """The dearest candidates are not run when cheaper ones already take too long."""
    points = measure_until_too_slow(Floor(), within_milliseconds=60, measured=invented)
    assert [point.milliseconds > 60 for point in points] == [False, True, True]


def test_an_attackers_guesses_follow_from_memory_traffic() -> None:
    """At the floor: 1.008e12 bytes a second over 1024 · 19456 · 5 bytes a guess."""
    rate = guesses_per_second({"memory_kib": 19456, "passes": 2, "lanes": 1})
    assert rate == pytest.approx(1.008e12 / (1024 * 19456 * 5))


@pytest.mark.parametrize(
    ("values", "share", "expected"),
    [([5.0], 0.99, 5.0), ([1.0, 2.0, 3.0, 4.0], 0.5, 2.0), (list(range(1, 201)), 0.99, 198)],
)
def test_percentile(values: list[float], share: float, expected: float) -> None:
    """The least value that the share does not exceed."""
    assert percentile(values, share) == expected


def test_tune_saves_what_it_chose(tmp_path: Path, program: Program) -> None:
    """--save writes the chosen parameters into the policy, and the rest stays as it was."""
    policy = tmp_path / "tumbler.toml"
    policy.write_text("# the portal\n" + CHEAP_POLICY)
    finished = program("tune", "--within", "0.03s", "--save", "--format", "json")
    document = finished.document
    assert document["document"] == "lean-tumbler/tune/1"
    assert document["constraints"]["within_milliseconds"] == 30
    if finished.code == 1:  # a machine so busy that the cheapest took 30 ms
        assert document["chosen"] is None
        return
    chosen = document["chosen"]["parameters"]
    assert document["chosen"]["p99_milliseconds"] <= 30
    assert chosen["memory_kib"] >= 256
    text = policy.read_text()
    assert text.startswith("# the portal\n[target]")
    assert f"memory_kib = {chosen['memory_kib']}\npasses = {chosen['passes']}\n" in text
    assert "[target] is now argon2id" in finished.err


def test_nothing_fits_is_an_answer(tmp_path: Path, program: Program) -> None:
    """Where even the floor is too slow: exit 1, nothing saved, and what would be needed."""
    policy = tmp_path / "tumbler.toml"
    policy.write_text(CHEAP_POLICY.replace("256", "65536"))
    before = policy.read_text()
    finished = program("tune", "--within", "1", "--save")
    assert finished.code == 1
    assert finished.out.startswith("Nothing at or above the floor answers within 1 ms.")
    assert "allow --within" in finished.out
    assert policy.read_text() == before
    assert json.loads(program("tune", "--within", "1", "--format", "json").out)["chosen"] is None
