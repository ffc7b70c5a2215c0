"""Records whose secrets are not shown: a field that is `Hidden` stands in no representation."""

from typing import Annotated, ClassVar, TypeVar

T = TypeVar("T")
_MARK = "hidden"
Hidden = Annotated[T, _MARK]
_WRITTEN = "Hidden["  # where annotations are kept as texts


class MaskedRecord:
    """What a struct inherits from to show its fields, but for those that are `Hidden`."""

    __slots__ = ()
    _hidden: ClassVar[frozenset[str]] = frozenset()
    __struct_fields__: ClassVar[tuple[str, ...]]

    def __init_subclass__(cls) -> None:
        """Note which fields are not shown."""
        own = {
            name
            for name, told in cls.__dict__.get("__annotations__", {}).items()  # noqa: RUF063 - inspect is slow to import
            if (_WRITTEN in told if isinstance(told, str) else _MARK in _marks(told))
        }
        cls._hidden = cls._hidden | own

    def __repr__(self) -> str:
        """Show what may be shown."""
        fields = ", ".join(f"{name}={shown!r}" for name, shown in self.__rich_repr__())
        return f"{type(self).__name__}({fields})"

    def __rich_repr__(self) -> list[tuple[str, object]]:
        """Give the same to what prints for debugging."""
        shown = (name for name in self.__struct_fields__ if name not in self._hidden)
        return [(name, getattr(self, name)) for name in shown]


def _marks(annotation: object) -> tuple[object, ...]:
    return getattr(annotation, "__metadata__", ())
