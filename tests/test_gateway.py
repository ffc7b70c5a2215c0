"""The decision at login, layered values and the policy, through the public library."""

import hashlib
import inspect
import json
import os
import re
import time
from base64 import b64decode
from contextlib import suppress
from pathlib import Path

import pytest
from hypothesis import given
from hypothesis import strategies as st

import lean_tumbler
from conftest import CHEAP_POLICY, OPENABLE, planned, stored_value
from lean_tumbler import CredentialGateway, Outcome, StoragePolicy, errors
from lean_tumbler.core.login.sharing import in_share
from lean_tumbler.core.reasons import Reason
from lean_tumbler.core.row_plans import derived, task_of
from lean_tumbler.core.schemes import layered
from lean_tumbler.core.schemes.catalogue import read_value
from lean_tumbler.errors import CheckImpossible, PasswordRefused, PolicyError, UsageError

POLICY = StoragePolicy.from_toml(CHEAP_POLICY)
GATEWAY = CredentialGateway(POLICY)
PASSWORD = "Möwe 77 harbour"


def layer(stored: str, salt: str | None, policy: StoragePolicy = POLICY) -> str:
    """Layer one value as the bulk step does."""
    plan = planned(stored.encode(), salt.encode() if salt else None, policy=policy)
    assert plan.leave is None
    return derived(task_of(plan, policy.target, os.urandom))


def admit(stored: str | None, password: str, salt: str | None = None) -> Outcome:
    return GATEWAY.admit(store="passengers", stored=stored, password=password, salt=salt)


@pytest.mark.parametrize("cohort", OPENABLE)
@pytest.mark.parametrize("layered_first", [False, True])
def test_every_cohort_is_admitted_and_upgraded(cohort: str, layered_first: bool) -> None:
    """The right password opens, a wrong one does not; the new value is current and opens too."""
    stored, salt = stored_value(cohort, PASSWORD, 5)
    assert stored is not None
    if layered_first and cohort != "current":
        stored = layer(stored, salt)
    assert not admit(stored, "wrong " + PASSWORD, salt).admitted
    outcome = admit(stored, PASSWORD, salt)
    assert outcome.admitted
    if cohort == "current" or (cohort == "plain" and layered_first):
        assert (outcome.action, outcome.new_value) == ("none", None)
        return
    assert outcome.action == ("layer-removed" if layered_first else "upgraded")
    assert outcome.new_value is not None
    assert read_value(outcome.new_value).parameters == POLICY.target.parameters
    again = admit(outcome.new_value, PASSWORD)
    assert (again.admitted, again.action) == (True, "none")


@pytest.mark.parametrize("stored", [None, "", "!", "*", "$2b$99$malformed", "$9$unknown$scheme"])
def test_what_no_password_opens(stored: str | None) -> None:
    """Unknown logins, empty, locked and malformed values give one and the same answer."""
    for password in (PASSWORD, stored or "x", "!"):
        outcome = admit(stored, password)
        assert (outcome.admitted, outcome.action, outcome.new_value) == (False, "none", None)
        assert (outcome.from_scheme, outcome.to_scheme) == (None, None)


@pytest.mark.parametrize(
    "password", ["", "x" * 1025, "\ud800", "ö" * 600, "\0"], ids=["empty", "long", "lone", "ö", "0"]
)
def test_passwords_that_cannot_be_checked_are_refused(password: str) -> None:
    """Empty, over-long and impossible passwords are an answer of no, not an error."""
    assert not admit(stored_value("md5", PASSWORD, 1)[0], password).admitted


def test_a_stored_digest_is_not_a_password() -> None:
    """Typing what is stored opens nothing, before layering and after."""
    digest, _ = stored_value("md5", PASSWORD, 1)
    assert digest is not None
    over = layer(digest, None)
    formula = POLICY.stores["passengers"].cohorts[0].formula
    assert formula is not None
    secret = layered.Head(origin=formula.fingerprint).secret(digest).decode()
    for typed in (digest, secret):
        assert not admit(digest, typed).admitted
        assert not admit(over, typed).admitted
    # The head lost, the label still keeps the digest from being a password.
    assert not admit(over[over.index("$argon2id") :], digest).admitted


