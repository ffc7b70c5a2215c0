"""The policy as the program knows it; `toml_reader` makes it of the file's text."""

from collections.abc import Mapping, Sequence
from datetime import date
from fnmatch import fnmatchcase
from typing import Literal

from msgspec import Struct, field
from msgspec.structs import replace

from lean_tumbler.core.decryption import Decryption
from lean_tumbler.core.formulas.named import NamedFormula
from lean_tumbler.core.grades import Floor, Grade, grade
from lean_tumbler.core.keyring import Keyring
from lean_tumbler.core.limits import Limits
from lean_tumbler.core.login.new_passwords import NewPasswords
from lean_tumbler.core.reading.cohorts import Cohort
from lean_tumbler.core.reading.conditions import Condition
from lean_tumbler.core.reading.evidence import MOST_OTHERWISE
from lean_tumbler.core.schemes.base import Kind, Parameters, ParsedValue
from lean_tumbler.core.schemes.catalogue import DERIVATIONS, USUAL_TARGET
from lean_tumbler.core.schemes.derivation import Derivation
from lean_tumbler.core.schemes.keyed import Bound
from lean_tumbler.core.stock_functions import Program, hindrance, variant_for


def names_any(patterns: Sequence[str], table: str) -> bool:
    """Tell whether some pattern names a table; `*` stands for any text."""
    return any(fnmatchcase(table, pattern) for pattern in patterns)


DIRECTORY_SCHEMES = ("ldap", "ldaps", "ldapi")  # of URLs of directories
APPLICATION = "application"  # the locator of a store whose values come with each request


class LayeredWith(Struct, frozen=True):
    """What bulk steps lay over legacy digests."""

    scheme: str
    parameters: Parameters
    # who verifies layered values; empty for every program that the store names
    verified_by: tuple[str, ...] = ()


class Target(Struct, frozen=True):
    """What new values are written with."""

    scheme: str = USUAL_TARGET
    parameters: Parameters = field(default_factory=lambda: DERIVATIONS[USUAL_TARGET].defaults)
    # whether somebody chose it; a default never replaces a value that is current
    declared: bool = True
    # programs whose stock functions must verify what is written; empty for no such bound
    verified_by: tuple[Program, ...] = ()
    # what lies over digests, where that is not the target itself
    layer_with: "LayeredWith | None" = None
    keyed_by: str = ""  # the key of [keys] under which new values go; empty for none
    bound_to: Bound = Bound.ACCOUNT  # what a value under a key is bound to
    realm: str = ""  # the place that keyed values are made for; needed to read them too

    @property
    def derivation(self) -> Derivation:
        """The scheme that does it."""
        return DERIVATIONS[self.scheme]

    @property
    def variant(self) -> str:
        """Which variant is written, of a scheme that has several; empty where it has one."""
        variants = self.derivation.variants
        return (variant_for(self.verified_by, variants) or variants[0]) if variants else ""

    @property
    def over_digests(self) -> "LayeredWith | None":
        """What bulk steps may lay over digests; None where nothing: `layer_with`, or itself."""
        if self.layer_with is not None:
            return self.layer_with
        if self.derivation.on_top is None or self.verified_by:  # no stock function verifies a layer
            return None
        return LayeredWith(self.scheme, self.parameters)

    @property
    def hindrances(self) -> tuple[str, ...]:
        """Why programs that must verify it do not."""
        found = [hindrance(program, self.scheme, self.parameters) for program in self.verified_by]
        variants = self.derivation.variants
        if variants and variant_for(self.verified_by, variants) is None:
            found.append(f"the programs of verified_by have no variant of {self.scheme} in common")
        return tuple(filter(None, found))

    def is_reached_by(self, parsed: ParsedValue) -> bool:
        """Tell whether a value is of the target's scheme, at its cost or more, alone or on top."""
        is_slow = parsed.kind in {Kind.DERIVATION, Kind.LAYERED}
        same = is_slow and parsed.scheme == self.scheme
        return same and self.derivation.as_strong(parsed.parameters, self.parameters)

    def __str__(self) -> str:
        costs = " ".join(f"{name}={number}" for name, number in self.parameters.items())
        return f"{self.scheme} {costs}"


