"""A sample of mutants: one place of a module is changed, and some test must see it.

python tests/mutation_sample.py --number 60 --seed 1 [src/lean_tumbler/core/reading/reader.py …]

Without modules, those changed since --base are taken, as far as a row of `TESTS` names their tests.
What stays alive is printed with its line; exit code 1 if fewer than 85 % die.
"""

import argparse
import ast
import os
import random
import shutil
import subprocess
import sys
import tempfile
from collections.abc import Callable, Iterator, Mapping, Sequence
from dataclasses import dataclass
from pathlib import Path
from types import MappingProxyType

ROOT = Path(__file__).parent.parent
SOURCE = Path("src") / "lean_tumbler"
ENOUGH = 0.85
SECONDS = 400  # for the tests of one mutant; one that hangs is dead
# The tests that must see a change below a folder; the quick ones first.
TESTS: Mapping[str, Sequence[str]] = MappingProxyType(
    {
        "core/reading/conditions.py": ("test_reading.py", "test_row_sources.py", "test_doubts.py"),
        "core/reading/survey.py": ("test_reading.py", "test_audit.py", "test_draft.py"),
        "core/reading": ("test_reading.py", "test_alike_rows.py", "test_gateway.py",
                         "test_evidence.py", "test_checking.py", "test_doubts.py", "test_audit.py"),
        "core/login": ("test_gateway.py", "test_checking.py", "test_keys.py", "test_service.py"),
        "core/formulas": ("test_formulas.py", "test_checking.py", "test_solver.py"),
        "core/drafting": ("test_draft.py", "test_doubts.py", "test_equal_tables.py"),
        "core/row_plans.py": ("test_gateway.py", "test_journey.py", "test_doubts.py"),
        "core/warrant.py": ("test_doubts.py", "test_evidence.py", "test_equal_tables.py"),
        "migration/bulk": ("test_evidence.py", "test_doubts.py", "test_bulk_steps.py", "test_undo.py",
                      "test_cluster.py", "test_replicas.py", "test_server_stores.py"),
        "jobs/draft": ("test_equal_tables.py", "test_doubts.py", "test_draft.py"),
        "core/audit": ("test_audit.py", "test_kinds.py", "test_audit_sources.py", "test_mistakes.py"),
        "stores/scans/store_forecast.py": ("test_forecast.py", "test_progress.py"),
        "stores/scans/migration_progress.py": ("test_progress.py", "test_report.py"),
        "stores/scans/login_log.py": ("test_forecast.py", "test_lock_dormant.py"),
        "stores/scans/guessing.py": ("test_audit_sources.py", "test_canary.py"),
        "stores/scans/binding.py": ("test_evidence.py", "test_doubts.py", "test_equal_tables.py"),
        "stores/scans": ("test_evidence.py", "test_equal_tables.py", "test_checking.py"),
        "stores/sql": ("test_stores.py", "test_row_sources.py", "test_schema_zoo.py"),
    }
)  # fmt: skip
_COMPARED = {ast.Lt: "<=", ast.LtE: "<", ast.Gt: ">=", ast.GtE: ">", ast.Eq: "!=",
             ast.NotEq: "==", ast.In: "not in", ast.NotIn: "in", ast.Is: "is not",
             ast.IsNot: "is"}  # fmt: skip
# Arguments that check what holds anyway: that lengths are equal, that nobody changes an object.
_SAYS_NOTHING = frozenset({"strict", "frozen", "slots", "kw_only"})
_COMPUTED = {ast.Add: "-", ast.Sub: "+", ast.Mult: "+", ast.FloorDiv: "*", ast.BitOr: "&"}


Place = Callable[[ast.expr], tuple[int, int]]  # a node -> its bytes in the module


@dataclass(frozen=True, slots=True)
class Mutant:
    """One place of a module, and what stands there instead."""

    module: Path
    line: int
    start: int
    end: int
    instead: str

    def text_of(self, source: str) -> str:
        """Give the module with the change."""
        raw = source.encode()
        return (raw[: self.start] + self.instead.encode() + raw[self.end :]).decode()


def mutants(module: Path) -> Iterator[Mutant]:
    """Give every mutant of a module."""
    source = (ROOT / module).read_text("utf-8")
    lines = source.encode().splitlines(keepends=True)
    starts = [0]
    for line in lines:
        starts.append(starts[-1] + len(line))

    def place(node: ast.expr) -> tuple[int, int]:
        end = starts[(node.end_lineno or 1) - 1] + (node.end_col_offset or 0)
        return starts[node.lineno - 1] + node.col_offset, end

    tree = ast.parse(source)
    strict = {node.value for node in ast.walk(tree)
              if isinstance(node, ast.keyword) and node.arg in _SAYS_NOTHING}  # fmt: skip
    for node in ast.walk(tree):
        if node in strict:
            continue
        for start, end, instead in _changes(node, place, source):
            yield Mutant(module, node.lineno, start, end, instead)  # type: ignore[attr-defined]


