"""One careless user's way through the documented commands, and what became of everybody."""

import random
import re
import shutil
import signal
import sqlite3
import time
from collections import Counter
from collections.abc import Callable, Iterator, Mapping, Sequence
from contextlib import ExitStack, chdir, closing, contextmanager
from dataclasses import dataclass, field
from datetime import date
from functools import partial
from pathlib import Path

import servers
from conftest import run_in_process, start_program
from invented.careless import Known, Meanwhile, Person, World, opens
from lean_tumbler import CredentialGateway, StoragePolicy
from lean_tumbler.cli.option_types import PolicyOptions
from lean_tumbler.cli.options import gateway_of
from lean_tumbler.errors import TumblerError
from lean_tumbler.migration.admission import admit_login
from lean_tumbler.stores.interface import LoginStore
from lean_tumbler.stores.kinds import open_store
from lean_tumbler.stores.policy_file import read_policy

HEAD = "[target]\nmemory_kib = 8\npasses = 1\n[floor]\nargon2id = { memory_kib = 8, passes = 1 }\n"
SEALED = ("--to", "k.public.pem")
TODAY = date(2026, 12, 1)
LOGGED_IN = 30
LIKE_DIGESTS = "plain of managers"  # of the makes
DIGEST = re.compile("[0-9a-f]{32}")
WRONG_TYPED = 120  # people on whom wrong texts are tried

Insert = Callable[[str, Sequence[Person]], None]


@dataclass
class Outcome:
    """What happened, counted; and each fault, with the world's number."""

    counts: Counter[str] = field(default_factory=Counter)
    faults: list[str] = field(default_factory=list)

    def fault(self, world: World, what: str, person: Person, more: str = "") -> None:
        """Note a fault."""
        self.counts[what] += 1
        self.faults.append(f"world {world.number}: {what}: {person.make} {person.number} {more}")

    def add(self, other: "Outcome") -> None:
        """Take in what happened in another world."""
        self.counts += other.counts
        self.faults += other.faults


def columns_of(world: World) -> list[str]:
    names = ["id", "login", "pw", "pw_salt", "joined", "source", "role"]
    return [*names, "deleted_at"] if world.has_deleted else names


def cells(person: Person, world: World) -> tuple[object, ...]:
    row = (person.number, person.login, person.stored, person.salt, person.joined, person.source,
           person.role)  # fmt: skip
    return (*row, person.deleted) if world.has_deleted else row


def create(world: World, table: str) -> str:
    more = ", deleted_at varchar(30)" if world.has_deleted else ""
    return (
        f"CREATE TABLE {table} (id integer PRIMARY KEY, login varchar(90), pw varchar(400),"
        f" pw_salt varchar(40), joined varchar(12), source varchar(10), role varchar(10){more})"
    )


def write_sqlite(path: Path, people: Sequence[Person], world: World) -> None:
    with closing(sqlite3.connect(path)) as db, db:
        for table in world.tables:
            db.execute(create(world, table))
        insert_sqlite(path, people, world, db)


def insert_sqlite(
    path: Path, people: Sequence[Person], world: World, db: sqlite3.Connection | None = None
) -> None:
    marks = ", ".join("?" * len(columns_of(world)))
    with closing(sqlite3.connect(path)) if db is None else _same(db) as opened, opened:
        for table in world.tables:
            rows = [cells(person, world) for person in people if person.table == table]
            opened.executemany(f"INSERT INTO {table} VALUES ({marks})", rows)


@contextmanager
def _same(db: sqlite3.Connection) -> Iterator[sqlite3.Connection]:
    yield db


