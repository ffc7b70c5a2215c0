"""What remains, and where: for people, for programs and for code scanning. Never a value."""

from __future__ import annotations

from typing import TYPE_CHECKING, Any

from rich.text import Text

from lean_tumbler.core.residue.finds import Encoding, Recognition
from lean_tumbler.jobs.residue.remedies import remedy_of
from lean_tumbler.reports.residue import RemainsPart, ResidueDocument, UnreadPart
from lean_tumbler.reports.sarif import LEVELS, sarif_log
from lean_tumbler.reports.terminal import new_table
from lean_tumbler.reports.wording import count

if TYPE_CHECKING:
    from collections.abc import Iterator
    from datetime import datetime

    from rich.console import Console

    from lean_tumbler.core.residue.known_values import KnownValues
    from lean_tumbler.stores.residue.piecewise import Remains, Residue, Spot

_PLACES_SHOWN = 10
_UNREAD_SHOWN = 5
_KINDS_NAMED = 3
RULE = "stored-value-elsewhere"
_MEANS = {
    Recognition.EXACT: "a value that a store holds, or held",
    Recognition.SAID: "the text says itself what it is",
    Recognition.NAMED: "a digest beside a word for passwords, or in such a column",
}


def severity(spot: Spot, found: Remains) -> str:
    """Say how bad finds at a spot are; what a store still holds is worst."""
    if found.live:
        return "critical"
    return "medium" if spot.certainty is Recognition.NAMED else "high"


def _sorted(found: Residue) -> list[tuple[Spot, Remains]]:
    order = {"critical": 0, "high": 1, "medium": 2, "low": 3}
    return sorted(found.remains.items(), key=lambda item: (order[severity(*item)], -item[1].count))


def residue_document(found: Residue, known: KnownValues, searched_at: datetime) -> ResidueDocument:
    """Give what remains as a document."""
    return ResidueDocument.of(
        found,
        searched_at=searched_at.isoformat(timespec="seconds"),
        values=found.count,
        still_held=found.live,
        looked_for=len(known.stores),
        not_looked_for=known.left_out,
        finds=[_entry(spot, remains) for spot, remains in _sorted(found)],
        unread=[UnreadPart(place=str(each.place), reason=each.reason) for each in found.unread],
    )


def _entry(spot: Spot, remains: Remains) -> RemainsPart:
    return RemainsPart.of(
        spot,
        place=spot.place.path,
        members=list(spot.place.members),
        first=remains.first,
        values=remains.count,
        still_held=remains.live,
        administrators=remains.privileged,
        severity=severity(spot, remains),
        remedy=remedy_of(spot),
    )


def draw_residue(console: Console, found: ResidueDocument) -> None:
    """Print what remains, where, and what its owner can do."""
    searched = f"{count(found.places, 'place')} ({found.bytes / 2**20:,.1f} MiB) searched"
    places = len({(find.place, *find.members) for find in found.finds})
    if not found.values:
        left = len(found.unread)
        unread = f", and {count(left, 'place')} not" if left else ""
        style = "bold yellow" if left else "bold green"
        console.print(Text(f"No stored value was found; {searched}{unread}.", style))
    else:
        where = f"{count(found.values, 'stored value')} in {count(places, 'place')}"
        console.print(Text(f"{where}; {searched}.", "bold yellow"))
    if held := found.still_held:
        console.print(
            Text(
                f"{held:,} of them are still what a store holds: whoever cracks one gets in; one "
                "that is keyed, with its key alone.",
                "bold red",
            )
        )
    if found.values:
        _draw_places(console, found)
    _draw_unread(console, found)
    _draw_end(console, found)


