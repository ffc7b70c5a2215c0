"""The policy: what new values are written with, what counts as current, and the stores.

Text comes in, a frozen policy goes out; reading and writing the file is `stores.policy_file`.
"""

import difflib
import tomllib
from collections.abc import Mapping, Sequence
from dataclasses import dataclass, field, replace
from functools import cached_property
from types import MappingProxyType
from typing import Any, TypeVar
from urllib.parse import urlsplit

from lean_tumbler.core import decryption
from lean_tumbler.core.decryption import Decryption
from lean_tumbler.core.formulas import notation
from lean_tumbler.core.formulas.analysis import (
    OutputShape,
    inputs_used,
    keys_used,
    lossy,
    output_shape,
)
from lean_tumbler.core.formulas.steps import ENCODINGS, Formula, Input
from lean_tumbler.core.grades import PUBLISHED_FLOOR, Floor
from lean_tumbler.core.limits import Limits
from lean_tumbler.core.new_passwords import (
    COMPOSITION,
    LEAST_LONGEST,
    SHORTEST,
    NewPasswords,
)
from lean_tumbler.core.schemes.base import Derivation, Parameters
from lean_tumbler.core.schemes.catalogue import DERIVATIONS
from lean_tumbler.errors import FormulaError, PolicyError

T = TypeVar("T")

MODES = ("upgrade", "observe")
APPLICATION = "application"  # the locator of a store whose values come with each request
KEY_FORMS = ("text", "hex", "base64")


@dataclass(frozen=True, slots=True)
class Target:
    """What new values are written with."""

    scheme: str = "argon2id"
    parameters: Parameters = field(default_factory=lambda: DERIVATIONS["argon2id"].defaults)

    @property
    def derivation(self) -> Derivation:
        """The scheme that does it."""
        return DERIVATIONS[self.scheme]

    def __str__(self) -> str:
        costs = " ".join(f"{name}={number}" for name, number in self.parameters.items())
        return f"{self.scheme} {costs}"


@dataclass(frozen=True)
class NamedFormula:
    """A formula of the policy with what is asked of it again and again."""

    name: str
    formula: Formula

    @cached_property
    def fingerprint(self) -> str:
        """What layered values call it."""
        return notation.fingerprint(self.formula)

    @cached_property
    def output(self) -> OutputShape:
        """What its results look like."""
        return output_shape(self.formula)

    @cached_property
    def lossy(self) -> tuple[str, ...]:
        """The steps after which different passwords open one account."""
        return lossy(self.formula)

    @cached_property
    def takes_salt(self) -> bool:
        """Whether a row needs a salt."""
        return Input.SALT in inputs_used(self.formula)

    @cached_property
    def takes_login(self) -> bool:
        """Whether a row needs its login."""
        return Input.LOGIN in inputs_used(self.formula)

    def fits(self, stored: str, *, salt: bytes | None) -> bool:
        """Tell whether a stored text can be a result of this formula for a row with that salt."""
        return self.output.canonical(stored) is not None and not (self.takes_salt and salt is None)


@dataclass(frozen=True, slots=True, kw_only=True)
class Columns:
    """The store's own names for what the tool needs; None where there is none."""

    account: str | None = None
    login: str | None = None
    stored: str | None = None
    salt: str | None = None
    last_login: str | None = None
    privileged: str | None = None
    created: str | None = None
    updated: str | None = None


@dataclass(frozen=True, slots=True, kw_only=True)
class KeySource:
    """Where a key comes from: a variable of the environment, or a file; and how it is written."""

    environment: str = ""
    file: str = ""
    form: str = "text"


@dataclass(frozen=True, slots=True, kw_only=True)
class StorePolicy:
    """One store: where it is and how its values came about."""

    name: str
    locator: str
    table: str
    columns: Columns
    formulas: tuple[NamedFormula, ...] = ()
    accept_plain_text: bool = False
    tighten: bool = False
    checked_by_application: bool = False
    replicas: tuple[str, ...] = ()
    mode: str = "upgrade"
    share: float = 1.0
    decryption: Decryption | None = None


