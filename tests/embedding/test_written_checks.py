"""Checks written out in other languages give the library's answers, and are clean in their own."""

import base64
import hmac
import os
import random
import re
import subprocess
import sys
from datetime import UTC, datetime
from pathlib import Path

import pytest
from hypothesis import given, settings
from hypothesis import strategies as st
from msgspec.structs import replace

from conftest import oracle
from embedding.programs import (
    JAVA_PATH,
    Written,
    compiled_with_java,
    expected,
    finished,
    go_environment,
    node_packages,
    told,
)
from embedding.worlds import TARGETS, World, with_value
from lean_tumbler.core.embedding.check import Holds
from lean_tumbler.core.embedding.common_rule import DATES, ENDINGS, YEARS, common_rule
from lean_tumbler.core.embedding.heads import Standing, standing, written
from lean_tumbler.core.embedding.language import Language
from lean_tumbler.core.embedding.plain_texts import is_typed
from lean_tumbler.core.embedding.registry import LANGUAGES
from lean_tumbler.core.embedding.vectors import vectors
from lean_tumbler.core.login.new_passwords import common_passwords
from lean_tumbler.core.reading.text_structure import structure_of
from lean_tumbler.errors import PasswordRefused

VERDICTS_KEY = "an invented key of more than thirty-two signs"
HOSTILE = [
    "\0", "\0" * 72, "\ufeff", "\uffff\ufffe", "\U0010ffff" * 9, "e" + "\u0301" * 300, "\u202egull",
    "\u1100\u1161\u11a8" * 20, "x" * 72 + "\0", "x" * 1024, "é" * 513, "\ud7ff\ue000", "' OR 1=1 --",
    "%s%n{0}#{1}${x}", "\r\n\t", "\u0130\u0131ſKÅ", "𝔊ull 4711",
]  # fmt: skip
SEEDS = range(12)
LAYERED = (0.45, 1.0, 0.0)  # shares of rows: before a bulk step, beside one, and after it
EACH = pytest.mark.parametrize("language", LANGUAGES.values(), ids=str)
RULES = """
[new_passwords]
words = ["Coldharbour", "Tide Post"]
composition = ["digit", "other"]
"""
NEW = [
    "", "short", "correct horse battery staple", "Möwe und Ebbe 42!", "mo\u0308we und ebbe 7?",
    "password1!", "P@ssw0rd2024!", "coldharbour2024!", "tidepost", "Tide Post 99", "12121985!",
    "\u0130stanbul-1453", "STRASSE 1!", "straße 12!", "aaaaaaaa!1", "ada.lovelace", "lovelaceada1!",
    "x" * 300, "x" * 1100 + "1!", "nul\0nul 12!", "$argon2id$v=19$m=64,t=1,p=1$c2FsdHNhbHQ$AAAAAA1!",
    "$over$from=abc 1!", "qwertyuiop1!", "Ελληνικά Σίσυφος 1!", "ﬁnancial ﬂow 1!", "٤٢ wörter genug!",
]  # fmt: skip


@EACH
@pytest.mark.parametrize("seed", SEEDS)
def test_every_answer_is_the_librarys(language: Language, seed: int, tmp_path: Path) -> None:
    """Right, wrong, another's, other forms, damaged values: the same answer, and values that hold."""
    targets = [name for name in TARGETS if name == "keyed" or name in language.writes]
    world = World(seed, target=targets[seed % len(targets)], rows=24, layered=LAYERED[seed % 3])
    check = world.check()
    if language.lacks(check) or language.is_finished(check):
        pytest.skip("the language lacks what this table needs, or a stock function checks it")
    other = world.differing(check)
    assert not [each for each in other.values() if each != "not read"]
    program = Written(language, written(language, check), tmp_path)
    questions = list(world.questions(without=other))
    answers = program.ask([question.asked() for question in questions])
    for question, answer in zip(questions, answers, strict=True):
        assert told(answer) == expected(question), (question, world.reader.read(question.row))
        value = answer.get("new_value")
        if isinstance(value, str):
            again = world.ask(with_value(question.row, value), question.password)
            assert again.admitted
            assert not again.writes


