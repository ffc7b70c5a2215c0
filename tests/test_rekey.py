"""A store under keys: put on, replaced, taken off; what each command says of it, and the service."""

import base64
import hmac
import os
import sqlite3
import stat
from contextlib import closing
from dataclasses import dataclass
from pathlib import Path

import pytest

from conftest import Finished, Program, make_portal
from lean_tumbler.core.keyring import Keyring, OpenedValue
from test_keyed_values import KEYED, KEYS, OLD, PASSWORD, direct, is_under, policy_text, sealed
from test_service import served

REFUSED = {"admitted": False, "action": "none"}


@dataclass(frozen=True)
class Keyed:
    """A store whose values were layered and are under a key, and its folder."""

    folder: Path
    program: Program
    passwords: dict[int, str]

    def rekey(self, *more: str) -> Finished:
        return self.program("rekey", "--no-backup", "--format", "json", *more)

    def values(self) -> dict[int, str]:
        with closing(sqlite3.connect(self.folder / "harbour.db")) as connection:
            return dict(connection.execute("SELECT id, pw FROM passengers WHERE pw > ''"))

    def write(self, statement: str) -> None:
        with closing(sqlite3.connect(self.folder / "harbour.db")) as connection, connection:
            connection.execute(statement)

    def policy(self, more: str = KEYED, keys: str = KEYS) -> None:
        (self.folder / "tumbler.toml").write_text(policy_text(more, keys))

    def locked_out(self) -> list[int]:
        return [
            number
            for number, password in self.passwords.items()
            if self.program(
                "admit", f"passenger{number}@tidepost.example", stdin=password.encode()
            ).code
        ]


@pytest.fixture
def keyed(tmp_path: Path, in_process: Program) -> Keyed:
    portal = make_portal(tmp_path, ["md5", "sha1", "current", "bcrypt", "locked", "null"] * 2)
    assert in_process("layer", "--no-backup").code == 0
    for name in ("pepper-2025", "pepper-2026"):
        assert in_process("keys", "new", name, "--over-values").code == 0
    store = Keyed(tmp_path, in_process, {row.number: row.password for row in portal.openable})
    store.policy(KEYED.replace("2026", "2025"))
    found = store.rekey()
    assert (found.code, found.document["rekeyed"], found.document["from_no_key"]) == (0, 8, 8)
    return store


def test_the_helper_of_the_examples_gives_keys(tmp_path: Path, keyed: "Keyed") -> None:
    """As shipped, with its simulated module: rows open by it, and an unknown key is an error."""
    vault = tmp_path / "vault"
    vault.mkdir()
    key = base64.b64decode((keyed.folder / "pepper-2025.key").read_text())
    secret = os.urandom(32)
    (vault / "module.secret").write_bytes(secret)
    stream = hmac.digest(secret, b"pepper-2025", "sha256")
    wrapped = bytes(a ^ b for a, b in zip(key, stream, strict=True))
    (vault / "pepper-2025.wrapped").write_bytes(wrapped)
    program = Path(__file__).parent.parent / "examples" / "keys" / "vault-key"
    keys = f'[keys]\npepper-2025 = {{ helper = ["{program}"], form = "base64" }}\n'
    keyed.policy(KEYED.replace("2026", "2025"), keys)
    assert keyed.program("keys", "check").code == 0
    assert keyed.locked_out() == []
    (vault / "pepper-2025.wrapped").unlink()
    assert "has no such key" in keyed.program("keys", "check").err


def test_the_service_opens_keyed_values(keyed: Keyed) -> None:
    """Logins and changes over HTTP; a moved row is one more refusal; a value comes with its account."""
    keyed.policy()
    values = keyed.values()
    keyed.write("UPDATE passengers SET pw = (SELECT pw FROM passengers WHERE id = 2) WHERE id = 1")
    with served(keyed.folder) as service:
        assert service.admit("passenger1@tidepost.example", keyed.passwords[1]) == REFUSED
        assert "moved from another row" in service.log.read_text()
        answer = service.admit("passenger3@tidepost.example", keyed.passwords[3])
        assert answer == {"admitted": True, "action": "rekeyed"}
        changed = service.post(
            "change",
            store="passengers",
            login="passenger2@tidepost.example",
            password=keyed.passwords[2],
            new_password="Tern 4711 over the quay",
        )
        assert changed.json() == {"changed": True}
        after = keyed.values()
        assert (is_under(after[2], "pepper-2026"), is_under(after[3], "pepper-2026")) == (
            True,
            True,
        )
        brought = {"stored": values[4], "password": keyed.passwords[4], "store": "passengers"}
        given = service.post("admit-value", **brought, account="4").json()
        assert (given["admitted"], is_under(given["new_value"], "pepper-2026")) == (True, True)
        assert service.post("admit-value", **brought, account="5").json() == REFUSED
        assert service.post("hash", password="Tern 4711 at sea").status_code == 400
        value = service.post("hash", password="Tern 4711 at sea", account="9").json()["value"]
        assert is_under(value, "pepper-2026")


