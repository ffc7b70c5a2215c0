"""A scheme, a format, a server, a kind of store, a command or a finding takes one module and one line, or less.

The program is copied, and what docs tell to add is added: everything else follows from it.
"""

import hashlib
import json
import os
import shutil
import sqlite3
import subprocess
import sys
from base64 import b64encode
from contextlib import closing
from dataclasses import dataclass
from pathlib import Path

import pytest

import lean_tumbler
import servers
from conftest import CHEAP_POLICY, Finished, make_portal
from lean_tumbler import CredentialGateway, StoragePolicy

# A slow scheme that nobody has: BLAKE2b over and over.
MODULE = """
import hashlib
import re

from lean_tumbler.core.schemes import phc
from lean_tumbler.core.schemes.base import Contents, Kind, Layout, Says
from lean_tumbler.core.schemes.derivation import Derivation, Family, OnTop, Parameter, Tuning
from lean_tumbler.core.schemes.guess_work import rounds_of

ROUNDS = Parameter(name="rounds", lowest=1, highest=2**32 - 1)


def digest_of(secret, salt, rounds):
    for _ in range(rounds):
        secret = hashlib.blake2b(secret, salt=salt[:16], digest_size=32).digest()
    return secret


def build(match):
    fields = phc.salt_and_digest(match)
    if fields is None:
        return None
    salt, digest = fields
    return Contents(
        parameters={"rounds": int(match["rounds"])}, salt=salt, digest=digest,
        setting=phc.setting_of(match, digest),
    )


def create(secret, salt, parameters):
    rounds = parameters["rounds"]
    return f"$kelp$i={rounds}${phc.encode(salt)}${phc.encode(digest_of(secret, salt, rounds))}"


LAYOUT = Layout(
    scheme="kelp", name=phc.NAME, structure="$kelp$i=…$salt$digest", source="a test",
    kind=Kind.DERIVATION, says=Says.ALL, starts=("$kelp$",), key_groups=("rounds",),
    pattern=r"\\$kelp\\$i=(?P<rounds>[0-9]+)" + phc.TAIL, build=build,
)
FAMILY = Family(
    name="kelp",
    layouts=(LAYOUT,),
    work={"kelp": rounds_of("blake2b")},
    derivations=(
        Derivation(
            scheme="kelp", source="a test", parameters=(ROUNDS,), defaults={"rounds": 4000},
            salt_bytes=16, create=create, whole_text=phc.whole_text,
            recompute=lambda parsed, secret: digest_of(
                secret, parsed.salt, parsed.parameters["rounds"]
            ),
            read_setting=lambda setting: LAYOUT.read(phc.with_blank_digest(setting)),
            memory_kib=lambda _: 0, work_kib=lambda _: 0,
            as_strong=lambda mine, others: mine["rounds"] >= others["rounds"],
            on_top=OnTop(
                layout=LAYOUT, start="$kelp", numbers=(("$i=", "rounds"),), digest_characters=43
            ),
            in_words=lambda costs: f"{costs['rounds']:,} rounds of kelp",
            limits={"rounds": "rounds"},
            floors={"owasp": ({"rounds": 2000},)},
            tuning=Tuning(
                points=tuple({"rounds": 1000 * 2**step} for step in range(6)),
                grows_with=lambda costs: float(costs["rounds"]),
                above=lambda floor: (
                    {"rounds": point["rounds"] * factor} for point in floor for factor in (1, 2, 4)
                ),
            ),
        ),
    ),
)
"""
POLICY = CHEAP_POLICY.replace(
    'scheme = "argon2id"\nmemory_kib = 256\npasses = 1\nlanes = 1', 'scheme = "kelp"\nrounds = 3000'
).replace("[floor]", "[floor]\nkelp = { rounds = 2000 }")


