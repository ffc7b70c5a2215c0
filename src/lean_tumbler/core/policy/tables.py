"""The tables of the policy's file: each key with its type and default."""

from datetime import date
from typing import Annotated, Any, Literal

from msgspec import Meta, Struct

LONGEST_NAME = 40  # characters of a cohort's


class PolicyTable(Struct, frozen=True, kw_only=True, forbid_unknown_fields=True):
    """A table, which holds no other keys than these."""


class Document(PolicyTable, frozen=True, kw_only=True):
    """The whole file; what stands in the tables is checked one by one."""

    target: dict[str, Any] | None = None
    floor: dict[str, Any] | None = None
    limits: dict[str, Any] = {}
    store: dict[str, Any] = {}
    formulas: dict[str, Any] = {}
    keys: dict[str, Any] = {}
    new_passwords: dict[str, Any] = {}


class CohortTable(PolicyTable, frozen=True, kw_only=True):
    """`[[store.NAME.cohort]]`."""

    name: Annotated[
        str,
        Meta(
            min_length=1,
            max_length=LONGEST_NAME,
            pattern=r"^[^+]*$",
            extra={"must": f"at most {LONGEST_NAME} characters, without “+”"},
        ),
    ] = ""
    formula: str = ""
    scheme: str = ""
    plain_text: Annotated[
        bool | Literal["all"], Meta(extra={"must": 'true, or "all" for every text'})
    ] = False
    layout: str = ""
    when: str = ""


class PrivilegedTable(PolicyTable, frozen=True, kw_only=True):
    """`privileged`, where a column of roles says who is an administrator."""

    column: str
    values: Annotated[tuple[str, ...], Meta(min_length=1)]


class WriteToTable(PolicyTable, frozen=True, kw_only=True):
    """`write_to`, where the column that is left behind is emptied too."""

    column: str
    empty_stored: bool = False


class JoinTable(PolicyTable, frozen=True, kw_only=True):
    """`join`: a table whose columns stand beside the store's own."""

    table: str
    key: str
    by: str


class StoreTable(PolicyTable, frozen=True, kw_only=True):
    """`[store.NAME]`."""

    locator: str = ""
    table: str = ""
    columns: dict[str, Any] = {}
    join: dict[str, Any] | None = None
    only: dict[str, Any] = {}
    parts: dict[str, Any] = {}
    cohort: Annotated[
        list[dict[str, Any]], Meta(extra={"must": "tables: [[store.NAME.cohort]]"})
    ] = []
    replace_lossy: bool = False
    checked_by_application: bool = False
    readers_ready: Annotated[
        date | None, Meta(extra={"must": "a date without quotes, like 2026-05-01"})
    ] = None
    replicas: Annotated[
        tuple[str, ...], Meta(extra={"must": "a list of URLs without passwords"})
    ] = ()
    mode: Literal["upgrade", "observe"] = "upgrade"
    share: str = "100%"
    decryption: dict[str, Any] | None = None
