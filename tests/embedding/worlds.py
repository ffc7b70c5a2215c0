"""Invented tables as questions to a written check, each with the library's answer."""

import base64
import random
import unicodedata
from collections.abc import Iterator, Mapping, Sequence
from dataclasses import dataclass
from datetime import date

from msgspec.structs import replace

from invented import passwords
from invented.tables import Person, table
from lean_tumbler import CredentialGateway, StoragePolicy
from lean_tumbler.core.embedding.check import StoreCheck
from lean_tumbler.core.embedding.interpreting import CheckReader, ReadDifference, difference
from lean_tumbler.core.embedding.making import Looking, made_check
from lean_tumbler.core.login.new_values import NewValues
from lean_tumbler.core.login.outcome import Outcome
from lean_tumbler.core.login.written import made
from lean_tumbler.core.reading.evidence import StoreEvidence
from lean_tumbler.core.reading.of_stores import store_reader
from lean_tumbler.core.reading.rows import Row, given_row
from lean_tumbler.core.row_plans import derived, plan_row, task_of
from lean_tumbler.errors import CheckImpossible

KEYS = {"vault": bytes(range(100, 132))}
TARGETS = {
    "argon2id": 'scheme = "argon2id"\nmemory_kib = 64\npasses = 1',
    "bcrypt": 'scheme = "bcrypt"\ncost_log2 = 4\n[target.layer_with]\nscheme = "pbkdf2-sha256"\n'
    'rounds = 100\nverified_by = ["library"]',
    "pbkdf2-sha512": 'scheme = "pbkdf2-sha512"\nrounds = 120',
    "scrypt": 'scheme = "scrypt"\ncost_log2 = 4\nblock_size = 8\nlanes = 1',
    "keyed": 'scheme = "argon2id"\nmemory_kib = 64\npasses = 1\nkeyed_by = "vault"\n'
    'bound_to = "account"\nrealm = "coldharbour"',
}
POLICY = """
[target]
{target}
[floor]
argon2id = {{ memory_kib = 64, passes = 1 }}
bcrypt = {{ cost_log2 = 4 }}
pbkdf2-sha256 = {{ rounds = 100 }}
pbkdf2-sha512 = {{ rounds = 100 }}
scrypt = {{ cost_log2 = 4, block_size = 8, lanes = 1 }}
[keys]
vault = {{ environment = "VAULT", form = "base64" }}
[store.kiosk]
locator = "kiosk.sqlite"
table = "kiosk"
readers_ready = 2026-01-01
[store.kiosk.columns]
account = "id"
login = "mail"
stored = "pw"
salt = "pw_salt"
created = "joined"
[store.kiosk.parts]
rounds = "pw_rounds"
{cohorts}
"""
UNTESTED = 'untested = ["letter case", "blanks", "encoding"]'
TODAY = date(2026, 12, 2)
DAMAGE = 0.05  # of rows


@dataclass(frozen=True)
class Question:
    """One row with what is typed, and what the library says."""

    row: Row
    password: str
    admitted: bool
    refusal: str
    kept: str
    writes: bool
    label: str

    def asked(self) -> dict[str, object]:
        """Give it as the drivers take it."""
        row = self.row
        return {
            "stored": _coded(row.stored),
            "salt": _coded(row.salt),
            "login": row.login,
            "account": row.account,
            "columns": {name: _coded(raw) for name, raw in row.others.items()},
            "password": base64.b64encode(self.password.encode("utf-8", "surrogatepass")).decode(),
        }


def _coded(raw: bytes | None) -> str | None:
    return None if raw is None else base64.b64encode(raw).decode("ascii")