@pytest.mark.parametrize("typed", ["Mo\u0308we an Bord", "M\u00f6we an Bord"])
@pytest.mark.parametrize("stored_form", ["Mo\u0308we an Bord", "M\u00f6we an Bord"])
def test_unicode_forms_of_one_password_are_one(typed: str, stored_form: str) -> None:
    """A password typed on a keyboard that composes accents differently still opens."""
    assert admit(hashlib.md5(stored_form.encode()).hexdigest(), typed).admitted
    assert admit(GATEWAY.hash(password=stored_form), typed).admitted


def test_a_lossy_formula_stays_unless_the_policy_replaces_it() -> None:
    """Where other accepted forms exist, the value is kept: replacing it would lock them out."""
    lossy = CHEAP_POLICY.replace("utf-8, md5, hex", "lower, md5, hex")
    digest = hashlib.md5(b"gannet").hexdigest()
    for text, actions in (
        (lossy, ["none", "none"]),
        (lossy.replace("readers_ready", "replace_lossy = true\nreaders_ready"),
         ["upgraded", "layer-removed"]),
    ):  # fmt: skip
        policy = StoragePolicy.from_toml(text)
        gateway = CredentialGateway(policy)
        for stored, action in zip([digest, layer(digest, None, policy)], actions, strict=True):
            outcome = gateway.admit(store="passengers", stored=stored, password="GanNet")
            assert (outcome.admitted, outcome.action) == (True, action)


@pytest.mark.parametrize(
    ("old", "new"), [("mode", 'mode = "observe"'), ("share", 'share = "0%"')], ids=["mode", "share"]
)
def test_observing_and_an_empty_share_write_nothing(old: str, new: str) -> None:
    """The answer stays right; only the upgrade is left out."""
    assert old not in CHEAP_POLICY
    policy = StoragePolicy.from_toml(CHEAP_POLICY.replace("readers_ready", f"{new}\nreaders_ready"))
    outcome = CredentialGateway(policy).admit(
        store="passengers", stored=stored_value("md5", "x", 1)[0], password="x", login="ada"
    )
    assert (outcome.admitted, outcome.action, outcome.new_value) == (True, "none", None)


@given(st.binary(max_size=20), st.floats(0, 1), st.floats(0, 1))
def test_shares_are_stable_and_nested(reference: bytes, one: float, other: float) -> None:
    """A larger share contains the smaller one; all and nothing are exact."""
    small, large = sorted((one, other))
    assert in_share(reference, large) or not in_share(reference, small)
    assert in_share(reference, 1.0)
    assert not in_share(reference, 0.0)


def test_a_missing_formula_is_an_error_and_not_a_wrong_password() -> None:
    """Without the formula that a layered value refers to, nobody is told that they mistyped."""
    policy = StoragePolicy.from_toml(CHEAP_POLICY.replace("md5, hex", "md5, md5, hex"))
    digest = hashlib.md5(hashlib.md5(PASSWORD.encode()).digest()).hexdigest()
    over = layer(digest, None, policy)
    with pytest.raises(CheckImpossible, match="which the policy lacks"):
        CredentialGateway(StoragePolicy()).admit(stored=over, password=PASSWORD)


def test_values_above_the_limits_are_refused_without_running() -> None:
    """A planted value that asks for 4 GiB is answered with no."""
    planted = "$argon2id$v=19$m=4194304,t=1,p=1$c2FsdHNhbHQ$ZGlnZXN0ZGlnZXN0"
    outcome = admit(planted, PASSWORD)
    assert (outcome.admitted, outcome.refusal) == (False, "over-limit")
    below = "$over$from=scrypt,salt=JHNjcnlwdCRsbj0zMCxyPTgscD0xJGMyRnNkQSQzMg"
    assert admit(below + planted.replace("4194304", "256"), PASSWORD).refusal == "over-limit"


@pytest.mark.parametrize("password", ["", "x" * 1025, "a\0b", "\ud800"])
def test_passwords_that_may_not_be_stored(password: str) -> None:
    """A refusal says why, and never what was typed."""
    with pytest.raises(PasswordRefused) as caught:
        GATEWAY.hash(password=password)
    assert not password or password not in str(caught.value)


