"""The notation and its evaluation."""

import hashlib
import hmac
import re
from base64 import b64encode, urlsafe_b64encode
from pathlib import Path

import pytest
from hypothesis import example, given, settings
from hypothesis import strategies as st

from lean_tumbler.core.formulas import notation
from lean_tumbler.core.formulas.analysis import lossy, work
from lean_tumbler.core.formulas.evaluation import Inputs, evaluate, input_of
from lean_tumbler.core.formulas.near_misses import near_miss
from lean_tumbler.core.formulas.output import output_shape
from lean_tumbler.core.formulas.steps import (
    DIGESTS,
    ENCODINGS,
    FILTERS,
    PBKDF2_DIGESTS,
    TEXT_ENCODINGS,
    TEXT_STEPS,
    Cut,
    Digest,
    Encode,
    Flow,
    Formula,
    Hmac,
    Input,
    Join,
    Key,
    Loop,
    Operand,
    Pbkdf2,
    Rewrite,
    Side,
    Step,
    Take,
    Write,
)
from lean_tumbler.errors import FormulaError, InputDoesNotFit, KeyMissing, OverLimit

PASSWORD, SALT, LOGIN = "Möwe 'n\" <Tern>", b"0a1B ", "Ada.Hawserholt"
INPUTS = Inputs(password=PASSWORD, salt=SALT, login=LOGIN, keys={"pepper": b"\x01\x02"})


def md5(data: bytes) -> bytes:
    return hashlib.md5(data).digest()


def sha1(data: bytes) -> bytes:
    return hashlib.sha1(data).digest()


def _stretched() -> str:
    raw = hashlib.sha256(SALT + PASSWORD.encode()).digest()
    for _ in range(999):
        raw = hashlib.sha256(raw + SALT).digest()
    return raw.hex()


UTF8 = PASSWORD.encode()