@dataclass(frozen=True, slots=True, kw_only=True)
class StoragePolicy:
    """The whole policy. Without arguments: Argon2id at the published floor, no stores."""

    target: Target = field(default_factory=Target)
    floor: Floor = field(default_factory=Floor)
    limits: Limits = field(default_factory=Limits)
    stores: Mapping[str, StorePolicy] = field(default_factory=dict)
    formulas: Mapping[str, NamedFormula] = field(default_factory=dict)
    keys: Mapping[str, KeySource] = field(default_factory=dict)
    new_passwords: NewPasswords = field(default_factory=NewPasswords)

    @staticmethod
    def floor_from_toml(text: str, *, origin: str) -> Floor:
        """Read the [floor] alone from the text of a TOML file.

        Raises:
            PolicyError: there is none, or it has a mistake.
        """
        entries = _toml(text, origin).get("floor")
        if not isinstance(entries, dict) or not entries:
            raise PolicyError(f"{origin}: has no table [floor]")
        return replace(_Reader(origin).floor(entries), source=f"the [floor] of {origin}")

    @classmethod
    def from_toml(cls, text: str, *, origin: str = "policy") -> "StoragePolicy":
        """Read a policy from the text of its TOML file.

        Args:
            text: the file's text.
            origin: what messages call it.

        Raises:
            PolicyError: with the table and the key.
        """
        return _Reader(origin).policy(_toml(text, origin))


def _toml(text: str, origin: str) -> dict[str, Any]:
    try:
        return tomllib.loads(text)
    except tomllib.TOMLDecodeError as error:
        place = str(error).rpartition("(at ")[2].rstrip(")")  # never the text that it quotes
        raise PolicyError(f"{origin}: not valid TOML at {place}") from None


