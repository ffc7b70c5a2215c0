"""The one reading: conditions, layouts of the policy, parts, and where decisions may stand."""

import ast
import hashlib
import json
from collections.abc import Iterator
from datetime import date
from pathlib import Path

import bcrypt
import pytest
from hypothesis import given
from hypothesis import strategies as st

from conftest import CHEAP_POLICY, Program, make_portal
from lean_tumbler import CredentialGateway, StoragePolicy
from lean_tumbler.core.formulas import notation
from lean_tumbler.core.formulas.output import output_shape
from lean_tumbler.core.reading.conditions import day_of, parse_condition
from lean_tumbler.core.reading.layouts import parse_layout
from lean_tumbler.core.reading.of_stores import store_reader
from lean_tumbler.core.reading.rows import Row
from lean_tumbler.core.reasons import Reason
from lean_tumbler.core.row_plans import plan_row
from lean_tumbler.errors import ConditionError, LayoutError, PolicyError

ROLES = {"stored": "pw", "salt": "pw_salt", "login": "email", "created": "joined"}
ROW = Row(
    stored="Möwe:1".encode(), salt=b"", login="ada",
    others={"joined": b"2011-03-01 07:00:00", "algo": b"2", "note": None, "a b": b"x"},
)  # fmt: skip


@pytest.mark.parametrize(
    ("text", "holds"),
    [
        ("salt empty", True), ("pw_salt empty", True), ("salt present", False),
        ("salt null", False), ("note null", True), ("note empty", True), ("note present", False),
        ('pw_salt = ""', True), ('algo = "2"', True), ('algo = "3"', False),
        ('note = ""', False), ('algo in ("1", "2")', True), ('algo in ("1")', False),
        ("created before 2011-03-01", False), ("created from 2011-03-01", True),
        ("created before 2011-03-02", True), ("joined from 2012-01-01", False),
        ("note before 2030-01-01", False), ("note from 1990-01-01", False),
        ("stored length 6", True), ("stored length 7", False), ('stored begins "Mö"', True),
        ('pw begins "x"', None), ('login = "ada" and algo = "2" and salt empty', True),
        ('login = "ada" and algo = "1"', False), ('"a b" = "x"', True),
    ],
)  # fmt: skip
def test_conditions_hold_as_they_read(text: str, holds: bool | None) -> None:
    """Each test on each kind of column, by role and by the table's own name; joined by and."""
    if holds is None:
        with pytest.raises(ConditionError, match="expected empty, present, null"):
            parse_condition(text, roles=ROLES)
        return
    condition = parse_condition(text, roles=ROLES)
    assert condition.holds(ROW) is holds
    again = parse_condition(str(condition), roles=ROLES)
    assert again.holds(ROW) is holds
    assert str(again) == str(condition)


@pytest.mark.parametrize(
    ("text", "expected"),
    [
        ("", "position 1: expected a column, found the end"),
        ("salt", "position 5: expected empty, present, null"),
        ("salt empty and", "position 15: expected a column"),
        ("salt empty or login", "position 20: expected empty, present, null"),
        ("salt empty nor login", "position 12: expected “and”, “or” or the end"),
        ("(salt empty", "position 12: expected “and”, “or” or “)”"),
        ("(" * 21 + "salt empty", "position 22: expected at most 20 brackets in each other"),
        ("created before 2011-02-30", "position 16: expected a date like 2011-03-01"),
        ("algo = two", "position 8: expected a text in double quotes"),
        ("algo < two", "position 8: expected a number, or a date like 2011-03-01"),
        ('algo in "2"', "position 9: expected “(”"),
        ("stored length 0", "position 15: expected a length from 1"),
        ('"desk\x01" empty', "position 1: expected a text with JSON escapes"),
        ('algo = "desk\x01"', "position 8: expected a text with JSON escapes"),
        ("algo ≠ 2", "position 6: a character that no test begins with"),
    ],
)  # fmt: skip
def test_a_mistake_in_a_condition_names_its_position(text: str, expected: str) -> None:
    """The position, and what was expected there."""
    with pytest.raises(ConditionError) as caught:
        parse_condition(text, roles=ROLES)
    assert expected in str(caught.value)


