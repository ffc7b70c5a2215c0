"""Tables with columns that look like passwords and are none, and passwords that do not look so.

A schema is drawn by its seed: two to five tables, of people or of things, each with columns whose
truth is known. Names come from several languages and habits; ranges and seeds were fixed before
the code that is held against them: seeds 0 to 199.
"""

import hashlib
import random
import sqlite3
import uuid
from base64 import b32encode, urlsafe_b64encode
from collections.abc import Callable
from dataclasses import dataclass
from pathlib import Path

from lean_tumbler.core.grades import Floor
from lean_tumbler.stores.scans.auditing import audit_source
from lean_tumbler.stores.scans.profiling import AuditContext

SEEDS = range(200)
ROWS = 60

PASSWORD, NOTHING = "password", "nothing"
_WORDS = ("Tern", "Gull", "Skua", "Petrel", "Plover", "Dunlin", "Knot", "Eider")


@dataclass(frozen=True)
class Column:
    """How a column may be called, what it is, and what stands in it."""

    names: tuple[str, ...]
    truth: str  # `PASSWORD`, `NOTHING`, or the kind's name
    make: Callable[[random.Random, int], str | None]


def _hex(bits: int) -> Callable[[random.Random, int], str]:
    return lambda chance, _: f"{chance.getrandbits(bits):0{bits // 4}x}"


def _typed(chance: random.Random, number: int) -> str:
    return f"{chance.choice(_WORDS)}{chance.randrange(10000)}{number % 7}"


def _digest(name: str) -> Callable[[random.Random, int], str]:
    return lambda chance, n: hashlib.new(name, _typed(chance, n).encode()).hexdigest()


def _bcrypt(chance: random.Random, _: int) -> str:
    alphabet = "./ABCDEFGHIJKLMNOPQRSTUVWXYZabcdefghijklmnopqrstuvwxyz0123456789"
    drawn = "".join(chance.choice(alphabet) for _ in range(52))
    return f"$2b$10${drawn[:21]}O{drawn[21:]}"


def _token(chance: random.Random, _: int) -> str:
    return urlsafe_b64encode(chance.randbytes(24)).decode()


def _uuid(chance: random.Random, _: int) -> str:
    return str(uuid.UUID(int=chance.getrandbits(128)))