@dataclass(frozen=True)
class Added:
    """A module, and one line behind another in a table; either may be left out."""

    path: str = ""
    module: str = ""
    table: str = ""
    behind: str = ""
    line: str = ""

    def to(self, package: Path) -> None:
        if self.path:
            (package / self.path).parent.mkdir(parents=True, exist_ok=True)
            (package / self.path).write_text(self.module)
        if self.table:
            table = package / self.table
            text = table.read_text("utf-8")
            assert text.count(self.behind) == 1
            table.write_text(text.replace(self.behind, self.behind + self.line))


SCHEME = Added(
    "core/schemes/current/kelp.py", MODULE,
    "core/schemes/catalogue.py", "_MODULES = (\n", '    "current.kelp",\n',
)  # fmt: skip


class OwnProgram:
    """The program with something added, in a folder of its own."""

    def __init__(self, folder: Path, added: Added) -> None:
        self.folder = folder
        package = folder / "own" / "lean_tumbler"
        shutil.copytree(Path(lean_tumbler.__file__).parent, package)
        added.to(package)

    def __call__(self, *arguments: str, stdin: bytes = b"") -> Finished:
        finished = subprocess.run(
            [sys.executable, "-m", "lean_tumbler", *arguments], cwd=self.folder, input=stdin,
            env={**os.environ, "PYTHONPATH": str(self.folder / "own")}, capture_output=True,
            check=False,
        )  # fmt: skip
        return Finished(finished.returncode, finished.stdout.decode(), finished.stderr.decode())


@pytest.fixture(scope="module")
def own(tmp_path_factory: pytest.TempPathFactory) -> OwnProgram:
    """Give the program, in a folder with a store of all cohorts, whose target is the new scheme."""
    folder = tmp_path_factory.mktemp("kelp")
    make_portal(folder, ["plain", "md5", "sha1", "bcrypt", "weak-argon2", "current", "locked"] * 2)
    (folder / "tumbler.toml").write_text(POLICY)
    return OwnProgram(folder, SCHEME)


def kelp(password: str, *, rounds: int) -> str:
    """Compute a value of the scheme by other code than the module's."""
    found, salt = password.encode(), b"sixteen bytes..."
    for _ in range(rounds):
        found = hashlib.blake2b(found, salt=salt, digest_size=32).digest()
    texts = [b64encode(raw).decode().rstrip("=") for raw in (salt, found)]
    return f"$kelp$i={rounds}${'$'.join(texts)}"


def test_new_values_are_written_and_read_aloud(own: OwnProgram) -> None:
    """`hash` writes a value of the scheme, `explain` reads scheme, cost, grade and guess rate."""
    hashed = own("hash", "--policy", "tumbler.toml", stdin=b"Gannet 4471 & lantern\n")
    assert hashed.code == 0, hashed.err
    assert hashed.out.startswith("$kelp$i=3000$")
    aloud = own("explain", "--format", "json", stdin=hashed.out.encode())
    assert aloud.code == 0, aloud.err
    document = aloud.document
    assert (document["scheme"], document["grade"]) == ("kelp", "current")
    assert own("explain", stdin=hashed.out.replace("3000", "30").encode()).out.count("outdated")


def test_a_legacy_store_goes_under_it(own: OwnProgram) -> None:
    """Audit, layer, log in with each password, and the guard: all with the new scheme on top."""
    assert own("verify", "known.csv", "--store", "passengers").code == 0
    layered = own("layer", "--no-backup", "--format", "json")
    assert layered.code == 0, layered.err
    assert layered.document["layered"] == 8
    judged = own("audit", "harbour.db", "--format", "json").document["stores"][0]
    assert judged["grades"]["layered"] == 8
    database = own.folder / "harbour.db"
    with closing(sqlite3.connect(database)) as connection:
        assert connection.execute(
            "SELECT count(*) FROM passengers WHERE pw LIKE '$over$%$kelp$i=3000$%'"
        ).fetchone() == (8,)
    for number, line in enumerate((database.parent / "known.csv").read_text().splitlines()[1:5]):
        login, password = line.split(",")
        wrong = own("admit", login, stdin=password.encode() + b"x\n") if number < 2 else None
        assert wrong is None or wrong.code == 1
        assert own("admit", login, stdin=password.encode() + b"\n").code == 0
    applied = own("enforce", "constraint", "--apply")
    assert applied.code == 0, applied.err
    with closing(sqlite3.connect(database)) as connection:
        change = "UPDATE passengers SET pw = ? WHERE id = 1"
        with pytest.raises(sqlite3.IntegrityError):
            connection.execute(change, (kelp("Skua", rounds=20),))
        connection.execute(change, (kelp("Skua", rounds=3000),))
        connection.commit()
    login = "passenger1@tidepost.example"
    assert own("admit", login, stdin=b"Skua\n").code == 0