def test_the_service_does_not_begin_without_its_keys(keyed: Keyed) -> None:
    """A wrong key, or none, ends it at its start with the key's name; afterwards a value needs 503."""
    other = keyed.folder / "pepper-2026.key"
    keyed.policy(keys=KEYS.replace("pepper-2025.key", "pepper-2026.key"))
    finished = keyed.program("serve", "--listen", "unix:s")
    assert (finished.code, "[keys] holds another one" in finished.err) == (3, True)
    keyed.policy()
    with served(keyed.folder) as service:
        planted = sealed(direct(), by="pepper-2024", key=OLD, account="1")
        keyed.write(f"UPDATE passengers SET pw = '{planted}' WHERE id = 1")
        found = service.post(
            "admit", store="passengers", login="passenger1@tidepost.example", password=PASSWORD
        )
        assert (found.status_code, found.json()["type"]) == (503, "/problems/check-impossible")
    other.unlink()
    assert keyed.program("serve", "--listen", "unix:s").code == 3


def test_a_key_is_put_on_replaced_and_taken_off(keyed: Keyed) -> None:
    """Nobody is locked out at any time, values come out as they went in, markers stay."""
    assert keyed.rekey().document["left"] == {
        "under the key of new values already": 8, "locked: no password opens it": 2, "no value": 2,
    }  # fmt: skip
    assert sum(is_under(value, "pepper-2025") for value in keyed.values().values()) == 8
    keyed.policy()
    part = keyed.rekey("--share", "50%").document
    assert 0 < part["rekeyed"] < 8
    assert part["still_under"] == {"pepper-2025": 8 - part["rekeyed"]}
    rest = keyed.rekey().document
    assert (rest["rekeyed"] + part["rekeyed"], rest["still_under"]) == (8, {})
    assert keyed.locked_out() == []
    keyed.policy("realm = 'coldharbour'\n")
    assert keyed.program("rekey", "--no-backup").code == 2  # only --remove takes it off
    assert keyed.rekey("--remove").document["from_keys"] == {"pepper-2026": 8}
    assert not any("$keyed$" in value for value in keyed.values().values())
    assert keyed.locked_out() == []
    keyed.policy()
    assert keyed.program("rekey", "--remove").code == 2  # logins would put it back


def test_what_was_rekeyed_is_put_back(keyed: Keyed) -> None:
    """The sealed backup holds what was replaced, as for every step."""
    before = keyed.values()
    assert keyed.program("keys", "new", "recovery").code == 0
    keyed.policy()
    backup = ("--backup", "rekey.sealed", "--to", "recovery.public.pem")
    assert keyed.program("rekey", *backup).code == 0
    assert keyed.values() != before
    assert keyed.program("undo", "rekey.sealed", "--key", "recovery.private.pem").code == 0
    assert keyed.values() == before


def test_rekey_asks_for_a_way_back_and_for_readers(keyed: Keyed) -> None:
    """It replaces values, so it is asked what every bulk step is asked."""
    keyed.policy()
    assert "nothing says how to put the old values back" in keyed.program("rekey").err
    path = keyed.folder / "tumbler.toml"
    path.write_text(path.read_text().replace("readers_ready = 2026-01-01\n", ""))
    assert "readers_ready" in keyed.program("rekey", "--no-backup").err
    assert all(not is_under(value, "pepper-2026") for value in keyed.values().values())


@pytest.mark.parametrize("command", [("layer", "--no-backup"), ("rekey", "--no-backup"), ("plan",)])
def test_no_step_begins_while_a_key_is_missing(keyed: Keyed, command: tuple[str, ...]) -> None:
    """The key that rows are under, the key of new values, another of that name: each is named."""
    before = keyed.values()
    keyed.policy()
    old, new = (keyed.folder / f"pepper-{year}.key" for year in ("2025", "2026"))
    kept = old.read_text()
    old.unlink()
    assert (
        "8 values are under the key “pepper-2025”: it is not there" in keyed.program(*command).err
    )
    old.write_text(new.read_text())
    old.chmod(0o600)
    assert "[keys] holds another one" in keyed.program(*command).err
    old.write_text(kept)
    new.unlink()
    assert "pepper-2026" in keyed.program(*command).err
    assert keyed.values() == before


