"""What runs written checks: each language's interpreter or compiler, with the driver of its own."""

import json
import os
import shutil
import subprocess
import sys
from collections.abc import Mapping, Sequence
from pathlib import Path

from conftest import missing, oracle
from embedding.worlds import KEYS, Question
from lean_tumbler.core.embedding.language import Language

DRIVERS = Path(__file__).parent / "drivers"
CACHE = Path(os.environ.get("XDG_CACHE_HOME") or Path.home() / ".cache")
NODE_PACKAGES = CACHE / "lean-tumbler-tests" / "node_modules"  # as tests/programs.sh installs them
GO_PACKAGES = Path("/usr/share/gocode")  # as distributions install them
JAVA_OPTIONS = ("-XX:+UseSerialGC", "-XX:TieredStopAtLevel=1")  # a short life
JARS = Path("/usr/share/java")
JAVA_PATH = ":".join(str(JARS / f"{name}.jar") for name in ("bcprov", "gson", "junit4", "hamcrest"))
_INTERPRETERS = {"php": "php", "node": "node", "python": sys.executable, "ruby": "ruby"}


def node_packages() -> Path:
    """Give the packages for Node.js that tests use."""
    if not NODE_PACKAGES.is_dir():
        missing("packages for Node.js (tests/programs.sh)")
    return NODE_PACKAGES


def go_environment(folder: Path) -> dict[str, str]:
    """Give what Go needs to find the packages, and a folder's own below its `src`."""
    return {**os.environ, "GO111MODULE": "off", "GOPATH": f"{folder}:{GO_PACKAGES}", "GOFLAGS": ""}


class Written:
    """A check that was written into a file, and can be asked."""

    def __init__(self, language: Language, source: str, folder: Path) -> None:
        self.file = folder / f"check{language.ending}"
        self.file.write_text(source, encoding="utf-8")
        keys = json.dumps({name: raw.hex() for name, raw in KEYS.items()})
        driver = next(DRIVERS.glob(f"[dD]river{language.ending}"))
        command, self._environment = command_of(language, self.file, driver)
        is_compiled = language.name not in _INTERPRETERS
        self._command = [*command, *([] if is_compiled else ["KioskLogin"]), keys]

    def ask(self, questions: Sequence[Mapping[str, object]]) -> list[dict[str, object]]:
        """Ask all questions; each gets an answer, and nothing else is printed."""
        done = subprocess.run(
            self._command,
            input="".join(json.dumps(each) + "\n" for each in questions),
            capture_output=True, text=True, check=False, timeout=300, env=self._environment,
        )  # fmt: skip
        assert done.stderr == "", done.stderr[-2000:]
        answers = [json.loads(line) for line in done.stdout.splitlines()]
        assert len(answers) == len(questions)
        return answers


def command_of(language: Language, file: Path, program: Path) -> tuple[list[str], dict[str, str]]:
    """Give how a program that uses a written check is run, and its environment.

    Where the language is compiled, both are compiled here; otherwise the check is its first argument.
    """
    if language.name == "go":
        return [_built_with_go(file, program)], dict(os.environ)
    if language.name == "java":
        path = f"{JAVA_PATH}:{_built_with_java(file, program)}"
        return [oracle("java"), *JAVA_OPTIONS, "-cp", path, program.stem], dict(os.environ)
    command = [oracle(_INTERPRETERS[language.name]), str(program), str(file)]
    packages = {"NODE_PATH": str(node_packages())} if language.name == "node" else {}
    return command, {**os.environ, **packages}


def _built_with_go(file: Path, program: Path) -> str:
    place = file.parent / "src" / "written"
    (place / "login").mkdir(parents=True, exist_ok=True)
    shutil.copy(file, place / "login" / "check.go")
    shutil.copy(program, place / "main.go")
    built = str(file.parent / "built-program")
    command = ("go", "build", "-o", built, "written")
    assert finished(*command, folder=file.parent, environment=go_environment(file.parent)) == ""
    return built


def compiled_with_java(*files: Path, into: Path) -> str:
    """Compile, with every warning that the compiler has; give what it says."""
    given = ("-encoding", "UTF-8", "-Xlint:all,-path", "-Werror", "-cp", JAVA_PATH, "-d", str(into))
    return finished("javac", *given, *map(str, files), folder=into.parent)


def _built_with_java(file: Path, program: Path) -> Path:
    place = file.parent / "login"
    place.mkdir(exist_ok=True)
    shutil.copy(file, place / "KioskLogin.java")
    built = file.parent / "built"
    assert compiled_with_java(place / "KioskLogin.java", program, into=built) == ""
    return built


def told(answer: Mapping[str, object]) -> tuple[object, ...]:
    """Give an answer as `expected` gives the library's."""
    if "error" in answer:
        return False, "error", "", False, ""
    return (answer["admitted"], answer["refusal"], answer["kept"],
            answer["new_value"] is not None, answer["identity"])  # fmt: skip


def expected(question: Question) -> tuple[object, ...]:
    """Give what the library says."""
    return question.admitted, question.refusal, question.kept, question.writes, question.label


def finished(*command: str, folder: Path, environment: Mapping[str, str] | None = None) -> str:
    """Run a linter, a formatter or a compiler; give what it prints where it complains."""
    found = shutil.which(command[0])
    if found is None:
        missing(command[0])
    done = subprocess.run(
        [found or command[0], *command[1:]], cwd=folder, capture_output=True, text=True, check=False,
        env=environment,
    )  # fmt: skip
    return "" if done.returncode == 0 else done.stdout + done.stderr
