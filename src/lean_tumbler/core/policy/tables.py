"""The tables of the policy's file: each key with its type, its default and what it says.

docs/POLICY.md is generated from these.
"""

from datetime import date
from typing import Annotated, Any, Literal

from msgspec import Meta, Struct

LONGEST_NAME = 40  # characters of a cohort's


class PolicyTable(Struct, frozen=True, kw_only=True, forbid_unknown_fields=True):
    """A table, which holds no other keys than these."""


class PolicyDocument(PolicyTable, frozen=True, kw_only=True):
    """The whole file; what stands in the tables is checked one by one.

    Attributes:
        target: what new values are written with.
        floor: the least that counts as current.
        limits: the most work that a password or a stored value may ask for.
        store: the stores, by name.
        formulas: formulas by name, for cohorts and layered values.
        keys: where the keys of keyed formulas come from.
        new_passwords: what is asked of new passwords.
    """

    target: dict[str, Any] | None = None
    floor: dict[str, Any] | None = None
    limits: dict[str, Any] = {}
    store: dict[str, Any] = {}
    formulas: dict[str, Any] = {}
    keys: dict[str, Any] = {}
    new_passwords: dict[str, Any] = {}


class CohortTable(PolicyTable, frozen=True, kw_only=True):
    """One way in which values of the store came about.

    Attributes:
        name: what evidence, options and reports call it; required.
        formula: how the digest was made: the notation, or a name of `[formulas]`; `…, then bcrypt`
            where the result went into a slow scheme.
        scheme: the scheme of values that are bare shapes, like `des-crypt`.
        untested: what nothing tells yet of how a typed text was hashed: `letter case`, `blanks`
            around it, `encoding`; a login tries each alternative.
        plain_text: `true` for texts that nothing else explains; `"all"` for every text; or a list
            of structures, as `plan` names them, that are passwords too.
        layout: where digest, salt and other parts stand in a composite value.
        when: which rows; without it, all of them.
    """

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
    untested: Annotated[
        tuple[Literal["letter case", "blanks", "encoding"], ...],
        Meta(extra={"must": 'a list of "letter case", "blanks" and "encoding"'}),
    ] = ()
    plain_text: Annotated[
        bool | Literal["all"] | tuple[str, ...],
        Meta(extra={"must": 'true, or "all" for every text, or a list of structures'}),
    ] = False
    layout: str = ""
    when: str = ""


class PrivilegedTable(PolicyTable, frozen=True, kw_only=True):
    """Administrators, where a column of roles says who is an administrator.

    Attributes:
        column: the column.
        values: what stands in it for an administrator; letter case does not count.
    """

    column: str
    values: Annotated[tuple[str, ...], Meta(min_length=1)]


class WriteToTable(PolicyTable, frozen=True, kw_only=True):
    """The new column, where the one that is left behind is emptied too.

    Attributes:
        column: the column that is read first, and the only one written.
        empty_stored: whether the same write empties `stored`.
    """

    column: str
    empty_stored: bool = False


class JoinTable(PolicyTable, frozen=True, kw_only=True):
    """A table whose columns stand beside the store's own.

    Attributes:
        table: its name; its columns are written `TABLE.COLUMN`.
        key: its column that names each of its rows.
        by: the column of the store's own table that holds that key.
    """

    table: str
    key: str
    by: str


class RowsTable(PolicyTable, frozen=True, kw_only=True):
    """Which rows of the table are the store's; the others are left alone, and not counted.

    Attributes:
        when: a condition, as cohorts have it.
    """

    when: str


class StoreTable(PolicyTable, frozen=True, kw_only=True):
    """One place that holds passwords.

    Attributes:
        locator: a path, a URL without a password, or `application` where the application itself
            brings stored values to `serve`; required.
        table: the table; needed where a database has several.
        tables: instead of `table`, the equal tables of many schemas, like `"t*.users"` with `*` for
            any text, or a list: each is a store of its own, called `NAME/TABLE`.
        alike: that these tables were written by the same program, so that proof in one speaks for
            all: `true`, or a list of tables. Without it, a table needs one account of its own.
        columns: see `[store.NAME.columns]`; required, but for an application.
        join: a second table whose columns stand beside the store's own.
        rows: see `[store.NAME.rows]`: which rows of the table are the store's.
        parts: further inputs of formulas, by name: the table's own names of their columns.
        cohort: see `[[store.NAME.cohort]]`.
        replace_lossy: whether a login replaces a value that other passwords open too.
        checked_by_application: for exports whose values other software checks too (LDIF, shadow
            lines): whether only the application's own login code checks these, by this tool.
        readers_ready: the day since which every program that checks passwords reads what is
            written; until then no bulk step writes.
        replicas: URLs of the servers that copy this one; bulk steps wait where they fall behind.
        embedded: files of `embed` that check this store's logins, from the policy's folder; bulk
            steps wait until each is what would be written now.
        mode: `observe` answers logins and writes nothing; `upgrade` writes at logins.
        share: the part of the accounts that logins upgrade, as a percentage; the others wait.
        error_bound: bulk steps take a cohort where at most this share of its rows can be made
            otherwise without having been seen, at 95 %.
        decryption: see `[store.NAME.decryption]`.
    """

    locator: str = ""
    table: str = ""
    tables: Annotated[
        str | tuple[str, ...], Meta(extra={"must": "a text, or a list of texts"})
    ] = ()
    alike: Annotated[bool | tuple[str, ...], Meta(extra={"must": "true, or a list of tables"})] = (
        False
    )
    columns: dict[str, Any] = {}
    join: dict[str, Any] | None = None
    rows: dict[str, Any] | None = None
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
    embedded: Annotated[tuple[str, ...], Meta(extra={"must": "a list of files"})] = ()
    mode: Literal["upgrade", "observe"] = "upgrade"
    share: str = "100%"
    error_bound: str = "20%"
    decryption: dict[str, Any] | None = None
