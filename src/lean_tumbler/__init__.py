"""Audit inherited passwords and upgrade every account at login, without a reset.

The public interface is what `__all__` names; everything else may change between versions.

    from lean_tumbler import CredentialGateway, StoragePolicy

    policy = StoragePolicy.from_toml(Path("tumbler.toml").read_text())
    gateway = CredentialGateway(policy)
    outcome = gateway.admit(store="passengers", stored=row.pw, salt=row.salt, password=typed)

What it raises is below `TumblerError`.
"""

from typing import TYPE_CHECKING

if TYPE_CHECKING:
    from lean_tumbler.core.login.gateway import CredentialGateway
    from lean_tumbler.core.login.outcome import Outcome
    from lean_tumbler.core.policy import StoragePolicy
    from lean_tumbler.errors import (
        CheckImpossible,
        KeyMissing,
        PasswordRefused,
        PolicyError,
        StoreUnavailable,
        TumblerError,
        UsageError,
        WriteNotConfirmed,
    )

__all__ = [
    "CheckImpossible",
    "CredentialGateway",
    "KeyMissing",
    "Outcome",
    "PasswordRefused",
    "PolicyError",
    "StoragePolicy",
    "StoreUnavailable",
    "TumblerError",
    "UsageError",
    "WriteNotConfirmed",
]


_HOMES = {
    "CredentialGateway": "lean_tumbler.core.login.gateway",
    "Outcome": "lean_tumbler.core.login.outcome",
    "StoragePolicy": "lean_tumbler.core.policy",
}
_ERRORS = "lean_tumbler.errors"


def __getattr__(name: str) -> object:
    """Import on first use (PEP 562): the command line starts without the library's weight."""
    if name not in __all__:
        raise AttributeError(f"module {__name__!r} has no attribute {name!r}")
    import importlib  # noqa: PLC0415 - deferred on purpose

    return getattr(importlib.import_module(_HOMES.get(name, _ERRORS)), name)
