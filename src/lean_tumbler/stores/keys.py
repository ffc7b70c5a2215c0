"""Keys: from the environment, files for their owner alone, systemd credentials, and helpers."""

import base64
import binascii
from collections.abc import Mapping
from pathlib import Path

from lean_tumbler.core.policy import KeySource, StoragePolicy
from lean_tumbler.errors import SourceError, UsageError
from lean_tumbler.stores.file_access import read_secret
from lean_tumbler.stores.key_helper import key_from_helper

_FILE_BYTES = 1 << 16
CREDENTIALS = "CREDENTIALS_DIRECTORY"  # systemd.exec(5): where a unit finds its credentials
# A unit with User= reads its credentials by a group's right: systemd.exec(5).
_OF_OTHERS = 0o007


def read_keys(
    policy: StoragePolicy, *, base: Path, environment: Mapping[str, str]
) -> dict[str, bytes]:
    """Read the keys that the policy names; one that is not set is left out.

    What needs a key that is left out says so when it is used.

    Args:
        policy: names the keys.
        base: the folder that file names start from.
        environment: where variables are looked up.

    Raises:
        UsageError: a file that others can read, or a key that is not of its form.
        StoreUnavailable: a helper does not give its key.
    """
    found: dict[str, bytes] = {}
    for name, source in policy.keys.items():
        raw = _raw(name, source, base, environment)
        if raw is not None:
            found[name] = _decoded(name, source, raw)
    return found


def _raw(name: str, source: KeySource, base: Path, environment: Mapping[str, str]) -> bytes | None:
    if source.environment:
        text = environment.get(source.environment)
        return None if text is None else text.encode("utf-8", "surrogateescape")
    if source.helper:
        return key_from_helper(name, source.helper, folder=base)
    if source.file:
        return _from_file(name, base / source.file, others=0o077)
    folder = environment.get(CREDENTIALS)
    if not folder:
        return None
    return _from_file(name, Path(folder) / Path(source.credential).name, others=_OF_OTHERS)


def _from_file(name: str, path: Path, *, others: int) -> bytes | None:
    if not path.exists():
        return None
    try:
        raw = read_secret(path, what="the key", limit_bytes=_FILE_BYTES, others=others)
    except (SourceError, UsageError) as error:
        raise UsageError(f"[keys] “{name}”: {error}") from None
    return raw.removesuffix(b"\n").removesuffix(b"\r")


def _decoded(name: str, source: KeySource, raw: bytes) -> bytes:
    try:
        if source.form == "hex":
            return bytes.fromhex(raw.decode("ascii"))
        if source.form == "base64":
            return base64.b64decode(raw, validate=True)
    except (ValueError, binascii.Error):
        raise UsageError(f"[keys] “{name}”: the key is not {source.form}") from None
    return raw