class Columns(Struct, frozen=True, kw_only=True):
    """The store's own names for what the tool needs.

    Attributes:
        account: the key that names a row; without it, the table's primary key.
        login: what a person types beside the password; required.
        stored: the stored value; required.
        salt: the salt, where it has a column of its own.
        last_login: the last login: a date, or seconds or milliseconds since 1970.
        privileged: who is an administrator: yes or no, or a role (see below).
        created: when the account was made; forecasts and conditions use it.
        updated: when the row was last changed; it is kept as it was, where the server allows.
        origin: where the account came from, like an import, a site or a way to register; proof says
            of which it speaks.
        privileged_values: what stands in the column `privileged` for an administrator; empty where
            the column says yes or no.
    """

    account: str | None = None
    login: str | None = None
    stored: str | None = None
    salt: str | None = None
    last_login: str | None = None
    privileged: str | None = None
    created: str | None = None
    updated: str | None = None
    origin: str | None = None
    privileged_values: tuple[str, ...] = ()

    @property
    def mapped(self) -> dict[str, str]:
        """Role -> the own name of its column, of those that are there."""
        named = ((role, getattr(self, role)) for role in ROLES)
        return {role: own for role, own in named if own}

    @property
    def role_words(self) -> tuple[bool, tuple[str, ...]]:
        """Give words in small letters, and whether they are administrators' or everybody else's.

        A store compares the column `privileged` with them, in its own language; NULL is nobody's.
        """
        theirs = tuple(value.lower() for value in self.privileged_values)
        return (True, theirs) if theirs else (False, _NOT_PRIVILEGED)


# What a yes/no column says of everybody else, in small letters.
_NOT_PRIVILEGED = ("", "0", "f", "n", "false", "no")
ROLES = tuple(name for name in Columns.__struct_fields__ if name != "privileged_values")


class JoinedTable(Struct, frozen=True, kw_only=True):
    """One more table, whose columns stand beside the store's own."""

    table: str  # its name; its columns are written TABLE.COLUMN
    key: str  # its column that names each of its rows alone
    by: str  # the column of the store's own table that holds that key

    def own_name(self, column: str) -> str | None:
        """Give the name that a column has in the joined table; None where it is not of it."""
        prefix = f"{self.table}."
        return column.removeprefix(prefix) if column.startswith(prefix) else None


class WriteTo(Struct, frozen=True, kw_only=True):
    """The column that takes the place of `stored`: read first, and the only one written."""

    column: str  # its name
    empty_stored: bool = False  # whether the same write empties the column that is left behind


class RowSource(Struct, frozen=True, kw_only=True):
    """What makes up a row, where that is more than all rows of one table with one stored column."""

    join: JoinedTable | None = None  # a table whose columns stand beside the store's own
    rows: Condition | None = None  # which rows belong to the store; None for all
    write_to: WriteTo | None = None  # the column that takes the place of `stored`
    # the columns that together name a row; empty for `account`, or the primary key
    key: tuple[str, ...] = ()

    @property
    def is_plain(self) -> bool:
        """Whether it is all rows of one table with one stored column, which files have too."""
        return self == PLAIN_ROWS


PLAIN_ROWS = RowSource()


class KeySource(Struct, frozen=True, kw_only=True):
    """Where a key comes from: one place of the four; and how it is written there.

    Attributes:
        environment: the variable that holds it.
        file: the file that holds it; only its owner may read it (mode 0600).
        credential: the systemd credential that holds it (`LoadCredential=` in the unit).
        helper: a program and its arguments, which is asked for the key (docs/FORMATS.md).
        form: how it is written there; a key over stored values is `base64` or `hex`.
    """

    environment: str = ""
    file: str = ""
    credential: str = ""
    helper: tuple[str, ...] = ()
    form: Literal["text", "hex", "base64"] = "text"

    @property
    def place(self) -> str:
        """The place, in words."""
        if self.environment:
            return f"environment variable {self.environment}"
        if self.credential:
            return f"systemd credential {self.credential}"
        return self.file or f"helper {self.helper[0]}"

    @property
    def may_seal(self) -> bool:
        """Whether it may go over stored values: it is no text that somebody thought of."""
        return self.form != "text"

    @property
    def places(self) -> int:
        """How many places are named."""
        named = (self.environment, self.file, self.credential, self.helper)
        return sum(bool(place) for place in named)