@pytest.mark.parametrize(
    ("password", "login", "reasons"),
    [
        ("gull", None, ["too-short"]),
        ("Password2020", None, ["common"]),
        ("Hawserholt1988", "ada.hawserholt@coldharbour.example", ["like-the-login"]),
        ("gull on a mast", "ada", []),
    ],
)
def test_new_passwords_keep_the_rules(password: str, login: str | None, reasons: list[str]) -> None:
    """The library refuses what the service refuses, with the same reasons."""
    if not reasons:
        GATEWAY.hash(password=password, login=login)
        return
    with pytest.raises(PasswordRefused) as caught:
        GATEWAY.hash(password=password, login=login)
    assert caught.value.reasons == reasons


@pytest.mark.parametrize("character", ["-", "\ufdfa", "_1", "\u0301"])
def test_looking_at_a_new_password_takes_no_longer_than_it_is_long(character: str) -> None:
    """Endings and compatibility characters make no work that grows with the square."""
    policy = StoragePolicy.from_toml(
        "[limits]\npassword_bytes = 1000000\n[new_passwords]\nmax_length = 1000000"
    )
    gateway = CredentialGateway(policy)
    started = time.process_time()
    with suppress(PasswordRefused):
        gateway.require_usable(password="a" + character * 200_000 + "a", login="ada")
    assert time.process_time() - started < 20  # the square would take hours


def test_bcrypt_as_target_refuses_what_it_would_cut() -> None:
    """A new password above 72 bytes is refused with bcrypt; an old one is admitted and left."""
    policy = StoragePolicy.from_toml(
        '[target]\nscheme = "bcrypt"\ncost_log2 = 4\n[floor]\nbcrypt = { cost_log2 = 4 }'
    )
    gateway = CredentialGateway(policy)
    with pytest.raises(PasswordRefused, match="72 bytes"):
        gateway.hash(password="gull " * 14 + "mast")
    outcome = gateway.admit(stored=hashlib.md5(b"x" * 73).hexdigest(), password="x" * 73)
    assert (outcome.admitted, outcome.action) == (True, "none")
    assert gateway.hash(password="gull " * 14 + "ox").startswith("$2b$04$")


@pytest.mark.parametrize("scheme", ["scrypt", "pbkdf2-sha256", "pbkdf2-sha512"])
def test_other_targets_layer_and_remove(scheme: str) -> None:
    """Every scheme that may lie over a digest does so, and comes off again at login."""
    costs = {"scrypt": "cost_log2 = 4, block_size = 1, lanes = 1"}.get(scheme, "rounds = 10")
    target = f'scheme = "{scheme}"\n' + costs.replace(", ", "\n")
    text = re.sub(r"\[target\].*?\[store", f"[target]\n{target}\n[floor]\n{scheme} = {{ {costs} }}"
                  "\n[store", CHEAP_POLICY, flags=re.DOTALL)  # fmt: skip
    policy = StoragePolicy.from_toml(text)
    over = layer(stored_value("md5", PASSWORD, 1)[0] or "", None, policy)
    outcome = CredentialGateway(policy).admit(store="passengers", stored=over, password=PASSWORD)
    assert (outcome.action, outcome.to_scheme) == ("layer-removed", scheme)


@pytest.mark.parametrize(
    ("stored", "salt", "expected"),
    [
        (None, None, Reason.NO_VALUE),
        (b"", None, Reason.NO_VALUE),
        (b"\xff\xfe", None, Reason.NOT_UNDERSTOOD),
        (b"!", None, Reason.LOCKED),
        (b"$9$unknown$scheme", None, Reason.NOT_UNDERSTOOD),
        (hashlib.sha224(b"x").hexdigest().encode(), None, Reason.NO_COHORT),
        (hashlib.sha256(b"x").hexdigest().encode(), b"s", Reason.NO_COHORT),
        (b"aZ3kQ9mTx4LwE", b"s", Reason.MAY_BE_DIGEST),
    ],
)
def test_rows_that_bulk_layering_leaves(
    stored: bytes | None, salt: bytes | None, expected: Reason
) -> None:
    """A row that cannot be understood for certain is left as it is, with the reason."""
    assert planned(stored, salt, policy=POLICY).leave is expected


