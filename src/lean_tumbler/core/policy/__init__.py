"""The policy: what new values are written with, what counts as current, and the stores.

Text comes in, a frozen policy goes out; reading and writing the file is `stores.policy_file`.
"""

from lean_tumbler.core.policy.model import (
    APPLICATION,
    DIRECTORY_SCHEMES,
    PLAIN_ROWS,
    Columns,
    KeySource,
    RowSource,
    StoragePolicy,
    StorePolicy,
    Target,
)

__all__ = [
    "APPLICATION",
    "DIRECTORY_SCHEMES",
    "PLAIN_ROWS",
    "Columns",
    "KeySource",
    "RowSource",
    "StoragePolicy",
    "StorePolicy",
    "Target",
]
