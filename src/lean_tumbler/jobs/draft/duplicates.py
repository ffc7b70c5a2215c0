"""Logins that stand in several rows, and what tells the live row of each."""

from collections.abc import Iterator, Sequence
from typing import Any

import polars as pl

from lean_tumbler.core.audit.discovery import names_passwords
from lean_tumbler.core.drafting.splits import quoted_column
from lean_tumbler.core.policy import Columns
from lean_tumbler.core.reading.conditions import Condition, one_of, parse_condition
from lean_tumbler.jobs.draft.class_scan import CLASS, ClassScan
from lean_tumbler.stores.known_accounts import KnownAccount

_MOST_KINDS = 20  # different texts of a column that tells one kind of row from another
_KINDS_TRIED = 8


def repeated_known(
    columns: Columns, scan: ClassScan, known: Sequence[KnownAccount]
) -> dict[str, Any]:
    """Say how many known logins stand in several rows, and which rows would have each once."""
    if not columns.login:
        return {}
    wanted = {account.login.casefold() for account in known}
    login = pl.col(columns.login).str.to_lowercase()
    rows = scan.known.with_columns(login).filter(login.is_in(wanted))
    logins = rows[columns.login]
    repeated = logins.len() - logins.n_unique()
    if not repeated:
        return {}
    kinds: list[tuple[int, str, str]] = []
    for name in rows.columns:
        values = scan.sample[name].drop_nulls().unique() if name != CLASS else None
        if values is None or values.len() > _MOST_KINDS:
            continue
        for value in values.to_list():
            own = rows.filter(pl.col(name) == value)[columns.login]
            if own.len() == own.n_unique() > 0:
                kinds.append((own.len(), name, value))
    kinds.sort(key=lambda kind: (-kind[0], not names_passwords(kind[2])))
    likeliest = kinds[:_KINDS_TRIED]
    return {
        "repeated": repeated,
        "kinds": tuple(one_of(name, [value]) for _, name, value in likeliest),
    }


def told_apart(columns: Columns, scan: ClassScan) -> dict[str, Any]:
    """Count logins that stand in several rows, and find what leaves one row of each."""
    if not columns.login:
        return {}
    login = scan.sample[columns.login].drop_nulls().str.to_lowercase()
    counted = login.value_counts(name="rows").filter(pl.col("rows") > 1)
    repeated = counted[columns.login]
    if not repeated.len():
        return {}
    rows = scan.sample.filter(pl.col(columns.login).str.to_lowercase().is_in(repeated.implode()))
    others = [name for name in rows.columns if name not in {CLASS, *columns.mapped.values()}]
    found = next(
        (
            condition
            for test in (_null_test, _value_tests)
            for name in others
            for condition, chosen in test(rows, name)
            if chosen[columns.login].str.to_lowercase().n_unique()
            == chosen.height
            == repeated.len()
        ),
        None,
    )
    return {"logins_repeated": repeated.len(), "told_apart_by": found}


def _each_once(logins: pl.Series) -> bool:
    return logins.str.to_lowercase().n_unique() == logins.len()


def _null_test(rows: pl.DataFrame, name: str) -> Iterator[tuple[Condition, pl.DataFrame]]:
    """Try whether a column is empty: a date of deletion, for one."""
    yield (
        parse_condition(f"{quoted_column(name)} null", roles={}),
        rows.filter(pl.col(name).is_null()),
    )


def _value_tests(rows: pl.DataFrame, name: str) -> Iterator[tuple[Condition, pl.DataFrame]]:
    """Try each content of a column that has few: a state, for one."""
    values = rows[name].drop_nulls().unique().sort()
    for value in values.to_list() if values.len() <= _MOST_KINDS else ():
        yield one_of(name, [value]), rows.filter(pl.col(name) == value)
