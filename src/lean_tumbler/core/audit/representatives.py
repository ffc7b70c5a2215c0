"""A representative of rows that are alike: its row, and what the store's cohorts say of it."""

from collections.abc import Mapping, Sequence
from typing import Any

from msgspec.structs import replace

from lean_tumbler.core.audit.cohort_marks import OTHER
from lean_tumbler.core.formulas.analysis import digests_used
from lean_tumbler.core.reading.readings import Reading, State
from lean_tumbler.core.reading.rows import Row, bytes_of
from lean_tumbler.core.reading.ways import FormulaWay, PasswordWay
from lean_tumbler.core.schemes.base import Kind, ParsedValue


def row_of(found: Mapping[str, Any]) -> Row:
    """Give a frame's row as a reading takes it."""
    others = {name.removeprefix(OTHER): _raw(content) for name, content in found.items()
              if name.startswith(OTHER)}  # fmt: skip
    return Row(
        stored=_raw(found["stored"]),
        salt=_raw(found["salt"]),
        login=found["login"],
        others=others,
    )


def _raw(text: str | None) -> bytes | None:
    return None if text is None else bytes_of(text)


def explained(
    understood: Reading,
) -> tuple[ParsedValue, Sequence[FormulaWay], bool | None, str]:
    """Let the store's cohorts say what a value is, where all that fit say the same."""
    parsed = understood.parsed
    ways = [way for way in understood.ways if isinstance(way, FormulaWay)]
    declared = understood.state is State.VALUE and bool(understood.cohorts)
    if declared and any(isinstance(way, PasswordWay) for way in understood.ways):
        kind = replace(parsed, scheme="plain-text", kind=Kind.READABLE)
        is_plain = parsed.scheme in {"plain-text", "unknown"}
        return (kind if is_plain else parsed), (), None, ""
    digests = {(digests_used(way.formula.formula) or ("",))[-1] for way in ways}
    takes_salt = {way.formula.takes_login or bool(way.salt) for way in ways}
    names = understood.cohorts
    if not declared or len(digests) != 1 or not {way.name for way in ways} <= set(names):
        return parsed, (), None, ""
    contents = replace(parsed.contents, confidence=1.0, also_possible=())
    explained = replace(
        parsed,
        scheme=digests.pop(),
        layout=ways[0].layout or parsed.layout,
        kind=Kind.FAST,
        contents=contents,
    )
    said = ", ".join(way.name for way in ways)
    salted = takes_salt.pop() if len(takes_salt) == 1 else None
    verb = "cohorts {} say so" if len(ways) > 1 else "cohort {} says so"
    return explained, ways, salted, f"the policy's {verb.format(said)}"
