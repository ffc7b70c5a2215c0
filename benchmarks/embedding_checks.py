"""Written checks beside the library: every answer, and what a login takes beside its primitive."""

import json
import os
import subprocess
import sys
import tempfile
from collections.abc import Iterable, Iterator
from pathlib import Path

from embedding.programs import Written, expected, node_packages, told
from embedding.worlds import TARGETS, World, with_value
from lean_tumbler.core.embedding.heads import written
from lean_tumbler.core.embedding.language import Language
from lean_tumbler.core.embedding.registry import LANGUAGES
from measuring import Benchmark, Row

ROWS = 5_000
FIRST_SEED = 1_000
LOGINS = 40
_COSTLY = {"memory_kib": 19456, "passes": 2, "lanes": 1}
# Each prints, in seconds, what so many logins took, and as many runs of the bare primitive.
_PHP = """
require $argv[1]; [, , $value, $logins] = $argv; $check = new App\\Login\\KioskLogin();
$row = ['stored' => $value]; $own = $bare = 0.0;
for ($number = 0; $number < $logins; $number++) {
    $start = hrtime(true); $check->check($row, 'Gull 4711'); $own += hrtime(true) - $start;
    $start = hrtime(true); password_verify('Gull 4711', $value); $bare += hrtime(true) - $start;
}
echo json_encode([$own / 1e9, $bare / 1e9]);
"""
_NODE = """
const [file, value, logins] = process.argv.slice(1); const { KioskLogin } = require(file);
const argon2 = require("argon2"); const check = new KioskLogin();
(async () => {
  let own = 0n, bare = 0n;
  for (let number = 0; number < Number(logins); number += 1) {
    let start = process.hrtime.bigint(); await check.check({ stored: value }, "Gull 4711");
    own += process.hrtime.bigint() - start; start = process.hrtime.bigint();
    await argon2.verify(value, "Gull 4711"); bare += process.hrtime.bigint() - start;
  }
  console.log(JSON.stringify([Number(own) / 1e9, Number(bare) / 1e9]));
})();
"""


_PYTHON = """
import importlib.util, json, sys, time
from argon2 import low_level
_, file, value, logins = sys.argv
spec = importlib.util.spec_from_file_location("written", file)
written = importlib.util.module_from_spec(spec); sys.modules["written"] = written
spec.loader.exec_module(written)
check, row, own, bare = written.KioskLogin(), written.Row(stored=value), 0.0, 0.0
for _ in range(int(logins)):
    start = time.perf_counter(); check.check(row, "Gull 4711"); own += time.perf_counter() - start
    start = time.perf_counter()
    low_level.verify_secret(value.encode(), b"Gull 4711", low_level.Type.ID)
    bare += time.perf_counter() - start
print(json.dumps([own, bare]))
"""


def _targets(language: Language) -> list[str]:
    return [name for name in TARGETS if name == "keyed" or name in language.writes]


def _worlds(language: Language) -> Iterator[World]:
    """Give tables until their rows are enough, of those that the language can check."""
    rows, seed, targets = 0, FIRST_SEED, _targets(language)
    while rows < ROWS:
        world = World(seed, target=targets[seed % len(targets)], rows=100)
        seed += 1
        if not language.lacks(world.check()):
            rows += len(world.people)
            yield world


def answers(language: Language) -> Row:
    """Ask of each row four passwords, and hold every answer against the library's."""
    asked = differing = not_read = rows = refused_values = values = 0
    with tempfile.TemporaryDirectory() as folder:
        for world in _worlds(language):
            check = world.check()
            other = world.differing(check)
            program = Written(language, written(language, check), Path(folder))
            questions = list(world.questions(without=other))
            found = program.ask([question.asked() for question in questions])
            rows += len(world.people)
            not_read += len(other)
            for question, answer in zip(questions, found, strict=True):
                asked += 1
                differing += told(answer) != expected(question)
                value = answer.get("new_value")
                if isinstance(value, str):
                    values += 1
                    row = with_value(question.row, value)
                    refused_values += not world.ask(row, question.password).admitted
    return {
        "benchmark": f"embed {language.name}: answers",
        "rows": rows,
        "not_read": not_read,
        "asked": asked,
        "differing": differing,
        "new_values": values,
        "new_values_refused": refused_values,
    }


def own_share(language: Language) -> Row:
    """Log in by the file, and run the bare primitive as often, by turns in one process."""
    world = World(2, target="argon2id", rows=10)
    value = world.costly_value("Gull 4711", _COSTLY)
    program = {
        "php": ["php", "-r", _PHP, "--"],
        "node": ["node", "-e", _NODE],
        "python": [sys.executable, "-c", _PYTHON],
    }[language.name]
    with tempfile.TemporaryDirectory() as folder:
        file = Path(folder) / f"check{language.ending}"
        file.write_text(written(language, world.check()), encoding="utf-8")
        done = subprocess.run(
            [*program, str(file), value, str(LOGINS)], check=True, capture_output=True, text=True,
            env=os.environ | {"NODE_PATH": str(node_packages())},
        )  # fmt: skip
    own, bare = json.loads(done.stdout)
    return {
        "benchmark": f"embed {language.name}: own share",
        "milliseconds_a_login": round(1000 * own / LOGINS, 2),
        "milliseconds_bare": round(1000 * bare / LOGINS, 2),
        "own_share": round(1 - bare / own, 4),
    }


def _all() -> Iterable[Row]:
    for language in LANGUAGES.values():
        yield own_share(language)
        yield answers(language)


BENCHMARKS = (Benchmark(name="embed", run=_all),)
