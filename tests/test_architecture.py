"""The shape of the code itself: arrows, sizes, errors and documents."""
# ruff: noqa: SLF001 - argparse tells the options of a parser in no public way

import argparse
import ast
import json
import re
import shutil
import subprocess
import sys
from collections.abc import Iterator, Sequence
from pathlib import Path

import pytest

from conftest import SCHEMAS, run_in_process
from lean_tumbler import StoragePolicy, errors
from lean_tumbler.cli.commands import SUMMARIES
from lean_tumbler.cli.main import build_parser, command_module
from lean_tumbler.core.formulas import steps
from lean_tumbler.core.limits import Limits
from lean_tumbler.core.reading import layouts
from reference.documents import schema_files
from reference.manual import manual_pages
from reference.pages import PAGES as GENERATED
from reference.policy import EXAMPLE, TABLES, meanings_of
from reference.promises import MEASURED, PROMISES, telling_fields

ROOT = Path(__file__).parent.parent
PAGES = tuple(
    page for folder in (".", "docs", "benchmarks") for page in sorted((ROOT / folder).glob("*.md"))
)
SOURCE = ROOT / "src" / "lean_tumbler"
MODULES = sorted(SOURCE.rglob("*.py"))

# Each layer may import itself, errors.py, and what stands here.
ALLOWED = {
    "core": set[str](),
    "stores": {"core"},
    "migration": {"core", "stores"},
    "reports": {"core", "stores", "migration"},
    "cli": {"core", "stores", "migration", "reports"},
    "service": {"core", "stores", "migration"},
    "jobs": {"core", "stores", "migration", "reports"},
    "demo": {"core", "stores", "cli"},
}
# A job's command reads arguments, and may start the service or the demonstration.
COMMAND = {"cli", "service", "demo"}


def name_of(path: Path) -> str:
    parts = path.relative_to(SOURCE.parent).with_suffix("").parts
    return ".".join(parts[:-1] if parts[-1] == "__init__" else parts)


def imports_of(path: Path, *, at_start_only: bool) -> set[str]:
    """Name the project's modules that a module imports, those for annotations alone left out."""
    found: set[str] = set()
    body: list[ast.AST] = list(ast.parse(path.read_text("utf-8")).body)
    while body:
        node = body.pop()
        if isinstance(node, ast.If) and "TYPE_CHECKING" in ast.unparse(node.test):
            continue
        if isinstance(node, ast.ImportFrom) and (node.module or "").startswith("lean_tumbler"):
            for alias in node.names:
                whole = f"{node.module}.{alias.name}"
                is_module = (SOURCE.parent / whole.replace(".", "/")).with_suffix(".py").exists()
                found.add(whole if is_module else node.module or "")
        if at_start_only and isinstance(node, ast.FunctionDef):
            continue
        body.extend(ast.iter_child_nodes(node))
    return found


def test_imports_point_one_way() -> None:
    """Core knows nothing of stores, stores nothing of commands, and so on down the table."""
    wrong = []
    for path in MODULES:
        layer, *inside = path.relative_to(SOURCE).parts
        if layer not in ALLOWED:
            continue
        allowed = ALLOWED[layer] | (COMMAND if inside[-1] == "command.py" else set())
        for imported in imports_of(path, at_start_only=False):
            target = imported.partition(".")[2].partition(".")[0]
            if target not in {layer, "errors", *allowed}:
                wrong.append((name_of(path), imported))
    assert wrong == []


def test_jobs_do_not_import_each_other() -> None:
    """What two jobs share stands in core, in stores, in reports or in migration/bulk."""
    wrong = []
    for path in (SOURCE / "jobs").glob("*/**/*.py"):
        _, job, *_ = path.relative_to(SOURCE).parts
        for imported in imports_of(path, at_start_only=False):
            _, layer, *inside = (*imported.split("."), "")
            if layer == "jobs" and inside[0] not in {job, "bulk"}:
                wrong.append((name_of(path), imported))
    assert wrong == []


