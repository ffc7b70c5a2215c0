"""Mistakes in source code: each is seen in a wrong line, and not in the same line mended."""

import ast

import pytest

from lean_tumbler.core.code.calls import OWN_OPERATORS
from lean_tumbler.core.code.languages.registry import LANGUAGES
from lean_tumbler.core.code.library_objects import ALL_OPERATORS
from lean_tumbler.core.code.meanings import meanings_of
from lean_tumbler.core.code.mistakes.rules import CODE_RULES, STOCK
from lean_tumbler.core.code.reading import CodeRead, CodeReader, SourceFile
from source_code.mistakes import CASES, Case


def read(name: str, text: str) -> CodeRead:
    """Read one file."""
    reader = CodeReader(lambda _path: b"")
    reader.take(SourceFile(name, text.encode()))
    return reader.read()


@pytest.mark.parametrize("case", CASES, ids=lambda case: f"{case.code}-{case.name}")
def test_a_mistake_is_seen_and_its_mended_form_is_not(case: Case) -> None:
    """The wrong file has the finding, the right one has not."""
    assert case.code in {found.code for found in read(case.name, case.wrong).findings}
    assert case.code not in {found.code for found in read(case.name, case.right).findings}


def test_each_rule_has_a_case() -> None:
    """No rule stands in the table that no file has shown to work."""
    assert {case.code for case in CASES} == set(CODE_RULES)


def test_each_language_names_what_to_write() -> None:
    """A remedy can be written for each language that is read."""
    for rule in CODE_RULES.values():
        for words in STOCK.values():
            assert "{" not in rule.remedy.format_map(words)


@pytest.mark.parametrize("language", [each.language for each in LANGUAGES])
def test_tables_of_functions_name_operators_that_exist(language: str) -> None:
    """An entry with a wrong word would end the command where somebody's code calls it."""
    table = meanings_of(language)
    known = {*ALL_OPERATORS, *OWN_OPERATORS}
    for meaning in (*table.functions.values(), *table.methods.values()):
        names = {"self", meaning.rest, *meaning.parameters}
        for node in ast.walk(meaning.gives):
            if isinstance(node, ast.Call):
                assert isinstance(node.func, ast.Name)
                assert node.func.id in known
                names.add(node.func.id)
        used = {node.id for node in ast.walk(meaning.gives) if isinstance(node, ast.Name)}
        assert used <= names


@pytest.mark.parametrize(
    ("name", "text"),
    [
        ("comment.php", "<?php\n// $h = md5($_POST['password']);\n$doc = 'md5(\\$password)';\n"),
        ("comment.py", '# hashlib.md5(password)\nHELP = "print(password)"\n'),
        ("etag.js", "const t = require('crypto').createHash('md5').update(body).digest('hex');\n"),
        ("cut.php", "<?php\nfunction f( { if $_POST['password'\n"),
        ("deep.php", "<?php\n$password = " + "(" * 3_000 + "1" + ")" * 3_000 + ";\n"),
        ("double.php", "<?php\n$x = $_POST['password'];\n" + "$x = $x . md5($x . $x);\n" * 90),
        ("twice.js", "const password = 1;\n" + "x = {a: x, b: x, f: () => x};\n" * 90),
        ("long.js", "const password = " + "+".join(["'a'"] * 3_000) + ";\n"),
    ],
)
def test_what_only_looks_like_a_mistake_is_none(name: str, text: str) -> None:
    """Comments, texts, other digests and damaged or hostile files give no finding and no error."""
    assert not read(name, text).findings
