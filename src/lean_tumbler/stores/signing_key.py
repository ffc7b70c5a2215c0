"""The key that signs backups: it stands beside the policy, readable by its owner alone."""

from pathlib import Path

from lean_tumbler.core.signing import new_signing_key, public_half
from lean_tumbler.errors import UsageError
from lean_tumbler.stores.files import read_text, write_text

_KEY_BYTES = 1 << 14
_OF_OTHERS = 0o077


def _private(policy: Path) -> Path:
    return policy.with_suffix(".signing.pem")


def _public(policy: Path) -> Path:
    return policy.with_suffix(".signing.public.pem")


def signing_key(policy: Path) -> str:
    """Give the private key beside a policy; the first time, make it, and its public half.

    Raises:
        UsageError: others may read it.
        SourceError: it cannot be read or written.
    """
    path = _private(policy)
    if not path.exists():
        key = new_signing_key()
        write_text(path, key + "\n")
        write_text(_public(policy), public_half(key) + "\n")
        return key
    if path.stat().st_mode & _OF_OTHERS:
        raise UsageError(f"{path}: others may read the key that signs backups; chmod 600 it")
    return read_text(path, limit_bytes=_KEY_BYTES)


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
        f"{_public(policy)} is not there, so nothing says who wrote the backup; copy it from the "
        "folder in which the bulk step ran"
    )
