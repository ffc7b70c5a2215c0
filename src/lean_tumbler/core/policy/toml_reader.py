"""From the text of the policy file to the policy; every message names file, table and key."""

import tomllib
from collections.abc import Mapping, Sequence
from dataclasses import replace
from datetime import date, datetime
from types import MappingProxyType
from typing import Any
from urllib.parse import urlsplit

from lean_tumbler.core import decryption
from lean_tumbler.core.decryption import Decryption
from lean_tumbler.core.formulas import notation
from lean_tumbler.core.formulas.analysis import keys_used
from lean_tumbler.core.formulas.named import NamedFormula
from lean_tumbler.core.formulas.steps import ENCODINGS
from lean_tumbler.core.grades import Floor
from lean_tumbler.core.limits import Limits
from lean_tumbler.core.login.new_passwords import (
    COMPOSITION,
    LEAST_LONGEST,
    SHORTEST,
    NewPasswords,
)
from lean_tumbler.core.policy.cohort_tables import CohortTables, parts_of, takes_salt_column
from lean_tumbler.core.policy.entries import Entries
from lean_tumbler.core.policy.model import (
    APPLICATION,
    KEY_FORMS,
    MODES,
    Columns,
    KeySource,
    StoragePolicy,
    StorePolicy,
    Target,
)
from lean_tumbler.core.reading.cohorts import Cohort
from lean_tumbler.core.schemes.catalogue import DERIVATIONS, TUNED, USUAL_TARGET
from lean_tumbler.core.schemes.derivation import Derivation
from lean_tumbler.core.stock_functions import LANGUAGES, Program, schemes_for
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


_STORE_KEYS = (
    *(name for name in StorePolicy.__dataclass_fields__ if name not in {"name", "cohorts"}),
    "cohort",
)


