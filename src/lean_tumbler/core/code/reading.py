"""From files to what their lines do with passwords."""

import re
from collections.abc import Callable, Iterable, Mapping, Sequence

from msgspec import Struct

from lean_tumbler.core.code.evaluating import Evaluator
from lean_tumbler.core.code.index import ProgramIndex, module_name
from lean_tumbler.core.code.languages.registry import language_of, read_unit
from lean_tumbler.core.code.mistakes.facts import CodeFacts
from lean_tumbler.core.code.mistakes.rules import CodeFinding, find_mistakes
from lean_tumbler.core.code.naming import is_of_interest
from lean_tumbler.core.code.places import CodeEvent
from lean_tumbler.core.code.program import Unit
from lean_tumbler.core.code.recovered import Recovered
from lean_tumbler.core.code.settings import is_settings, settings_of
from lean_tumbler.core.code.sql_files import read_sql
from lean_tumbler.core.code.terms import Constant

ROUNDS = 3  # in which files are parsed that declare what others call
MOST_HELPERS = 50  # files that are parsed in one round for that
_WORDS_BEFORE = (
    rb"(?:(?:export|default|public|private|protected|static|final|abstract|async|pub)[ \t]+)*"
)
_DECLARED = re.compile(
    rb"(?m)^[ \t]*" + _WORDS_BEFORE + rb"(?:(?:function|def|class|func(?:[ \t]*\([^)\n]*\))?)"
    rb"[ \t]+(?:self\.)?(\w+)|(?:const|let|var|define)\b[ \t('\"]*(\w+)"
    rb"|[A-Za-z<>\[\]]+[ \t]+(\w+)[ \t]*\()"
)


class SourceFile(Struct, frozen=True):
    """One file of a tree."""

    path: str
    source: bytes


class CodeRead(Struct, frozen=True, kw_only=True):
    """What source code does with passwords."""

    events: Sequence[CodeEvent]
    formulas: Sequence[Recovered]
    findings: Sequence[CodeFinding]
    files: int  # of the languages that are read
    lines: int
    followed: int  # files that have to do with passwords
    damaged: Sequence[str]  # files in which the parser met what it could not read
    languages: Mapping[str, int]  # -> files
    facts: CodeFacts


def _read(path: str, source: bytes) -> Unit:
    """Parse a file; one that is nested too deeply is not followed, and counts as damaged."""
    try:
        return read_unit(path, source)
    except RecursionError:
        return Unit(path=path, language="", errors=1)


class CodeReader:
    """Takes files one after the other, and follows them together."""

    def __init__(self, load: Callable[[str], bytes]) -> None:
        self._load = load
        self._units: dict[str, Unit] = {}
        self._declares: dict[bytes, list[str]] = {}
        self._settings: dict[str, Constant | None] = {}
        self._events: list[CodeEvent] = []
        self._languages: dict[str, int] = {}
        self._lines = 0

    def take(self, file: SourceFile) -> None:
        """Take one file: parse it where it may have to do with passwords."""
        if is_settings(file.path):
            self._keep(settings_of(file.path, file.source))
        if file.path.lower().endswith(".sql"):
            self._count("sql", file.source)
            if is_of_interest(file.source.lower()):
                self._events.extend(read_sql(file.path, file.source))
            return
        language = language_of(file.path)
        if language is None:
            return
        self._count(language.language, file.source)
        if is_of_interest(file.source.lower()):
            self._units[file.path] = _read(file.path, file.source)
            return
        self._declares.setdefault(module_name(file.path).encode(), []).append(file.path)
        for match in _DECLARED.finditer(file.source):
            name = match[1] or match[2] or match[3]
            self._declares.setdefault(name, []).append(file.path)

    @property
    def followed(self) -> int:
        """How many files have to do with passwords."""
        return len(self._units)

    def _count(self, language: str, source: bytes) -> None:
        self._languages[language] = self._languages.get(language, 0) + 1
        self._lines += source.count(b"\n") + 1

    def _keep(self, found: Iterable[tuple[str, Constant]]) -> None:
        for name, value in found:
            known = self._settings.get(name, value)
            same = known is not None and known.value == value.value
            self._settings[name] = value if same else None

    def read(self, progress: Callable[[int], None] = lambda _done: None) -> CodeRead:
        """Follow the values of all files."""
        settings = {name: value for name, value in self._settings.items() if value is not None}
        for _ in range(ROUNDS):
            evaluator = Evaluator(ProgramIndex(self._units.values(), settings), progress)
            events = evaluator.whole()
            helpers = self._helpers(evaluator.unknown)
            if not helpers:
                break
            for path in helpers:
                self._units[path] = _read(path, self._load(path))
        facts = CodeFacts([*events, *self._events])
        return CodeRead(
            events=facts.events,
            formulas=facts.formulas,
            findings=find_mistakes(facts),
            files=sum(self._languages.values()),
            lines=self._lines,
            followed=len(self._units),
            damaged=[path for path, unit in self._units.items() if unit.errors],
            languages=self._languages,
            facts=facts,
        )

    def _helpers(self, names: Iterable[str]) -> list[str]:
        """Find files that declare what is called and not known yet."""
        found: dict[str, None] = {}
        for name in sorted(names):
            paths = self._declares.get(name.encode(), ())
            if len(paths) <= 3:
                found.update(dict.fromkeys(path for path in paths if path not in self._units))
        return list(found)[:MOST_HELPERS]
