"""What stock functions verify: the table against the languages themselves, and what it binds."""

import base64
import hashlib
import json
import os
import re
import shutil
import subprocess
import sys
from pathlib import Path

import pytest

import servers
from conftest import CHEAP_POLICY, Program, make_portal, missing
from embedding.programs import node_packages
from lean_tumbler import CredentialGateway, StoragePolicy
from lean_tumbler.core.schemes.catalogue import DERIVATIONS, read_value
from lean_tumbler.core.schemes.current.bcrypt import as_variant
from lean_tumbler.core.stock_functions import Program as Reader
from lean_tumbler.core.stock_functions import hindrance, languages, stock_functions
from lean_tumbler.errors import PolicyError

ROOT = Path(__file__).parent.parent
PASSWORD = "Möwe 7 <gull>"
SALT = b"0123456789abcdef"
COSTS = {
    "bcrypt": {"cost_log2": 4},
    "argon2id": {"memory_kib": 64, "passes": 2, "lanes": 1},
    "argon2i": {"memory_kib": 64, "passes": 2, "lanes": 1},
    "scrypt": {"cost_log2": 15, "block_size": 8, "lanes": 1},  # 32 MiB: above what is usual
    **{f"pbkdf2-{name}": {"rounds": 1000} for name in ("sha1", "sha256", "sha512")},
}
# Programs that print whether a stock function takes a stored value: value, password.
TAKING = {
    "php": ("php", "-r", 'echo password_verify($argv[2], $argv[1]) ? "yes" : "no";', "--"),
    "ruby": ("ruby", "-e", "puts ARGV[1].crypt(ARGV[0]) == ARGV[0] ? 'yes' : 'no'"),
    "perl": ("perl", "-e", "print crypt($ARGV[1], $ARGV[0]) eq $ARGV[0] ? 'yes' : 'no'"),
}
# Programs that print the digest in base64: hash function, password, salt in hex, number, bytes.
COMPUTING = {
    ("php", "pbkdf2"): (
        "php", "-r",
        ("echo base64_encode(hash_pbkdf2($argv[1], $argv[2], hex2bin($argv[3]), (int)$argv[4],"
        " (int)$argv[5], true));"), "--",
    ),
    ("node", "pbkdf2"): (
        "node", "-e",
        ("const [h,p,s,n,l]=process.argv.slice(1);console.log(require('crypto').pbkdf2Sync("
        "p,Buffer.from(s,'hex'),+n,+l,h).toString('base64'))"),
    ),
    ("node", "scrypt"): (
        "node", "-e",
        ("const [h,p,s,n,l]=process.argv.slice(1);console.log(require('crypto').scryptSync("
        "p,Buffer.from(s,'hex'),+l,{N:2**n,r:8,p:1,maxmem:2**26}).toString('base64'))"),
    ),
    ("ruby", "pbkdf2"): (
        "ruby", "-ropenssl", "-e",
        ("h,p,s,n,l=ARGV;print [OpenSSL::KDF.pbkdf2_hmac(p,salt:[s].pack('H*'),iterations:n.to_i,"
        "length:l.to_i,hash:h)].pack('m0')"),
    ),
    ("ruby", "scrypt"): (
        "ruby", "-ropenssl", "-e",
        ("h,p,s,n,l=ARGV;print [OpenSSL::KDF.scrypt(p,salt:[s].pack('H*'),N:2**n.to_i,r:8,p:1,"
        "length:l.to_i)].pack('m0')"),
    ),
}  # fmt: skip


def printed(command: tuple[str, ...], *arguments: str) -> str:
    if shutil.which(command[0]) is None:
        missing(command[0])
    done = subprocess.run([*command, *arguments], capture_output=True, text=True, check=True)
    return done.stdout.strip()


def made(scheme: str) -> str:
    if scheme.endswith("-crypt"):
        start = {"md5-crypt": "1", "sha256-crypt": "5", "sha512-crypt": "6"}[scheme]
        asked = ("openssl", "passwd", f"-{start}", "-salt", "harbour7", PASSWORD)
        return printed(asked)
    return DERIVATIONS[scheme].create(PASSWORD.encode(), SALT, COSTS[scheme])