PASSWORDS = (
    Column(("password", "passwd", "user_pass", "Passwort", "kennwort", "mot_de_passe", "senha",
            "contrasena", "clave", "heslo", "wachtwoord", "pwd", "userPassword", "PASSWORD_HASH",
            "passhash", "credential"), PASSWORD, _digest("md5")),
    Column(("password_hash", "pw", "passwd", "Kennwort", "parola", "mdp", "secret"),
           PASSWORD, _digest("sha256")),
    Column(("password", "pass", "encrypted_password", "hash", "pw_digest"), PASSWORD, _bcrypt),
    Column(("password", "passwort", "senha", "pwd"), PASSWORD, _typed),
    Column(("password", "pass", "passwd"), PASSWORD, lambda chance, _: f"{chance.randrange(10000):04d}"),
    Column(("password", "kennwort"), PASSWORD,
           lambda chance, _: f"{chance.randrange(1, 29):02d}.{chance.randrange(1, 13):02d}.{chance.randrange(1950, 2005)}"),
)  # fmt: skip
BESIDE_PEOPLE = (
    Column(("reset_token", "passwordResetToken", "password_reset_code", "activation_key",
            "confirmation_token", "verify_code_hash"), "reset token", _token),
    Column(("reset_password_digest", "activation_digest", "reset_hash"), "reset token", _hex(256)),
    Column(("session_id", "remember_token", "sess_key", "csrf_token"), "session token", _hex(160)),
    Column(("api_key", "apiKey", "client_secret", "access_key", "licence_key"), "API key", _hex(128)),
    Column(("refresh_token", "oauth_token", "access_token", "id_token"), "access or refresh token", _token),
    Column(("totp_secret", "otp_seed", "mfa_secret", "two_factor_secret", "2fa_key"),
           "one-time-password secret", lambda chance, _: b32encode(chance.randbytes(20)).decode()),
    Column(("recovery_codes", "backup_code", "scratch_codes"), "recovery code",
           lambda chance, _: f"{chance.getrandbits(20):05x}-{chance.getrandbits(20):05x}"),
    Column(("security_answer", "secret_answer", "mothers_maiden_name", "securityAnswerHash"),
           "security answer", lambda chance, _: f"{chance.choice(_WORDS)} {chance.choice(_WORDS)}"),
    Column(("pin", "pin_code", "cardPin", "door_code"), "PIN", lambda chance, _: f"{chance.randrange(10000):04d}"),
    Column(("wifi_password", "psk", "shared_secret", "radius_secret"), "pre-shared key", _typed),
    Column(("avatar_hash", "gravatar", "photo_sha1", "email_hash", "phone_md5"), NOTHING, _hex(128)),
    Column(("uuid", "external_id", "device_id", "guid"), NOTHING, _uuid),
    Column(("algo", "hash_type", "password_format", "hash_algorithm"), NOTHING,
           lambda chance, _: chance.choice(("sha512", "plain", "md5", "bcrypt"))),
    Column(("password_changed_at", "passwordExpires", "last_password_change"), NOTHING,
           lambda chance, _: f"2026-{chance.randrange(1, 13):02d}-{chance.randrange(1, 29):02d} 10:00:00"),
    Column(("password_attempts", "pass_count", "pw_failures"), NOTHING, lambda chance, _: str(chance.randrange(9))),
    Column(("otp_enabled", "two_factor_enabled", "is_confirmed"), NOTHING, lambda chance, _: str(chance.randrange(2))),
    Column(("city", "note", "first_name", "locale"), NOTHING, lambda chance, _: chance.choice(_WORDS)),
    Column(("balance", "points", "age"), NOTHING, lambda chance, _: str(chance.randrange(9000))),
)  # fmt: skip
OF_THINGS = (
    ("files", (("name", lambda chance, n: f"{chance.choice(_WORDS).lower()}{n}.pdf"),),
     (Column(("sha1", "content_hash", "checksum", "md5sum", "etag"), NOTHING, _hex(160)),
      Column(("etag", "fingerprint", "sha256"), NOTHING, _hex(256)))),
    ("commits", (("author", lambda chance, _: chance.choice(_WORDS)),),
     (Column(("sha", "commit_id", "tree", "parent_sha"), NOTHING, _hex(160)),)),
    ("sessions", (("user_id", lambda chance, _: str(chance.randrange(900))),),
     (Column(("id", "token", "sid", "session_key"), "session token", _hex(256)),)),
    ("password_resets", (("email", lambda chance, n: f"{chance.choice(_WORDS).lower()}{n}@tidepost.example"),),
     (Column(("token", "code", "hash"), "reset token", _hex(256)),)),
    ("oauth_access_tokens", (("client", lambda chance, _: chance.choice(_WORDS)),),
     (Column(("token", "value", "access_token"), "access or refresh token", _token),)),
    ("api_keys", (("owner", lambda chance, _: chance.choice(_WORDS)),),
     (Column(("key", "secret", "key_hash"), "API key", _hex(256)),)),
    ("blocks", (("height", lambda _, n: str(n)),),
     (Column(("block_hash", "prev_hash", "tx_hash"), NOTHING, _hex(256)),)),
    ("images", (("url", lambda chance, n: f"https://img.tidepost.example/{n}/{chance.randrange(99)}"),),
     (Column(("image_hash", "thumb_md5", "phash"), NOTHING, _hex(64)),)),
)  # fmt: skip
_PEOPLE = (
    "users",
    "members",
    "kunden",
    "clients",
    "passengers",
    "accounts",
    "personal",
    "usuarios",
)
_LOGINS = ("email", "login", "user_name", "e_mail", "username")


def write_schema(path: Path, seed: int) -> dict[str, str]:
    """Write the schema of a seed; give the truth of each column that is asked of."""
    chance = random.Random(seed)
    truth: dict[str, str] = {}
    database = sqlite3.connect(path)
    with database:
        people = chance.choice(_PEOPLE)
        stored = chance.choice(PASSWORDS)
        beside = chance.sample(BESIDE_PEOPLE, chance.randrange(2, 6))
        _write(database, people, chance, truth, [
            ("id", lambda _, n: str(n)),
            (chance.choice(_LOGINS), lambda chance, n: f"{chance.choice(_WORDS).lower()}{n}@tidepost.example"),
        ], [stored, *beside])  # fmt: skip
        for name, plain, told in chance.sample(OF_THINGS, chance.randrange(1, 4)):
            _write(database, name, chance, truth, [("no", lambda _, n: str(n)), *plain], told)
    database.close()
    return truth


def _write(database, table, chance, truth, plain, told) -> None:  # type: ignore[no-untyped-def]
    """Write a table of plain columns and of some whose truth is noted."""
    named = [(chance.choice(column.names), column) for column in told]
    columns = list({name.lower(): (name, make) for name, make in plain}.values())
    for name, column in named:
        if name.lower() in {other.lower() for other, _ in columns}:
            continue
        columns.append((name, column.make))
        truth[f"{table}.{name}"] = column.truth
    quoted = ", ".join(f'"{name}"' for name, _ in columns)
    database.execute(f'CREATE TABLE "{table}" ({quoted})')
    rows = [[make(chance, number) for _, make in columns] for number in range(ROWS)]
    database.executemany(f'INSERT INTO "{table}" VALUES ({", ".join("?" * len(columns))})', rows)


def kinds_told(path: Path) -> dict[str, str]:
    """Audit a schema; give what is said of each column that is named."""
    found = audit_source(str(path), base=Path(), context=AuditContext(floor=Floor()))
    told = {f"{column.table}.{column.column}": PASSWORD for column in found.columns}
    return told | {f"{other.table}.{other.column}": str(other.kind) for other in found.others}
