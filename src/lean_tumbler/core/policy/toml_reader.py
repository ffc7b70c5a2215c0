"""From the text of the policy file to the policy; every message names file, table and key."""

import tomllib
from collections.abc import Mapping
from types import MappingProxyType
from typing import Any
from urllib.parse import urlsplit

from msgspec import defstruct
from msgspec.structs import replace

from lean_tumbler.core.decryption import Decryption
from lean_tumbler.core.formulas import notation
from lean_tumbler.core.formulas.analysis import keys_used
from lean_tumbler.core.formulas.named import NamedFormula
from lean_tumbler.core.formulas.steps import ENCODINGS
from lean_tumbler.core.formulas.tokens import is_part_name
from lean_tumbler.core.grades import Floor
from lean_tumbler.core.keyring import Keyring
from lean_tumbler.core.limits import Limits
from lean_tumbler.core.login.new_passwords import NewPasswords
from lean_tumbler.core.policy.cohort_tables import CohortTables, takes_salt_column
from lean_tumbler.core.policy.entries import Entries
from lean_tumbler.core.policy.model import (
    APPLICATION,
    ROLES,
    Columns,
    KeySource,
    StoragePolicy,
    StorePolicy,
    Target,
)
from lean_tumbler.core.policy.source_tables import row_source
from lean_tumbler.core.policy.tables import PolicyDocument, PrivilegedTable, StoreTable
from lean_tumbler.core.policy.target_table import TargetTables
from lean_tumbler.core.reading.cohorts import Cohort
from lean_tumbler.errors import FormulaError, PolicyError


def policy_of(text: str, origin: str) -> StoragePolicy:
    """Read a policy.

    Raises:
        PolicyError: with the table and the key.
    """
    return _Reader(origin).policy(_toml(text, origin))


def floor_of(text: str, origin: str) -> Floor:
    """Read the [floor] alone.

    Raises:
        PolicyError: there is none, or it has a mistake.
    """
    entries = _toml(text, origin).get("floor")
    if not isinstance(entries, dict) or not entries:
        raise PolicyError(f"{origin}: has no table [floor]")
    return replace(_Reader(origin).floor(entries), source=f"the [floor] of {origin}")


def _toml(text: str, origin: str) -> dict[str, Any]:
    try:
        return tomllib.loads(text)
    except tomllib.TOMLDecodeError as error:
        place = str(error).rpartition("(at ")[2].rstrip(")")  # never the text that it quotes
        raise PolicyError(f"{origin}: not valid TOML at {place}") from None
    except RecursionError:
        raise PolicyError(f"{origin}: tables or lists are nested too deep") from None
    except ValueError:
        raise PolicyError(f"{origin}: a number has too many digits") from None


