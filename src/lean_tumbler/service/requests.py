"""What requests hold: read within bounds, checked field by field."""

from collections.abc import Mapping
from dataclasses import dataclass
from enum import StrEnum
from types import MappingProxyType

from lean_tumbler.errors import RequestRefused
from lean_tumbler.stores.json_text import load_json


@dataclass(frozen=True, slots=True, kw_only=True)
class Field:
    """One field of a request.

    Attributes:
        about: what it is, for the description of the interface.
        kind: str, bool, or dict for texts by name.
        most_characters: of a text.
        may_be_null: whether null stands for none.
        required: whether it must be there.
    """

    about: str
    kind: type[str] | type[bool] | type[dict[str, str | None]] = str
    most_characters: int = 1024
    may_be_null: bool = False
    required: bool = True


class Path(StrEnum):
    """Where the service answers."""

    ADMIT = "/v1/admit"
    ADMIT_VALUE = "/v1/admit-value"
    HASH = "/v1/hash"
    CHANGE = "/v1/change"
    LIVE = "/health/live"
    READY = "/health/ready"
    METRICS = "/metrics"
    OPENAPI = "/openapi.json"


_STORE = Field(about="the policy's name of the store", most_characters=100)
_LOGIN = Field(about="the name that the person types", most_characters=512)
_PASSWORD = Field(about="the password, as typed", most_characters=8192)
_OPTIONAL_LOGIN = Field(about="the account's login", most_characters=512, required=False)

ADMIT: Mapping[str, Field] = MappingProxyType(
    {
        "store": _STORE,
        "login": _LOGIN,
        "password": _PASSWORD,
        "expected": Field(
            about="the application's own verdict, where it still checks by itself: it is compared "
            "and counted, never answered",
            kind=bool,
            required=False,
        ),
    }
)
ADMIT_VALUE: Mapping[str, Field] = MappingProxyType(
    {
        "stored": Field(
            about="the stored value; null for an unknown login, which takes as long",
            most_characters=8192,
            may_be_null=True,
        ),
        "password": _PASSWORD,
        "salt": Field(about="the salt that stands beside it", may_be_null=True, required=False),
        "login": _OPTIONAL_LOGIN,
        "columns": Field(
            about="further columns of the row, by the table's own names: for the conditions and "
            "parts of the store's cohorts",
            kind=dict,
            required=False,
        ),
        "store": Field(
            about="the policy's name of the store, for its cohorts",
            most_characters=100,
            required=False,
        ),
    }
)
HASH: Mapping[str, Field] = MappingProxyType({"password": _PASSWORD, "login": _OPTIONAL_LOGIN})
CHANGE: Mapping[str, Field] = MappingProxyType(
    {"store": _STORE, "login": _LOGIN, "password": _PASSWORD,
     "new_password": Field(about="the password that shall hold from now on",
                           most_characters=8192)}
)  # fmt: skip

POSTS: Mapping[Path, Mapping[str, Field]] = MappingProxyType(
    {Path.ADMIT: ADMIT, Path.ADMIT_VALUE: ADMIT_VALUE, Path.HASH: HASH, Path.CHANGE: CHANGE}
)

Values = Mapping[str, str | bool | dict[str, str | None] | None]
_MOST_COLUMNS = 32


def read_request(body: bytes, fields: Mapping[str, Field]) -> Values:
    """Read a request's JSON.

    Raises:
        RequestRefused: naming the field, and what is wrong with it.
    """
    try:
        document = load_json(body.decode("utf-8"))
    except UnicodeDecodeError as error:
        raise RequestRefused("not-utf-8", f"not UTF-8 at byte {error.start}") from None
    except ValueError:
        raise RequestRefused("not-json", "the body is not JSON") from None
    if not isinstance(document, dict):
        raise RequestRefused("not-json", "the body is JSON, but not an object")
    for name in document:
        if name not in fields:
            known = ", ".join(fields)
            raise RequestRefused("unknown-field", f"a field is not known here; known: {known}")
    return {name: _value(name, document, field) for name, field in fields.items()}


def _value(
    name: str, document: Mapping[str, object], field: Field
) -> str | bool | dict[str, str | None] | None:
    value = document.get(name)
    if value is None:
        if not field.may_be_null if name in document else field.required:
            raise RequestRefused("missing-field", f"“{name}” is missing", field=name)
        return None
    if not isinstance(value, field.kind):
        kinds = {str: "a text", bool: "true or false", dict: "an object of texts"}
        kind = kinds[field.kind]
        raise RequestRefused("wrong-field", f"“{name}” must be {kind}", field=name)
    if isinstance(value, dict):
        return _texts(name, value, field)
    if isinstance(value, str):
        _require_text(name, value, field)
    return value


def _texts(name: str, value: dict[str, object], field: Field) -> dict[str, str | None]:
    """Read texts by name; null stands for none."""
    if len(value) > _MOST_COLUMNS:
        message = f"“{name}” has more than {_MOST_COLUMNS} entries"
        raise RequestRefused("wrong-field", message, field=name)
    found: dict[str, str | None] = {}
    for key, content in value.items():
        if content is not None and not isinstance(content, str):
            message = f"“{name}” must hold texts or null alone"
            raise RequestRefused("wrong-field", message, field=name)
        for text in filter(None, (key, content)):
            _require_text(name, text, field)
        found[key] = content
    return found


def _require_text(name: str, value: str, field: Field) -> None:
    if len(value) > field.most_characters:
        message = f"“{name}” is longer than {field.most_characters:,} characters"
        raise RequestRefused("wrong-field", message, field=name)
    if "\0" in value:
        raise RequestRefused("wrong-field", f"“{name}” holds a NUL", field=name)
    if any("\ud800" <= character <= "\udfff" for character in value):
        message = f"“{name}” holds a lone surrogate, which is not a character"
        raise RequestRefused("wrong-field", message, field=name)