class _Reader:
    """Turns the TOML document into the policy; every message names file, table and key."""

    def __init__(self, origin: str) -> None:
        self._origin = origin

    def _error(self, table: str, message: str) -> PolicyError:
        place = f"{self._origin}: [{table}]" if table else f"{self._origin}:"
        return PolicyError(f"{place} {message}")

    def _known(self, table: str, entries: Mapping[str, Any], known: tuple[str, ...]) -> None:
        for key in entries:
            if key not in known:
                near = difflib.get_close_matches(key, known, n=1, cutoff=0.5)
                hint = f"did you mean “{near[0]}”?" if near else f"known here: {', '.join(known)}"
                raise self._error(table, f"unknown key “{key}”; {hint}")

    def _get(
        self, table: str, entries: Mapping[str, Any], key: str, kind: type[T], default: T
    ) -> T:
        value = entries.get(key, default)
        if not isinstance(value, kind) or (kind is int and isinstance(value, bool)):
            names = {int: "a whole number", str: "text", bool: "true or false", list: "a list"}
            raise self._error(table, f"“{key}” must be {names.get(kind, 'a table')}")
        return value

    def policy(self, document: Mapping[str, Any]) -> StoragePolicy:
        known = ("target", "floor", "limits", "store", "formulas", "keys", "new_passwords")
        self._known("", document, known)
        tables = {name: self._get("", document, name, dict, {}) for name in known}
        formulas = {
            name: self._formula(name, self._get("formulas", tables["formulas"], name, str, ""))
            for name in tables["formulas"]
        }
        policy = StoragePolicy(
            floor=self.floor(tables["floor"]) if "floor" in document else Floor(),
            limits=self._limits(tables["limits"]),
            target=self._target(tables["target"]) if "target" in document else Target(),
            formulas=formulas,
            stores={
                name: self._store(
                    name, self._get("store", tables["store"], name, dict, {}), formulas
                )
                for name in tables["store"]
            },
            keys={
                name: self._key(name, self._get("keys", tables["keys"], name, dict, {}))
                for name in tables["keys"]
            },
            new_passwords=self._new_passwords(tables["new_passwords"]),
        )
        self._check_target(policy)
        self._check_keys(policy)
        return policy

    def _new_passwords(self, entries: Mapping[str, Any]) -> NewPasswords:
        table = "new_passwords"
        self._known(table, entries, tuple(NewPasswords.__dataclass_fields__))
        rules = NewPasswords(
            shortest=self._get(table, entries, "shortest", int, SHORTEST),
            longest=self._get(table, entries, "longest", int, NewPasswords().longest),
            words=tuple(map(str, self._get(table, entries, "words", list, []))),
            composition=tuple(map(str, self._get(table, entries, "composition", list, []))),
        )
        if rules.shortest < 1 or rules.longest < max(LEAST_LONGEST, rules.shortest):
            raise self._error(table, f"“longest” must be {LEAST_LONGEST} or more, and “shortest” 1")
        for kind in rules.composition:
            self._one_of(table, "composition", kind, tuple(COMPOSITION))
        return rules

    def _check_target(self, policy: StoragePolicy) -> None:
        target = policy.target
        if not policy.floor.reached_by(target.scheme, target.parameters):
            raise self._error(
                "target", f"{target} is below the floor ({policy.floor.source}); raise it"
            )
        if target.derivation.memory_kib(target.parameters) > policy.limits.memory_kib:
            raise self._error("target", "asks for more than [limits] memory_kib allows")

    def _check_keys(self, policy: StoragePolicy) -> None:
        for named in policy.formulas.values():
            missing = sorted(keys_used(named.formula) - set(policy.keys))
            if missing:
                raise self._error(
                    "formulas", f"“{named.name}” needs the key “{missing[0]}”; name it in [keys]"
                )
        for store in policy.stores.values():
            if store.decryption and store.decryption.key not in policy.keys:
                raise self._error(
                    f"store.{store.name}.decryption",
                    f"“key” is “{store.decryption.key}”; name it in [keys]",
                )

    def _key(self, name: str, entries: Mapping[str, Any]) -> KeySource:
        table = f"keys.{name}"
        self._known(table, entries, ("environment", "file", "form"))
        source = KeySource(**{key: self._get(table, entries, key, str, "") for key in entries})
        if bool(source.environment) == bool(source.file):
            raise self._error(
                table, 'a key comes from one place: { environment = "NAME" } or { file = "PATH" }'
            )
        self._one_of(table, "form", source.form, KEY_FORMS)
        return source

    def _one_of(self, table: str, key: str, value: str, known: Sequence[str]) -> None:
        if value not in known:
            raise self._error(table, f"“{key}” must be {' or '.join(known)}")

    def _decryption(self, table: str, entries: Mapping[str, Any]) -> Decryption:
        self._known(table, entries, tuple(Decryption.__dataclass_fields__))
        given = Decryption(**{key: self._get(table, entries, key, str, "") for key in entries})
        for key, value, known in (
            ("cipher", given.cipher, tuple(decryption.CIPHERS)),
            ("mode", given.mode, decryption.MODES),
            ("writing", given.writing, decryption.WRITINGS),
            ("padding", given.padding, decryption.PADDINGS),
            ("first_block", given.first_block, decryption.FIRST_BLOCKS),
            ("encoding", given.encoding, tuple(ENCODINGS)),
        ):
            self._one_of(table, key, value, known)
        return given

    def _formula(self, name: str, text: str) -> NamedFormula:
        try:
            return NamedFormula(name, notation.parse(text))
        except FormulaError as error:
            raise self._error("formulas", f"“{name}”, {error}") from None

    def _scheme(self, table: str, name: str) -> Derivation:
        if name not in DERIVATIONS:
            raise self._error(table, f"unknown scheme “{name}”; known: {', '.join(DERIVATIONS)}")
        return DERIVATIONS[name]

    def _target(self, entries: Mapping[str, Any]) -> Target:
        scheme = self._get("target", entries, "scheme", str, "argon2id")
        derivation = self._scheme("target", scheme)
        names = tuple(parameter.name for parameter in derivation.parameters)
        self._known("target", entries, ("scheme", *names))
        parameters: dict[str, int] = {}
        for parameter in derivation.parameters:
            default = derivation.defaults[parameter.name]
            number = self._get("target", entries, parameter.name, int, default)
            if not parameter.lowest <= number <= parameter.highest:
                raise self._error(
                    "target",
                    f"“{parameter.name}” must be from {parameter.lowest} to {parameter.highest}",
                )
            parameters[parameter.name] = number
        return Target(scheme, MappingProxyType(parameters))

    def floor(self, entries: Mapping[str, Any]) -> Floor:
        alternatives = dict(PUBLISHED_FLOOR)
        for scheme in entries:
            derivation = self._scheme("floor", scheme)
            given = entries[scheme] if isinstance(entries[scheme], list) else [entries[scheme]]
            names = tuple(parameter.name for parameter in derivation.parameters)
            for alternative in given:
                if not isinstance(alternative, dict) or not alternative:
                    raise self._error("floor", f"“{scheme}” must be a table of numbers")
                self._known(f"floor.{scheme}", alternative, names)
                for name in alternative:
                    self._get(f"floor.{scheme}", alternative, name, int, 0)
            alternatives[scheme] = tuple(given)
        return Floor(MappingProxyType(alternatives), source="the policy's [floor]")

    def _limits(self, entries: Mapping[str, Any]) -> Limits:
        names = tuple(Limits.__dataclass_fields__)
        self._known("limits", entries, names)
        given = {name: self._get("limits", entries, name, int, 0) for name in entries}
        for name, number in given.items():
            if number < 1:
                raise self._error("limits", f"“{name}” must be 1 or more")
        return Limits(**given)

    def _store(
        self, name: str, entries: Mapping[str, Any], formulas: Mapping[str, NamedFormula]
    ) -> StorePolicy:
        table = f"store.{name}"
        names = tuple(name for name in StorePolicy.__dataclass_fields__ if name != "name")
        self._known(table, entries, names)
        locator = self._get(table, entries, "locator", str, "")
        if not locator:
            raise self._error(
                table, f"“locator” is missing: a path or URL of the store, or “{APPLICATION}”"
            )
        if "://" in locator and urlsplit(locator).password:
            raise self._error(
                table, "“locator” holds a password; the policy is no place for secrets"
            )
        columns = Columns(salt="salt")  # what a request may bring along
        if locator != APPLICATION:
            given = self._get(table, entries, "columns", dict, {})
            columns = self._columns(f"{table}.columns", given)
        return StorePolicy(
            name=name,
            locator=locator,
            table=self._get(table, entries, "table", str, ""),
            columns=columns,
            formulas=self._formulas_of(table, entries, columns, formulas),
            accept_plain_text=self._get(table, entries, "accept_plain_text", bool, False),
            tighten=self._get(table, entries, "tighten", bool, False),
            checked_by_application=self._get(table, entries, "checked_by_application", bool, False),
            replicas=self._replicas(table, entries),
            mode=self._mode(table, entries),
            share=self._share(table, entries),
            decryption=self._decryption(
                f"{table}.decryption", self._get(table, entries, "decryption", dict, {})
            )
            if "decryption" in entries
            else None,
        )

    def _columns(self, table: str, entries: Mapping[str, Any]) -> Columns:
        names = tuple(Columns.__dataclass_fields__)
        self._known(table, entries, names)
        columns = Columns(**{name: self._get(table, entries, name, str, "") for name in entries})
        if not columns.stored or not columns.login:
            missing = "stored" if not columns.stored else "login"
            raise self._error(table, f"“{missing}” is missing: the column's own name")
        return columns

    def _formulas_of(
        self,
        table: str,
        entries: Mapping[str, Any],
        columns: Columns,
        formulas: Mapping[str, NamedFormula],
    ) -> tuple[NamedFormula, ...]:
        chosen: list[NamedFormula] = []
        for name in self._get(table, entries, "formulas", list, []):
            if name not in formulas:
                near = difflib.get_close_matches(str(name), formulas, n=1, cutoff=0.5)
                hint = f"; did you mean “{near[0]}”?" if near else ""
                raise self._error(table, f"formula “{name}” is not in [formulas]{hint}")
            if formulas[name].takes_salt and not columns.salt:
                raise self._error(
                    table, f"formula “{name}” takes a salt; name the column in [{table}.columns]"
                )
            chosen.append(formulas[name])
        return tuple(chosen)

    def _replicas(self, table: str, entries: Mapping[str, Any]) -> tuple[str, ...]:
        urls = self._get(table, entries, "replicas", list, [])
        for url in urls:
            if not isinstance(url, str) or "://" not in url or urlsplit(url).password:
                raise self._error(table, "“replicas” must be a list of URLs without passwords")
        return tuple(urls)

    def _mode(self, table: str, entries: Mapping[str, Any]) -> str:
        mode = self._get(table, entries, "mode", str, "upgrade")
        self._one_of(table, "mode", mode, MODES)
        return mode

    def _share(self, table: str, entries: Mapping[str, Any]) -> float:
        text = self._get(table, entries, "share", str, "100%")
        try:
            percent = float(text.removesuffix("%"))
        except ValueError:
            percent = -1.0
        if not text.endswith("%") or not 0.0 <= percent <= 100.0:
            raise self._error(table, '“share” must be a percentage from 0% to 100%, like "1%"')
        return percent / 100.0