@EACH
def test_new_values_keep_the_rules(language: Language, tmp_path: Path) -> None:
    """Registration refuses what the library refuses, for the same reasons, and makes its values."""
    world = World(7, target="pbkdf2-sha512", rows=12, rules=RULES)
    program = Written(language, written(language, world.check()), tmp_path)
    rng = random.Random(5)
    common = rng.sample(sorted(common_passwords()), 40)
    asked = [*NEW, *(f"{text.title()}" for text in common), *common]
    answers = program.ask([world.registration(text) for text in asked])
    for text, answer in zip(asked, answers, strict=True):
        reasons = _reasons(world, text)
        if reasons:
            found = set(str(answer.get("reasons")).split(","))
            # Its list of likely passwords leaves out what is too short anyway.
            assert found | {"common"} == reasons | {"common"}, text
        else:
            value = str(answer["value"])
            assert world.gateway.admit(stored=value, password=text).admitted


def _reasons(world: World, password: str) -> set[str]:
    try:
        world.gateway.require_usable(password=password, login="ada.lovelace@tidepost.example")
    except PasswordRefused as refused:
        return set(map(str, refused.reasons))
    return set()


@EACH
def test_a_verdict_is_one_signed_line(language: Language, tmp_path: Path) -> None:
    """With what the old code said; no login and no password in it, and none for an unknown login."""
    world = World(2, target=_slow_target(language), rows=30, layered=0.0)
    check = world.check()
    assert language.lacks(check) == []
    other = world.differing(check)
    known = [
        question for question in world.questions(without=other)
        if question.row.login and question.label and question.refusal in {"", "wrong-password"}
    ][:12]  # fmt: skip
    assert {question.admitted for question in known} == {True, False}
    file, olds = tmp_path / "verdicts.log", [True, False, None]
    program = Written(language, written(language, check), tmp_path)
    program.ask([
        {**question.asked(), "file": str(file), "key": VERDICTS_KEY, "expected": olds[number % 3]}
        for number, question in enumerate(known)
    ])  # fmt: skip
    unknown = {**known[0].asked(), "stored": None, "file": str(file), "key": VERDICTS_KEY}
    program.ask([{**unknown, "expected": None}])
    lines = file.read_text("utf-8").splitlines()
    assert len(lines) == len(known)
    for number, (question, line) in enumerate(zip(known, lines, strict=True)):
        person = _signed(f"person:{question.row.login}")
        own = "right" if question.admitted else "wrong"
        old = ("right", "wrong", "unasked")[number % 3]
        day = datetime.now(UTC).date().isoformat()
        told = f"kiosk\t{question.label}\t{person}\t{own}\t{old}\t{day}"
        assert line == f"{told}\t{_signed(told)[:32]}"


def _signed(text: str) -> str:
    return hmac.new(VERDICTS_KEY.encode(), text.encode(), "sha256").hexdigest()


def _slow_target(language: Language) -> str:
    return "argon2id" if "argon2id" in language.writes else "scrypt"


@EACH
def test_hostile_rows_get_an_answer(language: Language, tmp_path: Path) -> None:
    """Bytes, long and odd texts: an answer or the one error, and nothing of the row in it."""
    world = World(8, target=_slow_target(language), rows=10)
    check = world.check()
    program = Written(language, written(language, check), tmp_path)
    rng = random.Random(1)
    rows = []
    for _ in range(150):
        _, row = rng.choice(world.people)
        raw = rng.choice([
            rng.randbytes(rng.randrange(80)), b"$over$from=" + rng.randbytes(20),
            b"$argon2id$v=19$m=99999999,t=9,p=1$c2FsdHNhbHQ$AAAAAAAAAAAAAAAA",
            b"$over$from=0123456789abcdef$argon2id$v=19$m=64,t=1,p=1$c2FsdHNhbHQ$AAAAAAAAAAAAAAAA",
            b"$keyed$by=x,check=AAAAAAAA,to=realm$AAAAAAAAAAAAAAAA$" + b"A" * 48,
            ("x" * rng.randrange(5000)).encode(), "\u202e\ufeff é".encode(), b"\xff\xfe\0",
        ])  # fmt: skip
        rows.append(with_value(row, "x") if rng.random() < 0.1 else world.with_bytes(row, raw))
    answers = program.ask([world.ask(row, "Gull 4711").asked() for row in rows])
    for answer in answers:
        assert answer.get("admitted", False) is False
        assert "Gull" not in str(answer)


