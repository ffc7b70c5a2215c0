"""`formula`: recover how the legacy system made its values, and read a formula aloud."""

import time
from dataclasses import dataclass
from pathlib import Path
from typing import TYPE_CHECKING

from lean_tumbler.cli.declared import CommandPart, argument, flag, option
from lean_tumbler.cli.known_accounts import known_accounts, whole_store
from lean_tumbler.cli.option_types import PolicyOptions, ReportOptions, StoreOptions
from lean_tumbler.cli.options import (
    policy_path,
    read_policy,
)
from lean_tumbler.cli.session import Session
from lean_tumbler.cli.typed import seconds
from lean_tumbler.errors import UsageError

if TYPE_CHECKING:
    from lean_tumbler.core.formulas.evaluation import Inputs
    from lean_tumbler.core.formulas.steps import Formula
    from lean_tumbler.core.policy import StoragePolicy, StorePolicy
    from lean_tumbler.jobs.formula.formula_report import ShownFormula
    from lean_tumbler.jobs.formula.solving_files import Solved

EXAMPLE = """\
  lean-tumbler formula solve known.csv
  lean-tumbler formula solve known.csv --store passengers --save portal-2011
  lean-tumbler formula solve known.csv --literal 'berth-17' --hint 'sha1, two rounds' --save desk
  lean-tumbler formula show 'utf-8, append salt, sha1, hex'
  lean-tumbler formula show portal-2011 --known known.csv --login ada

known.csv begins with the line login,password,stored,salt (salt may be left out; further columns
are tried as inputs too). With --store it needs login,password alone: value, salt and every other
column come from the store. Two or three accounts with different passwords are enough."""

_MEASURED_SECONDS = 0.2
_EXAMPLE = ("Möwe 7 <gull>", b"0a1b2c3d", "Ada.Tidewarden@tidepost.example")


@dataclass(frozen=True, kw_only=True)
class SolveOptions(StoreOptions, ReportOptions):
    """What `formula solve` was asked for."""

    known: Path = argument("KNOWN", "a CSV file of known accounts")
    literal: list[str] = option("TEXT", "a site-wide constant from the old source; may be repeated")
    literals_from: Path | None = option("FILE", "a file of such constants, one on each line")
    hint: str | None = option("TEXT", "what is known of it, like 'sha1, loop'")
    budget: float = option(
        "SECONDS", "end the search after this time (default: 60)", read=seconds, default=60.0
    )
    save: str | None = option(
        "NAME",
        "write what was found into the policy: as a cohort of the store, or without --store as "
        "a formula",
    )
    store: str | None = option("NAME", "a store of the policy that holds the known accounts")


@dataclass(frozen=True, kw_only=True)
class ShowOptions(PolicyOptions, ReportOptions):
    """What `formula show` was asked for."""

    formula: str = argument("TEXT|NAME", "a formula, or one of the policy's")
    known: Path | None = option(
        "FILE", "work through an account of this CSV file of known accounts, not an invented one"
    )
    login: str | None = option("NAME", "which of them; without it, the first")
    show_values: bool = flag("show the known account's values at each step")


def _solve(options: SolveOptions, session: Session) -> int:
    from lean_tumbler.core.formulas.search_space import Constants
    from lean_tumbler.core.formulas.solutions import Narrowed
    from lean_tumbler.jobs.formula.formula_report import draw_solve, solve_document
    from lean_tumbler.jobs.formula.solving_files import read_hint, solve_accounts
    from lean_tumbler.stores.file_access import read_lines
    from lean_tumbler.stores.locators import names_around

    store = whole_store(options) if options.store is not None else None
    known = known_accounts(options, options.known, store, session)
    more = read_lines(options.literals_from) if options.literals_from else []
    with session.progress("Trying", total=0, unit="candidates") as advance:
        solved = solve_accounts(
            known,
            constants=Constants(
                literals=tuple(dict.fromkeys((*options.literal, *more))),
                names=names_around(store.locator, store.table) if store else (),
            ),
            narrowed=read_hint(options.hint) if options.hint else Narrowed(),
            budget_seconds=options.budget,
            clock=time.monotonic,
            progress=advance,
        )
    session.emit(
        options, solve_document(solved), draw=lambda console, _: draw_solve(console, solved)
    )
    if not solved.solution.formulas:
        return 1
    if options.save:
        _save(options, options.save, store, solved, session)
    return 0