@pytest.mark.parametrize(
    ("text", "expected"),
    [
        ("utf-8, append salt, sha1, hex", sha1(UTF8 + SALT).hex()),
        ("utf-8, prepend salt, sha1, hex-upper", sha1(SALT + UTF8).hex().upper()),
        ("utf-8, surround salt, md5, hex", md5(SALT + UTF8 + SALT).hex()),
        (
            "utf-8, md5, hex, append salt, md5, hex",
            md5(md5(UTF8).hex().encode() + SALT).hex(),
        ),
        (
            "utf-16le, prepend 0x00ff, sha512, base64",
            b64encode(hashlib.sha512(b"\x00\xff" + PASSWORD.encode("utf-16-le")).digest()).decode(),
        ),
        (
            "utf-8, prepend salt, sha256, 999 times (append salt, sha256), hex",
            _stretched(),
        ),
        (
            "utf-8, md5, hex, prepend (take salt, md5, hex), md5, hex",
            md5((md5(SALT).hex() + md5(UTF8).hex()).encode()).hex(),
        ),
        ("latin-1, md5, hex", md5(PASSWORD.encode("latin-1")).hex()),
        ("windows-1252, md5, hex", md5(PASSWORD.encode("cp1252")).hex()),
        ("lower, md5, hex", md5(PASSWORD.lower().encode()).hex()),
        ("upper, md5, hex", md5(PASSWORD.upper().encode()).hex()),
        ("nfd, md5, hex", md5("Mo\u0308we 'n\" <Tern>".encode()).hex()),
        ("first 3, md5, hex", md5("Möw".encode()).hex()),
        ("utf-8, sha1, first 5, hex", sha1(UTF8)[:5].hex()),
        ("sha1, hex, first 30", sha1(UTF8).hex()[:30]),
        ("md5, base64-unpadded", b64encode(md5(UTF8)).decode().rstrip("=")),
        ("append salt:trim, md5, hex", md5(UTF8 + b"0a1B").hex()),
        ("append salt:trim:unhex, md5, hex", md5(UTF8 + b"\x0a\x1b").hex()),
        ("append salt:hex, md5, hex", md5(UTF8 + SALT.hex().encode()).hex()),
        ("prepend login:lower, md5, hex", md5(LOGIN.lower().encode() + UTF8).hex()),
        ('append "-:ö\\n", md5, hex', md5(UTF8 + "-:ö\n".encode()).hex()),
        ("append password, md5, hex", md5(UTF8 + UTF8).hex()),
        ("escape-quotes, md5, hex", md5("Möwe \\'n\\\" <Tern>".encode()).hex()),
        ("escape-html, md5, hex", md5("Möwe 'n&quot; &lt;Tern&gt;".encode()).hex()),
        ("take login, append password, md5, hex", md5(LOGIN.encode() + UTF8).hex()),
        ("utf-8, hmac-sha256 salt, hex", hmac.new(SALT, UTF8, "sha256").hexdigest()),
        ("utf-8, hmac-sha1 key pepper, hex", hmac.new(b"\x01\x02", UTF8, "sha1").hexdigest()),
        (
            "utf-8, pbkdf2-sha1 10 25 salt, hex",
            hashlib.pbkdf2_hmac("sha1", UTF8, SALT, 10, 25).hex(),
        ),
        # RFC 1320 A.5 and the RIPEMD-160 authors' page: digests of "abc".
        ('take "abc", md4, hex', "a448017aaf21d8525fc10ae87aa6729d"),
        ('take "abc", ripemd160, hex', "8eb208f7e05d987a9b044a8e98c6b087f15a0bfc"),
        # FIPS 180-4's and FIPS 202's examples, and RFC 7693 appendix B.
        ('take "abc", sha512-224, hex', "4634270f707b6a54daae7530460842e20e37ed265ceee9a43e8924aa"),
        (
            'take "abc", sha512-256, hex',
            "53048e2681941ef99b2e29b76b4c7dabe4c2d0c634fc6d46e0e2f13107e7af23",
        ),
        ('take "abc", sha3-224, hex', "e642824c3f8cf24ad09234ee7d3c766fc9a3a5168d0c94ad73b46fdf"),
        ('take "abc", sha3-384, hex', hashlib.sha3_384(b"abc").hexdigest()),
        (
            'take "abc", blake2s, hex',
            "508c5e8c327c14e2e1a72ba34eeb452f37458b209ed63a294d999b4c86675982",
        ),
        ("sha256, base64url", urlsafe_b64encode(hashlib.sha256(UTF8).digest()).decode()),
        ("md5, base64url-unpadded", urlsafe_b64encode(md5(UTF8)).decode().rstrip("=")),
        ("reverse, md5, hex", md5(PASSWORD[::-1].encode()).hex()),
        ("md5, hex, reverse", md5(UTF8).hex()[::-1]),
        ("sha1, hex, slice 8 24", sha1(UTF8).hex()[8:24]),
        ("sha1, slice 2 7, hex", sha1(UTF8)[2:7].hex()),
        ("slice 0 3, md5, hex", md5("Möw".encode()).hex()),
        ("append salt:slice 1 3, md5, hex", md5(UTF8 + SALT[1:3]).hex()),
        (
            "append salt:hex:slice 2 4:upper, md5, hex",
            md5(UTF8 + SALT.hex()[2:4].upper().encode()).hex(),
        ),
        ("append password:length, md5, hex", md5(UTF8 + str(len(PASSWORD)).encode()).hex()),
        ("double-utf-8, md5, hex", md5(UTF8.decode("latin-1").encode()).hex()),
    ],
)
def test_evaluation_agrees_with_the_same_written_by_hand(text: str, expected: str) -> None:
    """Each kind of step computes what it says, and its canonical text computes the same."""
    formula = notation.parse(text)
    assert evaluate(formula, INPUTS) == expected
    assert evaluate(notation.parse(notation.write(formula)), INPUTS) == expected


def test_hmac_without_the_standard_library_agrees_with_openssl() -> None:
    """HMAC over a digest that hashlib may lack follows RFC 2104: RFC 2286's second vector."""
    formula = notation.parse('take "what do ya want for nothing?", hmac-ripemd160 "Jefe", hex')
    assert evaluate(formula, INPUTS) == "dda6c0213a485a9e24f4742064a7f033b43c4069"


