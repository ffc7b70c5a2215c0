"""`residue`: what still holds old values, everywhere else."""

import os
from concurrent.futures import ProcessPoolExecutor
from contextlib import closing
from dataclasses import dataclass
from datetime import UTC
from multiprocessing import get_context
from pathlib import Path
from typing import TYPE_CHECKING

from lean_tumbler.cli.backups import backup_opener, opening_keys
from lean_tumbler.cli.declared import argument, option
from lean_tumbler.cli.option_types import (
    FORMATS,
    SEVERITIES,
    PolicyOptions,
    ReportOptions,
    is_as_severe,
)
from lean_tumbler.cli.options import policy_path, read_policy
from lean_tumbler.cli.session import Session
from lean_tumbler.errors import UsageError

if TYPE_CHECKING:
    from lean_tumbler.core.residue.known_values import KnownValues
    from lean_tumbler.stores.residue.piecewise import Residue
    from lean_tumbler.stores.residue.tables import OwnPlaces

EXAMPLE = """\
  lean-tumbler residue /var/log/harbour backups/ harbour.db
  lean-tumbler residue dump.tar.gz --backup layer-1.sealed --key recovery.private.pem
  lean-tumbler residue /mnt/archive --fingerprints layer-1.fingerprints --key recovery.private.pem
  tail -f access.log | lean-tumbler residue -

Everything is only read, and no value is printed. With a policy, values that a store holds now are
looked for too: whoever cracks one that is found elsewhere gets in today."""

_STREAM = "-"
_ALONE_BYTES = 1 << 26  # less than that is searched sooner than other processes would start


@dataclass(frozen=True, kw_only=True)
class Options(PolicyOptions, ReportOptions):
    """What the command was asked for."""

    place: list[str] = argument(
        "PLACE", "a file, a folder, an archive, a database's URL, or - for lines of standard input"
    )
    backup: list[Path] = option(
        "FILE",
        "look for exactly what a bulk step replaced, from its sealed backup; may be repeated",
    )
    fingerprints: Path | None = option(
        "FILE",
        "look for exactly what a bulk step replaced, by the fingerprints that it has written",
    )
    key: Path | None = option("FILE", "the private half of the backups' key")
    fail_on: str | None = option(
        None, "exit with 1 if a find is as severe as this, or more", choices=SEVERITIES
    )
    format: str = option(
        None, "how to write the result", choices=(*FORMATS, "sarif"), default=FORMATS[0]
    )


def run(options: Options, session: Session) -> int:
    """Run the command."""
    from lean_tumbler.jobs.residue.residue_report import (
        draw_residue,
        residue_document,
        residue_sarif,
    )
    from lean_tumbler.reports.documents import as_json

    if bool(options.backup or options.fingerprints) is not (options.key is not None):
        raise UsageError(
            "--backup or --fingerprints and --key go together: the file, and whom it was sealed for"
        )
    searched_at = session.clock().astimezone(UTC)
    known = _remembered_values(options)
    own = _live_values(options, known)
    _replaced_values(options, known)
    if options.place == [_STREAM]:
        found = _of_stream(options, session, known)
    else:
        found = _searched(options, session, known, own)
    document = residue_document(found, known, searched_at)
    session.emit(
        options,
        document,
        draw=draw_residue,
        others={"sarif": lambda: [as_json(residue_sarif(document))]},
    )
    return int(is_as_severe((find.severity for find in document.finds), options.fail_on))


def _live_values(options: Options, known: "KnownValues") -> "OwnPlaces":
    """Take what the policy's stores hold now; nothing without a policy."""
    from lean_tumbler.stores.residue.tables import OwnPlaces, add_live_values

    path = policy_path(options)
    if options.policy is None and not path.exists():
        return OwnPlaces()
    return add_live_values(known, read_policy(options), base=path.parent)


def _remembered_values(options: Options) -> "KnownValues":
    """Take fingerprints of what a bulk step replaced; nothing without a file of them."""
    from lean_tumbler.core.residue.known_values import KnownValues
    from lean_tumbler.stores.remembered import read_remembered
    from lean_tumbler.stores.sealed_backup import REMEMBERED, SealedReader, parts_of

    if options.key is None or options.fingerprints is None:
        return KnownValues()
    private, verifying = opening_keys(options, options.key)
    known = None
    for part in parts_of(options.fingerprints) or [options.fingerprints]:
        sealed = SealedReader(
            part, private_key=private, verifying_key=verifying, document=REMEMBERED
        )
        with closing(sealed) as reader:
            key, chunks = read_remembered(reader)
            known = known or KnownValues(key=key)
            for chunk in chunks:
                known.add_remembered(chunk, reader.head.store)
    return known or KnownValues()


def _replaced_values(options: Options, known: "KnownValues") -> None:
    """Take what bulk steps replaced."""
    if options.key is None:
        return
    opened = backup_opener(options, options.key)
    for path in options.backup:
        with closing(opened(path)) as backup:
            for swaps in backup.swaps(unfinished=True):
                known.add((swap.new_bytes for swap in swaps), backup.head.store)


def _of_stream(options: Options, session: Session, known: "KnownValues") -> "Residue":
    """Search standard input line by line, and say each find as it comes."""
    from lean_tumbler.stores.residue.piecewise import Residue, search_lines
    from lean_tumbler.stores.residue.places import SearchedPlace

    found = Residue()
    for number, find in search_lines(session.stdin, known, found, SearchedPlace("standard input")):
        if options.format == "text":
            session.message(f"line {number:,}: {find.certainty}, {find.scheme or 'a value'}")
    return found


def _searched(
    options: Options, session: Session, known: "KnownValues", own: "OwnPlaces"
) -> "Residue":
    from lean_tumbler.jobs.residue.search import search_files, search_sources
    from lean_tumbler.stores.residue.piecewise import Residue, take_known
    from lean_tumbler.stores.residue.places import size_of

    found = Residue()
    with session.progress("Reading tables", total=0, unit="rows") as advance:
        files = search_sources(options.place, known, own, found, progress=advance)
    total = size_of(files.paths)
    workers = (os.cpu_count() or 1) if total > _ALONE_BYTES else 1
    with session.progress("Searching", total=total, unit="bytes") as advance:
        if workers == 1:
            take_known(known)
            search_files(files, known, found, executor=None, workers=1, progress=advance)
        else:
            with ProcessPoolExecutor(
                workers, get_context("spawn"), initializer=take_known, initargs=(known,)
            ) as pool:
                search_files(files, known, found, executor=pool, workers=workers, progress=advance)
    return found