class _Reader(Entries):
    """Turns the TOML document into the policy."""

    def policy(self, entries: Mapping[str, Any]) -> StoragePolicy:
        document = self.read("", entries, PolicyDocument)
        formulas = {name: self._formula(name, text) for name, text in document.formulas.items()}
        tables = TargetTables(self._origin)
        target = (
            Target(declared=False) if document.target is None else tables.target(document.target)
        )
        policy = StoragePolicy(
            floor=Floor() if document.floor is None else self.floor(document.floor),
            limits=self.read("limits", document.limits, Limits),
            target=target,
            keyring=Keyring(realm=target.realm, sealed_by=target.keyed_by, bound=target.bound_to),
            formulas=formulas,
            stores={
                name: self._store(name, table, formulas) for name, table in document.store.items()
            },
            keys={name: self._key(f"keys.{name}", key) for name, key in document.keys.items()},
            new_passwords=self._new_passwords(document.new_passwords),
        )
        tables.check_target(policy)
        self._check_keys(policy)
        return policy

    def _new_passwords(self, entries: Mapping[str, Any]) -> NewPasswords:
        rules = self.read("new_passwords", entries, NewPasswords)
        if rules.max_length < rules.min_length:
            raise self.error("new_passwords", "“max_length” must be “min_length” or more")
        return rules

    def _check_keys(self, policy: StoragePolicy) -> None:
        for named in policy.formulas_by_fingerprint.values():
            missing = sorted(keys_used(named.formula) - set(policy.keys))
            if missing:
                raise self.error(
                    "keys", f"the formula “{named.name}” needs the key “{missing[0]}”; name it here"
                )
        for store in policy.stores.values():
            if store.decryption and store.decryption.key not in policy.keys:
                raise self.error(
                    f"store.{store.name}.decryption",
                    f"“key” is “{store.decryption.key}”; name it in [keys]",
                )

    def _key(self, table: str, entries: Mapping[str, Any]) -> KeySource:
        source = self.read(table, entries, KeySource)
        if source.places != 1:
            raise self.error(
                table,
                'a key comes from one place: { environment = "NAME" }, { file = "PATH" }, '
                '{ credential = "NAME" } or { helper = ["PROGRAM"] }',
            )
        return source

    def _decryption(self, table: str, entries: Mapping[str, Any]) -> Decryption:
        given = self.read(table, entries, Decryption)
        if given.encoding not in ENCODINGS:
            raise self.error(table, f"“encoding” must be {' or '.join(ENCODINGS)}")
        return given

    def _formula(self, name: str, text: Any) -> NamedFormula:
        if not isinstance(text, str):
            raise self.error("formulas", f"“{name}” must be text")
        try:
            return NamedFormula(name, notation.parse(text))
        except FormulaError as error:
            raise self.error("formulas", f"“{name}”, {error}") from None

    def floor(self, entries: Mapping[str, Any]) -> Floor:
        alternatives = dict(Floor().alternatives)
        for scheme in entries:
            derivation = TargetTables(self._origin).scheme_named("floor", scheme)
            given = entries[scheme] if isinstance(entries[scheme], list) else [entries[scheme]]
            table = defstruct(
                "FloorTable",
                [(cost.name, int | None, None) for cost in derivation.parameters],
                forbid_unknown_fields=True,
            )
            for alternative in given:
                if not isinstance(alternative, dict) or not alternative:
                    raise self.error("floor", f"“{scheme}” must be a table of numbers")
                self.read(f"floor.{scheme}", alternative, table)
            alternatives[scheme] = tuple(given)
        return Floor(MappingProxyType(alternatives), source="the policy's [floor]")

    def _store(
        self, name: str, entries: Mapping[str, Any], formulas: Mapping[str, NamedFormula]
    ) -> StorePolicy:
        place = f"store.{name}"
        table = self.read(place, entries, StoreTable)
        self._check_place(name, place, table)
        columns = Columns(salt="salt")  # what a request may bring along
        if table.locator != APPLICATION:
            entries = {
                role: own
                for role, own in table.columns.items()
                if role != "write_to" and not (role == "account" and isinstance(own, list))
            }
            columns = self._columns(f"{place}.columns", entries)
        self._check_parts(f"{place}.parts", table.parts)
        return StorePolicy(
            name=name,
            locator=table.locator,
            table=table.table,
            columns=columns,
            source=row_source(self, place, table, columns.mapped),
            parts=table.parts,
            cohorts=self._cohorts(name, table, columns, formulas),
            replace_lossy=table.replace_lossy,
            checked_by_application=table.checked_by_application,
            readers_ready=table.readers_ready,
            replicas=table.replicas,
            embedded=table.embedded,
            mode=table.mode,
            share=self._share(place, "share", table.share),
            error_bound=self._share(place, "error_bound", table.error_bound),
            tables=(table.tables,) if isinstance(table.tables, str) else table.tables,
            alike=table.alike if isinstance(table.alike, tuple) else ("*",) * table.alike,
            decryption=None
            if table.decryption is None
            else self._decryption(f"{place}.decryption", table.decryption),
        )

    def _check_place(self, name: str, place: str, table: StoreTable) -> None:
        """Refuse what says no place, or two."""
        if not table.locator:
            raise self.error(
                place, f"“locator” is missing: a path or URL of the store, or “{APPLICATION}”"
            )
        if "://" in table.locator and urlsplit(table.locator).password:
            raise self.error(
                place, "“locator” holds a password; the policy is no place for secrets"
            )
        if any("://" not in url or urlsplit(url).password for url in table.replicas):
            raise self.error(place, "“replicas” must be a list of URLs without passwords")
        if "/" in name:
            raise self.error(place, "the name of a store has no “/”: it stands before a table")
        if table.tables and (table.table or table.locator == APPLICATION):
            raise self.error(place, "“tables” stands instead of “table”, and needs a database")
        if table.alike and not table.tables:
            raise self.error(place, "“alike” goes with “tables”")

    def _check_parts(self, place: str, parts: Mapping[str, str]) -> None:
        for name, column in parts.items():
            if not isinstance(column, str):
                raise self.error(place, f"“{name}” must be text: the table's own name")
            if not is_part_name(name):
                raise self.error(
                    place, f"“{name}” cannot be the name of a part: the notation uses it"
                )

    def _cohorts(
        self,
        store: str,
        table: StoreTable,
        columns: Columns,
        formulas: Mapping[str, NamedFormula],
    ) -> tuple[Cohort, ...]:
        roles = columns.mapped
        tables = CohortTables(self, store=store, roles=roles, parts=table.parts, formulas=formulas)
        cohorts = tables.cohorts(table.cohort)
        for cohort in cohorts:
            if takes_salt_column(cohort) and not columns.salt:
                raise self.error(
                    f"store.{store}.cohort",
                    f"“{cohort.name}”: the formula takes a salt; name its column in "
                    f"[store.{store}.columns], or give a layout that holds it",
                )
        return cohorts

    def _columns(self, place: str, entries: Mapping[str, Any]) -> Columns:
        told = entries.get("privileged")
        by_value = None
        if isinstance(told, dict):
            by_value = self.read(f"{place}.privileged", told, PrivilegedTable)
            entries = {**entries, "privileged": by_value.column}
        kind = defstruct(
            "ColumnsTable", [(r, str | None, None) for r in ROLES], forbid_unknown_fields=True
        )
        table = self.read(place, entries, kind)
        columns = Columns(
            **{role: getattr(table, role) for role in ROLES},
            privileged_values=by_value.values if by_value else (),
        )
        if not columns.stored or not columns.login:
            missing = "stored" if not columns.stored else "login"
            raise self.error(place, f"“{missing}” is missing: the column's own name")
        return columns

    def _share(self, place: str, key: str, text: str) -> float:
        try:
            percent = float(text.removesuffix("%"))
        except ValueError:
            percent = -1.0
        if not text.endswith("%") or not 0.0 <= percent <= 100.0:
            raise self.error(place, f'“{key}” must be a percentage from 0% to 100%, like "1%"')
        return percent / 100.0
