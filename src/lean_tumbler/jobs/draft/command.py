"""`draft`: a complete policy for what stands at a source."""

import time
from dataclasses import dataclass
from pathlib import Path
from typing import TYPE_CHECKING

from lean_tumbler.cli.declared import argument, flag, option
from lean_tumbler.cli.known_account_proof import prove_known, prover_of
from lean_tumbler.cli.option_types import POLICY_NAME, PolicyOptions, ReportOptions
from lean_tumbler.cli.options import (
    gateway_of,
    opened_store,
    read_policy,
)
from lean_tumbler.cli.session import Session
from lean_tumbler.cli.typed import seconds
from lean_tumbler.errors import UsageError

if TYPE_CHECKING:
    from collections.abc import Sequence

    from lean_tumbler.jobs.draft.source import Draft
    from lean_tumbler.stores.known_accounts import KnownAccount

EXAMPLE = """\
  lean-tumbler draft portal.db
  lean-tumbler draft portal.db known.csv --into tumbler.toml
  lean-tumbler draft postgresql://app@db.example/crm known.csv --merge

known.csv begins with the line login,password: accounts whose password you know, a few of each age.
Stored values, salts and all else come from the source, which is only read. Each cohort of the draft
says how many of them prove it. A line that is not proven is a comment."""


@dataclass(frozen=True, kw_only=True)
class Options(ReportOptions):
    """What the command was asked for."""

    source: str = argument("SOURCE", "a database, file or directory: a path or a URL")
    known: Path | None = argument("KNOWN", "a CSV file of known accounts")
    into: Path = option(
        "FILE",
        f"the policy's file, which may not be there yet (default: {POLICY_NAME})",
        default=Path(POLICY_NAME),
    )
    merge: bool = flag(
        "add what is new to the policy that is there; what it says and its comments stay"
    )
    literal: list[str] = option("TEXT", "a site-wide constant from the old source; may be repeated")
    budget: float = option(
        "SECONDS",
        "end the search for formulas after this time (default: 120)",
        read=seconds,
        default=120.0,
    )


def run(options: Options, session: Session) -> int:
    """Run the command."""
    from lean_tumbler.jobs.draft.draft_report import draft_document, draw_draft

    if options.into.exists() and not options.merge:
        raise UsageError(
            f"{options.into} is there already and is never overwritten; add to it with --merge, or "
            "name another file with --into"
        )
    known = _known(options, session)
    from lean_tumbler.jobs.draft.judging import judged

    day = session.today().isoformat()
    draft, dropped = judged(
        _draft(options, known, session), known, beside=options.into.parent, day=day
    )
    added = _written(options, draft, session)
    _note_proofs(options, session, draft, known)
    session.emit(
        options,
        draft_document(draft, written=options.into, added=added, dropped=dropped),
        draw=lambda console, _: draw_draft(
            console, draft, written=options.into, added=added, dropped=dropped, known=options.known
        ),
    )
    return 0


def _known(options: Options, session: Session) -> "list[KnownAccount]":
    from lean_tumbler.stores.known_accounts import read_known_accounts

    if options.known is None:
        return []
    return read_known_accounts(options.known, with_stored=False, say=session.message)


def _note_proofs(
    options: Options, session: Session, draft: "Draft", known: "Sequence[KnownAccount]"
) -> None:
    """Check the policy as it was written, and note what known accounts and guesses prove."""
    written = PolicyOptions(policy=options.into)
    policy = read_policy(written)
    gateway = gateway_of(written, policy)
    of_draft = {
        store.name: store
        for store in policy.stores.values()
        if any(placed.covers(store) for placed in draft.stores)
    }
    if known:
        prove_known(written, session, gateway, list(of_draft.values()), known)
    for name, store_policy in of_draft.items():
        with opened_store(written, store_policy) as store:
            prover_of(written, session, gateway, name, store).by_guessing(time.monotonic)


def _draft(options: Options, known: "Sequence[KnownAccount]", session: Session) -> "Draft":
    from lean_tumbler.core.drafting.class_solving import Search
    from lean_tumbler.core.formulas.search_space import Constants
    from lean_tumbler.core.formulas.solutions import Narrowed
    from lean_tumbler.jobs.draft.source import draft_source

    deadline = time.monotonic() + options.budget
    with session.progress("Trying", total=0, unit="candidates") as advance:
        return draft_source(
            options.source,
            base=Path(),
            beside=options.into.parent,
            known=known,
            search=Search(
                constants=Constants(tuple(options.literal)),
                narrowed=Narrowed(),
                seconds_left=lambda: max(1.0, deadline - time.monotonic()),
                clock=time.monotonic,
                progress=advance,
            ),
        )


def _written(options: Options, draft: "Draft", session: Session) -> list[str]:
    """Write the policy, if it is a valid one; say what was added to one that was there."""
    from lean_tumbler.core.policy import StoragePolicy
    from lean_tumbler.jobs.draft.policy_text import merged_text, policy_text
    from lean_tumbler.stores.file_access import read_text, write_text
    from lean_tumbler.stores.policy_file import POLICY_BYTES

    added: list[str] = []
    if options.into.exists():
        existing = read_policy(PolicyOptions(policy=options.into)).stores
        text = read_text(options.into, limit_bytes=POLICY_BYTES)
        text, added = merged_text(text, existing, draft.stores)
    else:
        day = session.today().isoformat()
        text = policy_text(draft.stores, source=draft.source, day=day)
    StoragePolicy.from_toml(text, origin=str(options.into))
    write_text(options.into, text, mode=None)
    return added
