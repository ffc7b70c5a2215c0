"""Files that `embed` wrote, where they stand: read, and held against the policy."""

from pathlib import Path

from lean_tumbler.core.embedding.heads import (
    LARGEST_BYTES,
    FileHead,
    Standing,
    standing,
    written,
)
from lean_tumbler.core.embedding.making import made_check
from lean_tumbler.core.embedding.registry import LANGUAGES
from lean_tumbler.core.policy import StoragePolicy, StorePolicy
from lean_tumbler.core.reading.evidence import Evidence
from lean_tumbler.stores.file_access import read_text


def files_behind(
    store: StorePolicy, policy: StoragePolicy, evidence: Evidence, *, base: Path
) -> list[str]:
    """Name the files of a store that are not what would be written now; one that is not there too.

    Args:
        store: of the policy.
        policy: the whole.
        evidence: which alternatives people have ruled out.
        base: the folder that relative names start from.
    """
    return [
        name
        for name in store.embedded
        if standing_of(base / name, policy, evidence) is not Standing.CURRENT
    ]


def standing_of(path: Path, policy: StoragePolicy, evidence: Evidence) -> Standing:
    """Say how a file stands to the policy.

    Args:
        path: of the file.
        policy: the whole.
        evidence: which alternatives people have ruled out.

    Raises:
        SourceError: it cannot be read.
    """

    def again(head: FileHead) -> str | None:
        store = policy.stores.get(head.store)
        if store is None:
            return None
        check = made_check(policy, store, head.holds, evidence.store(store.name))
        return written(LANGUAGES[head.language], check)

    if not path.exists():
        return Standing.MISSING
    return standing(read_text(path, limit_bytes=LARGEST_BYTES), again)
