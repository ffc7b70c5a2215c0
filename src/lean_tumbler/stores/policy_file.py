"""The policy's file: reading it, and writing a target into it with comments kept."""

from collections.abc import Mapping, Sequence
from pathlib import Path

from lean_tumbler.core.policy import StoragePolicy, Target
from lean_tumbler.errors import PolicyError, SourceError
from lean_tumbler.stores.file_access import read_text, write_text

POLICY_BYTES = 1 << 20
# What [target] says beside scheme and costs, which a new measurement does not change.
_KEPT = ("verified_by", "keyed_by", "bound_to", "realm")


def read_policy(path: Path) -> StoragePolicy:
    """Read a policy file; equal tables become stores, of those that are there now.

    Raises:
        PolicyError: it is not there, or has a mistake.
        UsageError: no table has the name that it says.
        SourceError: a database whose tables it does not name one by one cannot be read.
    """
    try:
        text = read_text(path, limit_bytes=POLICY_BYTES)
    except SourceError as error:
        raise PolicyError(f"policy file {error}; name one with --policy") from None
    policy = StoragePolicy.from_toml(text, origin=str(path))
    if not any(store.tables for store in policy.stores.values()):
        return policy
    from lean_tumbler.stores.equal_tables import (  # noqa: PLC0415 - it loads databases
        with_equal_tables,
    )

    return with_equal_tables(policy, base=path.parent)


def save_target(path: Path, target: Target) -> None:
    """Write the target into a policy file; comments and order stay, the old target goes.

    Raises:
        PolicyError: the file with the new target would not be a valid policy.
        SourceError: it cannot be read or written.
    """
    wanted = {"scheme": target.scheme, **target.parameters}
    _save_table(path, "target", wanted, replace=True, kept=_KEPT)


def save_formula(path: Path, name: str, text: str) -> None:
    """Write a formula into a policy file; a file that is not there is begun.

    Raises:
        PolicyError: the file with the new formula would not be a valid policy.
        SourceError: it cannot be read or written.
    """
    _save_table(path, "formulas", {name: text}, replace=False)


def save_cohort(
    path: Path, store: str, cohort: Mapping[str, str | bool], parts: Mapping[str, str]
) -> None:
    """Write a cohort of a store into a policy file, behind those that stand there.

    Args:
        path: the policy's file.
        store: a store of it.
        cohort: what the cohort's table says.
        parts: further inputs of formulas -> the table's own names, where they are not there yet.

    Raises:
        PolicyError: the file with the new cohort would not be a valid policy.
        SourceError: it cannot be read or written.
    """
    import tomlkit  # noqa: PLC0415 - only commands that write the policy need it

    text = with_parts(read_text(path, limit_bytes=POLICY_BYTES), store, parts)
    document = tomlkit.parse(text)
    table = document["store"][store]
    if "cohort" not in table:
        table["cohort"] = tomlkit.aot()
    table["cohort"].append(tomlkit.item(dict(cohort)))
    _write(path, tomlkit.dumps(document))


def with_salt(text: str, store: str, column: str) -> str:
    """Name the salt column of a store in a policy's text; its comments stay."""
    import tomlkit  # noqa: PLC0415 - only commands that write the policy need it

    document = tomlkit.parse(text)
    document["store"][store]["columns"]["salt"] = column
    return tomlkit.dumps(document)


def with_parts(text: str, store: str, parts: Mapping[str, str]) -> str:
    """Add further inputs of formulas to a store in a policy's text; its comments stay.

    Args:
        text: the policy's.
        store: a store of it.
        parts: name -> the table's own name.

    Raises:
        PolicyError: a part of that name is another column.
    """
    import tomlkit  # noqa: PLC0415 - only commands that write the policy need it

    if not parts:
        return text
    document = tomlkit.parse(text)
    known = document["store"][store].setdefault("parts", tomlkit.table())
    for name, column in parts.items():
        if known.setdefault(name, column) != column:
            raise PolicyError(
                f"[store.{store}.parts] “{name}” is another column than the formula's; rename it"
            )
    return tomlkit.dumps(document)


def _save_table(
    path: Path,
    name: str,
    wanted: Mapping[str, object],
    *,
    replace: bool,
    kept: Sequence[str] = (),
) -> None:
    import tomlkit  # noqa: PLC0415 - only commands that write the policy need it

    document = tomlkit.parse(read_text(path, limit_bytes=POLICY_BYTES) if path.exists() else "")
    table = document.get(name)
    if table is None:
        table = tomlkit.table()
        document[name] = table
    for key in [key for key in table if replace and key not in wanted and key not in kept]:
        del table[key]
    for key, value in wanted.items():
        table[key] = value
    _write(path, tomlkit.dumps(document))


def _write(path: Path, text: str) -> None:
    StoragePolicy.from_toml(text, origin=str(path))
    write_text(path, text, mode=None)
