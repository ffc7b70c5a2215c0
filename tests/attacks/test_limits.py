"""Whoever plants a value or a file: neither takes the machine down."""

import base64
import gzip
import json
import lzma
import resource
import subprocess
import time
from pathlib import Path

import pytest
import zstandard

from conftest import CHEAP_POLICY, PROGRAM, Portal, Program
from lean_tumbler import CredentialGateway, StoragePolicy
from lean_tumbler.errors import FormulaError
from lean_tumbler.stores.files import streams

GATEWAY = CredentialGateway(StoragePolicy.from_toml(CHEAP_POLICY))
LONG = base64.b64encode(bytes(768)).decode().rstrip("=")


@pytest.mark.parametrize(
    "stored",
    [
        f"$pbkdf2-sha256$i=9000000,l=768$c2FsdHNhbHQ${LONG}",
        f"$pbkdf2-sha512$i=900000,l=768$c2FsdHNhbHQ${LONG}",
        f"$over$from=md5-crypt,salt=JDEkYWJjZGVmZ2gk$pbkdf2-sha256$i=9000000,l=768$c2FsdHNhbHQ${LONG}",
        "$argon2id$v=19$m=4194304,t=1,p=1$c2FsdHNhbHQ$ZGlnZXN0ZGlnZXN0",
        "$argon2id$v=19$m=65536,t=4000,p=1$c2FsdHNhbHQ$ZGlnZXN0ZGlnZXN0",
        "$2b$31$Bj71jXIzxD43Uq3VTt1rmucdgFNf2XOvkkyAq5vWOAlifqILUBgde",
        "$6$rounds=999999999$abcdefgh$" + "a" * 86,
    ],
)
def test_a_planted_value_is_refused_and_not_run(stored: str) -> None:
    """Rounds count for each block of the digest, memory for each pass."""
    started = time.process_time()
    outcome = GATEWAY.admit(stored=stored, password="gull")
    assert (outcome.admitted, time.process_time() - started < 5) == (False, True)


@pytest.mark.parametrize(
    "formula",
    ["utf-8, pbkdf2-sha512 1 100000000 salt, hex", "utf-8, 100 times (hex, utf-8), md5, hex"],
)
def test_a_formula_takes_neither_time_nor_memory(formula: str) -> None:
    """A policy that somebody sent along is refused, or its values are, and the process stays small."""
    text = CHEAP_POLICY.replace("utf-8, append salt, sha1, hex", formula)
    started = time.process_time()
    try:
        gateway = CredentialGateway(StoragePolicy.from_toml(text))
        gateway.admit(stored="ab" * 40, salt="x", password="gull", store="passengers")
    except FormulaError:
        pass
    except Exception as error:  # noqa: BLE001 - any error of ours will do, and no other
        assert type(error).__module__.startswith("lean_tumbler")  # noqa: PT017 - the same
    assert time.process_time() - started < 10


# -- Files ------------------------------------------------------------------------------------

# Longer than whatever a reader may hold of one line, so that the peak says whether it held it.
BOMB_MIB = 320


def peak_mib(folder: Path, *arguments: str) -> tuple[int, str]:
    """Run the program; give the most memory that it took, and what it said."""
    before = resource.getrusage(resource.RUSAGE_CHILDREN).ru_maxrss
    done = subprocess.run(
        ["/usr/bin/env", "python3", "-c",
         ("import resource,subprocess,sys; d=subprocess.run(sys.argv[1:],capture_output=True,text=True);"
         "print(resource.getrusage(resource.RUSAGE_CHILDREN).ru_maxrss); print(d.stdout+d.stderr)"),
         str(PROGRAM), *arguments],
        cwd=folder, capture_output=True, text=True, check=True, timeout=300,
    )  # fmt: skip
    assert before >= 0
    peak, _, said = done.stdout.partition("\n")
    return int(peak) // 1024, said


def bomb(folder: Path, name: str, head: bytes, tail: bytes, mebibytes: int = BOMB_MIB) -> None:
    compressor = zstandard.ZstdCompressor().compressobj()
    with (folder / name).open("wb") as file:
        file.write(compressor.compress(head))
        for _ in range(mebibytes):
            file.write(compressor.compress(b"x" * (1 << 20)))
        file.write(compressor.compress(tail))
        file.write(compressor.flush())