@given(st.text(max_size=40) | st.from_regex(r'[a-z =(),"0-9-]{0,40}', fullmatch=True))
def test_any_text_is_a_condition_or_a_mistake(text: str) -> None:
    """No text makes the parser raise anything but its own error, and printing is stable."""
    try:
        condition = parse_condition(text, roles=ROLES)
    except ConditionError:
        return
    assert str(parse_condition(str(condition), roles=ROLES)) == str(condition)


@pytest.mark.parametrize(
    ("raw", "day"),
    [
        (b"2011-03-01", date(2011, 3, 1)), (b"2011-03-01T23:59:59+14:00", date(2011, 3, 1)),
        (b" 20110301 ", date(2011, 3, 1)), (b"1299024000", date(2011, 3, 2)),
        (b"1299024000123", date(2011, 3, 2)), (b"0000-00-00", None),
        (b"01.03.2011", date(2011, 3, 1)), (b"1.3.2011 9:05", date(2011, 3, 1)),
        (b"01/03/2011", None),
        (b"", None), (None, None), (b"\xff", None), (b"99999999999999", None),
    ],
)  # fmt: skip
def test_days_are_read_as_databases_print_them(raw: bytes | None, day: date | None) -> None:
    """ISO, compact and dotted dates, seconds and milliseconds since 1970; else no day."""
    assert day_of(raw) == day


def layout(text: str, formula: str = "utf-8, md5, hex") -> object:
    output = output_shape(notation.parse(formula))
    pattern = "".join(segment.pattern for segment in output.segments)
    return parse_layout(text, digest_pattern=pattern, digest_is_fixed=output.length is not None)


HEX = "5f4dcc3b5aa765d61d8327deb882cf99"


@pytest.mark.parametrize(
    ("text", "stored", "parts"),
    [
        ("{salt:base64}/{rounds}/{digest:hex}", f"AP8=/1000/{HEX}", {"rounds": b"1000", "salt": b"\0\xff"}),
        ("{digest:hex}{salt}", f"{HEX}abc", {"salt": b"abc"}),
        ("{salt}{digest:hex}", f"abc{HEX}", {"salt": b"abc"}),
        ("{{x}}{digest}", f"{{x}}{HEX.upper()}", {}),
        ("v1${salt:base64}${digest:hex}", f"v1$AP8=${HEX}", {"salt": b"\0\xff"}),
        ("v1${salt:base64-unpadded}${digest}", f"v1$AP8${HEX}", {"salt": b"\0\xff"}),
        ("{rounds:number}|{digest}", f"x|{HEX}", None),
        ("{salt:hex}:{digest:hex}", f"0:{HEX}", None),
        ("{salt}:{digest:hex}", f"a:b:{HEX}", None),
        ("{salt}:{digest:hex}", f":{HEX}", {"salt": b""}),
    ],
)  # fmt: skip
def test_layouts_take_values_apart(text: str, stored: str, parts: dict[str, bytes] | None) -> None:
    """Digest and parts, each in its encoding; a value of another layout gives nothing."""
    found = layout(text).read(stored)  # type: ignore[attr-defined] # a ValueLayout
    if parts is None:
        assert found is None
        return
    assert dict(found.others) == parts
    assert found.digest.lower() == HEX


@pytest.mark.parametrize(
    ("text", "expected"),
    [
        ("{salt}", "expected a part {digest}"),
        ("{salt}{rounds}:{digest}", "position 7: nothing separates “salt” from “rounds”"),
        ("{digest}{digest}", "“digest” occurs twice"),
        ("{digest:hexx}", "position 9: expected an encoding"),
        ("{md5}:{digest}", "position 2: expected the name of a part"),
        ("{digest", "position 1: a brace without its counterpart"),
    ],
)
def test_a_mistake_in_a_layout_names_its_position(text: str, expected: str) -> None:
    """The position, and what was expected there."""
    with pytest.raises(LayoutError) as caught:
        layout(text)
    assert expected in str(caught.value)


COHORT = '\n[[store.passengers.cohort]]\nname = "more"\n'


