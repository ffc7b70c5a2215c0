"""One stored value, for programs and read aloud for people."""

from __future__ import annotations

import textwrap

from lean_tumbler.core.grades import MEANING, Grade
from lean_tumbler.core.schemes.base import Kind, ParsedValue
from lean_tumbler.core.schemes.catalogue import DERIVATIONS
from lean_tumbler.core.tuning.attacker import CONSUMER_GPU_2022, guesses_per_second
from lean_tumbler.reports.documents import Document, new_document
from lean_tumbler.reports.wording import costs, duration, guess_count

_LABEL_COLUMNS = 16
_LIKELIEST = 1_000_000  # passwords that an attacker tries first
_NEXT = {
    Grade.READABLE: "hash it now: declare a cohort with plain_text = true, then `layer`",
    Grade.FAST_UNSALTED: "prove how it was made with `verify` or `formula solve`, then `layer`",
    Grade.FAST_SALTED: "prove how it was made with `verify` or `formula solve`, then `layer`",
    Grade.OUTDATED: "`tune` chooses a target; `layer` and logins replace the value",
    Grade.LAYERED: "nothing now; the next login replaces it",
    Grade.CURRENT: "nothing to do",
    Grade.LOCKED: "nothing to do, unless the account is to be opened again",
    Grade.UNKNOWN: "compare it with a value that works; a reset if there is none",
}


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
        guesses_per_second=_guesses(parsed),
        next=_NEXT[grade],
        confidence=parsed.contents.confidence,
        also_possible=list(parsed.contents.also_possible),
        notes=list(parsed.contents.notes),
    )


def explain_text(columns: int, parsed: ParsedValue, grade: Grade, *, salted: bool) -> str:
    """Read one stored value aloud, in lines of at most `columns` characters."""
    contents = parsed.contents
    sure = f" ({100 * contents.confidence:.0f} % sure)" if 0 < contents.confidence < 1 else ""
    rows = [
        ("grade", f"{grade}: {MEANING[grade]}"),
        ("parameters", costs(parsed.parameters.items())),
        ("work", _work(parsed)),
        ("a guess", _guess(parsed)),
        ("variant", contents.variant),
        ("salt", _salt(parsed, salted=salted)),
        ("digest", f"{parsed.digest_bits} bits" if parsed.digest_bits else ""),
        ("layered over", contents.origin),
        ("may also be", ", ".join(contents.also_possible)),
        *(("note", note) for note in contents.notes),
        ("next", _NEXT[grade]),
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


def _guesses(parsed: ParsedValue) -> float | None:
    of = parsed.inner if parsed.kind is Kind.LAYERED and parsed.inner is not None else parsed
    return guesses_per_second(of.scheme, of.parameters, CONSUMER_GPU_2022)


def _guess(parsed: ParsedValue) -> str:
    rate = _guesses(parsed)
    if rate is None:
        return ""
    return (
        f"{guess_count(rate)} a second on {CONSUMER_GPU_2022.name}; the {_LIKELIEST:,} likeliest "
        f"passwords take {duration(_LIKELIEST / rate)}"
    )


def _work(parsed: ParsedValue) -> str:
    """Say what the parameters make a check do."""
    of = parsed.inner if parsed.kind is Kind.LAYERED and parsed.inner is not None else parsed
    numbers = of.parameters
    if "cost_log2" in numbers and of.scheme == "bcrypt":
        rounds = 2 ** numbers["cost_log2"]
        return f"2^{numbers['cost_log2']} = {rounds:,} rounds; one more doubles the time"
    if of.scheme in DERIVATIONS and "memory_kib" in numbers:
        memory = numbers["memory_kib"] / 1024
        return f"{memory:,.3g} MiB of memory, gone through {numbers.get('passes', 1)} times"
    if "iterations" in numbers:
        return f"{numbers['iterations']:,} times the hash function, one after the other"
    return ""


_SALT_INSIDE = (
    "inside the value: it needs no column, and no key; because of it the same password gives "
    "another value each time, so values are checked and never compared"
)


def _salt(parsed: ParsedValue, *, salted: bool) -> str:
    if parsed.kind is Kind.LAYERED and parsed.inner is not None:
        return f"{8 * len(parsed.inner.salt or b'')} bits, {_SALT_INSIDE}"
    if parsed.salt is not None:
        return f"{8 * len(parsed.salt)} bits, {_SALT_INSIDE}"
    if parsed.kind is not Kind.FAST:
        return ""
    if parsed.contents.salted_by_login:
        return "the login"
    return "in a column beside it" if salted else "none in the value itself"
