"""`embed`: writes the check of a store as a source file of the application's own language."""

import os
from dataclasses import dataclass
from pathlib import Path
from typing import TYPE_CHECKING

from lean_tumbler.cli.declared import argument, flag, option
from lean_tumbler.cli.option_types import ReportOptions, StoreOptions
from lean_tumbler.cli.options import (
    chosen_store,
    column_of,
    evidence_of,
    opened_store,
    read_policy,
)
from lean_tumbler.cli.session import Session
from lean_tumbler.core.embedding.names import LANGUAGE_NAMES
from lean_tumbler.errors import UsageError

if TYPE_CHECKING:
    from lean_tumbler.core.embedding.language import Language
    from lean_tumbler.core.policy import StoragePolicy, StorePolicy
    from lean_tumbler.jobs.embed.looking_through import Seen

EXAMPLE = """\
  lean-tumbler embed --list
  lean-tumbler embed php --store passengers --output PassengersLogin.php
  lean-tumbler embed --check PassengersLogin.php

Every row is read as the file reads it and as `admit` does; one that differs is counted, and no file
is written then unless --leave-out says so. The database is only read."""


@dataclass(frozen=True, kw_only=True)
class Options(StoreOptions, ReportOptions):
    """What the command was asked for."""

    language: str | None = argument("LANGUAGE", "which language", choices=LANGUAGE_NAMES)
    output: Path | None = option("FILE", "the file to write")
    with_test: Path | None = option(
        "FILE", "write its test too, in the language's usual runner, with invented passwords"
    )
    leave_out: bool = flag("write it although it cannot check some rows, which get no answer")
    check: list[Path] = option("FILE", "say whether a file is what would be written now")
    list: bool = flag("say what each language can check and write")


def run(options: Options, session: Session) -> int:
    """Run the command."""
    if options.list:
        return _list(options, session)
    if options.check:
        return _check(options, session)
    if options.language is None or options.output is None:
        raise UsageError("name a language and --output FILE; or give --list, or --check FILE")
    return _write(options, session, options.language, options.output)


def _list(options: Options, session: Session) -> int:
    from lean_tumbler.core.embedding.registry import LANGUAGES
    from lean_tumbler.jobs.embed.embed_report import (
        LanguagePart,
        LanguagesDocument,
        draw_languages,
    )

    found = LanguagesDocument(
        languages=[
            LanguagePart(
                name=each.name,
                title=each.title,
                writes=sorted(each.writes),
                verifies=sorted(each.direct | each.crypt),
                layers=sorted(each.on_top),
                needs=each.all_needs(),
            )
            for each in LANGUAGES.values()
        ]
    )
    session.emit(options, found, draw=draw_languages)
    return 0


def _check(options: Options, session: Session) -> int:
    from lean_tumbler.core.embedding.heads import Standing
    from lean_tumbler.jobs.embed.embed_report import (
        EmbedCheckDocument,
        StandingPart,
        draw_standing,
    )
    from lean_tumbler.stores.embedded_files import standing_of

    policy = read_policy(options)
    evidence = evidence_of(options, policy)()
    standings = {path: standing_of(path, policy, evidence) for path in options.check}
    found = EmbedCheckDocument(
        files=[
            StandingPart(file=str(path), is_current=each is Standing.CURRENT, standing=str(each))
            for path, each in standings.items()
        ]
    )
    session.emit(options, found, draw=draw_standing)
    return int(not all(each.is_current for each in found.files))


def _write(options: Options, session: Session, name: str, output: Path) -> int:
    from lean_tumbler.core.embedding.heads import written
    from lean_tumbler.core.embedding.registry import LANGUAGES
    from lean_tumbler.core.embedding.vectors import vectors
    from lean_tumbler.jobs.embed.embed_report import EmbedDocument, draw_embed
    from lean_tumbler.stores.file_access import write_text

    policy = read_policy(options)
    store = chosen_store(policy, options.store)
    language = LANGUAGES[name]
    seen = _seen(options, session, policy, store, language)
    lacks = language.lacks(seen.check)
    is_written = not lacks and (options.leave_out or not seen.lacking)
    if is_written:
        write_text(output, written(language, seen.check), mode=None)
        if options.with_test is not None:
            rows = list(vectors(seen.check, os.urandom))
            test = language.test_source(seen.check, output.name, rows)
            write_text(options.with_test, test, mode=None)
    found = EmbedDocument(
        store=store.name,
        language=name,
        file=str(output) if is_written else None,
        test=str(options.with_test) if is_written and options.with_test else None,
        rows=seen.rows,
        lacks=lacks,
        not_checked=dict(seen.lacking),
        needs=language.needed(seen.check),
        is_finished=is_written and language.is_finished(seen.check),
    )
    session.emit(_to_terminal(options), found, draw=draw_embed)
    return int(not is_written)


def _to_terminal(options: Options) -> Options:
    """Give the same options without the file, which holds the check and not the report."""
    from dataclasses import replace

    return replace(options, output=None)


def _seen(
    options: Options,
    session: Session,
    policy: "StoragePolicy",
    store: "StorePolicy",
    language: "Language",
) -> "Seen":
    from lean_tumbler.core.embedding.check import Holds
    from lean_tumbler.core.embedding.making import made_check
    from lean_tumbler.core.policy import APPLICATION
    from lean_tumbler.core.reading.of_stores import store_reader
    from lean_tumbler.jobs.embed.looking_through import Seen, look_through
    from lean_tumbler.stores.interface import Store

    evidence = evidence_of(options, policy)().store(store.name)
    if store.locator == APPLICATION:
        return Seen(check=made_check(policy, store, Holds(), evidence))
    with opened_store(options, store) as opened:
        if not isinstance(opened, Store):
            raise UsageError(f"[store.{store.name}]: its rows cannot be gone through")
        with session.progress("Reading", total=2 * opened.count(), unit="rows") as advance:
            return look_through(
                opened,
                policy=policy,
                store_policy=store,
                reader=store_reader(policy, store, column=column_of(options, policy, store)),
                evidence=evidence,
                language=language,
                progress=advance,
            )