TAKEN = [(found, scheme) for found in stock_functions() if found.takes_text
         for scheme in found.schemes if found.language in TAKING and not found.package]  # fmt: skip
COMPUTED = [
    (language, kind, scheme)
    for language, kind in COMPUTING
    for scheme in COSTS
    if scheme.startswith(kind)
]


@pytest.mark.parametrize(
    ("found", "scheme"), TAKEN, ids=lambda each: str(getattr(each, "language", each))
)
def test_stock_functions_take_the_text(found: object, scheme: str) -> None:
    """The language here takes what the table says, in each variant that it names, and no other."""
    language = found.language  # type: ignore[attr-defined] # of the table
    value = made(scheme)
    variants = found.variants if scheme == "bcrypt" else ("",)  # type: ignore[attr-defined] # same
    for variant in variants:
        text = as_variant(value, variant) if variant else value
        assert printed(TAKING[language], text, PASSWORD) == "yes"
        assert printed(TAKING[language], text, PASSWORD + "x") == "no"


@pytest.mark.parametrize(("language", "kind", "scheme"), COMPUTED)
def test_stock_functions_compute_the_hash(language: str, kind: str, scheme: str) -> None:
    """The language's own function gives the digest that stands in our value."""
    parsed = read_value(made(scheme))
    number = parsed.parameters.get("rounds") or parsed.parameters["cost_log2"]
    given = (scheme.rpartition("-")[2], PASSWORD, SALT.hex(), str(number), str(len(parsed.digest)))
    assert base64.b64decode(printed(COMPUTING[language, kind], *given)) == parsed.digest
    assert any(f.language == language and scheme in f.schemes for f in stock_functions())


def test_python_computes_the_hash() -> None:
    """As the language here does, with maxmem raised."""
    parsed = read_value(made("scrypt"))
    given = {"salt": SALT, "n": 2**15, "r": 8, "p": 1}
    assert hashlib.scrypt(PASSWORD.encode(), maxmem=2**26, **given, dklen=32) == parsed.digest  # type: ignore[arg-type] # numbers and bytes
    with pytest.raises(ValueError, match="memory limit"):
        hashlib.scrypt(PASSWORD.encode(), **given)  # type: ignore[arg-type] # the same


def test_a_database_takes_one_variant() -> None:
    """PostgreSQL's function takes bcrypt as 2a, and neither 2b nor 2y."""
    value = made("bcrypt")
    with servers.postgresql() as server:
        server.run("CREATE EXTENSION pgcrypto")
        for variant, expected in (("2a", "t"), ("2b", "f"), ("2y", "f")):
            text = as_variant(value, variant)
            asked = server.ask(f"SELECT crypt('{PASSWORD}', '{text}') = '{text}'")
            assert asked.split()[-1 if asked.split()[-1] in "tf" else 0] == expected


def test_node_has_what_its_version_has() -> None:
    """The table's version of a function that this node may or may not have."""
    version = printed(("node", "-p", "process.versions.node"))
    there = printed(("node", "-p", "typeof require('crypto').argon2Sync")) == "function"
    reader = Reader.named("node " + version)
    assert reader is not None
    assert (reader.verifies("argon2id") is not None) is there


_RUBY = "puts BCrypt::Password.new(ARGV[0]) == ARGV[1] ? 'yes' : 'no'"
_PYTHON = "import bcrypt,sys; print('yes' if bcrypt.checkpw(sys.argv[2].encode(), sys.argv[1].encode()) else 'no')"
_GO = """package main

import (
	"fmt"
	"os"

	"golang.org/x/crypto/bcrypt"
)

func main() {
	if bcrypt.CompareHashAndPassword([]byte(os.Args[1]), []byte(os.Args[2])) == nil {
		fmt.Println("yes")
	} else {
		fmt.Println("no")
	}
}
"""
_JAVA = """
import org.bouncycastle.crypto.generators.OpenBSDBCrypt;

class Check {
    public static void main(String[] given) {
        boolean right = OpenBSDBCrypt.checkPassword(given[0], given[1].toCharArray());
        System.out.println(right ? "yes" : "no");
    }
}
"""