def test_parameters_are_chosen_for_it(own: OwnProgram) -> None:
    """`tune` measures it, fits its line, ranks it by what a guess costs, and can save it."""
    tuned = own(
        "tune", "--quick", "--schemes", "kelp", "--within", "900ms", "--format", "json",
        "--policy", "tumbler.toml",
    )  # fmt: skip
    assert tuned.code == 0, tuned.err
    document = json.loads(tuned.out)
    assert document["chosen"]["scheme"] == "kelp"
    assert document["chosen"]["parameters"]["rounds"] == 8000
    assert "8,000 rounds of kelp" in own("tune", "--quick", "--schemes", "kelp").out


FORMAT = Added(
    "stores/files/shells.py",
    '''
from dataclasses import dataclass

from lean_tumbler.stores.files.base import FileFormat
from lean_tumbler.stores.files.copying import Record, decoded, raw_lines, without_end
from lean_tumbler.stores.files.records import RecordTable
from lean_tumbler.stores.files.streams import lines


def fields_of(line):
    login, _, value = line.partition(" => ")
    return {"login": login, "value": value or None}


def rows(path, _, unreadable):
    for number, line in lines(path, unreadable):
        yield number, fields_of(line)


@dataclass(frozen=True)
class ShellsExport:
    path: object
    checked_elsewhere = ""
    numbered_by_line = True
    columns = ("login", "value")

    def records(self, stored):
        for number, raw in raw_lines(self.path):
            body, end = without_end(decoded(self.path, number, raw, "utf-8"))
            row = fields_of(body)

            def replaced(new, row=row, end=end):
                return f"{row['login']} => {new[0] or row['value']}{end}".encode()

            yield Record(line=number, raw=raw, rows=(row,), replaced=replaced)


FORMAT = FileFormat(
    recognises=lambda beginning: " => " in beginning.text.partition("\\n")[0],
    tables=lambda path: [RecordTable(path, rows)],
    copied=ShellsExport,
)
''',
    "stores/files/kinds.py", "_MODULES = (\n", '    "shells",\n',
)  # fmt: skip


def test_a_format_is_audited_and_copied(tmp_path: Path) -> None:
    """A module and a line: its rows are judged, and a layered copy opens with each password."""
    own = OwnProgram(tmp_path, FORMAT)
    people = {f"gull{number}": f"Skua {number}" for number in range(12)}
    written = "".join(
        f"{login} => {hashlib.md5(password.encode()).hexdigest()}\n"
        for login, password in people.items()
    )
    (tmp_path / "kiosk.shells").write_text(written)
    judged = own("audit", "kiosk.shells", "--format", "json").document["stores"][0]
    assert judged["grades"] == {"fast-unsalted": 12}
    (tmp_path / "tumbler.toml").write_text(
        '[target]\nscheme = "argon2id"\nmemory_kib = 256\npasses = 1\n'
        "[floor]\nargon2id = { memory_kib = 256, passes = 1 }\n"
        '[store.kiosk]\nlocator = "kiosk.shells"\nreaders_ready = 2026-01-01\n'
        '[store.kiosk.columns]\nlogin = "login"\nstored = "value"\n'
        '[[store.kiosk.cohort]]\nname = "md5"\nformula = "utf-8, md5, hex"\n'
    )
    layered = own("layer", "--into", "copy.shells", "--unproven", "md5")
    assert (tmp_path / "copy.shells").exists(), layered.err
    copied = dict(
        line.split(" => ") for line in (tmp_path / "copy.shells").read_text().splitlines()
    )
    policy = StoragePolicy.from_toml((tmp_path / "tumbler.toml").read_text())
    gateway = CredentialGateway(policy)
    for login, password in people.items():
        assert gateway.admit(stored=copied[login], password=password, store="kiosk").admitted


