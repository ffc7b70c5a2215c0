"""What every store can do. A store reads rows, and writes by swaps alone."""

from collections.abc import Mapping, Sequence
from enum import StrEnum
from typing import TYPE_CHECKING, Protocol, runtime_checkable

from msgspec import Struct, field

from lean_tumbler.core.reading.conditions import day_of
from lean_tumbler.core.reading.evidence import RowFacts
from lean_tumbler.core.reading.rows import Row, account_name
from lean_tumbler.core.records import Hidden, MaskedRecord

if TYPE_CHECKING:
    from lean_tumbler.stores.sql.column_move import ColumnMove
    from lean_tumbler.stores.sql.server import SchemaChange
    from lean_tumbler.stores.sql.surroundings import Surroundings

AccountKey = int | str | bytes
# How long to wait for the lock of another program.
LOCK_SECONDS = 10
LOGIN_LOCK_SECONDS = 2  # people wait for it


class Swap(MaskedRecord, Struct, frozen=True, kw_only=True):
    """Write `new` where exactly `old` still stands."""

    key: AccountKey
    old: Hidden[bytes]
    # text; or bytes that are none, where such a value is put back
    new: Hidden[str | bytes]
    # write only where this stands there too, as bytes; None to look at the value alone
    last_login: bytes | None = None
    # whether the old value stands in a column whose place another takes; it is put back there
    is_left_behind: bool = False
    # whether the new value goes to the column that is left behind, and the one that takes its place
    # is emptied
    puts_back: bool = False

    @property
    def new_bytes(self) -> bytes:
        """The new value's bytes."""
        return self.new if isinstance(self.new, bytes) else self.new.encode("utf-8")

    @property
    def undone(self) -> "Swap":
        """The swap that puts the old value back, where it stood."""
        return Swap(
            key=self.key,
            old=self.new_bytes,
            new=as_stored(self.old),
            puts_back=self.is_left_behind,
        )


class Account(MaskedRecord, Struct, frozen=True, kw_only=True):
    """One row. Stored value, salt and other columns are the store's own bytes, exactly."""

    key: AccountKey
    login: str | None = None
    stored: Hidden[bytes | None] = None
    salt: Hidden[bytes | None] = None
    last_login: bytes | None = None
    created: bytes | None = None
    role: bytes | None = None
    origin: bytes | None = None
    others: Hidden[Mapping[str, bytes | None]] = field(default_factory=dict)
    is_left_behind: bool = False  # whether the value stands in a column whose place another takes
    key_is_place: bool = False  # whether the key is a line of a file, which may move
    name: str | None = None  # what names the row there; None where nothing does

    @property
    def bound_name(self) -> str | None:
        """Give what a value may be bound to, as text; None where nothing names the row."""
        if self.key_is_place:
            return self.name
        return account_name(self.key)

    @property
    def facts(self) -> RowFacts:
        """Give what a warrant asks of a row beside its reading."""
        told = {"role": self.role, "origin": self.origin}
        return RowFacts(
            key=self.key,
            is_named=self.bound_name is not None,
            login=self.login,
            created=day_of(self.created),
            last_login=day_of(self.last_login),
            marks=frozenset(
                (name, raw.decode("utf-8", "replace")) for name, raw in told.items() if raw
            ),
        )

    @property
    def row(self) -> Row:
        """Give what a reading takes."""
        return Row(
            stored=self.stored,
            salt=self.salt,
            login=self.login,
            account=self.bound_name,
            others=self.others,
        )

    def swap(self, new: str | bytes, *, last_login: bytes | None = None) -> Swap:
        """Give the swap that writes `new` where this row's value still stands.

        Args:
            new: the value.
            last_login: what must stand there as the last login; None to look at the value alone.
        """
        return Swap(
            key=self.key,
            old=self.stored or b"",
            new=new,
            last_login=last_login,
            is_left_behind=self.is_left_behind,
        )


def as_stored(raw: bytes) -> str | bytes:
    """Give bytes as a swap takes them: as text where they are."""
    try:
        return raw.decode("utf-8")
    except UnicodeDecodeError:
        return raw