@pytest.mark.parametrize(
    ("name", "head", "tail"),
    [
        ("a.csv.zst", b"id,pw\n1,5f4dcc3b5aa765d61d8327deb882cf99\n2,", b"\n3,5f4dcc3b5aa765d61d8327deb882cf99\n"),
        ("a.jsonl.zst", b'{"pw": "5f4dcc3b5aa765d61d8327deb882cf99"}\n{"pw": "',
         b'"}\n{"pw": "5f4dcc3b5aa765d61d8327deb882cf99"}\n'),
        ("a.json.zst", b'[{"pw": "5f4dcc3b5aa765d61d8327deb882cf99"},\n{"pw": "',
         b'"},\n{"pw": "5f4dcc3b5aa765d61d8327deb882cf99"}]\n'),
    ],
)  # fmt: skip
def test_a_bomb_of_one_line_is_counted(name: str, head: bytes, tail: bytes, tmp_path: Path) -> None:
    """Some kilobytes that unpack to one long line: it is counted, not held; the others are read."""
    bomb(tmp_path, name, head, tail)
    assert (tmp_path / name).stat().st_size < 200_000
    peak, said = peak_mib(tmp_path, "audit", name, "--column", "pw", "--format", "json")
    document = json.loads(said)
    assert peak < BOMB_MIB
    assert document["unreadable_rows"] == 1
    assert document["rows"] == 2


def test_what_unpacks_without_end_is_cut_off(
    tmp_path: Path, in_process: Program, monkeypatch: pytest.MonkeyPatch
) -> None:
    """Many short lines are bounded by what the file weighs; what stands before is read, and said."""
    monkeypatch.setattr(streams, "UNPACKED_BYTES", 1 << 20)
    monkeypatch.setattr(streams, "MOST_TIMES_LARGER", 100)
    head = "id,pw\n" + "".join(f"{n},{n:032x}\n" for n in range(100))
    for packed in (gzip.compress, lzma.compress, zstandard.ZstdCompressor().compress):
        (tmp_path / "a.csv").write_bytes(packed(head.encode() + b"1,-\n" * 2_000_000))
        size = (tmp_path / "a.csv").stat().st_size
        document = in_process("audit", "a.csv", "--column", "pw", "--format", "json").document
        assert document["cut_off"] is True
        assert document["rows"] + document["unreadable_rows"] >= 100
        assert document["rows"] * 4 <= max(1 << 20, 100 * size) + (1 << 20)


def test_nesting_without_end_is_counted(tmp_path: Path, in_process: Program) -> None:
    """Two hundred thousand brackets are one unreadable record."""
    deep = "[" * 200_000 + "]" * 200_000
    (tmp_path / "a.jsonl").write_text(
        f'{{"pw": "5f4dcc3b5aa765d61d8327deb882cf99"}}\n{{"pw": "x", "more": {deep}}}\n'
    )
    document = in_process("audit", "a.jsonl", "--format", "json").document
    assert (document["rows"], document["unreadable_rows"]) == (1, 1)


@pytest.mark.parametrize(
    "text",
    [
        f"[target]\nmemory_kib = {'9' * 5_000}\n",
        "x = " + "[" * 20_000 + "]" * 20_000,
        "x = " + "{a=" * 5_000 + "1" + "}" * 5_000,
        "[" + ".".join(["a"] * 20_000) + "]",
    ],
)
def test_a_policy_beyond_measure_is_a_mistake(
    text: str, portal: Portal, in_process: Program
) -> None:
    """Numbers of thousands of digits, and nesting without end."""
    (portal.folder / "tumbler.toml").write_text(text)
    finished = in_process("plan")
    assert finished.code == 2
    assert finished.err.startswith("lean-tumbler plan: tumbler.toml: ")


@pytest.mark.parametrize(
    "content", ["[" * 50_000, '{"a": NaN}', '{"a": ' + "9" * 5_000 + "}", "\x00"]
)
@pytest.mark.parametrize(
    ("name", "arguments"),
    [
        ("h.jsonl", ("progress", "--history", "h.jsonl")),
        ("m.json", ("tune", "--measurements", "m.json")),
        ("tumbler.evidence.json", ("plan",)),
        ("b.sealed", ("undo", "b.sealed", "--key", "k.pem")),
    ],
)
def test_files_of_ours_that_others_wrote(
    name: str, arguments: tuple[str, ...], content: str, portal: Portal, in_process: Program
) -> None:
    """History, measurements, evidence and backups: each says what it is not."""
    (portal.folder / "k.pem").write_text("no key")
    (portal.folder / name).write_text(content)
    finished = in_process(*arguments)
    assert "internal error" not in finished.err
    assert finished.code in {0, 2, 3}
