"""Adding a scheme takes one module and one line; everything else follows from what it says."""

import hashlib
import json
import os
import shutil
import sqlite3
import subprocess
import sys
from base64 import b64encode
from contextlib import closing
from pathlib import Path

import pytest

import lean_tumbler
from conftest import CHEAP_POLICY, Finished, make_portal

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
LINE = '    "current.kelp",\n'
POLICY = CHEAP_POLICY.replace(
    'scheme = "argon2id"\nmemory_kib = 256\npasses = 1\nlanes = 1', 'scheme = "kelp"\nrounds = 3000'
).replace("[floor]", "[floor]\nkelp = { rounds = 2000 }")


class OwnProgram:
    """The program with one module and one line more, in a folder of its own."""

    def __init__(self, folder: Path) -> None:
        self.folder = folder
        package = folder / "own" / "lean_tumbler"
        shutil.copytree(Path(lean_tumbler.__file__).parent, package)
        schemes = package / "core" / "schemes"
        (schemes / "current" / "kelp.py").write_text(MODULE)
        catalogue = schemes / "catalogue.py"
        text = catalogue.read_text("utf-8")
        catalogue.write_text(text.replace("_MODULES = (\n", "_MODULES = (\n" + LINE, 1))

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
    return OwnProgram(folder)


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
    layered = own("layer", "--format", "json")
    assert layered.code == 0, layered.err
    assert layered.document["layered"] == 8
    judged = own("audit", "harbour.db", "--format", "json").document["stores"][0]
    assert judged["grades"]["layered"] == 8
    database = own.folder / "harbour.db"
    with closing(sqlite3.connect(database)) as connection:
        assert connection.execute(
            "SELECT count(*) FROM passengers WHERE pw LIKE '$over$%$kelp$i=3000$%'"
        ).fetchone() == (8,)
    for number, line in enumerate((database.parent / "known.csv").read_text().splitlines()[1:]):
        login, password = line.split(",")
        wrong = own("admit", login, stdin=password.encode() + b"x\n") if number < 4 else None
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