class StorePolicy(Struct, frozen=True, kw_only=True):
    """One store: where it is and how its values came about."""

    name: str
    locator: str
    table: str
    columns: Columns
    source: RowSource = field(default_factory=RowSource)  # what makes up a row
    # further inputs of formulas -> the table's own names of their columns
    parts: Mapping[str, str] = field(default_factory=dict)
    cohorts: tuple[Cohort, ...] = ()  # how values came about that do not say so themselves
    replace_lossy: bool = False  # whether a login replaces a value that other passwords open too
    checked_by_application: bool = False  # whether nothing but the application reads the values
    # since when every program that checks passwords knows what is written
    readers_ready: date | None = None
    replicas: tuple[str, ...] = ()
    embedded: tuple[str, ...] = ()  # files of `embed`, from the policy's folder
    mode: str = "upgrade"
    share: float = 1.0
    # the largest share of a cohort's rows that may be made otherwise unseen
    error_bound: float = MOST_OTHERWISE
    decryption: Decryption | None = None
    # which tables are stores of this kind, with `*` for any text; none for one store
    tables: tuple[str, ...] = ()
    # of these, whose values the same program wrote, with `*` for any text
    alike: tuple[str, ...] = ()
    sisters: tuple[str, ...] = ()  # the names of the other stores of its kind

    @property
    def section(self) -> str:
        """The store's name in the policy's file; equal tables share one."""
        return self.name.partition("/")[0]

    @property
    def is_alike(self) -> bool:
        """Whether the policy says that its values were made as those of its sisters."""
        return names_any(self.alike, self.table)

    def for_each(self, tables: Sequence[str]) -> "dict[str, StorePolicy]":
        """Give the stores of equal tables, by name.

        Args:
            tables: the names of all tables that are there.
        """
        chosen = [table for table in tables if names_any(self.tables, table)]
        names = [f"{self.name}/{table}" for table in chosen]
        return {
            name: replace(
                self,
                name=name,
                table=table,
                tables=(),
                sisters=tuple(other for other in names if other != name),
            )
            for name, table in zip(names, chosen, strict=True)
        }

    @property
    def binding(self) -> str:
        """Say of which columns and by which cohorts rows are taken, for work to be continued."""
        cohorts = [
            (c.name, c.identity, sorted(c.untested), sorted(c.text_classes)) for c in self.cohorts
        ]
        return repr(
            (self.columns, self.source, sorted(self.parts.items()), self.decryption, cohorts)
        )

    @property
    def other_columns(self) -> tuple[str, ...]:
        """The table's own names of what readings need beside stored value, salt and login."""
        conditions = [self.source.rows, *(cohort.condition for cohort in self.cohorts)]
        asked = [name for each in conditions if each for name in each.columns]
        return tuple(dict.fromkeys((*asked, *self.parts.values())))


class StoragePolicy(Struct, frozen=True, kw_only=True):
    """The whole policy. Without arguments: Argon2id at the published floor, no stores."""

    target: Target = field(default_factory=lambda: Target(declared=False))
    floor: Floor = field(default_factory=Floor)
    limits: Limits = field(default_factory=Limits)
    stores: Mapping[str, StorePolicy] = field(default_factory=dict)
    formulas: Mapping[str, NamedFormula] = field(default_factory=dict)
    keys: Mapping[str, KeySource] = field(default_factory=dict)
    new_passwords: NewPasswords = field(default_factory=NewPasswords)
    # opens and seals keyed values; it holds no key until one is needed
    keyring: Keyring = field(default_factory=Keyring)

    def with_keys(self, keys: Mapping[str, bytes]) -> "StoragePolicy":
        """Give the same policy with the keys that it names."""
        return replace(self, keyring=self.keyring.with_keys(keys))

    def leaves(self, parsed: ParsedValue) -> bool:
        """Tell whether a login leaves a direct value of a slow scheme as it is."""
        is_current = grade(parsed, self.floor, salted=parsed.salted) is Grade.CURRENT
        if is_current and not self.target.declared:
            return True
        return self.target.is_reached_by(parsed)

    def formula_named(self, name: str) -> NamedFormula | None:
        """Give a formula of [formulas], or of the cohort of that name; None where there is none."""
        if name in self.formulas:
            return self.formulas[name]
        cohorts = (cohort for store in self.stores.values() for cohort in store.cohorts)
        return next((cohort.formula for cohort in cohorts if cohort.name == name), None)

    @property
    def formulas_by_fingerprint(self) -> Mapping[str, NamedFormula]:
        """All formulas that layered values may refer to: of [formulas], and of any cohort."""
        of_cohorts = (cohort.formula for store in self.stores.values() for cohort in store.cohorts)
        every = (*(formula for formula in of_cohorts if formula), *self.formulas.values())
        return {named.fingerprint: named for named in every}

    @staticmethod
    def floor_from_toml(text: str, *, origin: str) -> Floor:
        """Read the [floor] alone from the text of a TOML file.

        Raises:
            PolicyError: there is none, or it has a mistake.
        """
        from lean_tumbler.core.policy.toml_reader import floor_of  # noqa: PLC0415 - it needs this

        return floor_of(text, origin)

    @classmethod
    def from_toml(cls, text: str, *, origin: str = "policy") -> "StoragePolicy":
        """Read a policy from the text of its TOML file.

        Args:
            text: the file's text.
            origin: what messages call it.

        Raises:
            PolicyError: with the table and the key.
        """
        from lean_tumbler.core.policy.toml_reader import policy_of  # noqa: PLC0415 - it needs this

        return policy_of(text, origin)