def test_keys_check_says_what_each_key_opens(keyed: Keyed) -> None:
    """Right, missing and wrong keys, moved rows and values without a key, by number and account."""
    found = keyed.program("keys", "check", "--format", "json")
    assert (found.code, found.document["all_open"]) == (0, True)
    assert found.document["usable"] == ["pepper-2025", "pepper-2026"]
    assert found.document["stores"][0]["opened"] == 8
    keyed.write("UPDATE passengers SET pw = (SELECT pw FROM passengers WHERE id = 2) WHERE id = 1")
    moved = keyed.program("keys", "check", "--format", "json")
    store = moved.document["stores"][0]
    assert (moved.code, store["opened"], store["moved"], store["accounts"]) == (1, 7, 1, [1])
    (keyed.folder / "pepper-2025.key").unlink()
    missing = keyed.program("keys", "check", "--format", "json")
    assert (missing.code, missing.document["stores"][0]["missing"]) == (1, 8)
    assert missing.document["problems"] == {"pepper-2025": "is not there"}
    keyed.policy(keys=KEYS.replace("pepper-2025.key", "pepper-2026.key"))
    wrong = keyed.program("keys", "check", "--format", "json").document["stores"][0]
    assert (wrong["another"], wrong["opened"]) == (8, 0)
    text = keyed.program("keys", "check").out
    assert text.startswith("8 keyed values cannot be opened.")


def test_a_lost_key_comes_back_from_its_sealed_copy(keyed: Keyed) -> None:
    """Only the private half opens it; a file that was changed or is none is refused."""
    folder = keyed.folder
    assert keyed.program("keys", "new", "recovery").code == 0
    assert keyed.program("keys", "new", "other").code == 0
    made = keyed.program(
        "keys", "new", "pepper-2027", "--over-values", "--copy-for", "recovery.public.pem"
    )
    assert made.code == 0
    for name in ("pepper-2027.key", "pepper-2027.key.sealed"):
        assert stat.S_IMODE((folder / name).stat().st_mode) == 0o600
    assert keyed.program("keys", "new", "pepper-2027", "--over-values").code == 2
    key = (folder / "pepper-2027.key").read_text()
    assert key.strip() not in made.out + made.err
    command = ("keys", "open", "pepper-2027.key.sealed", "--key")
    assert keyed.program(*command, "recovery.private.pem").code == 2  # it is there
    (folder / "pepper-2027.key").unlink()
    assert keyed.program(*command, "other.private.pem").code == 3
    assert keyed.program(*command, "recovery.private.pem").code == 0
    assert (folder / "pepper-2027.key").read_text() == key
    copy = folder / "pepper-2027.key.sealed"
    copy.write_bytes(copy.read_bytes()[:-1] + b"x")
    (folder / "pepper-2027.key").unlink()
    assert keyed.program(*command, "recovery.private.pem").code == 3
    assert keyed.program("keys", "open", "known.csv", "--key", "recovery.private.pem").code == 3


def test_the_audit_sees_within_where_the_key_is_at_hand(keyed: Keyed) -> None:
    """By the policy, grades are those of what is within; without it, “keyed”, and no all-clear."""
    store = keyed.program("audit", "passengers", "--format", "json").document["stores"][0]
    assert store["grades"] == {"layered": 6, "current": 2, "locked": 2}
    assert {group["keyed_by"] for group in store["groups"]} == {"pepper-2025", ""}
    text = keyed.program("audit", "passengers").out
    assert "Under the key “pepper-2025”: 8 of 10 values." in text
    assert "With the table alone nobody can try a guess" in text
    bare = keyed.program("audit", "harbour.db", "--format", "json").document["stores"][0]
    assert bare["grades"] == {"keyed": 8, "locked": 2}
    assert (
        "8 of 10 values are under a key and not opened" in keyed.program("audit", "harbour.db").out
    )