def test_a_row_that_two_formulas_fit_is_layered_for_both() -> None:
    """Both print the same digest, so the slow hash lies over it; a login settles which it was."""
    both = CHEAP_POLICY.replace("utf-8, append salt, sha1, hex", "utf-8, append salt, md5, hex")
    policy = StoragePolicy.from_toml(both)
    digest = hashlib.md5(b"x").hexdigest().encode()
    gateway = CredentialGateway(policy)
    plan = planned(digest, b"s", policy=policy)
    assert plan.cohort == "portal-2004+portal-2011"
    value = derived(task_of(plan, policy.target, os.urandom))
    for stored, typed in ((value, "x"), (layer(_salted("y", "s"), "s", policy), "y")):
        outcome = gateway.admit(store="passengers", stored=stored, password=typed)
        assert (outcome.admitted, outcome.action) == (True, "layer-removed")
        assert not gateway.admit(store="passengers", stored=stored, password="z").admitted


def _salted(password: str, salt: str) -> str:
    return hashlib.md5((password + salt).encode()).hexdigest()


def _decoded(text: str) -> bytes:
    return b64decode(text + "=" * (-len(text) % 4))


def test_format_vectors_hold_for_an_independent_reader() -> None:
    """docs/FORMATS.md's vectors are accepted by twenty lines that share no code with the tool."""
    text = (Path(__file__).parent.parent / "docs" / "FORMATS.md").read_text("utf-8")
    vectors = json.loads(re.findall(r"```json\n(.*?)```", text, flags=re.DOTALL)[0])
    assert len(vectors) >= 4
    for vector in vectors:
        head, scheme, rest = re.fullmatch(
            r"\$over\$([^$]*)\$(scrypt|pbkdf2-sha256)\$(.*)", vector["stored"]
        ).groups()  # type: ignore[union-attr] # a vector that does not match fails the test
        fields = dict(part.split("=", 1) for part in head.split(","))
        salt = _decoded(fields.get("salt", ""))
        password = vector["password"].encode()
        legacy = {
            "utf-8, md5, hex": hashlib.md5(password).hexdigest(),
            "utf-8, append salt, sha1, hex": hashlib.sha1(password + salt).hexdigest(),
            "utf-8, prepend login:lower, sha256, hex": hashlib.sha256(
                b"ada.hawserholt" + password
            ).hexdigest(),
        }[vector["formula"]]
        origin = hashlib.sha256(vector["formula"].encode()).hexdigest()[:16]
        assert fields["from"] == origin
        secret = f"over:{origin}:{legacy}".encode()
        costs, inner_salt, digest = rest.split("$")
        numbers = [int(number) for number in re.findall(r"=(\d+)", costs)]
        if scheme == "scrypt":
            raw = hashlib.scrypt(
                secret, salt=_decoded(inner_salt), n=2 ** numbers[0], r=numbers[1], p=numbers[2],
                dklen=len(_decoded(digest)),
            )  # fmt: skip
        else:
            raw = hashlib.pbkdf2_hmac(
                "sha256", secret, _decoded(inner_salt), numbers[0], len(_decoded(digest))
            )
        assert raw == _decoded(digest)


def test_format_vectors_hold_for_the_library() -> None:
    """The same vectors are admitted by the gateway, and refuse another password."""
    text = (Path(__file__).parent.parent / "docs" / "FORMATS.md").read_text("utf-8")
    for block in re.findall(r"```json\n(.*?)```", text, flags=re.DOTALL):
        for vector in json.loads(block):
            texts = vector.get("formulas") or [vector["formula"]]
            formulas = "".join(
                f'f{number} = "{text}"\n' for number, text in enumerate(filter(None, texts))
            )
            gateway = CredentialGateway(StoragePolicy.from_toml(f"[formulas]\n{formulas}"))
            right = gateway.admit(stored=vector["stored"], password=vector["password"])
            assert right.admitted
            assert not gateway.admit(stored=vector["stored"], password="wrong").admitted


