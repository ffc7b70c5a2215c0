"""The policy's file: reading it, and writing a target into it with comments kept."""

from pathlib import Path

from lean_tumbler.core.policy import StoragePolicy, Target
from lean_tumbler.errors import PolicyError, SourceError
from lean_tumbler.stores.files import read_text, write_text

POLICY_BYTES = 1 << 20


def read_policy(path: Path) -> StoragePolicy:
    """Read a policy file.

    Raises:
        PolicyError: it is not there, or has a mistake.
    """
    try:
        text = read_text(path, limit_bytes=POLICY_BYTES)
    except SourceError as error:
        raise PolicyError(f"policy file {error}; name one with --policy") from None
    return StoragePolicy.from_toml(text, origin=str(path))


def save_target(path: Path, target: Target) -> None:
    """Write the target into a policy file; comments and order stay, the old target goes.

    Raises:
        PolicyError: the file with the new target would not be a valid policy.
        SourceError: it cannot be read or written.
    """
    import tomlkit  # noqa: PLC0415 - only commands that write the policy need it

    document = tomlkit.parse(read_text(path, limit_bytes=POLICY_BYTES))
    table = document.get("target")
    if table is None:
        table = tomlkit.table()
        document["target"] = table
    wanted = {"scheme": target.scheme, **target.parameters}
    for key in [key for key in table if key not in wanted]:
        del table[key]
    for key, value in wanted.items():
        table[key] = value
    text = tomlkit.dumps(document)
    StoragePolicy.from_toml(text, origin=str(path))
    write_text(path, text, mode=None)
