"""What source code does with passwords, for people."""

from __future__ import annotations

import os
from typing import TYPE_CHECKING

from rich.text import Text

from lean_tumbler.reports.terminal import new_table
from lean_tumbler.reports.wording import count

if TYPE_CHECKING:
    from collections.abc import Iterator

    from rich.console import Console

    from lean_tumbler.jobs.code.documents import (
        CodeDocument,
        CodeFormulaPart,
        LinePart,
        MistakePart,
    )

_STYLES = {"critical": "bold red", "high": "red", "medium": "yellow", "low": "dim"}
_SHOWN = 40  # lines of mistakes; the rest is counted
_PLACES_SHOWN = 200


def draw_code(console: Console, found: CodeDocument) -> None:
    """Print mistakes, formulas and places."""
    _draw_answer(console, found)
    _draw_formulas(console, found)
    _draw_mistakes(console, found.mistakes)
    if found.places:
        _draw_places(console, found)
    _draw_rest(console, found)


def _draw_answer(console: Console, found: CodeDocument) -> None:
    read = f"{count(found.files, 'file')}, {count(found.lines, 'line')} read"
    if not found.files:
        console.print(Text("No source code was found there.", "bold yellow"))
        return
    if not found.mistakes:
        console.print(Text(f"No mistake was found; {read}.", "bold green"))
        return
    critical = sum(each.severity == "critical" for each in found.mistakes)
    files = len({each.path for each in found.mistakes})
    damage = f", {critical:,} of them critical" if critical else ""
    style = "bold red" if critical else "bold yellow"
    text = f"{count(len(found.mistakes), 'mistake')} in {count(files, 'file')}{damage}; {read}."
    console.print(Text(text, style))


def _draw_formulas(console: Console, found: CodeDocument) -> None:
    complete = [each for each in found.formulas if each.complete]
    for each in sorted(complete, key=lambda part: not part.stored):
        console.print()
        console.print(Text(f"{_where(each)} makes stored values by", "bold"))
        console.print(Text(f"  {each.formula}", "cyan"))
        for line in _notes(each):
            console.print(f"  {line}")
    lost = [each for each in found.formulas if not each.complete]
    if lost:
        console.print()
        console.print(Text("Not followed to the end:", "bold"))
        for each in lost:
            console.print(f"  {_where(each)}: {each.formula}")


def _notes(part: CodeFormulaPart) -> Iterator[str]:
    if part.layout:
        yield f"stored as {part.layout}"
    if part.raw:
        yield "stored as bytes, not as text"
    for key in part.keys:
        place = f"stands in {key.path} line {key.line}" if key.path else "is not in the source"
        yield f"key {key.name}: {place}"
    if part.known is not None:
        yield f"opens {part.opened:,} of {count(part.known, 'known account')}"


def _draw_mistakes(console: Console, mistakes: list[MistakePart]) -> None:
    if not mistakes:
        return
    together: dict[str, list[MistakePart]] = {}
    for each in mistakes:
        together.setdefault(each.code, []).append(each)
    shown = 0
    for code, parts in together.items():
        first = parts[0]
        console.print()
        console.print(Text(f"{first.severity}: {code}", _STYLES[first.severity]))
        console.print(f"  {first.means}")
        room = max(1, _SHOWN - shown)
        for each in parts[:room]:
            sure = "" if each.certain else " (likely)"
            console.print(Text(f"  {_where(each)}: {each.evidence}{sure}", "bold"))
        if len(parts) > room:
            console.print(f"  and {count(len(parts) - room, 'line')} more; JSON lists all")
        shown += min(room, len(parts))
        for remedy in dict.fromkeys(each.remedy for each in parts):
            console.print(f"  → {remedy}")


def _draw_places(console: Console, found: CodeDocument) -> None:
    console.print()
    table = new_table("where", "function", "what it does", "how", "how sure")
    for each in found.places[:_PLACES_SHOWN]:
        sure = "certain" if each.certain else "likely"
        table.add_row(_where(each), each.function, each.does, each.how, sure)
    console.print(table)
    left = len(found.places) - _PLACES_SHOWN
    if left > 0:
        console.print(f"and {count(left, 'line')} more; `--format json` lists all")


def _draw_rest(console: Console, found: CodeDocument) -> None:
    console.print()
    if found.damaged:
        names = ", ".join(map(_short, found.damaged[:3]))
        console.print(f"Read only in part, as the parser got: {names}"
                      f"{' and more' if len(found.damaged) > 3 else ''}.")  # fmt: skip
    if found.left_out:
        names = ", ".join(sorted(found.left_out))
        console.print(f"Not read, as others wrote them or programs did: {names} (--all-folders).")
    for each in found.unread[:5]:
        console.print(f"Not read: {_short(each.path)} ({each.reason}).")
    if any(each.complete and each.known is None for each in found.formulas):
        console.print("Next: prove the formulas with --known, a CSV of accounts whose password you "
                      "know.")  # fmt: skip
    elif found.mistakes:
        console.print("Next: mend the critical lines first; then run this again with --fail-on.")


def _where(part: LinePart) -> str:
    return f"{_short(part.path)} line {part.line}"


def _short(path: str) -> str:
    """Write a path from the current folder, where it is below it."""
    try:
        relative = os.path.relpath(path)
    except ValueError:
        return path
    return path if relative.startswith("..") else relative
