"""`keys`: makes keys for sealed backups and over stored values, and tries what each opens."""

import os
from dataclasses import dataclass
from pathlib import Path

from lean_tumbler.cli.bulk import reading_context
from lean_tumbler.cli.declared import CommandPart, argument, flag, option
from lean_tumbler.cli.option_types import ReportOptions, StoreOptions
from lean_tumbler.cli.options import chosen_stores, policy_path, read_policy
from lean_tumbler.cli.session import Session
from lean_tumbler.errors import SourceError, UsageError

EXAMPLE = """\
  lean-tumbler keys new recovery       makes recovery.private.pem and recovery.public.pem
  lean-tumbler keys new pepper-2026 --over-values --copy-for recovery.public.pem
  lean-tumbler keys check
  lean-tumbler keys open pepper-2026.key.sealed --key recovery.private.pem

Keep the private half offline, away from the machine whose values are sealed."""

_FILE_BYTES = 1 << 16


@dataclass(frozen=True, kw_only=True)
class NewOptions:
    """What `keys new` was asked for."""

    name: Path = argument("NAME", "what the files begin with; over values, the key's name")
    over_values: bool = flag("make one key to put over stored values, and not a key pair")
    copy_for: Path | None = option(
        "PUBLICKEY",
        "with --over-values: write a copy too, which the private half of that key opens",
    )


@dataclass(frozen=True, kw_only=True)
class OpenOptions:
    """What `keys open` was asked for."""

    copy: Path = argument("FILE", "a sealed copy of a key")
    key: Path = option("PRIVATEKEY", "the private half of the key that it is sealed for")


@dataclass(frozen=True, kw_only=True)
class CheckOptions(StoreOptions, ReportOptions):
    """What `keys check` was asked for."""

    store: str | None = option("NAME", "a store of the policy; without it, all of them")


def _new(options: NewOptions, session: Session) -> int:
    """Make keys."""
    if options.over_values:
        return _new_over_values(options, session)
    if options.copy_for is not None:
        raise UsageError("--copy-for goes with --over-values; a key pair has its private half")
    from lean_tumbler.core.sealing import new_key_pair

    private, public = (_beside(options.name, f".{half}.pem") for half in ("private", "public"))
    for path in (private, public):
        _require_free(path, "backups sealed for it would be lost")
    private_text, public_text = new_key_pair()
    _write_both((private, private_text + "\n"), (public, public_text + "\n"))
    session.message(f"{private}: the private half. Keep it offline; without it nothing is opened.")
    session.message(f"{public}: the public half, for `layer --backup FILE --to {public}`.")
    return 0


def _new_over_values(options: NewOptions, session: Session) -> int:
    """Make a key to put over stored values, and a sealed copy of it where one is asked for."""
    import re

    from lean_tumbler.core.keyring import KEY_BYTES
    from lean_tumbler.core.schemes.keyed import KEY_NAME
    from lean_tumbler.core.sealed_keys import as_text, sealed_copy
    from lean_tumbler.stores.file_access import read_text

    name = options.name.name
    if not re.fullmatch(KEY_NAME, name, re.ASCII):
        raise UsageError(f"“{name}”: the name of a key is 1 to 32 of a-z, 0-9, “.” and “-”")
    path, copy = _beside(options.name, ".key"), _beside(options.name, ".key.sealed")
    for each in (path, copy):
        _require_free(each, "values under it would never open again")
    key = os.urandom(KEY_BYTES)
    files: list[tuple[Path, str | bytes]] = [(path, as_text(key))]
    if options.copy_for is not None:
        public = read_text(options.copy_for, limit_bytes=_FILE_BYTES)
        files.append((copy, sealed_copy(name, key, public)))
    _write_both(*files)
    session.message(f"{path}: the key, readable by you alone. Keep it off the database's machine.")
    if options.copy_for is None:
        session.message(
            "There is no copy of it: if it is lost, nobody can log in. --copy-for "
            "recovery.public.pem makes one."
        )
    else:
        session.message(f"{copy}: a copy for `keys open`. Keep it apart from the database.")
    session.message(
        "Next, in the policy: keyed_by and realm in [target], and under [keys]: "
        f'{name} = {{ file = "{path}", form = "base64" }}'
    )
    return 0


def _beside(path: Path, ending: str) -> Path:
    return path.with_name(f"{path.name}{ending}")


def _require_free(path: Path, lost: str) -> None:
    if path.exists():
        raise UsageError(f"{path} exists and is not overwritten: {lost}; choose another name")


def _write_both(*files: tuple[Path, str | bytes]) -> None:
    """Write files, or none of them: a half alone would stop the next try."""
    from lean_tumbler.stores.file_access import write_bytes

    written: list[Path] = []
    try:
        for path, content in files:
            raw = content.encode("utf-8") if isinstance(content, str) else content
            write_bytes(path, raw)
            written.append(path)
    except BaseException:
        for path in written:
            path.unlink(missing_ok=True)
        raise


def _open(options: OpenOptions, session: Session) -> int:
    """Write a key again from its sealed copy."""
    from lean_tumbler.core.sealed_keys import as_text, opened_copy
    from lean_tumbler.stores.file_access import file_errors, read_text, write_text

    with file_errors(options.copy):
        raw = options.copy.read_bytes()[:_FILE_BYTES]
    private = read_text(options.key, limit_bytes=_FILE_BYTES)
    try:
        name, key = opened_copy(raw, private)
    except SourceError as error:
        raise SourceError(f"{options.copy}: {error}") from None
    path = options.copy.with_name(f"{name}.key")
    _require_free(path, "values under it would never open again")
    write_text(path, as_text(key))
    session.message(f"{path}: the key, readable by you alone. Next: `keys check`.")
    return 0


def _check(options: CheckOptions, session: Session) -> int:
    """Try each key on what the stores hold."""
    from lean_tumbler.jobs.keys.checking import check_keys
    from lean_tumbler.jobs.keys.keys_report import draw_keys, keys_document
    from lean_tumbler.stores.kinds import kind_of

    policy = read_policy(options)
    base = policy_path(options).parent
    stores = [
        store
        for store in chosen_stores(policy, options.store)
        if kind_of(store.locator, base=base).has_logins
    ]
    with session.progress("Trying", total=0, unit="rows") as advance:
        tried = check_keys(policy, stores, base=base, context=reading_context(advance))
    document = keys_document(tried)
    session.emit(options, document, draw=draw_keys)
    return int(not document.all_open)


PARTS = (
    CommandPart(
        name="new",
        does="make a key pair for sealed backups, or a key over stored values",
        options=NewOptions,
        run=_new,
    ),
    CommandPart(
        name="check",
        does="try each key on what the stores hold, and say which rows it opens",
        options=CheckOptions,
        run=_check,
    ),
    CommandPart(
        name="open",
        does="write a key again from its sealed copy",
        options=OpenOptions,
        run=_open,
    ),
)
