"""docs/SCHEMES.md: every scheme and layout, from the catalogue."""

from lean_tumbler.core.schemes.base import Kind, Layout
from lean_tumbler.core.schemes.catalogue import DERIVATIONS, FAMILIES
from reference.tables import GENERATED, table

_GRADES = {
    Kind.READABLE: "readable",
    Kind.FAST: "fast, with or without salt",
    Kind.ITERATED: "outdated",
    Kind.DERIVATION: "current or outdated, by the floor",
    Kind.LAYERED: "layered",
    Kind.KEYED: "that of the value inside, where the key is at hand; else keyed",
    Kind.LOCKED: "locked",
    Kind.UNKNOWN: "unknown",
}
_HEAD = f"""\
# Schemes and layouts

What this version reads, in the order in which a value is tried. {GENERATED}

A *scheme* is what was computed, a *layout* how it was written down. Layouts are told by their
structure. What no layout reads is called unknown, and is left alone.
"""
_LAYOUT_COLUMNS = ("scheme", "layout", "structure", "grade", "source")
_DERIVATION_COLUMNS = ("scheme", "parameters", "may lie over a digest", "source")


def _row(layout: Layout) -> tuple[str, ...]:
    structure = f"`{layout.structure}`" if "`" not in layout.structure else layout.structure
    return layout.scheme, layout.name, structure, _GRADES[layout.kind], layout.source


def schemes_page() -> str:
    """Write the page."""
    parts = [_HEAD]
    for family in FAMILIES:
        parts.append(f"\n## {family.name[0].upper()}{family.name[1:]}\n\n")
        parts.append(table(_LAYOUT_COLUMNS, map(_row, family.layouts)))
    parts.append("\n## Slow schemes that new values can be written with\n\n")
    rows = (
        (
            derivation.scheme,
            ", ".join(f"`{parameter.name}`" for parameter in derivation.parameters),
            "yes" if derivation.on_top else "no",
            derivation.source,
        )
        for derivation in DERIVATIONS.values()
    )
    parts.append(table(_DERIVATION_COLUMNS, rows))
    return "".join(parts)