@EACH
def test_hostile_passwords_get_an_answer(language: Language, tmp_path: Path) -> None:
    """The library's, where it is text; a refusal where it is none; also at registration."""
    world = World(2, target=_slow_target(language), rows=12)
    check = world.check()
    other = world.differing(check)
    program = Written(language, written(language, check), tmp_path)
    rows = [row for person, row in world.people if person.number not in other]
    asked = [world.ask(row, password) for row in rows[:6] for password in HOSTILE]
    for question, answer in zip(asked, program.ask([q.asked() for q in asked]), strict=True):
        assert told(answer) == expected(question), question.password[:20]
    for raw in (b"\xff", b"Gull\xc3", b"\xed\xa0\x80", b"\xf5\x80\x80\x80", bytes(range(256))):
        password = base64.b64encode(raw).decode()
        (answer,) = program.ask([{**asked[0].asked(), "password": password}])
        assert answer["admitted"] is False
        (answer,) = program.ask([{**world.registration("x"), "password": password}])
        assert "value" not in answer or language.name in {
            "node",
            "java",
        }  # text with signs replaced


# Lines that answer a refusal -> the same, with the work that was done as the reason.
_TOLD = {
    "php": (
        "return self::answer(false, null, $refusal, '', $reading);",
        "ksort($this->done); return self::answer(false, null, $refusal, json_encode($this->done), $reading);",
    ),
    "node": (
        "return answer(reading, { refusal });",
        "return answer(reading, { refusal, kept: JSON.stringify([...done].sort()) });",
    ),
    "python": (
        "Answer(admitted=False, refusal=refusal)",
        "Answer(admitted=False, refusal=refusal, kept=str(sorted(done.items())))",
    ),
    "ruby": (
        "answer(reading, admitted: false, refusal: refusal)",
        "answer(reading, admitted: false, refusal: refusal, kept: done.sort.to_s)",
    ),
    "go": (
        "return answered(r, Answer{Refusal: refusal})",
        "return answered(r, Answer{Refusal: refusal, Kept: fmt.Sprint(done)})",
    ),
    "java": (
        'return answer(reading, false, null, refusal, "");',
        "return answer(reading, false, null, refusal, new java.util.TreeMap<>(done).toString());",
    ),
}


@EACH
@pytest.mark.parametrize("layered", [0.45, 1.0])
def test_refusals_cost_the_same_whatever_the_row_holds(
    language: Language, layered: float, tmp_path: Path
) -> None:
    """Each kind of slow work is done as often for a refused login, known or unknown."""
    for seed in (0, 7, 9):
        world = World(seed, target=_slow_target(language), rows=30, layered=layered)
        check = world.check()
        if language.lacks(check) or language.is_finished(check):
            continue
        text = written(language, check)
        answered, told_too = _TOLD[language.name]
        assert text.count(answered) == 1
        folder = tmp_path / str(seed)
        folder.mkdir()
        program = Written(language, text.replace(answered, told_too), folder)
        other = world.differing(check)
        rows = [row for person, row in world.people if person.number not in other]
        rows.append(world.with_bytes(rows[0], b""))
        answers = program.ask([world.ask(row, "no such password 1").asked() for row in rows])
        assert all(answer["admitted"] is False for answer in answers)
        done = {str(answer["kept"]) for answer in answers}
        assert len(done) == 1, (seed, done)
        assert check.target.scheme in done.pop()


# Parses files as PHP 7.4 does: what came with PHP 8 is an error.
_PARSE_PHP = """
const { Engine } = require("php-parser"); const fs = require("fs");
const engine = new Engine({ parser: { version: "7.4", suppressErrors: false } });
for (const file of process.argv.slice(1)) engine.parseCode(fs.readFileSync(file, "utf8"), file);
"""


