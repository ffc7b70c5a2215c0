"""One stored value, for programs and read aloud for people."""

from __future__ import annotations

import textwrap
from typing import TYPE_CHECKING, Annotated

from lean_tumbler.core.grades import MEANING, Grade
from lean_tumbler.core.login.passwords import AS_TYPED
from lean_tumbler.core.schemes.base import Kind, ParsedValue
from lean_tumbler.core.schemes.catalogue import DERIVATIONS
from lean_tumbler.core.tuning.attacker import CONSUMER_GPU_2022, guesses_per_second
from lean_tumbler.reports.documents import Costs, Document, DocumentPart, Layout, Scheme, named
from lean_tumbler.reports.wording import costs, duration, guess_count, sentence

if TYPE_CHECKING:
    from collections.abc import Iterator

    from lean_tumbler.core.schemes.catalogue import ValuePart
    from lean_tumbler.core.stock_functions import Version
    from lean_tumbler.jobs.explain.value_explaining import ExplainedValue
    from lean_tumbler.stores.scans.verification import CheckedAccount

_LABEL_COLUMNS = 16
_LIKELIEST = 1_000_000  # passwords that an attacker tries first
_NEXT = {
    Grade.READABLE: "hash it now: declare a cohort with plain_text = true, then `layer`",
    Grade.FAST_UNSALTED: "prove how it was made with `verify` or `formula solve`, then `layer`",
    Grade.FAST_SALTED: "prove how it was made with `verify` or `formula solve`, then `layer`",
    Grade.OUTDATED: "`tune` chooses a target; `layer` and logins replace the value",
    Grade.LAYERED: "nothing now; the next login replaces it",
    Grade.CURRENT: "nothing to do",
    Grade.KEYED: "name its key in [keys]; `explain --store NAME --account KEY` opens it",
    Grade.LOCKED: "nothing to do, unless the account is to be opened again",
    Grade.UNKNOWN: "compare it with a value that works; if there is none, reset the account",
}


class PlacedPart(DocumentPart):
    """Where a part of the value stands."""

    part: Annotated[str, "the part"]
    first: Annotated[int, "its first character, counted from 1"]
    last: Annotated[int, "its last character"]
    text: Annotated[str | None, "the characters; null where they are not to be shown"]


class VerifierPart(DocumentPart):
    """A language whose stock function verifies such a value."""

    language: Annotated[str, "the language"]
    since: Annotated[str, "since which version"]
    function: Annotated[str, "the function"]
    takes_text: Annotated[bool, "whether it takes the value as it is"]


class ExplainDocument(Document, tag=named("explain")):
    """One stored value, explained."""

    scheme: Scheme
    layout: Layout
    salted: Annotated[bool, "whether a salt goes in"]
    grade: Annotated[Grade, "the grade"]
    parameters: Costs
    salt_bits: Annotated[int | None, "length of the salt; null without one in the value"]
    digest_bits: Annotated[int | None, "length of the digest; null without one"]
    guesses_per_second: Annotated[float | None, "an attacker's; null where it can be read"]
    milliseconds_here: Annotated[float | None, "time of one check on this machine, if it is slow"]
    parts: Annotated[list[PlacedPart], "where the parts of the value stand"]
    verified_by: Annotated[list[VerifierPart], "languages whose stock function verifies it"]
    opens: Annotated[bool | None, "whether the password that was typed opens it; null for none"]
    near_miss: Annotated[str | None, "the change that would make it fit; null for none"]
    next: Annotated[str, "the next step"]
    confidence: Annotated[float, "0 to 1, that the scheme is right"]
    also_possible: Annotated[list[str], "other schemes that write such a value"]
    notes: Annotated[list[str], "sentences for a reader"]


def explain_document(found: ExplainedValue, *, show_values: bool) -> ExplainDocument:
    """Give one value as a document; its parts are in it only where they are to be shown."""
    parsed, checked = found.parsed, found.checked
    return ExplainDocument.of(
        found,
        scheme=parsed.scheme,
        layout=parsed.layout,
        parameters=parsed.parameters,
        salt_bits=8 * len(parsed.salt) if parsed.salt is not None else None,
        digest_bits=parsed.digest_bits or None,
        guesses_per_second=_guesses(parsed),
        milliseconds_here=found.milliseconds,
        parts=[
            PlacedPart(
                part=part.name,
                first=part.start + 1,
                last=part.end,
                text=_text_of(found, part) if show_values else None,
            )
            for part in found.parts
        ],
        verified_by=[
            VerifierPart.of(by, since=_version(since), function=by.name)
            for by, since in found.readers
        ],
        opens=checked and checked.accepted,
        near_miss=checked and (checked.near_miss or None),
        next=_NEXT[found.grade],
        confidence=parsed.contents.confidence,
        also_possible=parsed.contents.also_possible,
        notes=_notes(found),
    )