def _reader(package: str, folder: Path) -> tuple[tuple[str, ...], dict[str, str]]:
    """Give what runs a package: its command, and its environment."""
    given = "process.argv.slice(1)"
    if package == "node bcryptjs":
        script = f"const [h, p] = {given}; require('bcryptjs').compare(p, h)"
        return ("node", "-e", f"{script}.then((yes) => console.log(yes ? 'yes' : 'no'))"), {
            "NODE_PATH": str(node_packages())
        }
    if package == "node argon2":
        script = f"const [h, p] = {given}; require('argon2').verify(h, p)"
        return ("node", "-e", f"{script}.then((yes) => console.log(yes ? 'yes' : 'no'))"), {
            "NODE_PATH": str(node_packages())
        }
    if package == "ruby bcrypt":
        return ("ruby", "-rbcrypt", "-e", _RUBY), {}
    if package == "python bcrypt":
        return (sys.executable, "-c", _PYTHON), {}
    if package == "go x/crypto":
        (folder / "check.go").write_text(_GO)
        gopath = {
            "GO111MODULE": "off",
            "GOPATH": "/usr/share/gocode",
            "GOCACHE": str(folder / "go"),
        }
        return ("go", "run", str(folder / "check.go")), gopath
    (folder / "Check.java").write_text(_JAVA)
    return ("java", "-cp", "/usr/share/java/bcprov.jar", str(folder / "Check.java")), {}


@pytest.mark.parametrize(
    "package",
    [
        "node bcryptjs",
        "node argon2",
        "ruby bcrypt",
        "python bcrypt",
        "go x/crypto",
        "java bouncycastle",
    ],
)
def test_packages_take_what_is_written_for_them(package: str, tmp_path: Path) -> None:
    """Each variant that the table names, new values and those of a login; and no other password."""
    program = Reader.named(package)
    assert program is not None
    scheme = "argon2id" if package == "node argon2" else "bcrypt"
    found = program.verifies(scheme)
    assert found is not None
    command, environment = _reader(package, tmp_path)
    costs = "cost_log2 = 10" if scheme == "bcrypt" else "memory_kib = 19456\npasses = 2"
    policy = StoragePolicy.from_toml(
        f'[target]\nscheme = "{scheme}"\n{costs}\nverified_by = ["{package}"]\n'
    )
    gateway = CredentialGateway(policy)
    new = gateway.hash(password=PASSWORD)
    old = hashlib.md5(PASSWORD.encode()).hexdigest()
    upgraded = gateway.admit(stored=old, password=PASSWORD).new_value or ""
    values = [new, upgraded, *(as_variant(made(scheme), variant) for variant in found.variants)]
    for value in values:
        assert _run(command, environment, value, PASSWORD) == "yes"
        assert _run(command, environment, value, PASSWORD + "x") == "no"


def _run(command: tuple[str, ...], environment: dict[str, str], *given: str) -> str:
    if shutil.which(command[0]) is None:
        missing(command[0])
    done = subprocess.run(
        [*command, *given], capture_output=True, text=True, check=False,
        env=os.environ | environment,
    )  # fmt: skip
    assert done.stdout.strip() in {"yes", "no"}, done.stderr
    return done.stdout.strip()


# -- What verified_by binds --------------------------------------------------------------------------