@pytest.mark.parametrize(
    ("text", "canonical"),
    [
        ("md5,hex", "utf-8, md5, hex"),
        ("md5, hex, utf-8, md5, hex", "utf-8, md5, hex, md5, hex"),
        ("append salt, sha1, hex", "append salt, utf-8, sha1, hex"),
        (
            "md5, hex, prepend (take salt, utf-8, md5, hex), md5, hex",
            "utf-8, md5, hex, prepend (take salt, md5, hex), md5, hex",
        ),
        ('append 0xAB, append "\\u00f6", md5, hex', 'append 0xab, append "ö", md5, hex'),
        ("3 times(md5,hex)", "3 times (utf-8, md5, hex)"),
        ("  utf-8 ,  sha1 , hex ", "utf-8, sha1, hex"),
    ],
)
def test_canonical_text(text: str, canonical: str) -> None:
    """Spelling variants of one formula print alike, so that they have one fingerprint."""
    assert notation.write(notation.parse(text)) == canonical


def test_fingerprint_is_the_start_of_sha256_of_the_canonical_text() -> None:
    """The fingerprint can be computed by anybody with the canonical text."""
    expected = hashlib.sha256(b"utf-8, append salt, sha1, hex").hexdigest()[:16]
    spelled = notation.parse("utf-8 , append salt,sha1,hex")
    assert notation.fingerprint(spelled) == expected


@pytest.mark.parametrize(
    ("text", "offset", "expected"),
    [
        ("", 0, "a step"),
        ("utf-8, sha", 7, "a step"),
        ("utf-8, md5", 10, "ends in bytes"),
        ("hex", 0, "takes bytes"),
        ("utf-8, utf-8", 7, "takes text"),
        ("md5, hex sha1", 9, "“,” or the end"),
        ("append", 6, "salt, login, password"),
        ("append sallt, md5, hex", 7, "did you mean “salt”?"),
        ("append md5, md5, hex", 7, "salt, login, password"),
        ("rounds time (md5, hex)", 0, "a step"),
        ("utf-8, pbkdf2-sha1 0 20 salt, hex", 19, "or the name of a part"),
        ("append 0xabc, md5, hex", 7, "0x"),
        ('append "\\q", md5, hex', 7, "JSON escapes"),
        ('append "\\ud800", md5, hex', 7, "JSON escapes"),
        ('append "open', 7, "no step begins with"),
        ("append salt:rot13, md5, hex", 12, "a filter"),
        ("append salt:unhex:trim, md5, hex", 18, "takes bytes"),
        ("append key, md5, hex", 10, "the name of a key"),
        ("0 times (md5, hex)", 0, "a count"),
        ("3 times md5", 8, "“(”"),
        ("3 times (md5), hex", 0, "give back the type"),
        ("3 md5", 2, "“times”"),
        ("first 0, md5, hex", 6, "a length"),
        ("slice 4, md5, hex", 7, "where it ends"),
        ("slice 4 4, md5, hex", 8, "an end behind the beginning"),
        ("append salt:slice 0 99999999999, md5, hex", 20, "where it ends"),
        ("hmac-md6 salt, hex", 0, "a digest after “hmac-”"),
        ("pbkdf2-sha1 10 salt, hex", 15, "the length in bytes"),
        ("pbkdf2-sha1 99999999999 20 salt, hex", 12, "the rounds"),
        ("utf-8; md5", 5, "no step begins with"),
        ("(" * 3, 0, "a step"),
        ("append " + "(append " * 20 + "salt" + ")" * 20 + ", md5, hex", 135, "brackets"),
        ("a" * 20_000, 10_000, "at most"),
    ],
)
def test_a_syntax_error_names_its_position(text: str, offset: int, expected: str) -> None:
    """The message says where and what was expected."""
    with pytest.raises(FormulaError) as caught:
        notation.parse(text)
    assert caught.value.offset == offset
    assert expected in str(caught.value)
    assert f"position {offset + 1}" in str(caught.value)