def test_the_public_interface_is_what_all_names() -> None:
    """Three classes are public, and every error that their methods say they raise."""
    classes = (lean_tumbler.CredentialGateway, lean_tumbler.Outcome, lean_tumbler.StoragePolicy)
    documented = {
        match
        for each in classes
        for method in vars(each).values()
        for match in re.findall(r"^ +(\w+): ", (inspect.getdoc(method) or "").partition("Raises:")[2],
                                re.MULTILINE)
    }  # fmt: skip
    raised = {name for name in documented if hasattr(errors, name)}
    assert {"PasswordRefused", "CheckImpossible", "PolicyError"} <= raised
    assert raised <= set(lean_tumbler.__all__)
    for name in lean_tumbler.__all__:
        assert getattr(lean_tumbler, name).__name__ == name
    with pytest.raises(AttributeError):
        _ = lean_tumbler.anything_else


def test_arguments_are_by_keyword_only() -> None:
    """Password and stored value cannot be swapped by position."""
    with pytest.raises(TypeError):
        GATEWAY.admit("stored", "password")  # type: ignore[call-arg] # that is the point
    with pytest.raises(TypeError):
        GATEWAY.hash("password")  # type: ignore[call-arg] # that is the point


def test_an_unknown_store_is_named() -> None:
    """A misspelt store is a usage error that lists what there is."""
    with pytest.raises(UsageError, match="passengers"):
        GATEWAY.admit(store="passenger", stored="x", password="x")


@pytest.mark.parametrize(
    ("old", "new", "expected"),
    [
        ("memory_kib = 256\n", "memory_kb = 256\n", "[target] unknown key “memory_kb”; did you"),
        ("memory_kib = 256\n", "memory_kib = 255\n", "below the floor"),
        ("memory_kib = 256\n", 'memory_kib = "256"\n', "must be a whole number"),
        ("memory_kib = 256\n", "memory_kib = true\n", "must be a whole number"),
        ('scheme = "argon2id"', 'scheme = "argon3"', "unknown scheme “argon3”"),
        ("lanes = 1", "lanes = 0", "from 1 to"),
        ("[floor]\n", "[flor]\n", "unknown key “flor”; did you mean “floor”?"),
        ('stored = "pw"', 'store = "pw"', "did you mean “stored”?"),
        ('stored = "pw"\n', "", "“stored” is missing"),
        ('salt = "pw_salt"\n', "", "takes a salt"),
        ("utf-8, md5, hex", "utf-8, md5", "“portal-2004”: “formula”, position"),
        ("utf-8, md5, hex", "append key pepper, md5, hex", "needs the key “pepper”"),
        ("sqlite:///harbour.db", "postgresql://tumbler:s3cret@db/x", "holds a password"),
        ("plain_text = true", "plain_text = 1", "must be true, or"),
        ("readers_ready = 2026-01-01", 'readers_ready = "soon"', "must be a date"),
        ("readers_ready = 2026-01-01", 'share = "half"', "percentage"),
        ("readers_ready = 2026-01-01", 'mode = "watch"', "observe or upgrade"),
        ("[target]", "[target", "not valid TOML"),
        ("[floor]", "[limits]\npassword_bytes = 0\n[floor]", "must be 1 or more"),
    ],
)
def test_a_mistake_in_the_policy_is_named(old: str, new: str, expected: str) -> None:
    """The message names the table and the key, and the nearest that is known."""
    assert old in CHEAP_POLICY
    with pytest.raises(PolicyError) as caught:
        StoragePolicy.from_toml(CHEAP_POLICY.replace(old, new, 1), origin="tumbler.toml")
    assert expected in str(caught.value)
    assert str(caught.value).startswith("tumbler.toml:")
    assert "s3cret" not in str(caught.value)


def test_secrets_hide_in_what_is_printed_of_objects() -> None:
    """No repr of an outcome, a parsed value or a plan shows a value, a salt or a digest."""
    stored, salt = stored_value("sha1", PASSWORD, 3)
    assert stored is not None
    assert salt is not None
    outcome = admit(stored, PASSWORD, salt)
    plan = planned(stored.encode(), salt.encode(), policy=POLICY)
    shown = repr((outcome, plan, read_value(stored), read_value(outcome.new_value or "")))
    for secret in (stored, salt, PASSWORD, outcome.new_value or "?"):
        assert secret not in shown
