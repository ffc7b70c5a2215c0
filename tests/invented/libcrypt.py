"""The system's own crypt(3), as an oracle beside the tool."""

import ctypes
import ctypes.util

_LIBRARY = ctypes.CDLL(ctypes.util.find_library("crypt") or "libcrypt.so.1")
_LIBRARY.crypt.restype = ctypes.c_char_p


def crypt(setting: str, password: bytes) -> str:
    """Compute a value from its setting."""
    made = _LIBRARY.crypt(password, setting.encode("ascii"))
    if made is None or made.startswith(b"*"):
        raise ValueError(f"the system does not compute {setting[:4]}")
    return bytes(made).decode("ascii")