def test_there_are_no_import_cycles() -> None:
    """Every module can be imported first."""
    graph = {name_of(path): imports_of(path, at_start_only=True) for path in MODULES}
    done: set[str] = set()

    def visit(name: str, above: tuple[str, ...]) -> None:
        assert name not in above, " → ".join([*above, name])
        if name not in done:
            for imported in graph.get(name, ()):
                visit(imported, (*above, name))
            done.add(name)

    for name in graph:
        visit(name, ())


def test_modules_and_functions_stay_small() -> None:
    """A module has at most 400 lines, a function 40 beside its docstring; none validates by assert."""
    wrong: list[object] = []
    for path in MODULES:
        text = path.read_text("utf-8")
        wrong += [path] if text.count("\n") > 400 else []
        for node in ast.walk(ast.parse(text)):
            wrong += [(path, node.lineno)] if isinstance(node, ast.Assert) else []
            if isinstance(node, ast.FunctionDef | ast.AsyncFunctionDef):
                is_told = ast.get_docstring(node) and len(node.body) > 1
                first = node.body[1] if is_told else node.body[0]
                if (node.end_lineno or 0) - first.lineno >= 40:
                    wrong.append((path, node.name))
    assert wrong == []


def test_no_two_public_classes_have_one_name() -> None:
    """Whoever reads a class's name knows which it is."""
    names = [
        node.name
        for path in MODULES
        for node in ast.parse(path.read_text("utf-8")).body
        if isinstance(node, ast.ClassDef) and not node.name.startswith("_")
        if node.name != "Options"  # each command has its own
    ]
    assert len(names) == len(set(names)), sorted({n for n in names if names.count(n) > 1})


def test_no_server_is_told_by_name_outside_its_module() -> None:
    """What differs from server to server stands in its module, and nobody else asks which it is."""
    for path in MODULES:
        is_own = path.parent.name == "sql" and path.stem in {"sqlite", "postgresql", "mysql"}
        if is_own or "core" in path.parts:  # where a server's own values are read as well
            continue
        text = path.read_text("utf-8")
        assert "dialect.name" not in text, path
        for name in ("postgresql", "mysql", "mariadb"):
            assert not re.search(rf"[=!]= *[\"']{name}", text), path


@pytest.mark.parametrize("path", sorted((SOURCE / "core").rglob("*.py")), ids=name_of)
def test_core_neither_reads_nor_prints(path: Path) -> None:
    """Core computes: files, sockets, databases, arguments and printing are other layers'."""
    # The library's callers need no clock of their own: it is the default of one argument.
    may = {"time"} if path.name == "gateway.py" else set()
    for node in ast.walk(ast.parse(path.read_text("utf-8"))):
        names = [alias.name for alias in node.names] if isinstance(node, ast.Import) else []
        if isinstance(node, ast.ImportFrom):
            names.append(node.module or "")
        for name in names:
            assert (
                name.split(".")[0]
                not in {
                    *(
                        "argparse",
                        "socket",
                        "sqlite3",
                        "sqlalchemy",
                        "rich",
                        "pathlib",
                        "subprocess",
                    ),
                    *("sys", "time", "logging"),
                }
                - may
            )
        if isinstance(node, ast.Call) and isinstance(node.func, ast.Name):
            assert node.func.id not in {"open", "print", "input"}


def test_errors_have_one_root_and_stand_in_the_tree() -> None:
    """Each error class is in the docstring's tree with its exit code and HTTP status."""
    tree = {
        match[1]: (int(match[2]), int(match[3]))
        for match in re.finditer(r"(\w+) +(\d) +(\d{3}) ", errors.__doc__ or "")
    }
    classes = {
        name: value
        for name, value in vars(errors).items()
        if isinstance(value, type) and issubclass(value, errors.TumblerError)
    }
    del classes["TumblerError"]
    assert {name: (kind.exit_code, kind.http_status) for name, kind in classes.items()} == tree
    raised = [value for value in vars(errors).values() if isinstance(value, type)]
    assert all(issubclass(value, errors.TumblerError) for value in raised)


def _deep(actions: Sequence[argparse.Action]) -> Iterator[argparse.Action]:
    """Give the options of a command, and those of its own commands."""
    for action in actions:
        if isinstance(action, argparse._SubParsersAction):
            for parser in action.choices.values():
                yield from _deep(parser._actions)
        else:
            yield action