def test_php_is_clean(tmp_path: Path) -> None:
    """It parses, also as PHP 7.4 does, and keeps PSR-12."""
    for seed in range(6):
        world = World(seed, target=list(TARGETS)[seed % 3], rows=20)
        check = world.check()
        if LANGUAGES["php"].lacks(check):
            continue
        file = tmp_path / f"check{seed}.php"
        file.write_text(written(LANGUAGES["php"], check), encoding="utf-8")
        assert finished("php", "-l", file.name, folder=tmp_path) == ""
    files = sorted(file.name for file in tmp_path.glob("*.php"))
    parse = ("node", "-e", _PARSE_PHP, "--")
    environment = {**os.environ, "NODE_PATH": str(node_packages())}
    assert finished(*parse, *files, folder=tmp_path, environment=environment) == ""
    (tmp_path / "newer").write_text("<?php $x = $a?->b;", encoding="utf-8")
    assert finished(*parse, "newer", folder=tmp_path, environment=environment) != ""
    (tmp_path / "newer").unlink()
    assert finished("phpcs", "--standard=PSR12", "--extensions=php", ".", folder=tmp_path) == ""


def test_node_is_clean(tmp_path: Path) -> None:
    """ESLint's recommended rules have nothing to say, and Prettier leaves it as it is."""
    packages = node_packages()
    for seed in range(6):
        world = World(seed, target=list(TARGETS)[seed % 5], rows=20)
        check = world.check()
        if not LANGUAGES["node"].lacks(check):
            text = written(LANGUAGES["node"], check)
            (tmp_path / f"check{seed}.js").write_text(text, encoding="utf-8")
    (tmp_path / "node_modules").symlink_to(packages)
    (tmp_path / "eslint.config.mjs").write_text(
        'import js from "@eslint/js";\nexport default [js.configs.recommended, { languageOptions: '
        '{ sourceType: "commonjs", globals: { Buffer: "readonly", TextDecoder: "readonly" } } }];\n'
    )
    binaries = packages / ".bin"
    files = [file.name for file in tmp_path.glob("check*.js")]
    assert finished(str(binaries / "eslint"), *files, folder=tmp_path) == ""
    prettier = (str(binaries / "prettier"), "--print-width", "100", "--check", *files)
    assert finished(*prettier, folder=tmp_path) == ""


def test_python_is_clean(tmp_path: Path) -> None:
    """Ruff's usual rules have nothing to say, it is formatted as Ruff does, and mypy is strict."""
    files = []
    for seed in range(6):
        world = World(seed, target=list(TARGETS)[seed % 5], rows=20)
        check = world.check()
        if not LANGUAGES["python"].lacks(check):
            text = written(LANGUAGES["python"], check)
            (tmp_path / f"check{seed}.py").write_text(text, encoding="utf-8")
            files.append(f"check{seed}.py")
    binaries = Path(sys.executable).parent
    ruff = str(binaries / "ruff")
    assert finished(ruff, "check", "--isolated", *files, folder=tmp_path) == ""
    width = ("--line-length", "100")
    assert finished(ruff, "format", "--isolated", "--diff", *width, *files, folder=tmp_path) == ""
    mypy = (str(binaries / "mypy"), "--strict", "--no-incremental", "--config-file=", *files)
    assert finished(*mypy, folder=tmp_path) == ""


def _rubocop(folder: Path) -> str:
    """Give what RuboCop's usual rules say, but for those on length."""
    (folder / ".rubocop.yml").write_text(
        "AllCops:\n  NewCops: disable\n  SuggestExtensions: false\n  TargetRubyVersion: 3.0\n"
        "Metrics:\n  Enabled: false\n"
    )
    return finished("rubocop", "--format", "simple", ".", folder=folder)


def test_ruby_is_clean(tmp_path: Path) -> None:
    """RuboCop's usual rules, but for those on length, have nothing to say; nor has the interpreter."""
    for seed in range(8):
        world = World(seed, target=["bcrypt", "pbkdf2-sha512", "scrypt"][seed % 3], rows=20)
        check = world.check()
        if not LANGUAGES["ruby"].lacks(check):
            file = tmp_path / f"check{seed}.rb"
            file.write_text(written(LANGUAGES["ruby"], check), encoding="utf-8")
            assert finished("ruby", "-wc", file.name, folder=tmp_path) == ""
    assert _rubocop(tmp_path) == ""


