"""`code`: which lines of source make, check, write and leak passwords."""

import logging
from dataclasses import dataclass
from pathlib import Path
from typing import TYPE_CHECKING

from lean_tumbler.cli.declared import argument, flag, option
from lean_tumbler.cli.known_accounts import known_accounts, whole_store
from lean_tumbler.cli.option_types import (
    FORMATS,
    SEVERITIES,
    ReportOptions,
    StoreOptions,
    is_as_severe,
)
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
are read. Of a constant that goes into values, the place is printed; its text, where it has at most
three characters or signs alone."""


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
        None, "exit with 1 if a mistake is as severe as this, or more", choices=SEVERITIES
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
        _try(document, found, _accounts(options, options.known, session))
    session.emit(
        options,
        document,
        draw=draw_code,
        others={"sarif": lambda: [as_json(code_sarif(document))]},
    )
    return int(is_as_severe((each.severity for each in document.mistakes), options.fail_on))


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


def _try(document: "CodeDocument", found: "CodeRead", accounts: "list[KnownAccount]") -> None:
    """Try each formula on known accounts, and note which it opens."""
    from lean_tumbler.jobs.code.trying import opened_by

    for part, formula in zip(document.formulas, found.formulas, strict=True):
        if formula.steps is not None:
            part.known = len(accounts)
            part.opened = opened_by(formula, accounts)


def _accounts(options: Options, known: Path, session: Session) -> "list[KnownAccount]":
    from lean_tumbler.stores.known_accounts import names_stored

    from_store = options.store is not None or not names_stored(known)
    return known_accounts(options, known, whole_store(options) if from_store else None, session)