def _of(command: str) -> list[argparse.Action]:
    """Give a command's own options."""
    whole = build_parser([command])
    (commands,) = (each for each in whole._actions if isinstance(each, argparse._SubParsersAction))
    found: list[argparse.Action] = commands.choices[command]._actions
    return found


@pytest.mark.parametrize("command", SUMMARIES)
def test_every_command_is_documented(command: str) -> None:
    """A command says what each option is for, shows examples that it takes, and is explained."""
    module = command_module(command)
    assert f"lean-tumbler {command}" in module.EXAMPLE
    actions = _of(command)
    options = {option for action in _deep(actions) for option in action.option_strings}
    assert all(action.help for action in _deep(actions)), [a.dest for a in actions if not a.help]
    ours = re.findall(rf"lean-tumbler {command}((?:.|\\\n)*)", module.EXAMPLE)
    shown = {word for line in ours for word in re.findall(r"(?<= )--[a-z-]+", line)}
    assert shown <= options
    pages = "".join(page.read_text("utf-8") for page in PAGES if page.name != "COMMANDS.md")
    assert f"`{command}" in pages or f"lean-tumbler {command}" in pages


def test_help_prints_the_examples(capsys: pytest.CaptureFixture[str]) -> None:
    """`COMMAND --help` shows how to call it."""
    for command in SUMMARIES:
        assert run_in_process(command, "--help").code == 0
        assert f"lean-tumbler {command}" in capsys.readouterr().out


@pytest.mark.parametrize("page", PAGES, ids=lambda page: page.name)
def test_links_in_documents_lead_somewhere(page: Path) -> None:
    """Every relative link and picture of a document is there."""
    for target in re.findall(r"\]\(([^)#:]+)\)", page.read_text("utf-8")):
        assert (page.parent / target).exists(), target


def test_every_number_that_is_a_promise_is_listed_beside_what_was_measured() -> None:
    """A field that tells how long, how much or how sure is in docs/PROMISES.md, or tells of its run."""
    listed = {name for promise in PROMISES for name in promise.fields}
    assert set(telling_fields()) == listed | MEASURED


def test_every_promise_names_benchmarks_that_there_are() -> None:
    """What is measured of a promise can be measured again, by the name that the page gives."""
    listed = subprocess.run(
        [sys.executable, "benchmarks/run.py", "--list"], cwd=ROOT, check=True, capture_output=True
    ).stdout.decode()
    named = {name for promise in PROMISES for name in promise.benchmarks}
    assert named <= {line.split()[0] for line in listed.splitlines()}


@pytest.mark.parametrize("name", GENERATED)
def test_generated_pages_are_the_codes_own(name: str) -> None:
    """Such a page is what the code says; its first lines name the command that writes it."""
    assert (ROOT / "docs" / name).read_text("utf-8") == GENERATED[name]()


def test_manual_pages_are_the_codes_own() -> None:
    """`python -m reference man` writes them; `man` finds nothing wrong with them."""
    pages = {path.name: path.read_text("utf-8") for path in (ROOT / "man").iterdir()}
    assert pages == manual_pages()
    if shutil.which("man"):
        command = ["man", "--warnings", "-l", *sorted(map(str, (ROOT / "man").iterdir()))]
        shown = subprocess.run(command, capture_output=True, check=True, env={"LC_ALL": "C.UTF-8"})
        assert shown.stderr == b""
        assert b"lean-tumbler audit [OPTIONS] SOURCE" in shown.stdout


def test_every_key_of_the_policy_is_documented_and_shown() -> None:
    """Each has its meaning in a docstring, and stands in the example, which is read whole."""
    policy = StoragePolicy.from_toml(EXAMPLE)
    assert len(policy.stores["desk"].cohorts) == 4
    for table in TABLES:
        keys = set(table.structure.__annotations__) - table.left_out
        assert keys <= meanings_of(table.structure).keys(), table.name
        shown = set(re.findall(r"(?m)(?:^|[{,.\[] ?)([a-z_]+)(?= = |\]|\.)", EXAMPLE))
        limits = {"memory_kib"} if table.structure is not Limits else keys
        assert keys - shown <= limits, (table.name, keys - shown)