@pytest.mark.parametrize(
    ("text", "expected"),
    [
        ("php 7.4", Reader("php", (7, 4))),
        ("Node 18 core", Reader("node", (18,))),
        ("php", None),
        ("php seven", None),
        ("node 20 bcryptjs 2", Reader("node", (2,), "bcryptjs", language_version=(20,))),
        ("go x/crypto", Reader("go", (), "x/crypto")),
        ("python bcrypt 4", Reader("python", (4,), "bcrypt")),
        ("bcrypt", Reader("", scheme="bcrypt")),
        ("bcrypt 2y", Reader("", scheme="bcrypt", variant="2y")),
        ("argon2id 2y", None),
        ("node 20 bcryptjs two", None),
        ("cobol 85", None),
    ],
)
def test_programs_are_named_with_their_version(text: str, expected: Reader | None) -> None:
    """A language of the table and a version; nothing else is taken."""
    assert Reader.named(text) == expected


@pytest.mark.parametrize(
    ("target", "sentence"),
    [
        ('verified_by = ["php 7.2"]\nscheme = "argon2id"',
         ("php 7.2 has no stock function that verifies argon2id (password_verify does since 7.3); "
         "all of verified_by verify: argon2i, bcrypt, pbkdf2-sha1, pbkdf2-sha256, pbkdf2-sha512")),
        ('verified_by = ["php 8"]\nscheme = "argon2id"\nlanes = 4', "with lanes up to 1"),
        ('verified_by = ["node 20 bcryptjs 2"]\nscheme = "scrypt"',
         "node 20 bcryptjs 2 does not verify scrypt; all of verified_by verify: bcrypt"),
        ('verified_by = ["node 20", "perl 5"]', "all of verified_by verify: no scheme"),
        ('verified_by = ["cobol 85"]', "must be a list of languages with versions"),
        ("verified_by = [8.2]", "must be a list of languages with versions"),
        ('verified_by = ["php 8"]\nscheme = "scrypt"', "php 8 has no stock function that verifies"),
    ],
)  # fmt: skip
def test_a_target_that_a_program_cannot_verify_is_refused(target: str, sentence: str) -> None:
    """With the reason, and with what all of them verify."""
    with pytest.raises(PolicyError, match=re.escape(sentence)):
        StoragePolicy.from_toml(f"[target]\n{target}\n")


@pytest.mark.parametrize(
    ("verified_by", "scheme", "start"),
    [
        ('["php 8.2"]', "argon2id", "$argon2id$"),
        ('["node 20"]', "scrypt", "$scrypt$"),
        ('["php 7.2", "postgresql 15"]', "bcrypt", "$2a$"),
        ('["php 5.6"]', "bcrypt", "$2y$"),
        ('["node 20 bcryptjs 2"]', "bcrypt", "$2b$"),
        ('["ruby 3.2 bcrypt 3.1", "go x/crypto"]', "bcrypt", "$2b$"),
        ('["bcrypt 2y"]', "bcrypt", "$2y$"),
        ('["go x/crypto"]', "argon2id", "$argon2id$"),
        ('["java 8", "dotnet 6", "go 1.24"]', "pbkdf2-sha256", "$pbkdf2-sha256$"),
    ],
)
def test_what_is_written_is_what_all_verify(verified_by: str, scheme: str, start: str) -> None:
    """The usual target is the first that all verify, and bcrypt's variant the one that all take."""
    policy = StoragePolicy.from_toml(f"[target]\nverified_by = {verified_by}\n")
    assert policy.target.scheme == scheme
    value = CredentialGateway(policy).hash(password="gull on a mast")
    assert value.startswith(start)
    assert CredentialGateway(policy).admit(stored=value, password="gull on a mast").admitted


def bound(folder: Path, verified_by: str) -> None:
    path = folder / "tumbler.toml"
    path.write_text(CHEAP_POLICY.replace("[target]\n", f"[target]\nverified_by = {verified_by}\n"))


