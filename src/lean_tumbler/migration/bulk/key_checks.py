"""Whether the keys that stored values name are there, and the right ones."""

from lean_tumbler.core.policy import StoragePolicy
from lean_tumbler.errors import KeyMissing
from lean_tumbler.stores.interface import LoginStore, Store


def require_keys(store: LoginStore, policy: StoragePolicy) -> None:
    """Refuse to touch a store whose values are under a key that is not there, or is another one.

    The key of new values has to be there too, and to be a random one.

    Raises:
        KeyMissing: naming the key.
        UsageError: a key was not drawn at random.
    """
    keyring = policy.keyring
    keyring.require_key()
    for (name, check), rows in (store.key_heads() if isinstance(store, Store) else {}).items():
        own = keyring.check_of(name)
        if own == check and keyring.may_open:
            continue
        if not keyring.may_open:
            problem = "[target] names no realm, so that none opens"
        elif own is None:
            problem = "it is not there; see [keys]"
        else:
            problem = "[keys] holds another one, or [target] realm is another; nothing was touched"
        raise KeyMissing(
            f"{store.table}: {rows:,} values are under the key “{name}”: {problem}. "
            "`lean-tumbler keys check` tries each key"
        )
