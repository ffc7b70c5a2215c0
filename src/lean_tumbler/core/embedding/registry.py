"""The languages that a check is written in. A new one is a folder, and its name in `names`."""

from collections.abc import Mapping
from importlib import import_module
from types import MappingProxyType

from lean_tumbler.core.embedding.language import Language
from lean_tumbler.core.embedding.names import LANGUAGE_NAMES

LANGUAGES: Mapping[str, Language] = MappingProxyType(
    {
        name: import_module(f"{__package__}.languages.{name}.source").LANGUAGE
        for name in LANGUAGE_NAMES
    }
)