def _save(
    options: SolveOptions,
    name: str,
    store: "StorePolicy | None",
    solved: "Solved",
    session: Session,
) -> None:
    from lean_tumbler.stores.policy_file import save_cohort, save_formula

    path, formula = policy_path(options), solved.solution.formulas[0]
    if store is None:
        save_formula(path, name, formula)
        session.message(f"{path}: [formulas] now has {name}")
        return
    layout = {"layout": solved.layout} if solved.layout else {}
    parts = {part: store.parts[part] for part in solved.parts}
    save_cohort(path, store.section, {"name": name, "formula": formula, **layout}, parts)
    session.message(f"{path}: the store {store.name} now has the cohort {name}")


def _show(options: ShowOptions, session: Session) -> int:
    from lean_tumbler.core.formulas import notation
    from lean_tumbler.jobs.formula.formula_report import draw_show, show_document

    if options.known is None and (options.login or options.show_values):
        raise UsageError("--login and --show-values go with --known: they are about its accounts")
    policy = read_policy(options, required=False)
    named = policy.formula_named(options.formula)
    formula = named.formula if named else notation.parse(options.formula)
    name = options.formula if named else ""
    if options.known is None:
        shown = _worked(name, formula)
    else:
        shown = _worked_known(options, options.known, policy, name, formula, session)
    session.emit(options, show_document(shown), draw=lambda console, _: draw_show(console, shown))
    return int(bool(shown.known) and not shown.fits)


def _worked(name: str, formula: "Formula") -> "ShownFormula":
    """Work through an invented account; keys are invented too."""
    from lean_tumbler.core.formulas.analysis import keys_used
    from lean_tumbler.core.formulas.evaluation import Inputs, prepared
    from lean_tumbler.core.formulas.tracing import trace
    from lean_tumbler.errors import InputDoesNotFit
    from lean_tumbler.jobs.formula.formula_report import ShownFormula

    password, salt, login = _EXAMPLE
    keys = dict.fromkeys(keys_used(formula), b"an invented key")
    inputs = Inputs(password=password, salt=salt, login=login, keys=keys)
    try:
        prepared(formula)(inputs)
    except InputDoesNotFit:  # an encoding without such letters, or a salt that is hexadecimal
        inputs = Inputs(password="Gull 7", salt=salt, login=login, keys=keys)  # noqa: S106
    return ShownFormula(
        name=name,
        formula=formula,
        example=inputs,
        traced=list(trace(formula, inputs)),
        seconds_each=_seconds_each(formula, inputs),
    )


def _worked_known(
    options: ShowOptions,
    file: Path,
    policy: "StoragePolicy",
    name: str,
    formula: "Formula",
    session: Session,
) -> "ShownFormula":
    """Work through an account of a file of known accounts: the one that is named, or the first."""
    from lean_tumbler.core.formulas.near_misses import fits
    from lean_tumbler.core.formulas.tracing import trace
    from lean_tumbler.jobs.formula.formula_report import ShownFormula
    from lean_tumbler.jobs.formula.solving_files import inputs_of
    from lean_tumbler.stores.known_accounts import read_known_accounts

    known = read_known_accounts(file, with_stored=True, say=session.message)
    wanted = options.login or known[0].login
    account = next((found for found in known if found.login == wanted), None)
    if account is None:
        raise UsageError(f"{options.known}: no account has the login that --login names")
    given = inputs_of(account, policy.keyring.keys)
    inputs = given.inputs
    return ShownFormula(
        name=name,
        formula=formula,
        example=inputs,
        traced=list(trace(formula, inputs)),
        seconds_each=_seconds_each(formula, inputs),
        known=account.login,
        fits=fits(formula, given.stored, inputs),
        show_values=options.show_values,
    )


def _seconds_each(formula: "Formula", inputs: "Inputs") -> float:
    """Measure one guess on one core."""
    from lean_tumbler.core.formulas.evaluation import prepared

    run = prepared(formula)
    started, times = time.perf_counter(), 0
    while times == 0 or time.perf_counter() - started < _MEASURED_SECONDS:
        run(inputs)
        times += 1
    return (time.perf_counter() - started) / times


PARTS = (
    CommandPart(
        name="solve",
        does="find the formula that explains known accounts",
        options=SolveOptions,
        run=_solve,
    ),
    CommandPart(
        name="show",
        does="read a formula aloud, with an example step by step",
        options=ShowOptions,
        run=_show,
    ),
)
