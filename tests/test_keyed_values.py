"""Values under a key that stands apart: what opens them, what does not, and what is said of it."""

import base64
import hashlib
import json
import os
import subprocess
from collections.abc import Callable
from pathlib import Path

import pytest
from hypothesis import given
from hypothesis import strategies as st

from conftest import CHEAP_POLICY, oracle
from lean_tumbler import CredentialGateway, KeyMissing, PolicyError, StoragePolicy, UsageError
from lean_tumbler.core.keyring import Closed, Keyring, OpenedValue, require_key
from lean_tumbler.core.login.outcome import Outcome
from lean_tumbler.core.policy import KeySource
from lean_tumbler.core.reading.rows import account_name
from lean_tumbler.core.schemes.catalogue import read_value
from lean_tumbler.core.schemes.keyed import Bound, characters
from lean_tumbler.errors import StoreUnavailable, TumblerError
from lean_tumbler.stores.key_helper import ANSWER_BYTES, key_from_helper
from lean_tumbler.stores.keys import read_keys

VECTORS = json.loads(Path(__file__).with_name("keyed_vectors.json").read_text("utf-8"))


OLD, NEW = bytes(range(128, 160)), bytes(range(160, 192))


PASSWORD = "Gannet 8110 tern"


KEYED = """
keyed_by = "pepper-2026"
realm = "coldharbour"
"""


KEYS = """
[keys]
pepper-2025 = { file = "pepper-2025.key", form = "base64" }
pepper-2026 = { file = "pepper-2026.key", form = "base64" }
"""


def policy_text(more: str = KEYED, keys: str = KEYS) -> str:
    return CHEAP_POLICY.replace("lanes = 1\n", f"lanes = 1\n{more}", 1) + keys


def gateway(more: str = KEYED, /, **keys: bytes) -> CredentialGateway:
    policy = StoragePolicy.from_toml(policy_text(more))
    named = {f"pepper-{name[1:]}": key for name, key in keys.items()}
    return CredentialGateway(policy, keys=named)


def sealed(text: str, *, by: str = "pepper-2026", key: bytes = NEW, account: str = "7") -> str:
    keyring = Keyring(realm="coldharbour", sealed_by=by, keys={by: key})
    return keyring.sealed(text, account=account, randomness=os.urandom)


def test_vectors_open_to_what_was_sealed() -> None:
    """Each opens with its key, realm and account alone, and the password opens what is within."""
    for vector in VECTORS:
        key = {
            name: base64.b64decode(vector["key"]) for name in ("pepper-2025", "pepper-2026", "k.1")
        }
        keyring = Keyring(realm=vector["realm"], keys=key)
        found = keyring.open(vector["stored"], account=vector["account"])
        assert isinstance(found, OpenedValue)
        assert found.text == vector["inner"]
        elsewhere = Keyring(realm="tidepost", keys=key).open(vector["stored"], account=None)
        assert elsewhere is Closed.KEY_WRONG
        formulas = f"[formulas]\nf = '{vector['formula']}'" if "formula" in vector else ""
        target = '[target]\nrealm = "coldharbour"\n'
        policy = StoragePolicy.from_toml(target + formulas).with_keys(key)
        outcome = CredentialGateway(policy).admit(
            stored=vector["stored"], password=vector["password"], account=vector["account"]
        )
        assert outcome.admitted


def test_node_opens_every_vector() -> None:
    """Its crypto module alone, by a script that shares no code; another account opens none."""
    script = Path(__file__).with_name("keyed_vectors.js")
    asked = subprocess.run(
        [oracle("node"), str(script), str(script.with_suffix(".json"))],
        capture_output=True, check=True, text=True,
    )  # fmt: skip
    assert int(asked.stdout) == len(VECTORS)


@given(
    st.text(st.characters(codec="utf-8"), max_size=300),
    st.text(st.characters(codec="utf-8"), max_size=40),
    st.text(st.characters(codec="utf-8"), max_size=40),
)
def test_what_is_sealed_opens_at_its_own_account_alone(text: str, account: str, other: str) -> None:
    """Whatever is sealed, for whatever account; the length is what the column was widened for."""
    text = "x" * 20 + text
    keyring = Keyring(realm="coldharbour", sealed_by="pepper-2026", keys={"pepper-2026": NEW})
    value = keyring.sealed(text, account=account, randomness=os.urandom)
    assert len(value) == characters(len(text.encode()), "pepper-2026")
    found = keyring.open(value, account=account)
    assert isinstance(found, OpenedValue)
    assert found.text == text
    if other != account:
        assert keyring.open(value, account=other) is Closed.MOVED