class World:
    """One table under one policy."""

    def __init__(
        self, seed: int, *, target: str, rows: int = 40, rules: str = "", layered: float = 0.45
    ) -> None:
        self._layered = layered  # the share of rows
        self.chance = random.Random(seed)
        found = table(seed, rows=rows)
        cohorts = found.cohorts
        if self.chance.random() < 0.3:
            cohorts = cohorts.replace('hex"\n', f'hex"\n{UNTESTED}\n')
        text = POLICY.format(target=TARGETS[target], cohorts=cohorts) + rules
        self.policy = StoragePolicy.from_toml(text).with_keys(KEYS)
        self.store = self.policy.stores["kiosk"]
        self.reader = store_reader(self.policy, self.store)
        self.gateway = CredentialGateway(
            self.policy, today=lambda: TODAY, wait=lambda _: None, randomness=self.chance.randbytes
        )
        self.people: list[tuple[Person, Row]] = [
            (person, self._changed(_row(person))) for person in found.people
        ]

    def _changed(self, row: Row) -> Row:
        """Leave a row as it is, layer it, put it under the key, or damage it."""
        dice = self.chance.random()
        reading = self.reader.read(row)
        if dice < self._layered:
            plan = plan_row(reading, self.policy)
            if plan.leave is None:
                value = derived(task_of(plan, self.policy.target, self.chance.randbytes))
                row = with_value(row, value)
        if self.policy.target.keyed_by and self.chance.random() < 0.6:
            now = self.reader.read(row)
            if now.parsed.kind.name in {"DERIVATION", "LAYERED"} and not now.parsed.wrappers:
                values = NewValues(self.policy, self.chance.randbytes)
                row = with_value(row, values.rekeyed(now, account=row.account))
        if self.chance.random() < DAMAGE and row.stored:
            row = with_value(row, self._damaged(row.stored.decode("utf-8", "replace")))
        return row

    def _damaged(self, value: str) -> str:
        place = self.chance.randrange(len(value))
        return self.chance.choice(
            [value[:place], value[:place] + "x" + value[place + 1 :], value + " ", value[::-1],
             f" {value}", value.replace("$", "", 1), value.upper(), value + "\n"]
        )  # fmt: skip

    def check(self) -> StoreCheck:
        """Make the check of the store, by what its column holds."""
        looking = Looking()
        for _, row in self.people:
            looking.add(self.reader.read(row))
        return made_check(self.policy, self.store, looking.found, StoreEvidence())

    def differing(self, check: StoreCheck) -> dict[int, ReadDifference]:
        """Say which rows the check reads otherwise."""
        own = CheckReader(check, self.policy.keyring)
        found = {
            person.number: difference(own.read(row), self.reader.read(row))
            for person, row in self.people
        }
        return {number: each for number, each in found.items() if each is not ReadDifference.NONE}

    def questions(self, *, without: Mapping[int, ReadDifference]) -> Iterator[Question]:
        """Ask of each row that is read alike: right, wrong, another's, in other forms, too long."""
        for person, row in self.people:
            if person.number in without:
                continue
            other = self.chance.choice(self.people)[0].password
            right = person.password
            typed = [right, right + "x", other]
            typed.append(self.chance.choice([
                unicodedata.normalize("NFD", right), unicodedata.normalize("NFC", right),
                right.upper(), right.lower(), "", "x" * 1025, f" {right} ", right + "\0",
                (row.stored or b"x").decode("utf-8", "replace"), passwords.human(self.chance),
            ]))  # fmt: skip
            for password in typed:
                yield self.ask(row, password)

    @staticmethod
    def registration(password: str) -> dict[str, object]:
        """Ask for a new value, as the drivers take it."""
        return {
            "new": True,
            "password": base64.b64encode(password.encode()).decode("ascii"),
            "login": "ada.lovelace@tidepost.example",
            "account": "1",
        }

    def costly_value(self, scheme: str, password: str, costs: Mapping[str, int]) -> str:
        """Make a value at other costs than the target's."""
        return made(scheme, costs, password.encode(), self.chance.randbytes(16))

    @staticmethod
    def with_bytes(row: Row, raw: bytes) -> Row:
        """Give a row with other bytes as its value."""
        return replace(row, stored=raw)

    def ask(self, row: Row, password: str) -> Question:
        """Ask the library."""
        try:
            outcome = self.gateway.decide_row(row, password=password, store="kiosk")
        except CheckImpossible:
            outcome = Outcome(admitted=False, refusal="error")
        kept = "" if outcome.kept is None else outcome.kept.name.lower().replace("_", "-")
        return Question(
            row=row,
            password=password,
            admitted=outcome.admitted,
            refusal=outcome.refusal,
            kept=kept,
            writes=outcome.new_value is not None,
            label=outcome.identity,
        )


def _row(person: Person) -> Row:
    return given_row(
        stored=person.stored,
        salt=person.salt,
        login=person.login,
        account=str(person.number),
        columns={
            "joined": person.created,
            "created": person.created,
            "made_by": person.made_by,
            "pw_rounds": None if person.rounds is None else str(person.rounds),
        },
    )


def with_value(row: Row, value: str) -> Row:
    return replace(row, stored=value.encode("utf-8", "replace"))


def worlds(seeds: Sequence[int], targets: Sequence[str]) -> Iterator[World]:
    """Give worlds, their targets by turns."""
    for seed in seeds:
        yield World(seed, target=targets[seed % len(targets)])