class SwapResult(StrEnum):
    """What became of a swap.

    STOOD is the new value that stood there already, as after a write whose answer was lost.
    """

    DONE = "done"
    STOOD = "stood already"
    CHANGED = "changed meanwhile"
    GONE = "gone"

    @property
    def is_written(self) -> bool:
        """Whether the new value stands there now."""
        return self in {SwapResult.DONE, SwapResult.STOOD}


class LoginStore(Protocol):
    """Accounts that people log in to, one at a time."""

    layering_refused: str  # why bulk layering would lock people out here; empty where it does not
    key_label: str  # what an account's key is the number or name of

    @property
    def table(self) -> str:
        """The name of the table, or of what stands for one."""

    def fetch(self, login: str) -> list[Account]:
        """Read the rows with a login: one, unless the login is unknown or not unique."""

    def find(self, key: str) -> Account | None:
        """Read the row with a key, given as text; None where there is none."""

    def swap(self, swap: Swap) -> SwapResult:
        """Write one value."""

    def fill(self, key: AccountKey, new: str) -> SwapResult:
        """Write a first value, only where none stands."""

    def require_answer(self) -> None:
        """Ask for next to nothing.

        Raises:
            SourceError: the store does not answer.
        """

    def close(self) -> None:
        """Let go of connections."""


@runtime_checkable
class Store(LoginStore, Protocol):
    """One table of accounts, which bulk steps go through."""

    def count(self) -> int:
        """Count the rows."""

    def page(
        self, *, after: AccountKey | None, rows: int, privileged: bool | None = None
    ) -> list[Account]:
        """Read the next rows in order of their key; of administrators alone, or of the others."""

    def swap_many(self, swaps: Sequence[Swap]) -> list[SwapResult]:
        """Write many values in one short transaction; results in the same order."""

    def origins(self) -> set[str]:
        """Name the formulas that layered values refer to, by fingerprint."""

    def key_heads(self) -> Mapping[tuple[str, bytes], int]:
        """Count the rows under each key that stands apart, by its name and its check."""

    def highest_key(self) -> int | None:
        """Give the highest number that names a row; None where keys are no numbers."""

    def repeated(self) -> frozenset[AccountKey]:
        """Give the keys of rows whose login others have too, as the store compares logins."""


@runtime_checkable
class HasOrder(Protocol):
    """A store whose rows stand in an order."""

    def newest(self, rows: int) -> list[Account]:
        """Read the rows that were written last, the newest first.

        Raises:
            UsageError: nothing says which they are.
        """

    def beside(self, key: AccountKey, rows: int) -> list[Account]:
        """Read so many rows before a key and behind it, the nearest first."""


@runtime_checkable
class HasSchema(Protocol):
    """A store whose columns are declared, in a catalogue that can be asked."""

    def width(self) -> int | None:
        """Give the characters that the stored column has room for; None without a bound."""

    def schema_change(self, *, needed: int) -> "SchemaChange | None":
        """Say what the stored column needs for values of so many characters."""

    def column_move(self) -> "ColumnMove | None":
        """Say how far values have moved to another column; None where they stay in theirs."""

    def surroundings(self) -> "Surroundings":
        """Say what a change of the table would touch."""


def room_of(store: LoginStore) -> int | None:
    """Give the characters that a store's written column has room for; None without a bound."""
    return store.width() if isinstance(store, HasSchema) else None


@runtime_checkable
class HasRights(Protocol):
    """A store that lets an account read some columns, and write some."""

    def require_readable(self) -> None:
        """Read a row by all columns that the policy names.

        Raises:
            SourceError: the account may not, or one is not there.
        """

    def require_writable(self) -> None:
        """Ask whether the stored value may be written; nothing is, and no trigger runs.

        Raises:
            SourceError: the account may not, or a lock is held.
        """


@runtime_checkable
class HasClaims(Protocol):
    """A store that several programs can write to at once."""

    def claim(self, name: str) -> bool:
        """Claim a name among all programs that write here; False where another has it."""

    def release(self, name: str) -> None:
        """Let a claimed name go."""


@runtime_checkable
class WritesCopy(Protocol):
    """A store that is never written in place."""

    def finish(self) -> str:
        """End a bulk step that went through; give the file that was written."""
