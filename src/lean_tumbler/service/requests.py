"""What requests hold: read within bounds, and checked against the types that stand here."""

from collections.abc import Mapping
from enum import StrEnum
from types import MappingProxyType
from typing import Annotated, Any, TypeVar

from msgspec import Meta, Struct

from lean_tumbler.core.schema import Mismatch, checked
from lean_tumbler.errors import RequestRefused
from lean_tumbler.stores.json_text import load_json

_NO_NUL = "^[^\\x00]*$"
_COLUMNS = 32
_SURROGATES = ("\ud800", "\udfff")


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


class Request(Struct, frozen=True, kw_only=True, forbid_unknown_fields=True):
    """A request; what it holds is shown nowhere."""

    def __repr__(self) -> str:
        """Name the kind alone: fields hold passwords."""
        return f"{type(self).__name__}(…)"

    def __rich_repr__(self) -> list[tuple[str, Any]]:
        """Show no field."""
        return []


StoreName = Annotated[
    str, Meta(max_length=100, pattern=_NO_NUL, description="the policy's name of the store")
]
Login = Annotated[
    str, Meta(max_length=512, pattern=_NO_NUL, description="the name that the person types")
]
AccountName = Annotated[
    str,
    Meta(
        max_length=512,
        pattern=_NO_NUL,
        description="what names the row, as text: values under a key may be bound to it",
    ),
]
Password = Annotated[
    str, Meta(max_length=8192, pattern=_NO_NUL, description="the password, as typed")
]
Verdict = Annotated[
    bool | None,
    Meta(
        description="the application's own verdict, where it still checks by itself: it is "
        "compared and counted, never answered"
    ),
]
_Text = Annotated[str, Meta(max_length=1024, pattern=_NO_NUL)]


class Admit(Request, frozen=True, kw_only=True):
    """A login of a store."""

    store: StoreName
    login: Login
    password: Password
    expected: Verdict = None


class AdmitValue(Request, frozen=True, kw_only=True):
    """A login, with the stored value that the application has fetched."""

    stored: Annotated[
        Annotated[str, Meta(max_length=8192, pattern=_NO_NUL)] | None,
        Meta(description="the stored value; null for an unknown login, which takes as long"),
    ]
    password: Password
    salt: Annotated[_Text | None, Meta(description="the salt beside it")] = None
    login: Login | None = None
    account: AccountName | None = None
    columns: Annotated[
        dict[_Text, _Text | None] | None,
        Meta(
            description="further columns of the row, by the table's own names: for the conditions "
            "and parts of the store's cohorts"
        ),
    ] = None
    store: Annotated[
        StoreName | None, Meta(description="the policy's name of the store, for its cohorts")
    ] = None
    expected: Verdict = None


class Hash(Request, frozen=True, kw_only=True):
    """A new password."""

    password: Password
    login: Login | None = None
    account: AccountName | None = None


class Change(Request, frozen=True, kw_only=True):
    """A password, and the one that is to take its place."""

    store: StoreName
    login: Login
    password: Password
    new_password: Annotated[
        str,
        Meta(
            max_length=8192,
            pattern=_NO_NUL,
            description="the password that is to hold from now on",
        ),
    ]


POSTS: Mapping[Path, type[Request]] = MappingProxyType(
    {Path.ADMIT: Admit, Path.ADMIT_VALUE: AdmitValue, Path.HASH: Hash, Path.CHANGE: Change}
)
R = TypeVar("R", bound=Request)


def read_request(body: bytes, kind: type[R]) -> R:
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
    try:
        found = checked(document, kind)
    except Mismatch as mismatch:
        raise _refused(mismatch) from None
    for name, value in document.items():
        _require_characters(name, value)
    return found


def _refused(mismatch: Mismatch) -> RequestRefused:
    if mismatch.unknown or not mismatch.path:  # the name may be anything, a password too
        known = ", ".join(mismatch.known)
        return RequestRefused("unknown-field", f"a field is not known here; known: {known}")
    name = mismatch.path.partition("[")[0]
    kind = "missing-field" if mismatch.problem == "is missing" else "wrong-field"
    return RequestRefused(kind, f"“{name}” {mismatch.problem}", field=name)


def _require_characters(name: str, value: object) -> None:
    """Refuse what no type can: too many columns, and halves of characters."""
    texts = [value]
    if isinstance(value, dict):
        if len(value) > _COLUMNS:
            message = f"“{name}” has more than {_COLUMNS} entries"
            raise RequestRefused("wrong-field", message, field=name)
        texts = [*value.keys(), *value.values()]
    lowest, highest = _SURROGATES
    for text in texts:
        if isinstance(text, str) and any(lowest <= character <= highest for character in text):
            message = f"“{name}” holds a lone surrogate, which is not a character"
            raise RequestRefused("wrong-field", message, field=name)
