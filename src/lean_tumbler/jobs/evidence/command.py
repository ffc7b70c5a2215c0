"""`evidence`: takes up what written checks have counted."""

from dataclasses import dataclass
from pathlib import Path

from lean_tumbler.cli.declared import CommandPart, argument
from lean_tumbler.cli.option_types import ReportOptions, StoreOptions
from lean_tumbler.cli.options import chosen_store, opened_rows, policy_path, read_policy
from lean_tumbler.cli.session import Session
from lean_tumbler.errors import UsageError

EXAMPLE = """\
  LEAN_TUMBLER_VERDICTS_KEY_FILE=verdicts.key lean-tumbler evidence add verdicts.log

A file that `embed` wrote counts verdicts there, a signed line each; no login stands in it. The same
file may be taken up again: people are counted once."""


@dataclass(frozen=True, kw_only=True)
class AddOptions(StoreOptions, ReportOptions):
    """What `evidence add` was asked for."""

    file: Path = argument("FILE", "the verdicts, as a written check counted them")


def _add(options: AddOptions, session: Session) -> int:
    from lean_tumbler.jobs.evidence.adding import taken_up
    from lean_tumbler.jobs.evidence.evidence_report import EvidenceDocument, draw_evidence
    from lean_tumbler.stores.evidence_file import EvidenceFile, Shown
    from lean_tumbler.stores.file_access import read_lines
    from lean_tumbler.stores.scans.binding import bindings_of

    policy = read_policy(options)
    store_policy = chosen_store(policy, options.store)
    key = _key()
    with opened_rows(options, store_policy) as store:
        found = taken_up(read_lines(options.file), key=key, store=store, store_policy=store_policy)
        bound = bindings_of({store_policy.name: store}, policy=policy, today=session.today)
        rows = [trial.row for trial in found.trials if trial.row is not None]
        EvidenceFile.beside(policy_path(options)).note(
            Shown.LOGIN, found.trials, bound=bound[store_policy.name](rows)
        )
    document = EvidenceDocument(
        store=store_policy.name,
        lines=found.lines,
        used=len(found.trials),
        against=sum(not trial.right for trial in found.trials),
        not_used=dict(found.bad),
    )
    session.emit(options, document, draw=draw_evidence)
    return int(not found.trials)


def _key() -> bytes:
    """Give the key that lines are signed with.

    Raises:
        UsageError: there is none, or it is too short to be one.
    """
    from lean_tumbler.stores.credentials import from_environment
    from lean_tumbler.stores.verdict_lines import KEY_VARIABLE, LEAST_KEY_CHARACTERS

    text = (from_environment(KEY_VARIABLE) or "").strip()
    if len(text) < LEAST_KEY_CHARACTERS:
        raise UsageError(
            f"{KEY_VARIABLE} (or {KEY_VARIABLE}_FILE) must hold the key that the application "
            f"signs verdicts with: at least {LEAST_KEY_CHARACTERS} random characters"
        )
    return text.encode("utf-8")


PARTS = (
    CommandPart(
        name="add",
        does="take up a file of verdicts",
        options=AddOptions,
        run=_add,
    ),
)