def _draw_places(console: Console, found: ResidueDocument) -> None:
    console.print()
    table = new_table("where", "first", "values", "still held", "what", "how sure", right=(2, 3))
    together: dict[tuple[str, Recognition], list[RemainsPart]] = {}
    for find in found.finds:
        together.setdefault((find.where, find.certainty), []).append(find)
    for (where, certainty), finds in list(together.items())[:_PLACES_SHOWN]:
        live = sum(find.still_held for find in finds)
        table.add_row(
            Text(where, "red" if live else ""),
            finds[0].first,
            f"{sum(find.values for find in finds):,}",
            f"{live:,}" if live else "",
            _kinds(finds),
            str(certainty),
        )
    console.print(table)
    if len(together) > _PLACES_SHOWN:
        more = len(together) - _PLACES_SHOWN
        console.print(f"and {more:,} more; --format json names all of them", style="dim")
    console.print()
    console.print("What their owners can do:")
    for remedy, where in _remedies(found.finds):
        console.print(f"  {where}: {remedy}.", highlight=False)


def _kinds(finds: list[RemainsPart]) -> str:
    """Name the schemes, and the encodings where they are others than usual."""
    named = dict.fromkeys(
        find.scheme if find.encoding is Encoding.PLAIN else f"{find.scheme} ({find.encoding})"
        for find in finds
    )
    more = f" and {len(named) - _KINDS_NAMED} more" if len(named) > _KINDS_NAMED else ""
    return ", ".join(list(named)[:_KINDS_NAMED]) + more


def _remedies(finds: list[RemainsPart]) -> Iterator[tuple[str, str]]:
    """Give each remedy once, with the places that it is for."""
    places: dict[str, list[str]] = {}
    for find in finds:
        named = places.setdefault(find.remedy, [])
        if find.place not in named:
            named.append(find.place)
    for remedy, paths in places.items():
        more = f" and {len(paths) - 3} more" if len(paths) > 3 else ""
        yield remedy, ", ".join(paths[:3]) + more


def _draw_unread(console: Console, found: ResidueDocument) -> None:
    if not found.unread:
        return
    console.print()
    console.print(Text(f"{count(len(found.unread), 'place')} could not be searched:", "bold"))
    for each in found.unread[:_UNREAD_SHOWN]:
        console.print(f"  {each.place}: {each.reason}", highlight=False)
    if len(found.unread) > _UNREAD_SHOWN:
        console.print(f"  and {len(found.unread) - _UNREAD_SHOWN:,} more")


def _draw_end(console: Console, found: ResidueDocument) -> None:
    console.print()
    if found.not_looked_for:
        console.print(
            f"Not searched for: {count(found.not_looked_for, 'value')} of stores that could occur "
            "anywhere: short texts, words and numbers.",
            style="dim",
        )
    if not found.looked_for:
        console.print(
            "This searched for texts that are unmistakably stored values. With a policy, it also "
            "searches for what its stores hold now; with --backup and --key, for exactly what was "
            "replaced.",
            style="dim",
        )
    if found.values:
        console.print("Next: after these steps, run the same command again; it must find nothing.")


def residue_sarif(found: ResidueDocument) -> dict[str, Any]:
    """Give what remains for code scanning, one result a place."""
    rules = [
        {
            "id": f"{RULE}-{certainty.name.lower()}",
            "shortDescription": {"text": "A stored value is where none should be."},
            "fullDescription": {"text": f"How sure: {means}."},
        }
        for certainty, means in _MEANS.items()
    ]
    results = [
        {
            "ruleId": f"{RULE}-{find.certainty.name.lower()}",
            "level": LEVELS[find.severity],
            "message": {
                "text": f"{count(find.values, 'stored value')} ({find.scheme}, {find.encoding}); "
                f"the first at {find.first}. {find.remedy}."
            },
            "locations": [{"physicalLocation": _location(find)}],
        }
        for find in found.finds
    ]
    return sarif_log(rules, results, whole=not found.unread)


def _location(find: RemainsPart) -> dict[str, Any]:
    location: dict[str, Any] = {"artifactLocation": {"uri": find.place}}
    kind, _, number = find.first.partition(" ")
    if kind == "line":
        location["region"] = {"startLine": int(number.replace(",", ""))}
    return location