@pytest.mark.parametrize(
    ("text", "inputs", "error"),
    [
        ("append salt, md5, hex", Inputs(password="x"), InputDoesNotFit),
        ("append login, md5, hex", Inputs(password="x"), InputDoesNotFit),
        ("append salt:unhex, md5, hex", Inputs(password="x", salt=b"xyz"), InputDoesNotFit),
        ("append salt:unbase64, md5, hex", Inputs(password="x", salt=b"\xff"), InputDoesNotFit),
        ("append salt, md5, hex", Inputs(password="x", salt=b"\xff"), InputDoesNotFit),
        ("latin-1, md5, hex", Inputs(password="зимородок"), InputDoesNotFit),
        ("utf-8, md5, hex", Inputs(password="\ud800"), InputDoesNotFit),
        ("append key pepper, md5, hex", Inputs(password="x"), KeyMissing),
        ("6000000 times (upper), md5, hex", Inputs(password="x"), OverLimit),
        ("3000 times (3000 times (md5, hex))", Inputs(password="x"), OverLimit),
        ("pbkdf2-md5 99999999 20 salt, hex", Inputs(password="x", salt=b"s"), OverLimit),
        ("9999 times (append password), md5, hex", Inputs(password="x" * 500), OverLimit),
    ],
)
def test_what_an_evaluation_refuses(text: str, inputs: Inputs, error: type[Exception]) -> None:
    """Missing inputs, misfitting characters and excessive work are refused, the value unnamed."""
    with pytest.raises(error) as caught:
        evaluate(notation.parse(text), inputs)
    assert inputs.password not in str(caught.value) or inputs.password == "x"


def test_bytes_salt_joins_bytes_as_it_is() -> None:
    """A salt column of raw bytes goes in unchanged where bytes flow."""
    formula = notation.parse("utf-8, append salt, md5, hex")
    assert evaluate(formula, Inputs(password="x", salt=b"\xff\x00")) == md5(b"x\xff\x00").hex()


@pytest.mark.parametrize(
    ("text", "narrowed"),
    [
        ("utf-8, md5, hex", ()),
        ("lower, md5, hex", ("lower",)),
        ("trim, first 8, md5, hex", ("trim", "first 8")),
        ("utf-8, first 8, md5, hex", ("first 8",)),
        ("slice 2 9, md5, hex", ("slice 2",)),
        ("length, md5, hex", ("length",)),
        ("reverse, md5, hex, slice 2 9", ()),
        ("md5, hex, upper, md5, hex, first 20", ()),
        ("take salt, trim, append password, md5, hex", ()),
        ("take salt, append password:lower, md5, hex", ("lower",)),
        ("take salt, append (upper), md5, hex", ("upper",)),
        ("md5, hex, append (take login, lower, md5, hex), md5, hex", ()),
    ],
)
def test_lossy_formulas_are_recognised(text: str, narrowed: tuple[str, ...]) -> None:
    """A formula is lossy only where the password itself is narrowed before a digest."""
    assert lossy(notation.parse(text)) == narrowed


@pytest.mark.parametrize(
    ("text", "stored", "canonical"),
    [
        ("md5, hex", " 5F4DCC3B5AA765D61D8327DEB882CF99\n", "5f4dcc3b5aa765d61d8327deb882cf99"),
        ("md5, hex-upper", "5f4dcc3b5aa765d61d8327deb882cf99", "5f4dcc3b5aa765d61d8327deb882cf99"),
        ("md5, base64", "X03MO1qnZdYdgyfeuILPmQ", "X03MO1qnZdYdgyfeuILPmQ=="),
        ("md5, base64-unpadded", "X03MO1qnZdYdgyfeuILPmQ==", "X03MO1qnZdYdgyfeuILPmQ=="),
        ("md5, hex", "5f4dcc3b5aa765d61d8327deb882cf9", None),
        ("md5, hex", "zf4dcc3b5aa765d61d8327deb882cf99", None),
        ("sha1, hex, first 8", "5f4DCC3b ", "5f4dcc3b"),
        ('md5, hex, first 4, prepend "v1:"', " v1:5F4D", "v1:5f4d"),
        ('md5, hex, append ":", append salt', "5F4DCC3B5AA765D61D8327DEB882CF99:Ab", "5f4dcc3b5aa765d61d8327deb882cf99:Ab"),
        ('md5, hex, append ":", append salt', "a plain text", None),
        ("md5, base64, first 10", "X03MO1qnZd", "X03MO1qnZd"),
        ("md5, base64url", "X03MO1qnZdYdgyfeuIL_mQ", "X03MO1qnZdYdgyfeuIL_mQ=="),
        ("md5, base64url", "X03MO1qnZdYdgyfeuIL/mQ", None),
        ("md5, hex, slice 8 16", "5F4DCC3B", "5f4dcc3b"),
        ("md5, hex, reverse", "5F4DCC3B5AA765D61D8327DEB882CF99", "5f4dcc3b5aa765d61d8327deb882cf99"),
        ('md5, hex, prepend "v1:", slice 2 7', ":5F4D", ":5f4d"),
    ],
)  # fmt: skip
def test_stored_text_is_brought_into_canonical_form(
    text: str, stored: str, canonical: str | None
) -> None:
    """Blanks, letter case and padding do not count; another length or alphabet does not fit."""
    assert output_shape(notation.parse(text)).canonical(stored) == canonical