def test_plan_and_layer_keep_to_it_and_say_what_it_costs(
    tmp_path: Path, in_process: Program
) -> None:
    """No layer is written that no stock function verifies; readable passwords become current."""
    portal = make_portal(tmp_path, ["md5", "sha1", "plain", "current"])
    bound(tmp_path, '["php 8.2"]')
    said = " ".join(in_process("plan").out.split())
    assert "1 of 4 rows can be layered or replaced now" in said
    assert "no stock function of [target] verified_by verifies a layered value" in said
    assert "with layer_with in [target] they are layered now" in said
    before = portal.stored()
    finished = in_process("layer", "--no-backup")
    assert "0 rows layered, 1 replaced; 4 considered" in " ".join(finished.out.split())
    after = portal.stored()
    assert [number for number in after if after[number] != before[number]] == [3]
    assert printed(TAKING["php"], after[3] or "", portal.passengers[2].password) == "yes"


def test_plan_says_what_becomes_of_current_rows(tmp_path: Path, in_process: Program) -> None:
    """Left, or replaced at login by another scheme."""
    portal = make_portal(tmp_path, ["current", "current"])
    assert "neither this step nor a login changes it" in " ".join(in_process("plan").out.split())
    path = tmp_path / "tumbler.toml"
    path.write_text(
        path.read_text().replace('"argon2id"\nmemory_kib = 256\npasses = 1\nlanes = 1', '"bcrypt"')
    )
    said = " ".join(in_process("plan").out.split())
    assert "current, but not what the target writes: replaced at login 2" in said
    document = in_process("admit", portal.passengers[0].login, "--format", "json",
                          stdin=portal.passengers[0].password.encode()).document  # fmt: skip
    assert (document["action"], document["to"]) == ("upgraded", "bcrypt")


def test_tune_keeps_to_it_and_says_what_it_costs(tmp_path: Path, in_process: Program) -> None:
    """What a program cannot verify is not chosen; what would be chosen without it is named."""
    bound(tmp_path, '["php 8.2"]')
    policy = tmp_path / "tumbler.toml"
    policy.write_text('[target]\nverified_by = ["java 17"]\n[floor]\npbkdf2-sha256 = { rounds = 1000 }\n'
                      "argon2id = { memory_kib = 256, passes = 1 }\n")  # fmt: skip
    finished = in_process("tune", "--quick", "--within", "30s", "--save", "--schemes",
                          "argon2id,pbkdf2-sha256", "--format", "json")  # fmt: skip
    document = json.loads(finished.out)
    assert document["chosen"]["scheme"] == "pbkdf2-sha256"
    assert document["without_verified_by"]["scheme"] == "argon2id"
    against = {reason for found in document["candidates"] for reason in found["against"]}
    assert "java 17 has no stock function that verifies argon2id" in against
    saved = StoragePolicy.from_toml(policy.read_text())
    assert saved.target.scheme == "pbkdf2-sha256"
    assert saved.target.verified_by == (Reader("java", (17,)),)


def test_every_language_is_said_to_verify_something() -> None:
    """And a hindrance is never empty for what a language lacks."""
    assert len(languages()) >= 10
    for language in languages():
        assert hindrance(Reader(language, (0,)), "argon2id", {})


def test_costs_in_the_order_of_their_letters_are_read(tmp_path: Path) -> None:
    """A package for Node.js writes p before t: such a value is read, opened, and replaced by none."""
    script = (
        "require('argon2').hash(process.argv[1], {timeCost: 2, memoryCost: 64, parallelism: 1})"
        ".then(console.log)"
    )
    value = _run_node(script, PASSWORD)
    policy = StoragePolicy.from_toml(
        "[target]\nmemory_kib = 64\npasses = 2\n[floor]\nargon2id = { memory_kib = 64, passes = 2 }\n"
    )
    assert read_value(value).scheme == "argon2id"
    outcome = CredentialGateway(policy).admit(stored=value, password=PASSWORD)
    assert (outcome.admitted, outcome.new_value) == (True, None)
    assert not CredentialGateway(policy).admit(stored=value, password="x").admitted


def _run_node(script: str, *given: str) -> str:
    done = subprocess.run(
        ["node", "-e", script, *given], capture_output=True, text=True, check=True,
        env=os.environ | {"NODE_PATH": str(node_packages())},
    )  # fmt: skip
    return done.stdout.strip()