class CarelessTrial:
    """Runs one world.

    Args:
        world: what there is, and what its user does.
        folder: empty, of its own.
        source: where the table stands.
        insert: adds people to it.
        sister: makes a database of other people, and gives its locator; None where there is none.
    """

    def __init__(
        self,
        world: World,
        folder: Path,
        source: str,
        insert: Callable[[Sequence[Person]], None],
        sister: Callable[[Sequence[Person] | None], str] | None,
    ) -> None:
        self.world, self.folder, self.source = world, folder, source
        self.insert, self.sister = insert, sister
        self.outcome = Outcome()
        self.people = list(world.people)
        self.chance = random.Random(world.number)

    def run(self) -> Outcome:
        """Go the whole way."""
        with chdir(self.folder):
            (self.folder / "tumbler.toml").write_text(HEAD)
            lines = [f"{_cell(login)},{_cell(password)}" for login, password in self.world.known]
            (self.folder / "known.csv").write_text("\n".join(["login,password", *lines, ""]))
            self._command("keys", "new", "k")
            self.outcome.counts["worlds"] += 1
            if self._drafted():
                self._go()
        return self.outcome

    def _drafted(self) -> bool:
        known = ["known.csv"] if self.world.known else []
        code = self._command("draft", self.source, *known, "--merge", "--budget", "20")
        policy = self.folder / "tumbler.toml"
        text = policy.read_text()
        stores = [] if code else list(self._policy().stores.values())
        self.names = {store.table: store.name for store in stores}
        if not self.names:
            self.outcome.counts["not drafted"] += 1
            return False
        policy.write_text(
            text.replace(
                "# readers_ready = 2026-01-31", 'mode = "upgrade"\nreaders_ready = 2026-01-31'
            )
        )
        return True

    def _command(self, *words: str) -> int:
        finished = run_in_process(*words)
        if "internal error" in finished.err or finished.code not in {0, 1, 2, 3, 4}:
            self.outcome.counts["internal errors"] += 1
            self.outcome.faults.append(f"world {self.world.number}: {words}: {finished.err[-300:]}")
        self.outcome.counts[f"{words[0]} {finished.code}"] += 1
        return finished.code

    def _go(self) -> None:
        steps = [step for step in self.world.order if step != "draft"]
        proof = [step for step in steps if step in {"verify", "plan", "rehearse"}]
        for step in proof:
            self._step(step)
        self._meanwhile()
        self.before = self._opened()
        for step in steps:
            if step not in {"verify", "plan", "rehearse"}:
                self._step(step)
        self._judge()

    def _policy(self) -> StoragePolicy:
        return read_policy(self.folder / "tumbler.toml")

    def _step(self, step: str) -> None:
        word = step.split(maxsplit=1)[0]
        ways: dict[str, Callable[[], object]] = {
            "verify": self._verify,
            "rehearse": self._rehearse,
            "undo": self._undo,
            "observe": partial(self._set_mode, "observe"),
            "upgrade": partial(self._set_mode, "upgrade"),
            "logins": self._log_in,
            "killed": self._kill,
            "layer": partial(self._layer, *step.split()),
            "plan": lambda: self._command("plan", "--store", next(iter(self.names.values()))),
        }
        ways[word]()

    def _verify(self) -> None:
        sections = dict.fromkeys(name.partition("/")[0] for name in self.names.values())
        for section in sections if self.world.known else ():
            self._command("verify", "known.csv", "--store", section)

    def _rehearse(self) -> None:
        if self.world.known:
            name = next(iter(self.names.values()))
            self._command("rehearse", "known.csv", "--store", name, "--rows", "20")

    def _layer(self, *words: str) -> None:
        for table in self.names:
            self._command(*words, *self._to(table))

    def _undo(self) -> None:
        for table in self.names:
            if (self.folder / f"{table}.sealed").exists():
                self._command("undo", f"{table}.sealed", "--key", "k.private.pem")

    def _set_mode(self, mode: str) -> None:
        policy = self.folder / "tumbler.toml"
        text = policy.read_text()
        policy.write_text(re.sub('mode = "(observe|upgrade)"', f'mode = "{mode}"', text))

    def _kill(self) -> None:
        table = self.chance.choice(list(self.names))
        running = start_program("layer", "--rate", "200/s", *self._to(table), cwd=self.folder)
        time.sleep(self.chance.uniform(0.3, 1.2))
        running.send_signal(signal.SIGKILL)
        running.wait()

    def _to(self, table: str) -> tuple[str, ...]:
        """Name a store, and where its old values go."""
        return ("--store", self.names[table], "--backup", f"{table}.sealed", *SEALED)

    def _meanwhile(self) -> None:
        if self.world.meanwhile is Meanwhile.IMPORT:
            self.insert(self.world.later)
            self.people += self.world.later
        if self.sister is None or self.world.meanwhile not in {
            Meanwhile.OTHER_DATABASE,
            Meanwhile.COPY,
        }:
            return
        other = self.world.later if self.world.meanwhile is Meanwhile.OTHER_DATABASE else None
        locator = self.sister(other)
        if other is not None:
            self.people = list(other)
        policy = self.folder / "tumbler.toml"
        policy.write_text(policy.read_text().replace(f'"{self.source}"', f'"{locator}"'))
        self.source = locator

    @contextmanager
    def _stores(self) -> Iterator[tuple[dict[str, LoginStore], CredentialGateway]]:
        policy = self._policy()
        options = PolicyOptions(policy=self.folder / "tumbler.toml")
        with ExitStack() as stack:
            stores = {
                table: stack.enter_context(
                    closing(open_store(policy.stores[name], base=self.folder, writable=True))
                )
                for table, name in self.names.items()
            }
            yield stores, gateway_of(options, policy)

    def _live(self) -> list[Person]:
        return [p for p in self.people if p.deleted is None and p.table in self.names]

    def _opened(self) -> dict[int, bool]:
        with self._stores() as (stores, gateway):
            return {
                person.number: self._admits(stores, gateway, person, person.password)
                for person in self._live()
            }

    def _admits(
        self,
        stores: Mapping[str, LoginStore],
        gateway: CredentialGateway,
        person: Person,
        typed: str,
    ) -> bool:
        rows = stores[person.table].fetch(person.login)
        if len(rows) != 1:
            return False
        name = self.names[person.table]
        try:
            return gateway.decide_row(rows[0].row, password=typed, store=name).admitted
        except TumblerError:
            return False

    def _log_in(self) -> None:
        with self._stores() as (stores, gateway):
            some = self.chance.sample(self._live(), min(LOGGED_IN, len(self._live())))
            for person in some:
                admit_login(
                    stores[person.table], gateway, store_name=self.names[person.table],
                    login=person.login, password=person.password,
                )  # fmt: skip

    def _judge(self) -> None:
        counts, live = self.outcome.counts, self._live()
        counts["people"] += len(self.people)
        with self._stores() as (stores, gateway):
            tried = set(map(id, self.chance.sample(live, min(WRONG_TYPED, len(live)))))
            for person in live:
                rows = stores[person.table].fetch(person.login)
                now = rows[0].row.text or "" if len(rows) == 1 else ""
                is_written = now != person.stored and bool(now)
                opened = self._admits(stores, gateway, person, person.password)
                counts["written"] += is_written
                if self.before[person.number] and not opened:
                    self.outcome.fault(self.world, "refused who was admitted", person)
                elif is_written and not opened:
                    self.outcome.fault(self.world, "written and refused", person)
                if id(person) in tried:
                    self._type_wrongly(stores, gateway, person, now)
                self._count_share(person, rows_found=len(rows), is_written=is_written)

    def _type_wrongly(
        self,
        stores: Mapping[str, LoginStore],
        gateway: CredentialGateway,
        person: Person,
        now: str,
    ) -> None:
        other = self.chance.choice(self.people).password
        wrong = {"the stored text": person.stored, "the text as it is": now, "another's": other}
        for what, typed in wrong.items():
            if not typed or opens(person, typed):
                continue
            self.outcome.counts["wrong texts"] += 1
            if self._admits(stores, gateway, person, typed):
                self.outcome.fault(self.world, f"admitted by {what}", person)

    def _count_share(self, person: Person, *, rows_found: int, is_written: bool) -> None:
        """Count what could have been written, where enough was known and nothing else happened.

        Known passwords that stand there as they are and look like digests may be copied from the
        column, so that no known account suffices; these rows and their like are counted apart.
        """
        world = self.world
        is_enough = world.known_as is Known.MANY and world.meanwhile is Meanwhile.NOTHING
        if not is_enough or world.order[-1] != "layer" or rows_found != 1:
            return
        of_it = [p.make for p in self.people if p.table == person.table]
        what = "could be written"
        if LIKE_DIGESTS in of_it and DIGEST.fullmatch(person.stored):
            what = "may be digests or passwords"
        self.outcome.counts[what] += 1
        self.outcome.counts[f"{what} and was"] += is_written


