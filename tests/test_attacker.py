"""What guesses cost by the model's own counts, and what that means for a store."""

import math

import pytest

from conftest import Program
from lean_tumbler.core.audit.results import GroupReading
from lean_tumbler.core.formulas import notation
from lean_tumbler.core.grades import Grade
from lean_tumbler.core.schemes.base import Kind, Parameters
from lean_tumbler.core.schemes.catalogue import DERIVATIONS, LAYOUTS
from lean_tumbler.core.schemes.guess_work import COMPRESSION
from lean_tumbler.core.tuning.attacker import (
    CONSUMER_GPU_2022,
    Attacker,
    attack_cost,
    guesses_per_second,
)
from lean_tumbler.core.tuning.exposure import exposures
from lean_tumbler.core.tuning.popularity import Popularity
from lean_tumbler.core.tuning.work import formula_work, work_of

# What the standards' own steps come to, counted anew: operations of one compression.
COUNTED = {
    "md4": 3 * 16 * (1 + 1 + 1),
    "md5": 4 * 16 * (1 + 1 + 1 + 1),
    "sha1": 80 * (1 + 1 + 1 + 1 + 1) + (80 - 16) * (1 + 1 + 1),
    "sha256": 64 * (2 * 4 + 2 + 4) + (64 - 16) * (2 * 4 + 2),
    "sha512": 80 * 2 * (2 * 4 + 2 + 7) + (80 - 16) * 2 * (2 * 4 + 3),
}


@pytest.mark.parametrize(("digest", "operations"), COUNTED.items())
def test_operations_are_those_of_the_standard(digest: str, operations: int) -> None:
    """Rotations, functions and sums of each round and of the schedule."""
    assert COMPRESSION[digest] == operations
    rate = guesses_per_second(digest, {}, CONSUMER_GPU_2022)
    assert rate == CONSUMER_GPU_2022.integer_operations_per_second / operations


def test_argon2_is_bounded_by_memory_traffic() -> None:
    """At the floor: bandwidth over 1024·m·5 bytes; what saves chip area saves no bandwidth."""
    rate = guesses_per_second(
        "argon2id", {"memory_kib": 19456, "passes": 2, "lanes": 1}, CONSUMER_GPU_2022
    )
    assert rate == pytest.approx(1.008e12 / (1024 * 19456 * 5))


@pytest.mark.parametrize(
    ("scheme", "less", "more"),
    [
        ("bcrypt", {"cost_log2": 10}, {"cost_log2": 11}),
        ("pbkdf2-sha512", {"rounds": 1000}, {"rounds": 2000}),
        ("scrypt", {"cost_log2": 14, "block_size": 8, "lanes": 1},
         {"cost_log2": 15, "block_size": 8, "lanes": 1}),
        ("sha512-crypt", {"rounds": 5000}, {"rounds": 10000}),
    ],
)  # fmt: skip
def test_twice_the_cost_is_half_the_guesses(
    scheme: str, less: Parameters, more: Parameters
) -> None:
    """The model follows a scheme's own parameters."""
    low = guesses_per_second(scheme, less, CONSUMER_GPU_2022)
    high = guesses_per_second(scheme, more, CONSUMER_GPU_2022)
    assert low is not None
    assert high == pytest.approx(low / 2)


def test_every_scheme_that_is_guessed_has_a_cost() -> None:
    """Of all that the catalogue reads, only what is not guessed at has none."""
    costs = {
        "rounds": 1000, "cost_log2": 10, "block_size": 8, "lanes": 1, "memory_kib": 64, "passes": 2,
    }  # fmt: skip
    guessed = {Kind.FAST, Kind.ITERATED, Kind.DERIVATION}
    schemes = {
        scheme
        for layout in LAYOUTS
        if layout.kind in guessed and layout.scheme != "the crypt(3) family"
        for scheme in layout.scheme.split(", ")
    }
    assert schemes >= set(DERIVATIONS)
    assert [scheme for scheme in sorted(schemes) if work_of(scheme, costs) is None] == []
    assert work_of("plain-text", {}) is None
    assert work_of("bcrypt", {}) is None


