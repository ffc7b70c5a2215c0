"""The sealed files of bulk steps: begun before anything is replaced, and opened again."""

from contextlib import contextmanager
from datetime import datetime, timedelta
from functools import partial
from pathlib import Path
from typing import TYPE_CHECKING

from msgspec.structs import replace

from lean_tumbler.cli.option_types import BackupOptions, BulkOptions, PolicyOptions
from lean_tumbler.cli.options import policy_path
from lean_tumbler.cli.session import Session
from lean_tumbler.errors import UsageError

if TYPE_CHECKING:
    from collections.abc import Callable, Iterator, Sequence

    from lean_tumbler.core.policy import StorePolicy
    from lean_tumbler.stores.interface import Swap
    from lean_tumbler.stores.remembered import RememberingWriter
    from lean_tumbler.stores.sealed_backup import BackupReader, BackupWriter, SealedHead

_KEY_BYTES = 1 << 14


@contextmanager
def sealed_backup(
    options: BulkOptions,
    session: Session,
    store: "StorePolicy",
    started: datetime,
    *,
    step: str,
) -> "Iterator[Callable[[Sequence[Swap]], None]]":
    """Open the sealed backup that is asked for; the end mark is written when all went well."""
    if not isinstance(options, BackupOptions):
        yield lambda _: None
        return
    sealed = _asked_for(options)
    if sealed is None or options.to is None or options.dry_run:
        yield lambda _: None
        return
    from lean_tumbler.stores.file_access import read_text
    from lean_tumbler.stores.sealed_backup import SealedHead
    from lean_tumbler.stores.signing_key import signing_key

    head = SealedHead(
        store=store.name,
        table=store.table,
        step=step,
        made_at=started.isoformat(timespec="seconds"),
        expires_at=_expiry(started, options.keep_days),
    )
    writers = _sealed_writers(
        options,
        head,
        public_key=read_text(options.to, limit_bytes=_KEY_BYTES),
        signing_key=signing_key(policy_path(options)),
    )

    if head.expires_at is not None:
        session.message(head.way_back(str(sealed)))

    def keep(swaps: "Sequence[Swap]") -> None:
        for writer in writers:
            writer.keep(swaps)

    yield keep
    for writer in writers:
        writer.finish()


def _asked_for(options: BackupOptions) -> Path | None:
    """Give a sealed file that is asked for; options that contradict each other are refused."""
    sealed = options.backup or options.fingerprints
    if (sealed is None) is not (options.to is None):
        raise UsageError(
            "--backup or --fingerprints and --to go together: the file, and whom it is sealed for"
        )
    if options.no_backup and options.backup is not None:
        raise UsageError("--backup and --no-backup contradict each other")
    return sealed


def _expiry(started: datetime, keep_days: int | None) -> str | None:
    if keep_days is None:
        return None
    return (started + timedelta(days=keep_days)).isoformat(timespec="seconds")


def _sealed_writers(
    options: BackupOptions, head: "SealedHead", *, public_key: str, signing_key: str
) -> "list[BackupWriter | RememberingWriter]":
    """Begin the sealed files that are asked for."""
    from lean_tumbler.stores.remembered import RememberingWriter, fingerprint_key
    from lean_tumbler.stores.sealed_backup import REMEMBERED, BackupWriter, SealedWriter

    keys = {"public_key": public_key, "signing_key": signing_key}
    writers: list[BackupWriter | RememberingWriter] = []
    if options.backup is not None:
        writers.append(BackupWriter(options.backup, head=head, **keys))
    if options.fingerprints is not None:
        remembered = replace(head, document=REMEMBERED)
        key = fingerprint_key(options.fingerprints, remembered, signing_key)
        sealed = SealedWriter(options.fingerprints, head=remembered, **keys)
        writers.append(RememberingWriter(sealed, key))
    return writers


def backup_opener(options: PolicyOptions, key: Path) -> "Callable[[Path], BackupReader]":
    """Give what opens sealed backups that the key beside the policy has signed.

    Args:
        options: of the policy.
        key: whom they were sealed for, the private half; it is read once.
    """
    from lean_tumbler.stores.sealed_backup import BackupReader

    private, verifying = opening_keys(options, key)
    return partial(BackupReader, private_key=private, verifying_key=verifying)


def opening_keys(options: PolicyOptions, key: Path) -> tuple[str, str]:
    """Read what opens sealed files: whom they were sealed for, and who must have signed them."""
    from lean_tumbler.stores.file_access import read_text
    from lean_tumbler.stores.signing_key import verifying_key

    return read_text(key, limit_bytes=_KEY_BYTES), verifying_key(policy_path(options))
