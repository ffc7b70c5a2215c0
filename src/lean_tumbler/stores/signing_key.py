"""The key that signs backups: it stands beside the policy, readable by its owner alone."""

from pathlib import Path

from lean_tumbler.core.signing import new_signing_key, public_half
from lean_tumbler.errors import UsageError
from lean_tumbler.stores.file_access import create_once, read_secret, read_text

_KEY_BYTES = 1 << 14


def _private(policy: Path) -> Path:
    return policy.with_suffix(".signing.pem")


def _public(policy: Path) -> Path:
    return policy.with_suffix(".signing.public.pem")


def signing_key(policy: Path) -> str:
    """Give the private key beside a policy; the first time, make it, and its public half.

    Raises:
        UsageError: others may read it, or it belongs to somebody else.
        SourceError: it cannot be read or written.
    """
    path = _private(policy)
    if not path.exists():
        create_once(path, new_signing_key().encode("ascii") + b"\n")
    what = "the key that signs backups"
    key = read_secret(path, what=what, limit_bytes=_KEY_BYTES).decode("ascii", "replace")
    if not _public(policy).exists():
        create_once(_public(policy), public_half(key).encode("ascii") + b"\n")
    return key


def verifying_key(policy: Path) -> str:
    """Give what verifies the backups of a policy: the public half, or the key itself.

    Raises:
        UsageError: neither is there.
        SourceError: it cannot be read.
    """
    for path in (_public(policy), _private(policy)):
        if path.exists():
            return read_text(path, limit_bytes=_KEY_BYTES)
    raise UsageError(
        f"{_public(policy)} is missing, so the backup's signature cannot be checked; copy it "
        "from the "
        "folder in which the bulk step ran"
    )
