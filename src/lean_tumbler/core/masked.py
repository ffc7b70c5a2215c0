"""A value that hides itself wherever it might be printed."""

from typing import Generic, TypeVar

T = TypeVar("T", str, bytes)


class Masked(Generic[T]):
    """Carries a secret through code that prints, logs or raises; `reveal()` gives it back."""

    __slots__ = ("_secret",)

    def __init__(self, secret: T) -> None:
        self._secret: T = secret

    def reveal(self) -> T:
        """Give the secret: only where it is used, never where it is shown."""
        return self._secret

    def __repr__(self) -> str:
        return "Masked(…)"

    def __str__(self) -> str:
        return "…"

    def __format__(self, specification: str) -> str:
        return "…"

    def __reduce__(self) -> "str | tuple[object, ...]":
        raise TypeError("a masked value is not serialised")