@pytest.mark.parametrize(
    ("cohort", "expected"),
    [
        ('formula = "utf-8, md5"', "“more”: “formula”, position 11: the formula ends in bytes"),
        ('formula = "utf-8, md5, hex"\nplain_text = true', "expected one of “formula”"),
        ("", "expected one of “formula”, “scheme” and “plain_text”"),
        ('scheme = "md5"', "“scheme” is for values that do not name their scheme"),
        ('formula = "utf-8, md5, hex"\nwhen = "salt emty"', "“when”, position 6: expected empty"),
        ('formula = "utf-8, md5, hex"\nlayout = "{digest"', "“layout”, position 1: a brace"),
        ('formula = "utf-8, md5, hex"\nlayout = "{digest:base64}"', "the formula prints hex"),
        ('formula = "utf-8, pbkdf2-sha1 rounds 20 salt, hex"', "takes the part “rounds”, which"),
        ('plain_text = "some"', 'must be true, or "all"'),
        ('formul = "x"', "unknown key “formul”; did you mean “formula”?"),
        ('formula = "portl-2004"', "expected a step"),
        ('layout = "{digest}"\nplain_text = true', "“layout” goes with a “formula”"),
    ],
)
def test_a_mistake_in_a_cohort_names_file_store_cohort_and_place(
    cohort: str, expected: str
) -> None:
    """The message begins with the file, names store and cohort, and says what was expected."""
    with pytest.raises(PolicyError) as caught:
        StoragePolicy.from_toml(CHEAP_POLICY + COHORT + cohort, origin="tumbler.toml")
    assert str(caught.value).startswith("tumbler.toml: [store.passengers.cohort]")
    assert expected in str(caught.value)


def test_a_cohort_that_stands_twice_is_refused() -> None:
    """Evidence and options name cohorts, so their names are unique."""
    with pytest.raises(PolicyError, match="there is already a cohort of that name"):
        StoragePolicy.from_toml(
            CHEAP_POLICY + COHORT.replace("more", "clerks") + "plain_text = true"
        )


def test_parts_come_from_the_layout_or_from_columns() -> None:
    """Rounds in the value or beside it; a part that is no number fits nothing."""
    text = CHEAP_POLICY.partition("[[store")[0] + (
        '[store.passengers.parts]\nrounds = "pw_rounds"\n'
        + COHORT
        + 'formula = "utf-8, pbkdf2-sha256 rounds 32 salt, hex"\n'
        + COHORT.replace("more", "inside")
        + 'layout = "{rounds}${salt}${digest:hex}"\n'
        'formula = "utf-8, pbkdf2-sha256 rounds 32 salt, hex"\n'
    )
    gateway = CredentialGateway(StoragePolicy.from_toml(text))
    digest = hashlib.pbkdf2_hmac("sha256", b"Gull 7", b"s", 12, 32).hex()
    for stored, columns, admitted in (
        (digest, {"pw_rounds": "12"}, True),
        (digest, {"pw_rounds": "13"}, False),
        (digest, {"pw_rounds": None}, False),
        (digest, {"pw_rounds": "twelve"}, False),
        (digest, {"pw_rounds": "0"}, False),
        (digest, {"pw_rounds": "999999999"}, False),
        (f"12$s${digest}", {"pw_rounds": "13"}, True),
    ):
        outcome = gateway.admit(
            stored=stored, salt="s", password="Gull 7", store="passengers", columns=columns
        )
        assert outcome.admitted is admitted, columns


def test_a_formula_under_a_slow_scheme_waits_for_its_login() -> None:
    """Bulk steps lay nothing over it, and say so; a locked row beside it stays a locked one."""
    policy = StoragePolicy.from_toml(
        'target = { scheme = "argon2id", memory_kib = 19456, passes = 2 }\n'
        '[store.desk]\nlocator = "a.db"\ntable = "desk"\n'
        'columns = { account = "id", login = "mail", stored = "pw" }\n'
        'cohort = [{ name = "old", formula = "utf-8, md5, hex, then bcrypt" }]\n'
    )
    reader = store_reader(policy, policy.stores["desk"])
    digest = hashlib.md5(b"Plover").hexdigest().encode()
    for stored, reason in (
        (bcrypt.hashpw(digest, bcrypt.gensalt(4)), Reason.PREPARED),
        (b"!", Reason.LOCKED),
        (b"no value that anybody wrote", Reason.TEXT_UNDECLARED),
    ):
        assert plan_row(reader.read(Row(stored=stored)), policy).leave is reason


