"""Rows that are planned together get what each would get by itself."""

import random
from typing import Any

import pytest

from conftest import CHEAP_POLICY
from lean_tumbler.core.audit.alike_rows import alike
from lean_tumbler.core.policy import StoragePolicy
from lean_tumbler.core.reading.of_stores import store_reader
from lean_tumbler.core.reading.rows import Row
from lean_tumbler.core.row_plans import RowPlan, holds_for_alike, plan_row

POLICIES = {
    "several cohorts": CHEAP_POLICY,
    "none": CHEAP_POLICY.partition("[[store.passengers.cohort]]")[0],
    "by condition": CHEAP_POLICY.replace(
        'formula = "utf-8, md5, hex"', 'formula = "utf-8, md5, hex"\nwhen = "salt empty"'
    ).replace(
        'formula = "utf-8, append salt, sha1, hex"',
        'formula = "utf-8, append login, sha1, base64"\nwhen = "joined before 2011-03-01"',
    ),
    "a layout": CHEAP_POLICY.replace(
        'formula = "utf-8, md5, hex"',
        'formula = "utf-8, prepend salt, md5, hex"\nlayout = "{salt:text}:{digest:hex}"',
    ),
    "then": CHEAP_POLICY.replace('"utf-8, md5, hex"', '"utf-8, md5, hex, then bcrypt"'),
    "nothing lies over": CHEAP_POLICY.replace(
        'scheme = "argon2id"\nmemory_kib = 256\npasses = 1\nlanes = 1', 'scheme = "bcrypt"'
    ),
}


def told(plan: RowPlan) -> tuple[Any, ...]:
    """Give what a plan says of a row that is only counted."""
    return (
        plan.leave, plan.cohort, plan.identity, plan.needs_proof, plan.suspected,
        dict(plan.costs), plan.formula, plan.plain is None,
    )  # fmt: skip


@pytest.mark.parametrize("policy", POLICIES)
def test_rows_of_a_group_get_the_same(policy: str, foreign_values: list[dict[str, str]]) -> None:
    """Every layout's values, mutated, beside every kind of salt, login and date."""
    chance = random.Random(policy)
    rules = StoragePolicy.from_toml(POLICIES[policy])
    reader = store_reader(rules, rules.stores["passengers"])
    texts = [value["stored"] for value in foreign_values]
    texts += ["{SHA}cz0lOPBfT7S2Wz54WphY5rVozCU=", "{SHA}cz0lOPBfT7S2Wz54WphY5rVozCUZ"]
    texts += ["", "!", "harbour 4", "[object Promise]", "5f4dcc3b5aa765d61d8327deb882cf99 "]
    rows = [
        Row(
            stored=None if chance.random() < 0.02 else stored(chance, texts),
            salt=chance.choice((None, b"", b"ab12", b"ab13", b"\xff\x00", b"x" * 2000)),
            login=chance.choice((None, "ada", "ben", "carla")),
            others={"joined": chance.choice((None, b"2009-01-01", b"2015-01-01", b"soon"))},
        )
        for _ in range(3000)
    ]
    assert reader.reads_by_shape
    first: dict[int, tuple[Any, ...]] = {}
    for row, group in zip(rows, alike(rows, reader), strict=True):
        if group is not None:
            plan = plan_row(reader.read(row), rules)
            if group in first:
                assert told(plan) == first[group]
            elif holds_for_alike(plan):
                first[group] = told(plan)
    assert len(first) > 30


def stored(chance: random.Random, texts: list[str]) -> bytes:
    """Give a value, or one that is changed at a place."""
    text = chance.choice(texts)
    if text and chance.random() < 0.5:
        at = chance.randrange(len(text))
        text = text[:at] + chance.choice("0aZ$:=/. é") + text[at + chance.randrange(2) :]
    raw = text.encode()
    return raw if chance.random() < 0.95 else bytes.fromhex("00ff" * 8)
