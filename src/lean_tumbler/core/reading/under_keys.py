"""Which values a key may go over, and which of them go under another one."""

from lean_tumbler.core.keyring import Keyring
from lean_tumbler.core.reading.readings import Reading
from lean_tumbler.core.schemes.base import Kind


def is_sealable(reading: Reading) -> bool:
    """Tell whether a key may go over a value: it is layered, or of a slow scheme, and clean."""
    kinds = {Kind.DERIVATION, Kind.LAYERED}
    return reading.parsed.kind in kinds and not reading.parsed.wrappers


def goes_under_key(reading: Reading, keyring: Keyring) -> bool:
    """Tell whether a value that stays as it is goes under the key of new values at a login."""
    is_due = bool(keyring.sealed_by) and not keyring.is_latest(reading.keyed)
    return is_due and is_sealable(reading)
