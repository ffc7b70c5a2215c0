"""docs/SCHEMES.md, generated from the catalogue: `python -m lean_tumbler.reports.catalogue`."""

import sys

from lean_tumbler.core.schemes.base import Kind, Layout
from lean_tumbler.core.schemes.catalogue import DERIVATIONS, FAMILIES

_GRADES = {
    Kind.READABLE: "readable",
    Kind.FAST: "fast, with or without salt",
    Kind.ITERATED: "outdated",
    Kind.DERIVATION: "current or outdated, by the floor",
    Kind.LAYERED: "layered",
    Kind.LOCKED: "locked",
    Kind.UNKNOWN: "unknown",
}
_HEAD = """\
# Schemes and layouts

What this version reads, in the order in which a value is tried. This page is generated from the
code: `python -m lean_tumbler.reports.catalogue > docs/SCHEMES.md`.

A *scheme* is what was computed, a *layout* how it was written down. Layouts are told by their
structure. What no layout reads is called unknown, and is left alone.
"""
_DERIVATIONS_HEAD = """
## Slow schemes that new values can be written with

| scheme | parameters | may lie over a digest | source |
|---|---|---|---|
"""


def _cell(text: str) -> str:
    return text.replace("|", "\\|")


def _row(layout: Layout) -> str:
    structure = f"`{layout.structure}`" if "`" not in layout.structure else layout.structure
    cells = (layout.scheme, layout.name, structure, _GRADES[layout.kind], layout.source)
    return f"| {' | '.join(_cell(cell) for cell in cells)} |"


def schemes_page() -> str:
    """Write the page."""
    parts = [_HEAD]
    for family in FAMILIES:
        parts.append(f"\n## {family.name[0].upper()}{family.name[1:]}\n")
        parts.append("\n| scheme | layout | structure | grade | source |\n|---|---|---|---|---|\n")
        parts.extend(_row(layout) + "\n" for layout in family.layouts)
    parts.append(_DERIVATIONS_HEAD)
    for derivation in DERIVATIONS.values():
        names = ", ".join(f"`{parameter.name}`" for parameter in derivation.parameters)
        layer = "yes" if derivation.on_top else "no"
        parts.append(f"| {derivation.scheme} | {names} | {layer} | {derivation.source} |\n")
    return "".join(parts)


if __name__ == "__main__":
    sys.stdout.write(schemes_page())
