"""`code`: which lines of source make, check, write and leak passwords."""

import logging
from dataclasses import dataclass
from pathlib import Path
from typing import TYPE_CHECKING

from lean_tumbler.cli.declared import argument, flag, option
from lean_tumbler.cli.option_types import FORMATS, ReportOptions, StoreOptions
from lean_tumbler.cli.options import chosen_store, policy_path, read_policy
from lean_tumbler.cli.session import Session
from lean_tumbler.errors import UsageError

if TYPE_CHECKING:
    from lean_tumbler.core.code.reading import CodeRead
    from lean_tumbler.jobs.code.documents import CodeDocument
    from lean_tumbler.stores.known_accounts import KnownAccount
    from lean_tumbler.stores.source_trees import SourceTree

EXAMPLE = """\
  lean-tumbler code portal/
  lean-tumbler code portal.zip desk/ --fail-on high
  lean-tumbler code portal/ --known known.csv
  lean-tumbler code portal/ --format sarif --output code.sarif

Nothing is run and nothing is written. PHP, JavaScript, TypeScript, Python, Java, Ruby, Go and SQL
are read. A constant of the source is never printed, its place is."""

_SEVERITIES = ("low", "medium", "high", "critical")


@dataclass(frozen=True, kw_only=True)
class Options(StoreOptions, ReportOptions):
    """What the command was asked for."""

    place: list[Path] = argument("PLACE", "a folder, a file, or an archive of source code")
    known: Path | None = option(
        "FILE", "try each formula on these known accounts: CSV of login,password,stored[,salt]"
    )
    places: bool = flag("list every line that has to do with passwords too")
    all_folders: bool = flag("read folders of others and of builds too, like vendor/")
    fail_on: str | None = option(
        None, "exit with 1 if a mistake is as severe as this, or more", choices=_SEVERITIES
    )
    format: str = option(
        None, "how to write the result", choices=(*FORMATS, "sarif"), default=FORMATS[0]
    )


def run(options: Options, session: Session) -> int:
    """Run the command."""
    from lean_tumbler.jobs.code.code_report import draw_code
    from lean_tumbler.jobs.code.code_sarif import code_sarif
    from lean_tumbler.jobs.code.documents import code_document
    from lean_tumbler.reports.documents import as_json

    found, tree = read_places(options.place, session, all_folders=options.all_folders)
    document = code_document(found, tree, with_places=options.places)
    if options.known is not None:
        _try(document, found, options, session)
    session.emit(
        options,
        document,
        draw=draw_code,
        others={"sarif": lambda: [as_json(code_sarif(document))]},
    )
    worst = max((_SEVERITIES.index(each.severity) for each in document.mistakes), default=-1)
    limit = _SEVERITIES.index(options.fail_on) if options.fail_on else len(_SEVERITIES)
    return int(worst >= limit)


def read_places(
    places: list[Path], session: Session, *, all_folders: bool = False
) -> tuple["CodeRead", "SourceTree"]:
    """Read source trees and follow their values."""
    try:
        import sqlglot  # noqa: F401 - of the extra that the command needs
        import tree_sitter  # noqa: F401 - likewise
    except ImportError:
        raise UsageError(
            "source code is read with the extra `code`: pip install 'lean-tumbler[code]'"
        ) from None
    from lean_tumbler.core.code.reading import CodeReader
    from lean_tumbler.stores.source_trees import SourceTree

    logging.getLogger("sqlglot").setLevel(logging.CRITICAL)  # what it cannot read is left out
    tree = SourceTree(places, everything=all_folders)
    reader = CodeReader(tree.load)
    with session.progress("Reading", total=0, unit="files") as advance:
        for file in tree.files():
            reader.take(file)
            advance(1)
    with session.progress("Following values", total=reader.followed, unit="files") as advance:
        return reader.read(advance), tree


def _try(document: "CodeDocument", found: "CodeRead", options: Options, session: Session) -> None:
    """Try each formula on known accounts, and note which it opens."""
    from lean_tumbler.jobs.code.trying import opened_by

    accounts = _accounts(options, session)
    for part, formula in zip(document.formulas, found.formulas, strict=True):
        if formula.steps is not None:
            part.known = len(accounts)
            part.opened = opened_by(formula, accounts)


def _accounts(options: Options, session: Session) -> "list[KnownAccount]":
    """Read the known accounts; what is stored for them stands in their file or in a store."""
    from lean_tumbler.stores.known_accounts import names_stored, read_known_accounts
    from lean_tumbler.stores.scans.known_rows import filled_up, with_all_columns

    if options.known is None:
        return []
    from_store = options.store is not None or not names_stored(options.known)
    known = read_known_accounts(options.known, with_stored=not from_store, say=session.message)
    if not from_store:
        return known
    base = policy_path(options).parent
    store = with_all_columns(chosen_store(read_policy(options), options.store), base=base)
    return filled_up(known, store, base=base, say=session.message)