@pytest.mark.parametrize(
    ("formula", "made_by", "expected"),
    [
        ("append salt, md5, hex", "prepend salt, md5, hex", "the salt before instead of after"),
        ("utf-8, md5, hex", "latin-1, md5, hex", "latin-1 instead of utf-8"),
        ("append salt, md5, hex", "append salt:trim, md5, hex", "the salt without blanks"),
        ("utf-8, md5, hex", "lower, md5, hex", "the password in lower case"),
        ("md5, hex, sha1, hex", "md5, hex-upper, sha1, hex", "hex-upper between the rounds"),
    ],
)
def test_near_misses_name_the_one_thing_that_differs(
    formula: str, made_by: str, expected: str
) -> None:
    """A formula that is one change away is told what the change is."""
    stored = evaluate(notation.parse(made_by), INPUTS)
    assert expected in near_miss(notation.parse(formula), stored, INPUTS)


# Random formulas: only well-typed ones, built step by step along the flow.
_literal = st.text(st.characters(codec="utf-8"), max_size=5) | st.binary(min_size=1, max_size=4)


@st.composite
def operands(draw: st.DrawFn, depth: int) -> Operand:
    source = draw(
        st.sampled_from(Input)
        | st.builds(Key, st.from_regex(r"[a-z][a-z0-9_-]{0,8}", fullmatch=True))
        | _literal
        | (formulas(depth - 1, None) if depth else st.nothing())
    )
    flow = Operand(source).flow
    names = []
    for _ in range(draw(st.integers(0, 2))):
        if draw(st.booleans()):
            start = draw(st.integers(0, 9))
            names.append(f"slice {start} {start + draw(st.integers(1, 9))}")
            continue
        fitting = sorted(name for name, (takes, _) in FILTERS.items() if takes is flow)
        names.append(draw(st.sampled_from(fitting)))
        flow = FILTERS[names[-1]][1]
    return Operand(source, tuple(names))


@st.composite
def step_lists(draw: st.DrawFn, depth: int, flow: Flow, end: Flow | None) -> tuple[Step, ...]:
    steps: list[Step] = []
    for _ in range(draw(st.integers(1, 4))):
        options: list[st.SearchStrategy[Step]] = [
            st.builds(Cut, st.integers(1, 99), st.integers(0, 9)),
            st.builds(Join, st.sampled_from(Side), operands(depth)),
            st.builds(Take, operands(depth)),
            st.builds(Digest, st.sampled_from(sorted(DIGESTS))),
            st.builds(Hmac, st.sampled_from(sorted(DIGESTS)), operands(depth)),
            st.builds(
                Pbkdf2,
                st.sampled_from(PBKDF2_DIGESTS),
                st.integers(1, 9),
                st.integers(1, 64),
                operands(depth),
            ),
        ]
        if flow is Flow.TEXT:
            options.append(st.builds(Rewrite, st.sampled_from(sorted(TEXT_STEPS))))
            options.append(st.builds(Encode, st.sampled_from(sorted(ENCODINGS))))
        else:
            options.append(st.builds(Write, st.sampled_from(sorted(TEXT_ENCODINGS))))
        if depth:
            body = step_lists(depth - 1, flow, flow)
            options.append(st.builds(Loop, st.integers(1, 5), body))
        step = draw(st.one_of(options))
        if isinstance(step, Digest | Hmac | Pbkdf2) and steps and steps[-1] == Encode("utf-8"):
            steps.pop()  # redundant, and so not part of a parsed formula
        steps.append(step)
        flow = notation.flow_after(step, flow)
    if end is Flow.TEXT and flow is Flow.BYTES:
        steps.append(Write("hex"))
    elif end is Flow.BYTES and flow is Flow.TEXT:
        steps.append(Encode("latin-1"))
    return tuple(steps)