def explain_text(columns: int, found: ExplainedValue, *, show_values: bool) -> str:
    """Read one stored value aloud, in lines of at most `columns` characters."""
    parsed, grade = found.parsed, found.grade
    contents = parsed.contents
    sure = f" ({100 * contents.confidence:.0f} % sure)" if 0 < contents.confidence < 1 else ""
    rows = [
        ("grade", f"{grade}: {MEANING[grade]}"),
        ("parameters", costs(parsed.parameters.items())),
        ("work", _work(parsed)),
        ("a check", _time_here(found)),
        ("a guess", _guess(parsed)),
        ("key" if parsed.kind is Kind.KEYED else "variant", contents.variant),
        ("salt", _salt(parsed, salted=found.salted)),
        ("digest", f"{parsed.digest_bits} bits" if parsed.digest_bits else ""),
        ("layered over", contents.origin),
        ("may also be", ", ".join(contents.also_possible)),
        *_parts(found, show_values=show_values),
        *_readers(found),
        *(("note", note) for note in _notes(found)),
        ("next", _NEXT[grade]),
    ]
    headline = f"{parsed.scheme}, written as {parsed.layout}{sure}"
    lines = [headline] if found.checked is None else [*_answer(found.checked, columns), headline]
    for label, value in rows:
        if value:
            lines += textwrap.wrap(
                value,
                max(columns, 2 * _LABEL_COLUMNS),
                initial_indent=f"  {label:<{_LABEL_COLUMNS - 2}}",
                subsequent_indent=" " * _LABEL_COLUMNS,
            )
    return "\n".join(lines) + "\n"


def _answer(checked: CheckedAccount, columns: int) -> list[str]:
    """Say whether the password opens the value, and what is near where it does not."""
    if checked.accepted:
        form = "" if checked.form == AS_TYPED else f", in its form {checked.form.upper()}"
        return [f"The password opens it{form}."]
    return textwrap.wrap(f"The password does not open it: {sentence(checked.near_miss)}", columns)


def _time_here(found: ExplainedValue) -> str:
    if found.milliseconds is None:
        return ""
    return f"{found.milliseconds:,.3g} ms on one core of this machine, as it is loaded now"


def _notes(found: ExplainedValue) -> list[str]:
    over = found.over_limit
    more = [f"It needs {over}: a login with it is refused, and nothing is derived."] if over else []
    return [*found.parsed.contents.notes, *more]


def _text_of(found: ExplainedValue, part: ValuePart) -> str:
    return found.value.reveal()[part.start : part.end]


def _parts(found: ExplainedValue, *, show_values: bool) -> Iterator[tuple[str, str]]:
    """Say where the parts stand; one line for each where their text is to be shown."""
    named = [(part, _place(part)) for part in found.parts]
    if show_values:
        for part, place in named:
            yield part.name, f"{_text_of(found, part)} (characters {place})"
    elif named:
        places = ", ".join(f"{part.name} {place}" for part, place in named)
        yield "characters", f"{places}; --show-values shows them"


def _place(part: ValuePart) -> str:
    first, last = part.start + 1, part.end
    return str(first) if first == last else f"{first}–{last}"


def _version(version: Version) -> str:
    return ".".join(map(str, version))


def _readers(found: ExplainedValue) -> Iterator[tuple[str, str]]:
    """Say which languages verify it by themselves."""
    if found.parsed.kind is Kind.LAYERED:
        yield "verified by", "this tool, or the twenty lines of docs/FORMATS.md"
        return
    if found.parsed.kind not in {Kind.DERIVATION, Kind.ITERATED}:
        return
    named = [
        (by.takes_text, f"{by.language} {_version(since)} ({by.name})")
        for by, since in found.readers
    ]
    whole = ", ".join(text for takes_text, text in named if takes_text)
    apart = ", ".join(text for takes_text, text in named if not takes_text)
    yield "verified by", f"as it is, from: {whole}" if whole else ""
    yield "computed by", f"once salt and digest are taken out, from: {apart}" if apart else ""
    if not named:
        yield "verified by", "no stock function of the languages in docs/LANGUAGES.md"


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
    found = DERIVATIONS.get(of.scheme)
    return found.work_in_words(of.parameters) if found else ""


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
