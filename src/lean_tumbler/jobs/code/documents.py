"""What `code` found, as a document."""

from collections.abc import Sequence
from typing import Annotated

from lean_tumbler.core.code.places import CodeEvent, EventKind
from lean_tumbler.core.code.reading import CodeRead
from lean_tumbler.core.code.recovered import Recovered
from lean_tumbler.core.code.terms import Role, inputs, is_hashed, is_typed
from lean_tumbler.reports.documents import Document, DocumentPart, Remedy, named
from lean_tumbler.stores.source_trees import SourceTree

# Kinds of places that are listed by themselves; what a function returns is not one.
_LISTED = {
    EventKind.MAKES: "makes a value",
    EventKind.CHECKS: "checks a password",
    EventKind.COMPARES: "compares",
    EventKind.WRITES: "writes to a column",
    EventKind.LEAVES: "lets something out",
    EventKind.TAKES: "takes a password in",
    EventKind.FINDS: "finds rows by it",
    EventKind.ENCRYPTS: "encrypts",
    EventKind.GIVES: "made by a call that is not followed",
}


class LinePart(DocumentPart):
    """A line of source."""

    path: Annotated[str, "the file"]
    line: Annotated[int, "the line, from 1"]
    function: Annotated[str, "the function around it; empty at the top of a file"]


class MistakePart(LinePart):
    """A line that is a mistake."""

    code: Annotated[str, "which mistake"]
    severity: Annotated[str, "low, medium, high or critical"]
    language: Annotated[str, "of the file"]
    evidence: Annotated[str, "what is seen there"]
    certain: Annotated[bool, "whether values were followed from a request or a query"]
    means: Annotated[str, "what it means, in a sentence"]
    remedy: Remedy


class ConstantPart(DocumentPart):
    """A constant that went into values; its text is not told."""

    name: Annotated[str, "as the formula calls it"]
    path: Annotated[str, "the file; empty where the source does not hold it"]
    line: Annotated[int, "the line, from 1; 0 where the source does not hold it"]


class MissingPart(DocumentPart):
    """What could not be followed."""

    why: Annotated[str, "what it is"]
    path: Annotated[str, "the file; may be empty"]
    line: Annotated[int, "the line, from 1; 0 where none is known"]


class CodeFormulaPart(LinePart):
    """A formula that source code computes."""

    formula: Annotated[str, "canonical text; unknown(…) where something is missing"]
    complete: Annotated[bool, "whether nothing is missing"]
    stored: Annotated[bool, "whether its result is written, or compared with a stored value"]
    layout: Annotated[str, "how salt and digest stand in one text; may be empty"]
    raw: Annotated[bool, "whether bytes are stored, not text"]
    columns: Annotated[dict[str, str], "an input, and the column or variable that holds it"]
    keys: Annotated[list[ConstantPart], "constants that go in"]
    missing: Annotated[list[MissingPart], "what could not be followed"]
    known: Annotated[int | None, "known accounts that it was tried on"]
    opened: Annotated[int | None, "known accounts that it opens"]


class CodePlacePart(LinePart):
    """A line that has to do with passwords."""

    does: Annotated[str, "what it does"]
    how: Annotated[str, "with what operator, function, column or way out"]
    certain: Annotated[bool, "whether values were followed from a request or a query"]


class UnreadFilePart(DocumentPart):
    """A file that was not read."""

    path: Annotated[str, "the file"]
    reason: Annotated[str, "why"]


class CodeDocument(Document, tag=named("code")):
    """What source code does with passwords."""

    files: Annotated[int, "files of the languages that are read"]
    lines: Annotated[int, "their lines"]
    followed: Annotated[int, "files whose values were followed"]
    languages: Annotated[dict[str, int], "a language, and how many files of it"]
    mistakes: Annotated[list[MistakePart], "lines that are mistakes, the worst first"]
    formulas: Annotated[list[CodeFormulaPart], "formulas, those that are stored first"]
    places: Annotated[list[CodePlacePart], "lines that have to do with passwords"]
    damaged: Annotated[list[str], "files that the parser could read only in part"]
    left_out: Annotated[dict[str, int], "names of folders that were not read, and how many"]
    unread: Annotated[list[UnreadFilePart], "files that were not read"]


def code_document(found: CodeRead, tree: SourceTree, *, with_places: bool) -> CodeDocument:
    """Give what was found as a document."""
    return CodeDocument(
        files=found.files,
        lines=found.lines,
        followed=found.followed,
        languages=dict(found.languages),
        mistakes=[
            MistakePart(
                path=each.place.path,
                line=each.place.line,
                function=each.function,
                code=each.code,
                severity=str(each.severity),
                language=each.language,
                evidence=each.evidence,
                certain=each.is_certain,
                means=each.means,
                remedy=each.remedy,
            )
            for each in found.findings
        ],
        formulas=[_formula(each) for each in found.formulas],
        places=_places(found.events) if with_places else [],
        damaged=list(found.damaged),
        left_out=dict(tree.left_out),
        unread=[UnreadFilePart(path=path, reason=reason) for path, reason in tree.unread],
    )


def _formula(found: Recovered) -> CodeFormulaPart:
    return CodeFormulaPart(
        path=found.place.path,
        line=found.place.line,
        function=found.function,
        formula=found.text,
        complete=found.steps is not None,
        stored=found.is_stored,
        layout=found.layout,
        raw=found.is_raw,
        columns=dict(found.columns),
        keys=[
            ConstantPart(
                name=key.name,
                path=key.place.path if key.place and key.value is not None else "",
                line=key.place.line if key.place and key.value is not None else 0,
            )
            for key in found.keys
        ],
        missing=[
            MissingPart(
                why=each.why,
                path=each.place.path if each.place else "",
                line=each.place.line if each.place else 0,
            )
            for each in found.missing
        ],
        known=None,
        opened=None,
    )


def _places(events: Sequence[CodeEvent]) -> list[CodePlacePart]:
    found: dict[tuple[str, int, str], CodePlacePart] = {}
    for event in events:
        does = _LISTED.get(event.kind)
        if does is None or not _concerns(event):
            continue
        is_certain = event.is_from_outside
        key = (event.place.path, event.place.line, does)
        if key not in found or is_certain:
            found[key] = CodePlacePart(
                path=event.place.path,
                line=event.place.line,
                function=event.function,
                does=does,
                how=event.how,
                certain=is_certain,
            )
    return [found[key] for key in sorted(found)]


def _concerns(event: CodeEvent) -> bool:
    return any(
        is_typed(term) or is_hashed(term) or inputs(term, Role.PASSWORD, Role.FIELD, Role.STORED)
        for term in event.terms
    )