def test_every_document_has_a_schema_that_explains_each_key() -> None:
    """Outputs are held against them wherever a test reads one; docs/JSON.md lists them all."""
    page = (ROOT / "docs" / "JSON.md").read_text("utf-8")
    assert {path.name for path in SCHEMAS.glob("*.json")} == schema_files().keys()
    for name, text in schema_files().items():
        assert (SCHEMAS / name).read_text("utf-8") == text, "run `python -m reference docs/schemas`"
        assert f"(schemas/{name})" in page
        schema = json.loads(text)
        parts = [schema, *schema.get("$defs", {}).values()]
        keys = [item for part in parts for item in part.get("properties", {}).items()]
        assert [key for key, entry in keys if not entry.get("description")] == []


def test_every_word_of_formulas_and_layouts_is_documented() -> None:
    """A step, a digest or an encoding that the code has and the pages lack would be found by nobody."""
    for page, tables in (
        ("FORMULAS.md", (steps.FILTERS, steps.ENCODINGS, steps.DIGESTS, steps.TEXT_ENCODINGS)),
        ("COHORTS.md", (layouts.ENCODINGS,)),
    ):
        words = set(re.findall(r"[a-z0-9-]+", (ROOT / "docs" / page).read_text("utf-8")))
        assert {name for table in tables for name in table} <= words


def test_every_page_is_found_from_the_readme() -> None:
    """A page that the README's index does not lead to is found by nobody."""
    readme = (ROOT / "README.md").read_text("utf-8")
    pages = [page.name for page in (ROOT / "docs").glob("*.md")]
    assert [name for name in pages if f"docs/{name}" not in readme] == []
    assert len(readme.splitlines()) <= 120


def test_every_command_line_of_the_documents_is_one() -> None:
    """What README and pages tell to type has a command and options that there are."""
    for page in PAGES:
        text = page.read_text("utf-8").replace("\\\n", " ")
        for command, rest in re.findall(
            r"lean-tumbler ([a-z][a-z-]*)((?:[^\n`|]|\n(?!\n))*)", text
        ):
            assert command in SUMMARIES, (page.name, command)
            known = {option for action in _deep(_of(command)) for option in action.option_strings}
            line = rest.split("\n", 1)[0]
            shown = set(re.findall(r"(?<= )--[a-z-]+", line))
            assert shown <= known | {"--help", "--debug"}, (page.name, command, shown - known)


_MOST_WORDS = 30
_TURNS = (
    "it wants", "would do", "is told to", "who would", "patience", "stands there", "not unlikely",
    "closes exactly these.",
)  # fmt: skip


def _sentences(text: str) -> Iterator[str]:
    """Give the sentences of a page, without code, pictures and tables."""
    text = re.sub(r"```.*?```|`[^`]*`|!?\[([^]]*)\]\([^)]*\)", r"\1", text, flags=re.DOTALL)
    text = re.sub(r"(?m)^(?:\||#|    ).*$", "", text)
    for block in re.split(r"\n\n|\n(?=- |\d+\. )", text):
        yield from re.split(r"(?<=[.!?:])\s+", " ".join(block.split()))


@pytest.mark.parametrize("page", PAGES, ids=lambda page: page.name)
def test_pages_are_plain(page: Path) -> None:
    """No sentence is longer than thirty words, and none is one of the riddles of docs/STYLE.md."""
    text = page.read_text("utf-8")
    long = [each for each in _sentences(text) if len(each.split()) > _MOST_WORDS]
    assert long == []
    lower = " ".join(_sentences(text.lower()))
    assert [turn for turn in _TURNS if turn in lower] == []


def test_every_screenshot_is_shown() -> None:
    """A picture that nobody links is left over."""
    readme = "".join(page.read_text("utf-8") for page in PAGES)
    pictures = sorted(path.name for path in (ROOT / "docs" / "screenshots").glob("*.png"))
    assert pictures
    assert len(pictures) < 20
    assert all(f"screenshots/{name}" in readme for name in pictures)
