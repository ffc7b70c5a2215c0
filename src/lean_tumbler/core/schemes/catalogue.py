"""Every scheme this project reads. A new family is one module and one line here."""

from collections.abc import Callable, Mapping
from functools import cache, lru_cache
from importlib import import_module
from types import MappingProxyType

from msgspec import Struct
from msgspec.structs import replace

from lean_tumbler.core.formulas.named import NamedFormula, named_by_itself
from lean_tumbler.core.schemes import keyed, layered
from lean_tumbler.core.schemes.base import (
    PREFIXED_HEX,
    PRINTED_BYTES,
    STORED_ALONE,
    Kind,
    Layout,
    Parameters,
    ParsedValue,
    Says,
    read_first,
)
from lean_tumbler.core.schemes.derivation import CryptScheme, Derivation, Family, Tuning
from lean_tumbler.core.schemes.guess_work import Work
from lean_tumbler.core.schemes.obsolete import (
    digests_and_salts,
    encodings,
    readable,
)
from lean_tumbler.core.schemes.wrappers import needs_certainty, unwrapped

# In this order the families are asked; what stands earlier wins a text that two could claim.
_MODULES = (
    "current.argon2",
    "current.scrypt",
    "current.bcrypt",
    "current.pbkdf2",
    "lock_markers",
    "obsolete.remnants",
    "obsolete.directory_tags",
    "obsolete.server_verifiers",
    "obsolete.encodings",
    "obsolete.digests_and_salts",
    "obsolete.crypt_family",
    "obsolete.readable",
)
_LEGACY_AND_CURRENT: tuple[Family, ...] = tuple(
    import_module(f"{__package__}.{name}").FAMILY for name in _MODULES
)
DERIVATIONS: MappingProxyType[str, Derivation] = MappingProxyType(
    {found.scheme: found for family in _LEGACY_AND_CURRENT for found in family.derivations}
)
FAMILIES: tuple[Family, ...] = (
    keyed.FAMILY,
    layered.family(DERIVATIONS.values()),
    *_LEGACY_AND_CURRENT,
)

# Nothing of another family is hexadecimal throughout and as long as a digest but words in
# hexadecimal. Asked first, they spare the commonest values all other patterns.
HEX_LAYOUTS = (*encodings.HEX_LAYOUTS, *digests_and_salts.HEX_LAYOUTS)

# All of them; a text that is not hexadecimal throughout is none of the first.
LAYOUTS: tuple[Layout, ...] = tuple(
    dict.fromkeys((*HEX_LAYOUTS, *(layout for family in FAMILIES for layout in family.layouts)))
)

# What one guess takes, scheme by scheme.
WORK: MappingProxyType[str, Callable[[Parameters], Work]] = MappingProxyType(
    {scheme: counted for family in FAMILIES for scheme, counted in family.work.items()}
)

# What parameters are chosen of, the recommended first; the first is also what is written where
# nothing else is said.
TUNED: MappingProxyType[str, Tuning] = MappingProxyType(
    {name: found.tuning for name, found in DERIVATIONS.items() if found.tuning is not None}
)

USUAL_TARGET = next(iter(TUNED))

CRYPT_SCHEMES: MappingProxyType[str, CryptScheme] = MappingProxyType(
    {found.scheme: found for family in FAMILIES for found in family.crypt_schemes}
)


# Those of them whose values are bare shapes: nothing in the text names the scheme.
BARE_CRYPT_SCHEMES = tuple(name for name, found in CRYPT_SCHEMES.items() if found.setting_of)


@cache
def own_formulas() -> Mapping[str, NamedFormula]:
    """Give the formulas that layouts name, by fingerprint: layered values may refer to them."""
    texts = dict.fromkeys(text for family in FAMILIES for text in family.formulas)
    return MappingProxyType({found.fingerprint: found for found in map(named_by_itself, texts)})


_WITHIN_NO_NAME = 2  # characters of a beginning that say nothing
_WITHIN_A_NAME = 6  # characters; shorter beginnings of names are anybody's text
# What is no value to be found inside something: words, markers, and what nobody understands.
_NOT_WRAPPED = frozenset({Kind.READABLE, Kind.LOCKED, Kind.UNKNOWN})


TAGS = ("$", "{")  # what begins so says soon of which few layouts it can be, and is no bare digest
TAGGED_LAYOUTS = tuple(layout for layout in LAYOUTS if layout not in HEX_LAYOUTS)
_TAG_CHARACTERS = 5


def layouts_beginning(text: str) -> tuple[Layout, ...]:
    """Give the layouts of which a value can be, by how it begins."""
    return _of_beginning(text[:_TAG_CHARACTERS] if text.startswith(TAGS) else text[:1])


