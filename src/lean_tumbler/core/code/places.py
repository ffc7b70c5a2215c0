"""Places of a program that have to do with passwords, as the evaluation meets them."""

from enum import StrEnum

from msgspec import Struct

from lean_tumbler.core.code.terms import Role, SourceLine, Term, inputs


class EventKind(StrEnum):
    """What a line does."""

    MAKES = "makes"  # a stored value of a password
    CHECKS = "checks"  # a password, by a function that takes the stored text
    COMPARES = "compares"  # two values
    WRITES = "writes"  # to a column or a field
    LEAVES = "leaves"  # prints, logs, answers, mails, puts into a token, session or URL
    TAKES = "takes"  # a password in
    FINDS = "finds"  # rows by a password or a stored value
    ENCRYPTS = "encrypts"  # reversibly
    RETURNS = "returns"  # gives a value to whoever calls
    GIVES = "gives"  # passes a password to a call that is not followed
    RENEWS = "renews"  # asks whether a stored value is outdated
    IGNORES = "ignores"  # an error of hashing


class CodeEvent(Struct, frozen=True, kw_only=True):
    """One thing that one line does."""

    kind: EventKind
    place: SourceLine
    function: str  # around it; empty at the top of a file
    language: str
    terms: tuple[Term, ...] = ()
    how: str = ""  # the operator, function, way out or column
    table: str = ""
    branch: str = ""  # the condition under which it is reached, as a kind: fails, else
    notes: tuple[str, ...] = ()

    @property
    def is_from_outside(self) -> bool:
        """Whether values were followed from a request or a query, not from a name alone."""
        roles = (Role.PASSWORD, Role.FIELD, Role.STORED)
        found = [each for term in self.terms for each in inputs(term, *roles)]
        return any(each.is_request or each.table for each in found)