@pytest.mark.parametrize(
    ("formula", "operations"),
    [
        ("utf-8, md5, hex", COMPRESSION["md5"]),
        ("utf-8, sha1, hex, append salt, md5, hex", COMPRESSION["sha1"] + COMPRESSION["md5"]),
        ("utf-8, append salt, 1000 times (sha256), hex", 1000 * COMPRESSION["sha256"]),
        ("utf-8, pbkdf2-sha1 500 40 salt, hex", 2 * 500 * 2 * COMPRESSION["sha1"]),
        ("utf-8, prepend (take salt, md5, hex), md5, hex", 2 * COMPRESSION["md5"]),
        ("utf-8, hmac-sha512 salt, hex", 4 * COMPRESSION["sha512"]),
    ],
)
def test_a_formula_costs_what_its_digests_cost(formula: str, operations: float) -> None:
    """Loops, nested formulas and blocks of PBKDF2 counted."""
    assert formula_work(notation.parse(formula)).operations == operations


def test_popular_passwords_fall_first() -> None:
    """The share grows with guesses, through the published points; beyond them it is a bound."""
    model = Popularity()
    shares = [model.cracked_share(10 ** (n / 4)) for n in range(60)]
    assert shares == sorted(shares)
    assert model.cracked_share(0) == 0
    for guesses, share in model.covered:
        assert model.cracked_share(guesses) == pytest.approx(share)
    # The law, where it is taken from, and half a decade between its points.
    assert model.cracked_share(10**5) == pytest.approx(0.037433 * 10 ** (5 * 0.187227), rel=0.01)
    assert model.is_known(14_326_970)
    assert not model.is_known(10**9)
    assert model.cracked_share(10**9) == 1
    assert model.is_in_order
    assert not Popularity(covered=((10, 0.2), (1, 0.1))).is_in_order


def _reading(scheme: str, grade: Grade, *, salted: bool, formula: str = "") -> GroupReading:
    return GroupReading(
        scheme=scheme, layout="hex", salted=salted, grade=grade, parameters=(), confidence=1.0,
        also_possible=(), formula=formula,
    )  # fmt: skip


def test_unsalted_values_are_attacked_together() -> None:
    """A thousand salted rows cost a thousand times one; unsalted ones no more than one."""
    found = {
        exposure.reading.salted: exposure
        for exposure in exposures(
            [
                (_reading("md5", Grade.FAST_UNSALTED, salted=False), 1000),
                (_reading("md5", Grade.FAST_SALTED, salted=True), 1000),
            ],
            Attacker(),
        )
    }
    one, every = found[True].likeliest[10**6]
    assert every.seconds == pytest.approx(1000 * one.seconds)
    assert every.money == pytest.approx(1000 * one.money)
    one, every = found[False].likeliest[10**6]
    assert every == one
    assert found[False].together


def test_readable_values_cost_nothing_and_locked_ones_cannot_be_guessed() -> None:
    """What can be read is open at no cost; lock markers and the unknown are left out."""
    readable, *rest = exposures(
        [
            (_reading("lock-marker", Grade.LOCKED, salted=False), 5),
            (_reading("unknown", Grade.UNKNOWN, salted=False), 5),
            (_reading("plain-text", Grade.READABLE, salted=False), 5),
        ],
        Attacker(),
    )
    assert rest == []
    assert math.isinf(readable.guesses_per_second)
    assert readable.opened.share == 1
    assert readable.likeliest[10**9][1].money == 0


def test_a_looped_formula_is_not_taken_for_one_digest() -> None:
    """Where the policy's formula is known, its own cost counts."""
    looped = "utf-8, append salt, 1000 times (sha1), hex"
    plain, slow = (
        exposures([(_reading("sha1", Grade.FAST_SALTED, salted=True, formula=text), 1)],
                  Attacker())[0].guesses_per_second
        for text in ("", looped)
    )  # fmt: skip
    assert plain == pytest.approx(1000 * slow)


def test_time_money_and_energy_go_together() -> None:
    """An hour of guesses costs an hour's price and the card's energy."""
    hour = attack_cost(3600e6, 1e6, CONSUMER_GPU_2022)
    assert (hour.seconds, hour.money, hour.kilowatt_hours) == (3600, 0.40, 0.45)


def test_an_audit_says_what_an_attacker_pays(program: Program, portal: object) -> None:
    """For each scheme that is guessed: rate, cost at one account and at all, and what falls."""
    document = program("audit", "passengers", "--format", "json").document
    attack = document["stores"][0]["attack"]
    rates = {entry["scheme"]: entry["guesses_per_second"] for entry in attack["groups"]}
    assert rates["plain-text"] is None
    assert rates["md5"] > rates["sha1"] > rates["argon2id"] > 0
    assert "lock-marker" not in rates
    text = program("audit", "passengers").out
    assert "What an attacker with one 450 W consumer GPU of 2022 pays" in text