def _changes(node: ast.AST, at: Place, source: str) -> Iterator[tuple[int, int, str]]:
    """Give what may stand instead of a node: its bytes, and the text."""
    if isinstance(node, ast.Compare) and len(node.ops) == 1:
        (_, start), (end, _) = at(node.left), at(node.comparators[0])
        gap = source.encode()[start:end].decode()
        if "(" not in gap and ")" not in gap:
            yield start, end, f" {_COMPARED[type(node.ops[0])]} "
    elif isinstance(node, ast.BoolOp):
        (_, start), (end, _) = at(node.values[0]), at(node.values[1])
        gap = source.encode()[start:end].decode()
        if "(" not in gap and ")" not in gap:
            yield start, end, " or " if isinstance(node.op, ast.And) else " and "
    elif isinstance(node, ast.UnaryOp) and isinstance(node.op, ast.Not):
        start, _ = at(node)
        yield start, start + len("not"), ""
    elif isinstance(node, ast.BinOp) and type(node.op) in _COMPUTED:
        (_, start), (end, _) = at(node.left), at(node.right)
        gap = source.encode()[start:end].decode()
        if "(" not in gap and ")" not in gap:
            yield start, end, f" {_COMPUTED[type(node.op)]} "
    elif isinstance(node, ast.Constant) and isinstance(node.value, bool | int):
        start, end = at(node)
        yield start, end, str(not node.value if node.value in {True, False} else node.value + 1)


def tests_of(module: Path) -> Sequence[str]:
    """Name the tests that must see a change of a module; none where nobody said."""
    name = module.relative_to(SOURCE).as_posix()
    return next((tests for folder, tests in TESTS.items() if name.startswith(folder)), ())


def is_seen(mutant: Mutant, copy: Path) -> bool:
    """Run the tests of a mutant, until one fails."""
    target = copy / mutant.module
    before = target.read_text("utf-8")
    target.write_text(mutant.text_of(before), "utf-8")
    try:
        done = subprocess.run(
            [sys.executable, "-m", "pytest", "-x", "-q", "-n", "2", "-p", "no:cacheprovider",
             *(f"tests/{name}" for name in tests_of(mutant.module))],
            cwd=copy, capture_output=True, check=False, timeout=SECONDS,
            env={**os.environ, "PYTHONPATH": str(copy / "src"), "CI": "1"},
        )  # fmt: skip
    except subprocess.TimeoutExpired:
        return True
    finally:
        target.write_text(before, "utf-8")
    return done.returncode != 0


def changed(base: str) -> list[Path]:
    """Give the modules that differ from a commit."""
    listed = subprocess.run(
        ["git", "diff", "--name-only", base, "--", str(SOURCE)],
        cwd=ROOT, capture_output=True, check=True, text=True,
    )  # fmt: skip
    return [Path(name) for name in listed.stdout.split() if (ROOT / name).suffix == ".py"]


def main() -> int:
    """Draw a sample, try it, and say what stayed alive."""
    parser = argparse.ArgumentParser(description=__doc__)
    parser.add_argument("modules", nargs="*", type=Path)
    parser.add_argument("--base", default="HEAD~1")
    parser.add_argument("--number", type=int, default=60)
    parser.add_argument("--seed", type=int, default=1)
    asked = parser.parse_args()
    modules = [m for m in asked.modules or changed(asked.base)
               if (ROOT / m).exists() and tests_of(m)]  # fmt: skip
    every = [mutant for module in modules for mutant in mutants(module)]
    sample = random.Random(asked.seed).sample(every, min(asked.number, len(every)))
    seen = 0
    with tempfile.TemporaryDirectory() as folder:
        copy = Path(folder) / "copy"
        shutil.copytree(ROOT, copy, ignore=shutil.ignore_patterns(".git", ".venv", ".*_cache"))
        for number, mutant in enumerate(sample, 1):
            found = is_seen(mutant, copy)
            seen += found
            if not found:
                line = (ROOT / mutant.module).read_text("utf-8").splitlines()[mutant.line - 1]
                sys.stdout.write(f"alive {mutant.module}:{mutant.line}: {line.strip()} "
                                 f"-> {mutant.instead.strip()!r}\n")  # fmt: skip
            sys.stdout.write(f"{seen} of {number} seen\n")
            sys.stdout.flush()
    return int(bool(sample) and seen < ENOUGH * len(sample))


if __name__ == "__main__":
    sys.exit(main())