def test_go_is_clean(tmp_path: Path) -> None:
    """`gofmt` leaves it as it is, and `go vet` has nothing to say."""
    for seed in range(8):
        world = World(seed, target=list(TARGETS)[seed % 5], rows=20)
        check = world.check()
        if not LANGUAGES["go"].lacks(check):
            place = tmp_path / "src" / f"login{seed}"
            place.mkdir(parents=True)
            (place / "check.go").write_text(written(LANGUAGES["go"], check), encoding="utf-8")
    environment = go_environment(tmp_path)
    unformatted = subprocess.run(
        [oracle("gofmt"), "-l", "."], cwd=tmp_path, capture_output=True, text=True, check=True
    )
    assert unformatted.stdout == ""
    assert finished("go", "vet", "./...", folder=tmp_path / "src", environment=environment) == ""


def test_java_is_clean(tmp_path: Path) -> None:
    """The compiler has no warning, of all that it knows."""
    for seed in range(8):
        world = World(seed, target=list(TARGETS)[seed % 5], rows=20)
        check = world.check()
        if not LANGUAGES["java"].lacks(check):
            place = tmp_path / str(seed)
            place.mkdir()
            file = place / "KioskLogin.java"
            file.write_text(written(LANGUAGES["java"], check), encoding="utf-8")
            assert compiled_with_java(file, into=place / "built") == ""


def test_a_file_tells_whether_it_was_edited_or_left_behind() -> None:
    """Its own text, another policy, another file: each is told."""
    world = World(4, target="argon2id", rows=20)
    language, check = LANGUAGES["php"], world.check()
    text = written(language, check)

    def again(_: object) -> str:
        return text

    assert standing(text, again) is Standing.CURRENT
    assert standing(text, lambda _: text + " ") is Standing.BEHIND
    assert standing(text, lambda _: None) is Standing.BEHIND
    assert standing(text.replace("return", "return ", 1), again) is Standing.EDITED
    assert standing("<?php\n", again) is Standing.FOREIGN


@settings(max_examples=300, deadline=None)
@given(st.text(max_size=40))
def test_a_text_with_a_structure_is_no_password(text: str) -> None:
    """The file's rule for plain text is narrower than the library's."""
    if is_typed(text) and len(text) > 20:
        assert structure_of(text) == ""


def test_the_rule_for_likely_passwords_is_the_list() -> None:
    """Words with endings, dates and the rest together are the library's list, and nothing more."""
    rule = common_rule(8)
    words, altered = ("|".join(map(re.escape, texts)) for texts in (rule.words, rule.altered))
    known = re.compile(f"(?:{words})(?:{ENDINGS}|{YEARS})|(?:{altered}){ENDINGS}|{DATES}")
    every = {text for text in common_passwords() if len(text) >= 8}
    assert all(known.fullmatch(text) or text in set(rule.rest) for text in every)
    rng = random.Random(9)
    for text in rng.sample(sorted(every), 4000):
        place = rng.randrange(len(text))
        changed = text[:place] + rng.choice("abc129!.") + text[place + 1 :]
        if len(changed) >= 8 and changed not in every:
            assert not known.fullmatch(changed), changed


_RUN_WAY_OUT = {
    "ruby": (
        "require './kiosk'; v = KioskLogin.new_value('Gull 4711'); "
        "exit KioskLogin.check(v, 'Gull 4711') && !KioskLogin.check(v, 'x') && !KioskLogin.check(nil, 'x')"
    ),
    "go": """package login
import "testing"
func TestWayOut(t *testing.T) {
	value, err := NewValue("Gull 4711")
	if err != nil || !Check(value, "Gull 4711") || Check(value, "x") || Check("", "x") {
		t.Fatal(err)
	}
}
""",
    "java": """import login.KioskLogin;
public class Asked {
    public static void main(String[] arguments) {
        String value = KioskLogin.newValue("Gull 4711");
        boolean isRight = KioskLogin.check(value, "Gull 4711");
        System.exit(isRight && !KioskLogin.check(value, "x") && !KioskLogin.check(null, "x") ? 0 : 1);
    }
}
""",
}