@st.composite
def formulas(draw: st.DrawFn, depth: int = 2, end: Flow | None = Flow.TEXT) -> Formula:
    steps = draw(step_lists(depth, Flow.TEXT, end))
    flow = Flow.TEXT
    for step in steps:
        flow = notation.flow_after(step, flow)
    return Formula(steps, flow)


@settings(max_examples=100)
@given(formulas())
def test_printed_formulas_parse_to_themselves(formula: Formula) -> None:
    """The canonical text of every formula parses back to it, and prints the same again."""
    text = notation.write(formula)
    assert notation.parse(text) == formula
    assert notation.write(notation.parse(text)) == text


@example(notation.parse('sha1, append "ö", hex'), "", None)
@example(notation.parse("sha1, append password, hex"), "", None)
@example(notation.parse("sha1, base64, utf-16le, hex"), "", None)
@given(formulas(depth=1), st.text(max_size=20), st.binary(max_size=9) | st.none())
def test_evaluation_ends_within_its_bounds(
    formula: Formula, password: str, salt: bytes | None
) -> None:
    """Any formula on any input gives text of its predicted shape and form, or a known refusal."""
    try:
        result = evaluate(
            formula, Inputs(password=password, salt=salt, login="ada"), limit_work=2_000
        )
    except (InputDoesNotFit, KeyMissing):
        return
    except OverLimit:
        assert work(formula) > 2_000
        return
    shape = output_shape(formula)
    if shape.is_fixed and shape.length is not None:
        assert len(result) == shape.length
    if result == result.strip() and result:
        canonical = shape.canonical(result)
        assert canonical is not None
        assert shape.canonical(canonical) == canonical


@given(st.text(max_size=60) | st.from_regex(r"[a-z0-9 ,()\":-]{0,60}", fullmatch=True))
def test_any_text_parses_or_is_refused_with_a_position(text: str) -> None:
    """No text makes the parser raise anything but its own error."""
    try:
        assert notation.parse(text).flow is Flow.TEXT
    except FormulaError as error:
        offset = error.offset
    else:
        return
    assert 0 <= offset <= len(text)


def test_the_documents_examples_are_formulas() -> None:
    """What docs/FORMULAS.md and docs/POLICY.md show in the notation parses, and is canonical text."""
    root = Path(__file__).parent.parent
    shown = []
    for name in ("docs/FORMULAS.md", "docs/POLICY.md"):
        text = (root / name).read_text("utf-8")
        shown += re.findall(r"^    ((?:utf|latin|windows)-?[^\n]*)$", text, re.MULTILINE)
        shown += re.findall(r"`((?:utf-|latin-|windows-)[^`]*, [^`]*)`", text)
    assert len(shown) >= 6
    for text in shown:
        assert notation.write(notation.parse(text)) == text


def test_a_row_s_own_numbers_are_bounded_before_a_slow_scheme_too() -> None:
    """A formula that goes on into a slow scheme runs no more steps than one that prints."""
    formula = notation.parse("utf-8, rounds times (md5), hex")
    inputs = Inputs(password="Dunlin 42", parts={"rounds": b"200000"})
    with pytest.raises(OverLimit):
        input_of(formula, inputs, limit_work=1000, limit_bytes=1000)