def test_no_flipped_bit_opens() -> None:
    """Each bit of a value is flipped: it is refused, or an error for the operator, never opened."""
    own = gateway(_2026=NEW)
    value = own.hash(password=PASSWORD, account="7")
    assert own.admit(stored=value, password=PASSWORD, account="7").admitted
    refused = errors = 0
    for place in range(8 * len(value)):
        raw = bytearray(value.encode())
        raw[place // 8] ^= 1 << (place % 8)
        try:
            outcome = own.admit(stored=bytes(raw), password=PASSWORD, account="7")
        except KeyMissing:
            errors += 1
            assert place // 8 < value.index("$", 8)  # of the head: another key is named
        else:
            refused += 1
            assert not outcome.admitted
    assert refused > errors > 0


def test_every_pair_of_rows_exchanged_is_refused() -> None:
    """A value copied to another row opens neither with its own password nor with the other's."""
    own = gateway(_2026=NEW)
    rows = {str(n): (f"Tern {n} flies", own.hash(password=f"Tern {n} flies", account=str(n)))
            for n in range(1, 9)}  # fmt: skip
    for account, (password, _) in rows.items():
        for other, (own_password, value) in rows.items():
            typed = {password, own_password}
            outcomes = [own.admit(stored=value, password=p, account=account) for p in typed]
            expected = {""} if account == other else {"moved-or-damaged"}
            assert {outcome.refusal for outcome in outcomes} == expected


def test_a_value_bound_to_the_realm_opens_at_every_row() -> None:
    """That is what the policy chose; it needs no account, and another realm is an error."""
    more = KEYED + 'bound_to = "realm"\n'
    value = gateway(more, _2026=NEW).hash(password=PASSWORD)
    for account in (None, "7", "8"):
        outcome = gateway(more, _2026=NEW).admit(stored=value, password=PASSWORD, account=account)
        assert outcome.admitted
    with pytest.raises(KeyMissing, match="the realm"):
        gateway(more.replace("coldharbour", "tidepost"), _2026=NEW).admit(
            stored=value, password=PASSWORD
        )


@pytest.mark.parametrize(
    ("keys", "said"),
    [
        ({}, "its key is not there"),
        ({"_2026": OLD}, "its key, or the realm, is another one"),
        ({"_2025": NEW}, "its key is not there"),
    ],
)
def test_a_missing_or_wrong_key_is_an_error_and_no_wrong_password(
    keys: dict[str, bytes], said: str
) -> None:
    """Right and wrong passwords get the same error, which names the key and never holds one."""
    value = gateway(_2026=NEW).hash(password=PASSWORD, account="7")
    for typed in (PASSWORD, "another one"):
        with pytest.raises(KeyMissing) as raised:
            gateway(KEYED, **keys).admit(stored=value, password=typed, account="7")
        assert said in str(raised.value)
        assert "pepper-2026" in str(raised.value)
        assert raised.value.http_status == 503


def test_a_key_that_somebody_thought_of_is_refused() -> None:
    """A passphrase is no key, whatever its length; the message says how to make one."""
    for raw in (b"correct", b"x" * 32, b"Gannet 8110 tern Gannet 8110 ter", bytes(31), bytes(33)):
        with pytest.raises(UsageError, match="--over-values` makes one") as raised:
            require_key("pepper-2026", raw)
        assert "Gannet" not in str(raised.value)
    assert require_key("pepper-2026", bytes(range(32))) == bytes(range(32))


def login(stored: str, more: str = KEYED, account: str | None = "7") -> Outcome:
    return gateway(more, _2025=OLD, _2026=NEW).admit(
        store="passengers", stored=stored, password=PASSWORD, account=account
    )


def direct(memory_kib: int = 256) -> str:
    more = CHEAP_POLICY.replace("memory_kib = 256", f"memory_kib = {memory_kib}")
    return CredentialGateway(StoragePolicy.from_toml(more)).hash(password=PASSWORD)


def is_under(value: str | None, key: str) -> bool:
    return value is not None and value.startswith(f"$keyed$by={key},")


def test_logins_put_values_under_the_key_of_new_values() -> None:
    """What is current goes under it as it is; what is weak is hashed anew; what is there stays."""
    current = direct()
    moved = login(current)
    assert (moved.action, moved.to_scheme) == ("rekeyed", "argon2id")
    assert is_under(moved.new_value, "pepper-2026")
    assert login(moved.new_value or "").action == "none"
    old = sealed(current, by="pepper-2025", key=OLD)
    from_old = login(old)
    assert (from_old.action, is_under(from_old.new_value, "pepper-2026")) == ("rekeyed", True)
    for found in (moved, from_old):  # the same value within: nothing was hashed again
        keyring = Keyring(realm="coldharbour", keys={"pepper-2026": NEW})
        within = keyring.open(found.new_value or "", account="7")
        assert isinstance(within, OpenedValue)
        assert within.text == current
    weak = login("d" * 32)
    assert not weak.admitted
    upgraded = login(sealed(direct().replace("m=256", "m=64")))
    assert not upgraded.admitted  # another digest than these costs give
    to_realm = login(moved.new_value or "", KEYED + 'bound_to = "realm"\n')
    assert (to_realm.action, ",to=realm$" in (to_realm.new_value or "")) == ("rekeyed", True)


def test_legacy_values_are_replaced_under_the_key() -> None:
    """An MD5 is admitted, and what is to be written opens at this account alone."""
    outcome = login("e8b6a8fa9b7d4a5ea8c4b4a3f5f5c5b0")
    assert not outcome.admitted
    digest = hashlib.md5(PASSWORD.encode()).hexdigest()
    outcome = login(digest)
    assert (outcome.action, is_under(outcome.new_value, "pepper-2026")) == ("upgraded", True)
    assert login(outcome.new_value or "").admitted
    assert login(outcome.new_value or "", account="8").refusal == "moved-or-damaged"


def test_without_key_or_account_a_right_login_writes_nothing() -> None:
    """The login is right all the same, and says what is missing."""
    digest = hashlib.md5(PASSWORD.encode()).hexdigest()
    without = gateway().admit(store="passengers", stored=digest, password=PASSWORD, account="7")
    assert (without.admitted, without.new_value) == (True, None)
    assert "under a key that is not there" in str(without.kept)
    nameless = login(digest, account=None)
    assert (nameless.admitted, nameless.new_value) == (True, None)
    assert "nothing names its row" in str(nameless.kept)
    with pytest.raises(UsageError, match="bound_to"):
        gateway(_2026=NEW).hash(password=PASSWORD)
    with pytest.raises(KeyMissing):
        gateway().hash(password=PASSWORD, account="7")


def test_a_keyed_value_is_no_password_and_holds_no_other() -> None:
    """Nobody sets one as a password; within stands a direct or layered value, and nothing else."""
    own = gateway(_2026=NEW)
    value = own.hash(password=PASSWORD, account="7")
    with pytest.raises(TumblerError, match="reads as a stored value"):
        own.hash(password=value, account="7")
    for inner in ("0123456789abcdef0123456789abcdef", "a plain password of some length", value):
        outcome = own.admit(stored=sealed(inner), password=PASSWORD, account="7")
        assert outcome.refusal == "moved-or-damaged"


def test_names_of_rows_are_one_text_whatever_their_type() -> None:
    """A number, its text and a database's own type name the same row; several columns are a list."""
    assert account_name(7) == account_name("7") == "7"
    assert account_name(b"\xff\x00") == "\\xff00"
    assert account_name('[7, "Möwe"]') == account_name(["7", "Möwe"]) == '["7","Möwe"]'
    assert account_name("[not a list") == "[not a list"


_WRONG_POLICIES = {
    'keyed_by = "pepper-2026"\n': "needs a “realm”",
    'keyed_by = "nobody"\nrealm = "coldharbour"\n': "name it in \\[keys\\]",
    'keyed_by = "Pepper"\nrealm = "coldharbour"\n': "1 to 32 of a-z",
    'realm = "Cold harbour"\n': "1 to 64 of a-z",
    KEYED + 'verified_by = ["php 8.2"]\n': "cannot open a value under a key",
    KEYED + 'bound_to = "login"\n': "bound_to",
}


@pytest.mark.parametrize("more", _WRONG_POLICIES)
def test_a_policy_that_would_lock_people_out_is_refused(more: str) -> None:
    """Readers that cannot open it, a key without a name or a realm: each with the reason."""
    with pytest.raises(PolicyError, match=_WRONG_POLICIES[more]):
        StoragePolicy.from_toml(policy_text(more))


def test_a_key_that_is_text_or_a_directory_is_refused() -> None:
    """A text is guessed at, and a directory checks values itself."""
    with pytest.raises(PolicyError, match="must be random"):
        StoragePolicy.from_toml(policy_text(keys=KEYS.replace('"base64"', '"text"')))
    with pytest.raises(PolicyError, match="a directory checks values itself"):
        StoragePolicy.from_toml(
            policy_text().replace("sqlite:///harbour.db", "ldap://127.0.0.1/dc=coldharbour")
        )
    with pytest.raises(PolicyError, match="comes from one place"):
        StoragePolicy.from_toml(policy_text(keys='[keys]\npepper-2026 = { form = "base64" }\n'))


_HELPER = """\
#!/usr/bin/env python3
import base64, json, os, sys, time
asked = json.loads(sys.stdin.readline())
assert asked == {"document": "lean-tumbler/key-request/1", "key": "pepper-2026"}
"""


_HELPERS: dict[str, tuple[str, str]] = {
    "dies": ("os._exit(3)", "gave something else than a key"),
    "hangs": ("time.sleep(60)", "gave no answer within 1 s"),
    "talks without end": ("while True: print('x' * 99, end='')", "gave something else than a key"),
    "answers nonsense": ("print('Gannet 8110 tern')", "gave something else than a key"),
    "answers another type": ("print(json.dumps({'key': [1]}))", "gave something else than a key"),
    "refuses": ("print(json.dumps({'error': 'Gannet 8110'}))", "has no such key, or refuses it"),
}


def helper(folder: Path, does: str) -> str:
    path = folder / "vault-key"
    path.write_text(_HELPER + does + "\n")
    path.chmod(0o700)
    return str(path)


@pytest.mark.parametrize("what", _HELPERS)
def test_a_helper_that_gives_no_key_is_an_error(what: str, tmp_path: Path) -> None:
    """It is ended, nothing that it says is shown, and nobody waits for longer than agreed."""
    does, said = _HELPERS[what]
    with pytest.raises(StoreUnavailable) as raised:
        key_from_helper("pepper-2026", [helper(tmp_path, does)], folder=tmp_path, answer_seconds=1)
    assert said in str(raised.value)
    assert "Gannet" not in str(raised.value)
    asked = subprocess.run(["pgrep", "-f", str(tmp_path / "vault-key")], check=False)
    assert asked.returncode == 1  # none is left


def test_a_helper_is_asked_once_for_a_key(tmp_path: Path) -> None:
    """Its answer is the key as the policy writes it; a program that is not there is named."""
    answer = f"print(json.dumps({{'key': {base64.b64encode(NEW).decode()!r}}}))"
    noted = f"open({str(tmp_path / 'asked')!r}, 'a').write('once ')\n{answer}"
    keys = f'[keys]\npepper-2026 = {{ helper = ["{helper(tmp_path, noted)}"], form = "base64" }}\n'
    policy = StoragePolicy.from_toml(policy_text(keys=keys))
    found = read_keys(policy, base=tmp_path, environment={})
    assert found == {"pepper-2026": NEW}
    assert (tmp_path / "asked").read_text() == "once "
    with pytest.raises(UsageError, match="cannot be started"):
        key_from_helper("pepper-2026", [str(tmp_path / "nothing")], folder=tmp_path)
    assert ANSWER_BYTES >= 64


def test_a_key_from_a_systemd_credential(tmp_path: Path) -> None:
    """It stands in the unit's own folder; a group may read it, as systemd does it, others not."""
    policy = StoragePolicy(keys={"pepper-2026": KeySource(credential="pepper", form="base64")})
    where = {"CREDENTIALS_DIRECTORY": str(tmp_path)}
    assert read_keys(policy, base=Path(), environment=where) == {}
    assert read_keys(policy, base=Path(), environment={}) == {}
    path = tmp_path / "pepper"
    path.write_text(base64.b64encode(NEW).decode())
    path.chmod(0o440)
    assert read_keys(policy, base=Path(), environment=where) == {"pepper-2026": NEW}
    path.chmod(0o444)
    with pytest.raises(UsageError, match="pepper-2026"):
        read_keys(policy, base=Path(), environment=where)


def test_a_reading_says_what_a_keyed_value_is() -> None:
    """The layout is read without any key, and says which one is needed."""
    parsed = read_value(sealed(direct()))
    assert (parsed.scheme, parsed.contents.variant, str(parsed.kind)) == (
        "keyed", "pepper-2026", "keyed",
    )  # fmt: skip
    assert str(Bound.ACCOUNT) == "account"


_SHOWN: dict[str, Callable[[], object]] = {
    "keyring": lambda: Keyring(realm="coldharbour", keys={"pepper-2026": NEW}),
    "keys": lambda: Keyring(keys={"pepper-2026": NEW}).keys,
    "policy": lambda: gateway(_2026=NEW).policy,
    "opened": lambda: OpenedValue(text=PASSWORD, head=None),  # type: ignore[arg-type]
}


@pytest.mark.parametrize("what", _SHOWN)
def test_nothing_that_is_printed_holds_a_key(what: str) -> None:
    """Whatever is shown for debugging shows neither keys nor what they open."""
    shown = repr(_SHOWN[what]())
    for secret in (NEW.hex(), repr(NEW)[2:20], base64.b64encode(NEW).decode(), PASSWORD):
        assert secret not in shown
