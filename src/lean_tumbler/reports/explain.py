"""One stored value, for programs and read aloud for people."""

from __future__ import annotations

import textwrap

from lean_tumbler.core.grades import MEANING, Grade
from lean_tumbler.core.schemes.base import Kind, ParsedValue
from lean_tumbler.reports.documents import Document, new_document
from lean_tumbler.reports.wording import costs

_LABEL_COLUMNS = 16


def explain_document(parsed: ParsedValue, grade: Grade, *, salted: bool) -> Document:
    """Give one parsed value as a document; neither salt nor digest is in it."""
    return new_document(
        "explain",
        scheme=parsed.scheme,
        layout=parsed.layout,
        salted=salted,
        grade=grade,
        parameters=dict(parsed.parameters),
        salt_bits=8 * len(parsed.salt) if parsed.salt is not None else None,
        digest_bits=parsed.digest_bits or None,
        confidence=parsed.contents.confidence,
        also_possible=list(parsed.contents.also_possible),
        notes=list(parsed.contents.notes),
    )


def explain_text(columns: int, parsed: ParsedValue, grade: Grade, *, salted: bool) -> str:
    """Read one stored value aloud, in lines of at most `columns` characters."""
    contents = parsed.contents
    sure = "" if contents.confidence >= 1 else f" ({100 * contents.confidence:.0f} % sure)"
    rows = [
        ("grade", f"{grade}: {MEANING[grade]}"),
        ("parameters", costs(parsed.parameters.items())),
        ("variant", contents.variant),
        ("salt", _salt(parsed, salted=salted)),
        ("digest", f"{parsed.digest_bits} bits" if parsed.digest_bits else ""),
        ("layered over", contents.origin),
        ("may also be", ", ".join(contents.also_possible)),
        *(("note", note) for note in contents.notes),
    ]
    lines = [f"{parsed.scheme}, written as {parsed.layout}{sure}"]
    for label, value in rows:
        if value:
            lines += textwrap.wrap(
                value,
                max(columns, 2 * _LABEL_COLUMNS),
                initial_indent=f"  {label:<{_LABEL_COLUMNS - 2}}",
                subsequent_indent=" " * _LABEL_COLUMNS,
            )
    return "\n".join(lines) + "\n"


def _salt(parsed: ParsedValue, *, salted: bool) -> str:
    if parsed.kind is Kind.LAYERED and parsed.inner is not None:
        return f"{8 * len(parsed.inner.salt or b'')} bits"
    if parsed.salt is not None:
        return f"{8 * len(parsed.salt)} bits"
    if parsed.kind is not Kind.FAST:
        return ""
    if parsed.contents.salted_by_login:
        return "the login"
    return "in a column beside it" if salted else "none in the value itself"