def test_a_moved_value_is_found_and_its_login_told(keyed: Keyed) -> None:
    """`audit`, `plan`, `explain` and the log of a login name the account; set-password mends it."""
    keyed.write("UPDATE passengers SET pw = (SELECT pw FROM passengers WHERE id = 2) WHERE id = 1")
    found = keyed.program("audit", "passengers", "--format", "json").document["stores"][0]
    finding = next(each for each in found["findings"] if each["code"] == "moved-or-damaged")
    assert (finding["severity"], finding["accounts"]) == ("critical", ["1"])
    assert "moved from another row, or damaged" in keyed.program("plan").out
    login = ("admit", "passenger1@tidepost.example")
    for password in (keyed.passwords[1], keyed.passwords[2]):
        refused = keyed.program(*login, stdin=password.encode())
        assert refused.code == 1
        assert "account 1: a value under a key was moved from another row" in refused.err
    assert keyed.program("explain", "--account", "1").code == 0
    given = keyed.program("set-password", login[1], stdin=b"Tern 4711 over the quay")
    assert given.code == 0, given.err
    assert keyed.program(*login, stdin=b"Tern 4711 over the quay").code == 0
    assert keyed.locked_out() == [1]


def test_progress_report_and_guard_speak_of_keys(keyed: Keyed) -> None:
    """Counts by key, the point of the standard by its share, and a column that admits no other."""
    keyed.policy()
    keyed.rekey("--share", "50%")
    counted = keyed.program("progress", "--format", "json").document["stores"][0]["keys"]
    assert (set(counted), sum(counted.values())) == ({"pepper-2025", "pepper-2026"}, 8)
    told = keyed.program("progress").out
    assert "An old key can leave [keys]" in told
    assert "under none" not in told  # markers of locked accounts stand there too
    keyed.rekey()
    points = keyed.program("report", "--format", "json").document["stores"][0]["standards"]
    point = next(each for each in points if "kept apart" in each["asks"])
    assert point["verdict"] == "met"
    gate = ("enforce", "gate", "--state", "gate.state", "--format", "json")
    assert keyed.program(*gate).document["stores"][0]["below_floor"] == 0
    assert keyed.program("enforce", "constraint", "--apply").code == 0
    bare = direct()
    for value in (bare, "$keyed$by=other,check=AAAAAAAA,to=account$" + "A" * 16 + "$" + "A" * 48):
        with pytest.raises(sqlite3.IntegrityError):
            keyed.write(f"UPDATE passengers SET pw = '{value}' WHERE id = 1")
    assert keyed.locked_out() == []


def test_a_forecast_sees_within_keyed_values(keyed: Keyed) -> None:
    """What waits for a login waits under a key too; without the key nothing is said of it."""
    keyed.write("ALTER TABLE passengers ADD COLUMN seen TEXT DEFAULT '2026-01-01'")
    path = keyed.folder / "tumbler.toml"
    path.write_text(path.read_text().replace('stored = "pw"', 'stored = "pw"\nlast_login = "seen"'))
    (store,) = keyed.program("progress", "--format", "json").document["stores"]
    assert {each["grade"] for each in store["still_needed"]} == {"layered"}
    assert sum(each["rows"] for each in store["still_needed"]) == store["waiting"] == 6
    (keyed.folder / "pepper-2025.key").unlink()
    (store,) = keyed.program("progress", "--format", "json").document["stores"]
    assert (store["waiting"], store["grades"]["keyed"]) == (0, 8)


def test_lock_dormant_leaves_what_it_cannot_open(keyed: Keyed) -> None:
    """A keyed row without its key is never written; with it, it is locked as any other."""
    keyed.write("ALTER TABLE passengers ADD COLUMN seen TEXT DEFAULT '2020-01-01'")
    path = keyed.folder / "tumbler.toml"
    path.write_text(path.read_text().replace('stored = "pw"', 'stored = "pw"\nlast_login = "seen"'))
    before = keyed.values()
    key = keyed.folder / "pepper-2025.key"
    kept = key.read_text()
    key.unlink()
    command = ("lock-dormant", "--inactive-days", "90", "--no-backup", "--format", "json")
    assert keyed.program(*command).document["left"]["under a key that is not there"] == 8
    assert keyed.values() == before
    key.write_text(kept)
    key.chmod(0o600)
    assert keyed.program(*command).document["locked"] == 6


