"""The system's own crypt(3), for methods that nobody should write again.

Which of them there are, the system's libcrypt says. `crypt_r` keeps its state in memory that the
caller gives, so several threads may call it at once.
"""

import ctypes
import ctypes.util
from functools import lru_cache
from typing import Any

from lean_tumbler.errors import CheckImpossible, InputDoesNotFit

_STATE_BYTES = 1 << 18  # the system's libcrypt takes 32 KiB, older ones 128
_NAMES = ("libcrypt.so.2", "libcrypt.so.1", "libcrypt.so")


@lru_cache(maxsize=1)
def crypt_function() -> Any:
    """Load the function; None where the system has none."""
    for name in (*_NAMES, ctypes.util.find_library("crypt")):
        if name is None:
            continue
        try:
            function = ctypes.CDLL(name).crypt_r
        except (OSError, AttributeError):
            continue
        function.argtypes = (ctypes.c_char_p, ctypes.c_char_p, ctypes.c_void_p)
        function.restype = ctypes.c_char_p
        return function
    return None


def system_crypt(setting: str, password: bytes) -> str:
    """Compute the whole stored text from its setting, or from a whole text of the same setting.

    Raises:
        CheckImpossible: there is no such library, or it lacks the method.
        InputDoesNotFit: the password holds a NUL, which it cannot take.
    """
    function = crypt_function()
    if function is None:
        raise CheckImpossible("this system has no libcrypt; install its package (libcrypt1)")
    if b"\0" in password:
        raise InputDoesNotFit("crypt(3) takes no password with a NUL")
    state = ctypes.create_string_buffer(_STATE_BYTES)
    found = function(password, setting.encode("ascii"), state)
    # Failure is told by NULL, or by a text that begins with a star (crypt(3)).
    if not found or found.startswith(b"*"):
        raise CheckImpossible("this system's libcrypt does not offer the scheme")
    return bytes(found).decode("ascii")
