"""Written checks beside the library: every answer, and what a login takes beside its primitive."""

import json
import subprocess
import tempfile
from collections.abc import Iterable, Iterator
from pathlib import Path

from embedding.programs import Written, command_of, expected, told
from embedding.worlds import TARGETS, World, with_value
from lean_tumbler.core.embedding.heads import written
from lean_tumbler.core.embedding.language import Language
from lean_tumbler.core.embedding.registry import LANGUAGES
from measuring import Benchmark, Row

ROWS = 5_000
FIRST_SEED = 1_000
LOGINS = 40
TIMING = Path(__file__).parent / "embedded"  # programs that print what so many logins take
_COSTLY = {
    "argon2id": {"memory_kib": 19456, "passes": 2, "lanes": 1},
    "scrypt": {"cost_log2": 14, "block_size": 8, "lanes": 1},
}


def _slow(language: Language) -> str:
    return "argon2id" if "argon2id" in language.writes else "scrypt"


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
    scheme = _slow(language)
    world = World(2, target=scheme, rows=10)
    value = world.costly_value(scheme, "Gull 4711", _COSTLY[scheme])
    with tempfile.TemporaryDirectory() as folder:
        file = Path(folder) / f"check{language.ending}"
        file.write_text(written(language, world.check()), encoding="utf-8")
        program = next(TIMING.glob(f"[tT]iming{language.ending}"))
        command, environment = command_of(language, file, program)
        done = subprocess.run(
            [*command, value, str(LOGINS)],
            check=True, capture_output=True, text=True, env=environment,
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