def _cell(text: str) -> str:
    return '"' + text.replace('"', '""') + '"'


def on_sqlite(world: World, folder: Path) -> Outcome:
    """Run a world on a file of SQLite."""
    path = folder / "harbour.db"
    write_sqlite(path, world.people, world)

    def sister(people: Sequence[Person] | None) -> str:
        if people is None:
            shutil.copy(path, folder / "other.db")
        else:
            write_sqlite(folder / "other.db", people, world)
        return "other.db"

    trial = CarelessTrial(
        world, folder, "harbour.db", lambda people: insert_sqlite(path, people, world), sister
    )
    return trial.run()


def on_server(world: World, folder: Path, server: servers.Server) -> Outcome:
    """Run a world on a server, in a table that is made anew; no second database is there."""
    is_postgresql = server.url.startswith("postgresql")
    character_set = "" if is_postgresql else " CHARACTER SET utf8mb4"
    for table in world.tables:
        server.run(f"DROP TABLE IF EXISTS {table}; {create(world, table)}{character_set};")
    literal = partial(_literal, escapes=not is_postgresql)

    def insert(people: Sequence[Person]) -> None:
        for table in world.tables:
            own = [cells(p, world) for p in people if p.table == table]
            rows = ", ".join(f"({', '.join(map(literal, row))})" for row in own)
            if own:
                server.run(f"INSERT INTO {table} VALUES {rows};")

    insert(world.people)
    return CarelessTrial(world, folder, server.url, insert, None).run()


def _literal(cell: object, *, escapes: bool) -> str:
    if cell is None or isinstance(cell, int):
        return "NULL" if cell is None else str(cell)
    text = str(cell).replace("\\", "\\\\") if escapes else str(cell)
    return "'" + text.replace("'", "''") + "'"
