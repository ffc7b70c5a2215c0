"""What a search for old values found: `residue` writes this document, `report` reads it."""

from typing import Annotated

from lean_tumbler.core.residue.finds import Encoding, Recognition
from lean_tumbler.reports.documents import Document, DocumentPart, Remedy, Scheme, named


class RemainsPart(DocumentPart):
    """What stands at one place."""

    place: Annotated[str, "the file, table or archive"]
    members: Annotated[list[str], "members of archives, from the outside"]
    column: Annotated[str, "the column; may be empty"]
    first: Annotated[str, "where the first one stands; may be empty"]
    values: Annotated[int, "how many stored values"]
    certainty: Annotated[Recognition, "how sure that is"]
    scheme: Scheme
    encoding: Annotated[Encoding, "how the values were written there"]
    store: Annotated[str, "the store of the policy that holds or held them; may be empty"]
    still_held: Annotated[int, "values of these that a store still holds"]
    administrators: Annotated[int, "administrators' values among them"]
    severity: Annotated[str, "low, medium, high or critical"]
    remedy: Remedy

    @property
    def where(self) -> str:
        """Name the place, from the outside to the column."""
        inside = " › ".join([self.place, *self.members])
        return f"{inside}, {self.column}" if self.column else inside


class UnreadPart(DocumentPart):
    """A place that could not be searched."""

    place: Annotated[str, "the place"]
    reason: Annotated[str, "why"]


class ResidueDocument(Document, tag=named("residue")):
    """What remains, and where."""

    searched_at: Annotated[str, "when it was searched"]
    places: Annotated[int, "places that were searched"]
    bytes: Annotated[int, "bytes that were searched"]
    values: Annotated[int, "stored values that were found"]
    still_held: Annotated[int, "values of these that a store still holds"]
    looked_for: Annotated[int, "values that were looked for exactly"]
    not_looked_for: Annotated[int, "values of stores that could occur anywhere, left out"]
    finds: Annotated[list[RemainsPart], "what was found, the worst first"]
    unread: Annotated[list[UnreadPart], "places that could not be searched"]