SERVER = Added(
    "stores/sql/tern.py",
    """
from msgspec.structs import replace

from lean_tumbler.stores.sql import postgresql

SERVER = replace(postgresql.SERVER, name="tern", other_names=())
""",
    "stores/sql/opening.py", "_MODULES = (\n", '    "tern",\n',
)  # fmt: skip


def test_a_server_is_audited_and_logged_in_to(tmp_path: Path) -> None:
    """A module and a line: here one that speaks as PostgreSQL does, under a name of its own."""
    own = OwnProgram(tmp_path, SERVER)
    with servers.postgresql() as server:
        digest = hashlib.md5(b"Skua 5").hexdigest()
        server.run("CREATE TABLE kiosk (id int PRIMARY KEY, login text, pw text);")
        server.run(f"INSERT INTO kiosk VALUES (1, 'ada', '{digest}');")
        url = server.url.replace("postgresql://", "tern://")
        judged = own("audit", url, "--format", "json")
        assert judged.document["stores"][0]["grades"] == {"fast-unsalted": 1}, judged.err
        (tmp_path / "tumbler.toml").write_text(
            f'[store.kiosk]\nlocator = "{url}"\ntable = "kiosk"\nreaders_ready = 2026-01-01\n'
            '[store.kiosk.columns]\nlogin = "login"\nstored = "pw"\n'
            '[[store.kiosk.cohort]]\nname = "md5"\nformula = "utf-8, md5, hex"\n'
        )
        assert own("admit", "ada", stdin=b"Skua 5\n").code == 0
        assert server.ask("SELECT pw FROM kiosk").startswith("$argon2id$")
        assert "tern://" in own("audit", url.replace("tern", "gull", 1)).err


STORE = Added(
    "stores/nests.py",
    '''
from pathlib import Path

from lean_tumbler.errors import UsageError
from lean_tumbler.stores.files.records import RecordTable
from lean_tumbler.stores.interface import Account, SwapResult
from lean_tumbler.stores.kinds import StoreKind

MARK = "nests:"


def folder_of(locator, base):
    return base / locator.removeprefix(MARK)


def rows(folder, _, unreadable):
    for number, file in enumerate(sorted(folder.iterdir()), start=1):
        yield number, {"login": file.name, "egg": file.read_text() or None}


class NestStore:
    layering_refused = "nests are written at logins alone"
    key_label = "nest"

    def __init__(self, folder):
        self._folder = folder
        self.table = folder.name

    def fetch(self, login):
        file = self._folder / login
        found = file.is_file()
        return [Account(key=login, login=login, stored=file.read_bytes())] if found else []

    def find(self, key):
        return next(iter(self.fetch(key)), None)

    def swap(self, swap):
        file = self._folder / swap.key
        if file.read_bytes() != swap.old:
            return SwapResult.CHANGED
        file.write_bytes(swap.new_bytes)
        return SwapResult.DONE

    def fill(self, key, new):
        return SwapResult.CHANGED

    def require_answer(self):
        list(self._folder.iterdir())

    def close(self):
        pass


KIND = StoreKind(
    is_mine=lambda locator, base: locator.startswith(MARK),
    tables=lambda locator, wanted: (locator, [RecordTable(folder_of(locator, wanted.base), rows)]),
    open=lambda store, opening: NestStore(folder_of(store.locator, opening.base)),
)
''',
    "stores/kinds.py", "_MODULES = (", '"nests", ',
)  # fmt: skip