def test_explain_says_why_a_row_is_read_so(tmp_path: Path, in_process: Program) -> None:
    """Layout, conditions, ways and next steps of one account; never its value."""
    portal = make_portal(tmp_path, ["md5", "sha1", "plain", "locked", "null", "current"])
    policy = (tmp_path / "tumbler.toml").read_text()
    when = 'formula = "utf-8, md5, hex"\nwhen = "salt empty"'
    (tmp_path / "tumbler.toml").write_text(policy.replace('formula = "utf-8, md5, hex"', when))
    found = {}
    for number in range(1, 7):
        finished = in_process("explain", "--store", "passengers", "--account", str(number))
        assert finished.code == 0
        stored = portal.passengers[number - 1].stored
        assert not stored or len(stored) < 3 or stored not in finished.out
        document = in_process(
            "explain", "--store", "passengers", "--account", str(number), "--format", "json"
        ).document
        found[number] = document
        assert not stored or len(stored) < 3 or stored not in json.dumps(document)
    assert found[1]["ways"][0]["how"] == "utf-8, md5, hex"
    assert found[1]["cohorts"][0]["tests"] == [{"test": "salt empty", "holds": True}]
    assert found[2]["cohorts"][0]["tests"] == [{"test": "salt empty", "holds": False}]
    unproven = "leaves it: no account of its cohort is known to open (“portal-2004”)"
    assert found[1]["layer"] == unproven  # the proof was of a cohort with another condition
    assert found[3]["layer"] == "replaces it: the password is known"
    assert (found[4]["state"], found[5]["state"]) == ("locked", "no value")
    assert found[6]["layer"] == "leaves it: current: neither this step nor a login changes it"
    for arguments in (("--account", "99"), ("--account", "x' OR 1=1 --")):
        missing = in_process("explain", "--store", "passengers", *arguments)
        assert (missing.code, missing.out) == (2, "")
        assert "no account has the key" in missing.err
    assert in_process("explain", "--store", "passengers").code == 2
    assert in_process("explain").code == 2


# Where salt, and which formulas fit, may be decided: the reading, and what formulas are made of.
DECIDES = ("core/reading/", "core/formulas/", "core/schemes/", "core/policy/cohort_tables.py")


def test_salt_and_fitting_formulas_are_decided_in_one_place() -> None:
    """No module outside the reading asks whether a text can be a formula's, or what its salt is.

    Two places that decide will differ, and the difference is a lockout.
    """
    root = Path(__file__).parent.parent / "src" / "lean_tumbler"
    found = []
    for path in sorted(root.rglob("*.py")):
        name = path.relative_to(root).as_posix()
        if not name.startswith(DECIDES):
            nodes = ast.walk(ast.parse(path.read_text("utf-8")))
            found += [f"{name}: {what}" for node in nodes for what in _decides(node)]
    # The audit guesses unsalted digests by the formulas that layouts name; it decides about none.
    # A written check is read again as its file reads, and held row by row against the one reading;
    # its test rows are made, not read.
    assert set(found) <= {
        "core/audit/digest_guesses.py: contents.formulas",
        "core/embedding/interpreting.py: contents.formulas",
        "core/embedding/own_layouts.py: contents.formulas",
        "core/embedding/vectors.py: canonical()",
    }


def _decides(node: ast.AST) -> Iterator[str]:
    """Say what a node decides that the reading alone should."""
    if isinstance(node, ast.Call) and isinstance(node.func, ast.Attribute):
        if node.func.attr in {"canonical", "formula_text", "fits"}:
            yield f"{node.func.attr}()"
    elif isinstance(node, ast.Attribute) and node.attr == "formulas":
        if ast.unparse(node.value).endswith("contents"):
            yield "contents.formulas"
    elif isinstance(node, ast.BoolOp | ast.IfExp):
        text = ast.unparse(node)
        if "parsed.salt" in text and "row.salt" in text:
            yield text