def _layouts_for(text: str) -> tuple[Layout, ...]:
    """Give the layouts of which a value can be, by how it begins and how long it is."""
    return _of_length(text[:_TAG_CHARACTERS] if text.startswith(TAGS) else text[:1], len(text))


@lru_cache(maxsize=4096)
def _of_length(beginning: str, length: int) -> tuple[Layout, ...]:
    return tuple(
        layout
        for layout in _of_beginning(beginning)
        if length <= layout.longest and (not layout.lengths or length in layout.lengths)
    )


@lru_cache(maxsize=1024)
def _of_beginning(beginning: str) -> tuple[Layout, ...]:
    is_tagged = beginning.startswith(TAGS)
    return tuple(
        layout
        for layout in (TAGGED_LAYOUTS if is_tagged else LAYOUTS)
        if not layout.starts
        or any(
            start.startswith(beginning) or beginning.startswith(start) for start in layout.starts
        )
    )


def read_value(text: str) -> ParsedValue:
    """Understand one stored value. Any text gives an answer; none raises."""
    found = read_first(_layouts_for(text), text)
    if found is not None and not _may_be_wrapped(found):
        return found
    wrapped = _wrapped(text)
    if wrapped is not None:
        return wrapped
    if found is not None:
        return found
    return readable.unknown(_like(text))


class ValuePart(Struct, frozen=True):
    """One part of a stored value: its name, and its characters from `start`, before `end`."""

    name: str
    start: int
    end: int


def parts_of(text: str) -> list[ValuePart]:
    """Say where the parts of a stored value stand; of one that no layout reads, nothing.

    Of a value with something around it, the positions are those in the whole text.
    """
    parsed = read_value(text)
    inner = parsed.inner_text or text
    first = text.find(inner)
    layout = next((found for found in layouts_beginning(inner) if found.read(inner)), None)
    match = layout.match(inner) if layout is not None and first >= 0 else None
    if match is None:
        return []
    named = ((name, *match.span(name)) for name in match.groupdict() if match[name])
    placed = sorted(named, key=lambda part: part[1])
    return [ValuePart(name.replace("_", " "), first + a, first + b) for name, a, b in placed]


def stored_value_scheme(text: str) -> str:
    """Name the scheme of a text that reads as a stored value and that nobody types; or nothing.

    Short and bare texts are left out: a manager may have drawn them as a password.
    """
    parsed = read_value(text)
    bare_hex = parsed.layout in {"hex", "hex-upper"} and not text.isdigit() and not text.isalpha()
    is_certain = parsed.says is not Says.NOTHING or parsed.wrappers or bare_hex
    is_value = parsed.kind in STORED_ALONE and parsed.contents.password is None
    return parsed.scheme if is_value and is_certain else ""


def _may_be_wrapped(found: ParsedValue) -> bool:
    """Tell a reading that a whole value inside would be surer than."""
    is_text = found.kind is Kind.READABLE and found.says is Says.NOTHING
    return is_text or found.layout in {PREFIXED_HEX, PRINTED_BYTES}


def _wrapped(text: str) -> ParsedValue | None:
    """Read a value that stands whole within something; None where nothing such is there."""
    for inner, names in unwrapped(text):
        found = read_first(_layouts_for(inner), inner)
        if found is None or found.kind in _NOT_WRAPPED or found.contents.password is not None:
            continue
        if found.says is Says.ALL or not any(needs_certainty(name, inner) for name in names):
            return replace(found, wrappers=names, inner_text=inner)
    return None


_BEGINNINGS = tuple(
    {start for layout in LAYOUTS for start in layout.starts if len(start) > _WITHIN_NO_NAME}
)
_FIRST_SIGNS = _WITHIN_NO_NAME + 1
_FIRST_OF_BEGINNINGS = frozenset(start[:_FIRST_SIGNS] for start in _BEGINNINGS)
_PARTS_OF_BEGINNINGS = frozenset(
    start[:length] for start in _BEGINNINGS for length in range(_WITHIN_A_NAME, len(start) + 1)
)


def _like(text: str) -> str:
    """Name the scheme whose values begin as a text does; empty for none."""
    if text[:_FIRST_SIGNS] not in _FIRST_OF_BEGINNINGS and text not in _PARTS_OF_BEGINNINGS:
        return ""  # hardly any does, and asking each layout takes long
    return next((layout.scheme for layout in LAYOUTS if _begins_like(layout, text)), "")


def _begins_like(layout: Layout, text: str) -> bool:
    """Tell whether a text begins as values of a layout do, or ends within such a beginning."""
    return any(
        (len(start) > _WITHIN_NO_NAME and text.startswith(start))
        or (len(text) >= _WITHIN_A_NAME and start.startswith(text))
        for start in layout.starts
    )