def test_a_kind_of_store_is_audited_and_logged_in_to(tmp_path: Path) -> None:
    """A module and a line: here a folder with a file for each account."""
    own = OwnProgram(tmp_path, STORE)
    (tmp_path / "rock").mkdir()
    for number in range(12):
        digest = hashlib.md5(f"Skua {number}".encode()).hexdigest()
        (tmp_path / "rock" / f"gull{number}").write_text(digest)
    judged = own("audit", "nests:rock", "--column", "egg", "--format", "json")
    assert judged.document["stores"][0]["grades"] == {"fast-unsalted": 12}, judged.err
    (tmp_path / "tumbler.toml").write_text(
        '[store.rock]\nlocator = "nests:rock"\nreaders_ready = 2026-01-01\n'
        '[store.rock.columns]\nlogin = "login"\nstored = "egg"\n'
        '[[store.rock.cohort]]\nname = "md5"\nformula = "utf-8, md5, hex"\n'
    )
    refused = own("layer", "--unproven", "md5", "--no-backup")
    assert (refused.code, "nests are written at logins alone" in refused.err) == (2, True)
    assert own("admit", "gull3", stdin=b"Skua 3\n").code == 0
    assert (tmp_path / "rock" / "gull3").read_text().startswith("$argon2id$")
    assert own("admit", "gull3", stdin=b"Skua 3\n").code == 0
    assert own("admit", "gull4", stdin=b"Skua 3\n").code == 1


COMMAND = Added(
    "jobs/tides/command.py",
    '''
from dataclasses import dataclass

from lean_tumbler.cli.declared import option

EXAMPLE = "  lean-tumbler tides"


@dataclass(frozen=True, kw_only=True)
class Options:
    height: str | None = option("TEXT", "of the water")


def run(options: Options, session) -> int:
    session.message(f"tide at {options.height}")
    return 0
''',
    "cli/commands.py", "SUMMARIES = {\n", '    "tides": "tell the tide",\n',
)  # fmt: skip


def test_a_command_is_there(tmp_path: Path) -> None:
    """A folder and a line: it runs, is listed in the help, and explains its options."""
    own = OwnProgram(tmp_path, COMMAND)
    (tmp_path / "own" / "lean_tumbler" / "jobs" / "tides" / "__init__.py").write_text("")
    assert own("tides", "--height", "3 m").err == "tide at 3 m\n"
    assert "tell the tide" in own("--help").out
    assert "of the water" in own("tides", "--help").out


FINDING = Added(
    table="core/audit/rules.py",
    behind="RULES: MappingProxyType[str, Rule] = MappingProxyType(\n    {\n",
    line="""        "md5-again": Rule(
            severity=Severity.HIGH,
            summary="MD5, again.",
            remedy="Layer it.",
            detect=detectors.ByReading(lambda reading: reading.scheme == "md5", "{rows} rows of MD5"),
        ),
""",
)


def test_a_finding_is_reported(tmp_path: Path) -> None:
    """One entry: it is counted, explained, listed by account, and part of what CI can fail on."""
    own = OwnProgram(tmp_path, FINDING)
    digests = [hashlib.md5(b"%d" % number).hexdigest() for number in range(5)]
    (tmp_path / "kiosk.csv").write_text(
        "login,pw\n" + "".join(f"a{n},{digest}\n" for n, digest in enumerate(digests))
    )
    finished = own("audit", "kiosk.csv", "--format", "json", "--fail-on", "high")
    assert finished.code == 1
    found = {each["code"]: each for each in finished.document["stores"][0]["findings"]}
    assert found["md5-again"]["rows"] == 5
    assert found["md5-again"]["evidence"] == "5 rows of MD5"
    assert "md5-again" in own("audit", "kiosk.csv", "--format", "sarif").out
