"""Formulas that old code used, drawn by chance from a grammar of its habits, with known accounts."""

import random
import string
from collections.abc import Iterator
from dataclasses import dataclass

from lean_tumbler.core.formulas import notation
from lean_tumbler.core.formulas.evaluation import Inputs, evaluate
from lean_tumbler.core.formulas.solutions import SolvedAccount

PASSWORDS = ("gannet17", "Skua and Tern", "herring-99", "Cormorant!", "tide4mark", "Razorbill 8")
DIGESTS = ("md5", "sha1", "sha256", "sha512")
_OTHER = ("ripemd160", "sha224", "sha384", "md4", "sha3-256", "blake2b")


@dataclass(frozen=True, slots=True)
class Puzzle:
    """A formula, and what it made of some known accounts."""

    kind: str
    formula: str
    accounts: tuple[SolvedAccount, ...]


def _salt_part(chance: random.Random) -> str:
    start = chance.choice((0, 0, 1, 2, 3, 4))
    return f"salt:slice {start} {start + chance.choice((2, 3, 4, 5, 6))}"


def _side(chance: random.Random) -> str:
    return chance.choice(("append", "prepend"))


def _formula(kind: str, chance: random.Random) -> str:
    one, two = chance.choice(DIGESTS), chance.choice(DIGESTS)
    side, other = _side(chance), _side(chance)
    rounds = chance.choice((2, 5, 10, 64, 100, 128, 500, 999, 1000, 1001))
    texts = {
        "reversed password": (f"reverse, {one}, hex", f"reverse, {side} salt, {one}, hex",
                              f"{side} password:reverse, {one}, hex"),
        "reversed digest": (f"{one}, hex, reverse", f"{side} salt, {one}, hex, reverse",
                            f"{one}, hex, reverse, {two}, hex", f"{one}, hex, reverse, {side} salt, {two}, hex"),
        "reversed salt": (f"{side} salt:reverse, {one}, hex", f"{one}, hex, {side} salt:reverse, {two}, hex"),
        "slice of a digest": (f"{one}, hex, slice 8 24", f"{one}, hex, slice 5 25", f"{one}, hex, slice 0 16, {two}, hex",
                              f"{one}, hex, slice 8 24, {two}, hex", f"{side} salt, {one}, hex, slice 4 28"),
        "slice of the salt": (f"{side} {_salt_part(chance)}, {one}, hex",
                              f"{one}, hex, {side} {_salt_part(chance)}, {two}, hex"),
        "length": (f"{side} password:length, {one}, hex", f"{side} salt, {other} password:length, {one}, hex"),
        "base64 of hexadecimal": (f"{one}, hex, utf-8, base64", f"{side} salt, {one}, hex, utf-8, base64",
                                  f"{one}, hex, utf-8, base64, {two}, hex"),
        "HMAC": (f"hmac-{one} salt, hex", f"take salt, hmac-{one} password, hex", f"{one}, hex, hmac-{two} salt, hex",
                 f"take salt, hmac-{one} (utf-8, {two}, hex), hex", f"take login, hmac-{one} password, hex"),
        "rare digest": tuple(f"{join}{name}, hex" for name in _OTHER for join in ("", f"{side} salt, ")),
        "loop": (f"{side} salt, {rounds} times ({one}, hex)", f"{side} salt, {one}, {rounds} times ({one}), hex", f"{one}, hex, {rounds} times ({one}, hex)"),
        "PBKDF2": tuple(f"pbkdf2-{name} {n} {size} {salt}, {written}" for name in ("sha1", "sha256", "sha512")
                        for n in (1000, 2000, 4096, 10000) for size in (20, 32, 64)
                        for salt in ("salt", "salt:unhex", "salt:unbase64", "salt:hex", "salt:lower") for written in ("hex", "base64")),
    }  # fmt: skip
    return chance.choice(texts[kind])


KINDS = (
    "reversed password", "reversed digest", "reversed salt", "slice of a digest", "slice of the salt",
    "length", "base64 of hexadecimal", "HMAC", "rare digest", "loop", "PBKDF2",
)  # fmt: skip


def puzzles(number: int, *, seed: int) -> Iterator[Puzzle]:
    """Give so many, each kind as often as the others."""
    chance = random.Random(seed)
    for place in range(number):
        kind = KINDS[place % len(KINDS)]
        formula = _formula(kind, chance)
        salts = string.ascii_letters + string.digits
        if "unhex" in formula:
            salts = "0123456789abcdef"
        accounts = []
        for password in chance.sample(PASSWORDS, 3):
            salt = "".join(chance.choice(salts) for _ in range(8)).encode()
            inputs = Inputs(
                password=password, salt=salt, login=f"{password[:3].lower()}@tidepost.example"
            )
            stored = evaluate(notation.parse(formula), inputs)
            accounts.append(SolvedAccount(inputs=inputs, stored=stored))
        yield Puzzle(kind, formula, tuple(accounts))