class _Reader(Entries):
    """Turns the TOML document into the policy."""

    def policy(self, document: Mapping[str, Any]) -> StoragePolicy:
        known = ("target", "floor", "limits", "store", "formulas", "keys", "new_passwords")
        self.known("", document, known)
        tables = {name: self.get("", document, name, dict, {}) for name in known}
        formulas = {
            name: self._formula(name, self.get("formulas", tables["formulas"], name, str, ""))
            for name in tables["formulas"]
        }
        policy = StoragePolicy(
            floor=self.floor(tables["floor"]) if "floor" in document else Floor(),
            limits=self._limits(tables["limits"]),
            target=self._target(tables["target"])
            if "target" in document
            else Target(declared=False),
            formulas=formulas,
            stores={
                name: self._store(
                    name, self.get("store", tables["store"], name, dict, {}), formulas
                )
                for name in tables["store"]
            },
            keys={
                name: self._key(name, self.get("keys", tables["keys"], name, dict, {}))
                for name in tables["keys"]
            },
            new_passwords=self._new_passwords(tables["new_passwords"]),
        )
        self._check_target(policy)
        self._check_keys(policy)
        return policy

    def _new_passwords(self, entries: Mapping[str, Any]) -> NewPasswords:
        table = "new_passwords"
        self.known(table, entries, tuple(NewPasswords.__dataclass_fields__))
        rules = NewPasswords(
            shortest=self.get(table, entries, "shortest", int, SHORTEST),
            longest=self.get(table, entries, "longest", int, NewPasswords().longest),
            words=tuple(map(str, self.get(table, entries, "words", list, []))),
            composition=tuple(map(str, self.get(table, entries, "composition", list, []))),
        )
        if rules.shortest < 1 or rules.longest < max(LEAST_LONGEST, rules.shortest):
            raise self.error(table, f"“longest” must be {LEAST_LONGEST} or more, and “shortest” 1")
        for kind in rules.composition:
            self.one_of(table, "composition", kind, tuple(COMPOSITION))
        return rules

    def _check_target(self, policy: StoragePolicy) -> None:
        target = policy.target
        if target.hindrances:
            able = ", ".join(schemes_for(target.read_by, tuple(DERIVATIONS))) or "no scheme"
            raise self.error("target", f"{target.hindrances[0]}; all of read_by verify: {able}")
        if not policy.floor.reached_by(target.scheme, target.parameters):
            raise self.error(
                "target", f"{target} is below the floor ({policy.floor.source}); raise it"
            )
        if target.derivation.memory_kib(target.parameters) > policy.limits.memory_kib:
            raise self.error("target", "asks for more than [limits] memory_kib allows")

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

    def _key(self, name: str, entries: Mapping[str, Any]) -> KeySource:
        table = f"keys.{name}"
        self.known(table, entries, ("environment", "file", "form"))
        source = KeySource(**{key: self.get(table, entries, key, str, "") for key in entries})
        if bool(source.environment) == bool(source.file):
            raise self.error(
                table, 'a key comes from one place: { environment = "NAME" } or { file = "PATH" }'
            )
        self.one_of(table, "form", source.form, KEY_FORMS)
        return source

    def _one_of(self, table: str, key: str, value: str, known: Sequence[str]) -> None:
        if value not in known:
            raise self.error(table, f"“{key}” must be {' or '.join(known)}")

    def _decryption(self, table: str, entries: Mapping[str, Any]) -> Decryption:
        self.known(table, entries, tuple(Decryption.__dataclass_fields__))
        given = Decryption(**{key: self.get(table, entries, key, str, "") for key in entries})
        for key, value, known in (
            ("cipher", given.cipher, tuple(decryption.CIPHERS)),
            ("mode", given.mode, decryption.MODES),
            ("text_encoding", given.text_encoding, decryption.TEXT_ENCODINGS),
            ("padding", given.padding, decryption.PADDINGS),
            ("first_block", given.first_block, decryption.FIRST_BLOCKS),
            ("encoding", given.encoding, tuple(ENCODINGS)),
        ):
            self.one_of(table, key, value, known)
        return given

    def _formula(self, name: str, text: str) -> NamedFormula:
        try:
            return NamedFormula(name, notation.parse(text))
        except FormulaError as error:
            raise self.error("formulas", f"“{name}”, {error}") from None

    def _scheme(self, table: str, name: str) -> Derivation:
        if name not in DERIVATIONS:
            raise self.error(table, f"unknown scheme “{name}”; known: {', '.join(DERIVATIONS)}")
        return DERIVATIONS[name]

    def _target(self, entries: Mapping[str, Any]) -> Target:
        read_by = self._read_by(entries)
        usual = next(iter(schemes_for(read_by, tuple(TUNED))), USUAL_TARGET)
        scheme = self.get("target", entries, "scheme", str, usual)
        derivation = self._scheme("target", scheme)
        names = tuple(parameter.name for parameter in derivation.parameters)
        self.known("target", entries, ("scheme", "read_by", *names))
        parameters: dict[str, int] = {}
        for parameter in derivation.parameters:
            default = derivation.defaults[parameter.name]
            number = self.get("target", entries, parameter.name, int, default)
            if not parameter.lowest <= number <= parameter.highest:
                raise self.error(
                    "target",
                    f"“{parameter.name}” must be from {parameter.lowest} to {parameter.highest}",
                )
            parameters[parameter.name] = number
        return Target(scheme, MappingProxyType(parameters), read_by=read_by)

    def _read_by(self, entries: Mapping[str, Any]) -> tuple[Program, ...]:
        found = []
        for text in self.get("target", entries, "read_by", list, []):
            program = Program.named(text) if isinstance(text, str) else None
            if program is None:
                raise self.error(
                    "target",
                    "“read_by” must be a list of languages with versions, like "
                    f'["php 8.2", "node 20"]; known: {", ".join(LANGUAGES)}',
                )
            found.append(program)
        return tuple(found)

    def floor(self, entries: Mapping[str, Any]) -> Floor:
        alternatives = dict(Floor().alternatives)
        for scheme in entries:
            derivation = self._scheme("floor", scheme)
            given = entries[scheme] if isinstance(entries[scheme], list) else [entries[scheme]]
            names = tuple(parameter.name for parameter in derivation.parameters)
            for alternative in given:
                if not isinstance(alternative, dict) or not alternative:
                    raise self.error("floor", f"“{scheme}” must be a table of numbers")
                self.known(f"floor.{scheme}", alternative, names)
                for name in alternative:
                    self.get(f"floor.{scheme}", alternative, name, int, 0)
            alternatives[scheme] = tuple(given)
        return Floor(MappingProxyType(alternatives), source="the policy's [floor]")

    def _limits(self, entries: Mapping[str, Any]) -> Limits:
        names = tuple(Limits.__dataclass_fields__)
        self.known("limits", entries, names)
        given = {name: self.get("limits", entries, name, int, 0) for name in entries}
        for name, number in given.items():
            if number < 1:
                raise self.error("limits", f"“{name}” must be 1 or more")
        return Limits(**given)

    def _store(
        self, name: str, entries: Mapping[str, Any], formulas: Mapping[str, NamedFormula]
    ) -> StorePolicy:
        table = f"store.{name}"
        self.known(table, entries, _STORE_KEYS)
        locator = self.get(table, entries, "locator", str, "")
        if not locator:
            raise self.error(
                table, f"“locator” is missing: a path or URL of the store, or “{APPLICATION}”"
            )
        if "://" in locator and urlsplit(locator).password:
            raise self.error(
                table, "“locator” holds a password; the policy is no place for secrets"
            )
        columns = Columns(salt="salt")  # what a request may bring along
        if locator != APPLICATION:
            given = self.get(table, entries, "columns", dict, {})
            columns = self._columns(f"{table}.columns", given)
        parts = parts_of(self, name, self.get(table, entries, "parts", dict, {}))
        return StorePolicy(
            name=name,
            locator=locator,
            table=self.get(table, entries, "table", str, ""),
            columns=columns,
            parts=parts,
            cohorts=self._cohorts(name, entries, columns, parts, formulas),
            replace_lossy=self.get(table, entries, "replace_lossy", bool, False),
            checked_by_application=self.get(table, entries, "checked_by_application", bool, False),
            readers_ready=self._day(table, entries, "readers_ready"),
            replicas=self._replicas(table, entries),
            mode=self._mode(table, entries),
            share=self._share(table, entries),
            decryption=self._decryption(
                f"{table}.decryption", self.get(table, entries, "decryption", dict, {})
            )
            if "decryption" in entries
            else None,
        )

    def _cohorts(
        self,
        store: str,
        entries: Mapping[str, Any],
        columns: Columns,
        parts: Mapping[str, str],
        formulas: Mapping[str, NamedFormula],
    ) -> tuple[Cohort, ...]:
        roles = {role: own for role in Columns.__dataclass_fields__
                 if (own := getattr(columns, role))}  # fmt: skip
        tables = CohortTables(self, store=store, roles=roles, parts=parts, formulas=formulas)
        cohorts = tables.cohorts(self.get(f"store.{store}", entries, "cohort", list, []))
        for cohort in cohorts:
            if takes_salt_column(cohort) and not columns.salt:
                raise self.error(
                    f"store.{store}.cohort",
                    f"“{cohort.name}”: the formula takes a salt; name its column in "
                    f"[store.{store}.columns], or give a layout that holds it",
                )
        return cohorts

    def _day(self, table: str, entries: Mapping[str, Any], key: str) -> date | None:
        given = entries.get(key)
        if given is None or (isinstance(given, date) and not isinstance(given, datetime)):
            return given
        raise self.error(table, f"“{key}” must be a date without quotes, like 2026-05-01")

    def _columns(self, table: str, entries: Mapping[str, Any]) -> Columns:
        names = tuple(Columns.__dataclass_fields__)
        self.known(table, entries, names)
        columns = Columns(**{name: self.get(table, entries, name, str, "") for name in entries})
        if not columns.stored or not columns.login:
            missing = "stored" if not columns.stored else "login"
            raise self.error(table, f"“{missing}” is missing: the column's own name")
        return columns

    def _replicas(self, table: str, entries: Mapping[str, Any]) -> tuple[str, ...]:
        urls = self.get(table, entries, "replicas", list, [])
        for url in urls:
            if not isinstance(url, str) or "://" not in url or urlsplit(url).password:
                raise self.error(table, "“replicas” must be a list of URLs without passwords")
        return tuple(urls)

    def _mode(self, table: str, entries: Mapping[str, Any]) -> str:
        mode = self.get(table, entries, "mode", str, "upgrade")
        self.one_of(table, "mode", mode, MODES)
        return mode

    def _share(self, table: str, entries: Mapping[str, Any]) -> float:
        text = self.get(table, entries, "share", str, "100%")
        try:
            percent = float(text.removesuffix("%"))
        except ValueError:
            percent = -1.0
        if not text.endswith("%") or not 0.0 <= percent <= 100.0:
            raise self.error(table, '“share” must be a percentage from 0% to 100%, like "1%"')
        return percent / 100.0
