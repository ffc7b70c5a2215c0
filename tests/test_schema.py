"""Documents against their types: every place is found, and nothing of a document is told."""

from datetime import date
from typing import Annotated, Any, Literal

import pytest
from hypothesis import given
from hypothesis import strategies as st
from msgspec import Meta, Struct

from lean_tumbler.core.schema import Mismatch, checked


class Berth(Struct, forbid_unknown_fields=True, kw_only=True):
    """A table in a table."""

    number: Annotated[int, Meta(ge=1, le=99)]
    name: Annotated[str, Meta(max_length=5, pattern="^[^\\x00]*$")] | None = None


class Quay(Struct, frozen=True, kw_only=True):
    """Every kind of field."""

    berths: list[Berth] = []
    names: dict[str, int] | None = None
    side: Literal["east", "west"] = "east"
    opened: date | None = None
    tide: tuple[float, float] | None = None
    depth: Annotated[float, Meta(gt=0, le=50)] = 1.0
    open: Annotated[bool | Literal["half"], Meta(extra={"must": 'true, or "half"'})] = True


@pytest.mark.parametrize(
    ("document", "sentence"),
    [
        ({"berths": [{"number": 0}]}, "“berths[0].number” must be from 1 to 99"),
        ({"berths": [{"number": 100}]}, "“berths[0].number” must be from 1 to 99"),
        ({"berths": [{}]}, "“berths[0].number” is missing"),
        ({"berths": [{"number": None}]}, "“berths[0].number” is missing"),
        ({"berths": [{"number": "7"}]}, "“berths[0].number” must be a whole number"),
        ({"berths": [{"number": 1, "name": "s3cret"}]}, "is longer than 5 characters"),
        ({"berths": [{"number": 1, "name": "a\0"}]}, "“berths[0].name” holds a NUL"),
        ({"berths": {}}, "“berths” must be a list"),
        ({"names": {"s3cret": "s3cret"}}, "“names[...]” must be a whole number"),
        ({"names": 4}, "“names” must be a table"),
        ({"side": "s3cret"}, "“side” must be east or west"),
        ({"opened": 4}, "“opened” must be a date"),
        ({"tide": [1, "s3cret"]}, "“tide[1]” must be a number"),
        ({"tide": "s3cret"}, "“tide” must be a list"),
        ({"depth": 0}, "“depth” must be a number above 0, to 50"),
        ({"open": "s3cret"}, "“open” must be true, or “half”".replace("“half”", '"half"')),
        (["s3cret"], "must be a table"),
    ],
)
def test_a_place_and_what_was_expected_there(document: Any, sentence: str) -> None:
    """Whatever is wrong: the field by its path, and a sentence without anything of the document."""
    with pytest.raises(Mismatch) as told:
        checked(document, Quay)
    assert sentence in str(told.value)
    assert "s3cret" not in str(told.value)


@pytest.mark.parametrize("document", [{"berth": []}, {"berths": [{"number": 1, "nam": "x"}]}])
def test_a_name_that_is_not_known(document: Any) -> None:
    """It is kept apart from the sentence, with the nearest of those that are known."""
    with pytest.raises(Mismatch) as told:
        checked(document, Quay)
    assert told.value.unknown in {"berth", "nam"}
    assert told.value.hint in {"did you mean “berths”?", "did you mean “name”?"}
    assert str(told.value).endswith("holds a name that is not known")


_ANYTHING = st.recursive(
    st.none() | st.booleans() | st.integers() | st.floats() | st.text(max_size=6) | st.dates(),
    lambda inner: (
        st.lists(inner, max_size=3)
        | st.dictionaries(
            st.sampled_from(
                ["berths", "names", "side", "tide", "number", "open", "`", " - at `$.x`"]
            ),
            inner,
            max_size=4,
        )
    ),
    max_leaves=12,
)


@given(_ANYTHING)
def test_any_document_is_of_the_type_or_told(document: Any) -> None:
    """Whatever a parser gives, there is no other error."""
    told = ""
    try:
        told = type(checked(document, Quay)).__name__
    except Mismatch as mismatch:
        told = str(mismatch)
    assert told