@pytest.mark.parametrize("name", ["ruby", "go", "java"])
def test_the_way_out_is_two_functions(name: str, tmp_path: Path) -> None:
    """Where no legacy value is left: clean, and they make and open values of the stock function."""
    check = World(2, target="bcrypt", rows=5).check()
    left = replace(check, holds=Holds(direct=frozenset({"bcrypt"}), is_finished=True))
    assert LANGUAGES[name].is_finished(left)
    text, place = written(LANGUAGES[name], left), tmp_path / "src" / "login"
    place.mkdir(parents=True)
    if name == "ruby":
        (place / "kiosk.rb").write_text(text, encoding="utf-8")
        assert _rubocop(place) == ""
        assert finished("ruby", "-w", "-e", _RUN_WAY_OUT[name], folder=place) == ""
    elif name == "go":
        (place / "kiosk.go").write_text(text, encoding="utf-8")
        (place / "kiosk_test.go").write_text(_RUN_WAY_OUT[name], encoding="utf-8")
        environment = go_environment(tmp_path)
        assert finished("go", "test", "login", folder=place, environment=environment) == ""
    else:
        (place / "KioskLogin.java").write_text(text, encoding="utf-8")
        (place / "Asked.java").write_text(_RUN_WAY_OUT[name], encoding="utf-8")
        files = (place / "KioskLogin.java", place / "Asked.java")
        assert compiled_with_java(*files, into=place / "built") == ""
        assert finished("java", "-cp", f"{JAVA_PATH}:built", "Asked", folder=place) == ""


_JAVA_TEST = (
    f"javac -Xlint:all,-path -Werror -cp {JAVA_PATH} -d . *.java && "
    f"java -cp {JAVA_PATH}:. org.junit.runner.JUnitCore login.KioskLoginTest"
)


@EACH
def test_the_written_test_is_green(language: Language, tmp_path: Path) -> None:
    """In the language's usual runner, with a row of each make; red for a check that admits nobody."""
    world = World(2, target=_slow_target(language), rows=30)
    check = world.check()
    assert language.lacks(check) == []
    name, mark = {
        "ruby": ("kiosk_login", "_test"), "go": ("kiosk_login", "_test"),
    }.get(language.name, ("KioskLogin", "Test"))  # fmt: skip
    test_name, name = f"{name}{mark}{language.ending}", f"{name}{language.ending}"
    text = written(language, check)
    test = language.test_source(check, name, list(vectors(check, bytes)))
    folder = tmp_path / "src" / "login"
    folder.mkdir(parents=True)
    (folder / name).write_text(text, encoding="utf-8")
    (folder / test_name).write_text(test, encoding="utf-8")
    command = {
        "php": ["phpunit", "--no-configuration", test_name],
        "node": [oracle("node"), "--test", test_name],
        "python": [sys.executable, "-m", "unittest", "-q", "KioskLoginTest"],
        "ruby": [oracle("ruby"), test_name],
        "go": [oracle("go"), "test", "login"],
        "java": [oracle("sh"), "-c", _JAVA_TEST],
    }[language.name]
    environment = go_environment(tmp_path)
    if language.name == "node":
        (folder / "node_modules").symlink_to(node_packages())
    assert finished(*command, folder=folder, environment=environment) == ""
    broken = text.replace("'admitted' => $admitted", "'admitted' => false")
    broken = broken.replace("dmitted: true", "dmitted: false").replace(
        "reading, true", "reading, false"
    )
    broken = broken.replace("Answer(admitted=True", "Answer(admitted=False")
    (folder / name).write_text(broken, encoding="utf-8")
    assert finished(*command, folder=folder, environment=environment) != ""
    if language.name == "php":
        assert finished("phpcs", "--standard=PSR12", "KioskLoginTest.php", folder=folder) == ""
    if language.name == "go":
        (folder / name).write_text(text, encoding="utf-8")
        assert finished("gofmt", "-d", "-e", ".", folder=folder) == ""
    if language.name == "ruby":
        (folder / name).unlink()
        assert _rubocop(folder) == ""
