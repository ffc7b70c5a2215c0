"""What is built and installed, in an environment of its own."""

import os
import re
import shutil
import subprocess
import sys
import zipfile
from pathlib import Path

import pytest

from conftest import made_once, make_portal

ROOT = Path(__file__).parent.parent


@pytest.fixture(scope="module")
def wheel(tmp_path_factory: pytest.TempPathFactory) -> Path:
    def make(folder: Path) -> None:
        command = [
            sys.executable,
            "-m",
            "build",
            "--wheel",
            "--no-isolation",
            "--outdir",
            str(folder),
            str(ROOT),
        ]
        subprocess.run(command, check=True, capture_output=True)

    return next(made_once(tmp_path_factory, "wheel", make).glob("*.whl"))


def _works(name: str) -> bool:
    """Tell whether an interpreter is there, and no mere signpost to one."""
    found = shutil.which(name)
    command = [found or "false", "-c", ""]
    return subprocess.run(command, capture_output=True, check=False).returncode == 0


def test_the_wheel_holds_the_package_and_nothing_else(wheel: Path) -> None:
    """No test, tool or picture goes into the wheel; the licence and the type marker do."""
    with zipfile.ZipFile(wheel) as archive:
        names = archive.namelist()
    assert "lean_tumbler/py.typed" in names
    assert any(name.endswith("licenses/LICENSE") for name in names)
    assert all(name.startswith(("lean_tumbler/", "lean_tumbler-")) for name in names)


OTHERS = [name for name in ("python3.12", "python3.13", "python3.14") if _works(name)]


@pytest.mark.parametrize("interpreter", [sys.executable, *OTHERS])
def test_pipx_installs_what_admits_layers_and_verifies(
    interpreter: str, wheel: Path, tmp_path: Path
) -> None:
    """As an application of its own, by each Python, without extras; audit says what it lacks."""
    places = {"PIPX_HOME": "home", "PIPX_BIN_DIR": "bin", "PIPX_MAN_DIR": "man"}
    environment = os.environ | {name: str(tmp_path / place) for name, place in places.items()}
    environment["PIP_NO_COMPILE"] = "1"  # what is started once need not be compiled for later
    pipx = (sys.executable, "-m", "pipx", "install", "--python", interpreter)
    subprocess.run([*pipx, wheel], check=True, env=environment, capture_output=True)
    program = tmp_path / "bin" / "lean-tumbler"
    assert (tmp_path / "man" / "man1" / "lean-tumbler-audit.1").exists()

    def run(*arguments: str, stdin: bytes = b"") -> subprocess.CompletedProcess[bytes]:
        return subprocess.run(
            [program, *arguments], cwd=tmp_path, input=stdin, capture_output=True, check=False
        )

    assert run("--version").stdout == b"lean-tumbler 0.2.0\n"
    assert run("completion", "bash").returncode == 0
    hashed = run("hash", stdin=b"Dunlin 42\n")
    assert hashed.stdout.startswith(b"$argon2id$v=19$m=19456,t=2,p=1$")
    (tmp_path / "known.csv").write_bytes(
        b'login,password,stored\nada,Dunlin 42,"' + hashed.stdout.strip() + b'"\n'
    )
    assert run("verify", "known.csv").returncode == 0
    portal = make_portal(tmp_path, ["md5", "sha1", "plain"] * 2)
    assert run("verify", "known.csv", "--store", "passengers").returncode == 0
    assert run("rehearse", "known.csv", "--rows", "2").returncode == 0
    layered = run("layer", "--no-backup")
    assert layered.returncode == 0, layered.stderr
    somebody = portal.passengers[0]
    admitted = run("admit", somebody.login, stdin=f"{somebody.password}\n".encode())
    assert admitted.stdout.startswith(b"admitted: layer removed"), admitted.stderr
    doctor = run("doctor")
    assert doctor.returncode == 0, doctor.stderr
    assert "– extra analysis" in doctor.stdout.decode()
    assert "pip install 'lean-tumbler[postgresql]'" in doctor.stdout.decode()
    lacking = run("audit", "harbour.db")
    assert lacking.returncode == 2
    assert b"pip install 'lean-tumbler[analysis]'" in lacking.stderr


def test_the_unit_lets_the_service_write_what_it_keeps() -> None:
    """Evidence and history are beside the policy: the unit's own folder, which the sandbox opens."""
    text = (ROOT / "contrib" / "lean-tumbler.service").read_text()
    settings = dict(
        line.split("=", 1) for line in text.splitlines() if re.match(r"[A-Z]\w+=", line)
    )
    state = f"/var/lib/{settings['StateDirectory']}"
    policy = settings["ExecStart"].partition("--policy ")[2]
    assert settings["ProtectSystem"] == "strict"
    assert policy == f"{state}/tumbler.toml"
    assert settings["WorkingDirectory"] == state


def test_the_unit_is_one_that_systemd_reads(tmp_path: Path) -> None:
    """Every setting is known, with the installed program in the place of the unit's."""
    analyze = shutil.which("systemd-analyze")
    if analyze is None:
        pytest.skip("no systemd here")
    for name in ("lean-tumbler.service", "lean-tumbler.socket"):
        text = (ROOT / "contrib" / name).read_text()
        installed = text.replace("/opt/lean-tumbler/bin/lean-tumbler", sys.executable)
        (tmp_path / name).write_text(installed)
    done = subprocess.run(
        [analyze, "verify", "--man=no", str(tmp_path / "lean-tumbler.service")],
        capture_output=True,
        text=True,
        check=False,
    )
    assert "Unknown" not in done.stderr
    assert done.returncode == 0, done.stderr