def test_a_key_of_several_columns_binds_too(tmp_path: Path, in_process: Program) -> None:
    """Logins, bulk steps and the audit name such a row alike."""
    with closing(sqlite3.connect(tmp_path / "harbour.db")) as connection, connection:
        connection.execute(
            "CREATE TABLE passengers (line INTEGER, ticket TEXT, email TEXT, pw TEXT,"
            " PRIMARY KEY (line, ticket))"
        )
        for line in range(3):
            connection.execute(
                "INSERT INTO passengers VALUES (?, ?, ?, ?)",
                (line, f"Möwe {line}", f"p{line}@tidepost.example", direct()),
            )
    policy = policy_text().replace('account = "id"\n', 'account = ["line", "ticket"]\n')
    policy = policy.replace('salt = "pw_salt"\n', "").replace('privileged = "is_admin"\n', "")
    policy = policy.replace(
        '[[store.passengers.cohort]]\nname = "portal-2011"\nformula = "utf-8, append salt, sha1, hex"\n',
        "",
    )
    (tmp_path / "tumbler.toml").write_text(policy)
    assert in_process("keys", "new", "pepper-2026", "--over-values").code == 0
    assert in_process("rekey", "--no-backup", "--format", "json").document["rekeyed"] == 3
    assert in_process("keys", "check").code == 0
    grades = in_process("audit", "passengers", "--format", "json").document["stores"][0]["grades"]
    assert grades == {"current": 3}
    assert in_process("admit", "p1@tidepost.example", stdin=PASSWORD.encode()).code == 0


def test_files_bind_to_the_column_that_names_a_row(tmp_path: Path, in_process: Program) -> None:
    """A line may move, so without such a column nothing is written; with it, rows may be sorted."""
    lines = [f"a{n},p{n}@tidepost.example,{direct()}\n" for n in range(1, 4)]
    (tmp_path / "passengers.csv").write_text("id,email,pw\n" + "".join(map(_quoted, lines)))
    policy = policy_text().replace("sqlite:///harbour.db", "passengers.csv")
    for line in ('table = "passengers"\n', 'salt = "pw_salt"\n', 'privileged = "is_admin"\n'):
        policy = policy.replace(line, "")
    policy = policy.replace(
        '[[store.passengers.cohort]]\nname = "portal-2011"\nformula = "utf-8, append salt, sha1, hex"\n',
        "",
    )
    path = tmp_path / "tumbler.toml"
    path.write_text(policy.replace('account = "id"\n', ""))
    assert in_process("keys", "new", "pepper-2026", "--over-values").code == 0
    command = ("rekey", "--into", "keyed.csv", "--format", "json")
    without = in_process(*command).document
    assert (without["rekeyed"], list(without["left"].values())) == (0, [3])
    (tmp_path / "keyed.csv").unlink()
    path.write_text(policy)
    assert in_process(*command).document["rekeyed"] == 3
    written = (tmp_path / "keyed.csv").read_text().splitlines(keepends=True)
    (tmp_path / "sorted.csv").write_text("".join([written[0], *reversed(written[1:])]))
    path.write_text(policy.replace("passengers.csv", "sorted.csv"))
    assert in_process("keys", "check").code == 0
    grades = in_process("audit", "passengers", "--format", "json").document["stores"][0]["grades"]
    assert grades == {"current": 3}


def _quoted(line: str) -> str:
    name, email, value = line.rstrip("\n").split(",", 2)
    return f'{name},{email},"{value}"\n'


_COMMANDS = [
    ("keys", "check"), ("audit", "passengers"), ("audit", "harbour.db"), ("plan",), ("progress",),
    ("report",), ("doctor",), ("explain", "--account", "1"), ("rekey", "--dry-run"),
    ("rekey", "--no-backup"), ("layer", "--dry-run"), ("verify", "known.csv"), ("rehearse", "known.csv"),
    ("enforce", "constraint", "--print"), ("admit", "passenger1@tidepost.example"), ("residue", "."),
]  # fmt: skip


def test_neither_keys_nor_what_they_open_come_out(keyed: Keyed) -> None:
    """Whatever is run, shown for debugging or left beside the policy: no key, and no value within."""
    keyed.policy()
    files = {path: path.read_bytes() for path in keyed.folder.glob("*.key")}
    keys = [base64.b64decode(raw) for raw in files.values()]
    by_name = {path.stem: base64.b64decode(raw) for path, raw in files.items()}
    keyring = Keyring(realm="coldharbour", keys=by_name)
    within = [
        found.text
        for number, value in keyed.values().items()
        if isinstance(found := keyring.open(value, account=str(number)), OpenedValue)
    ]
    assert len(within) == 8
    secrets = [
        form
        for key in keys
        for form in (key.hex(), base64.b64encode(key).decode(), repr(key)[2:-1])
    ]
    seen = []
    for command in _COMMANDS:
        for words in (command, ("--debug", *command), (*command, "--format", "json")):
            done = keyed.program(*words, stdin=b"not this one\n")
            seen.append(done.out + done.err)
    seen += [path.read_text("utf-8", "replace") for path in keyed.folder.glob("tumbler.*")]
    assert not [text for text in seen for secret in (*secrets, *within) if secret in text]
