"""What names say of passwords: of variables, parameters, fields and columns."""

import re
from functools import lru_cache

from lean_tumbler.core.code.terms import Role
from lean_tumbler.core.password_words import PASSWORD_WORDS

_WORDS = re.compile(r"[A-Z]+(?=[A-Z][a-z])|[A-Z]?[a-z]+|[A-Z]+|[0-9]+")
_CREDENTIAL = frozenset({"secret", "credential"})  # which may be anything's
_PASSWORD = re.compile(rf"(?:^|_)(?:user)?(?:{PASSWORD_WORDS}|p(?:ass)?word|plain|clear)s?(?:$|_)")
_HASH_WORDS = frozenset({
    "hash", "hashed",
    "digest", "crypt", "crypted", "encrypted", "enc", "stored", "hashpw", "pwhash", "passhash",
    "hsh", "verifier", "bcrypt", "md5", "sha1", "sha256", "sha512", "sum", "checksum", "encoded",
    "existing", "actual", "known", "expected",
})  # fmt: skip
_STORED_NAMES = frozenset({"hash", "digest", "stored", "crypted", "hashed", "pwhash", "passhash"})
# Words that make another thing of a name which has a password in it.
_OTHER_WORDS = frozenset({
    "token", "reset", "count", "length", "len", "min", "max", "policy", "field", "label", "error",
    "message", "msg", "url", "link", "uri", "path", "file", "expires", "expiry", "expiration",
    "hint", "changed", "change", "at", "strength", "regex", "pattern", "id", "date", "time",
    "type", "mode", "rule", "rules", "form", "input", "page", "view", "prompt", "text", "title",
    "age", "history", "attempts", "required", "valid", "validator", "validation", "is", "has",
    "should", "check", "verify", "checker", "encoder", "hasher", "manager", "service",
    "algorithm", "algo", "rounds", "cost", "method", "callback", "handler", "name", "key",
    "config", "option", "options", "args", "column", "col", "table", "list", "controller",
    "helper", "module", "request", "generator", "enabled", "show", "hide", "toggle", "icon",
    "size", "by", "through", "over", "fail", "failed",
})  # fmt: skip
_SALT_WORDS = frozenset({"salt", "salz", "nonce"})
_LOGIN_WORDS = frozenset({
    "login", "user", "username", "email", "mail", "account", "nick", "nickname", "uid", "userid",
    "loginname", "handle", "member", "benutzer", "utilisateur", "usuario",
})  # fmt: skip
_KEY_WORDS = frozenset({"pepper", "secret", "key", "passkey", "pfeffer"})
_REQUEST_WORDS = frozenset({
    "req", "request", "body", "form", "params", "query", "post", "get", "input", "payload", "dto",
    "data", "ctx", "context", "credentials", "args", "argv", "command",
})  # fmt: skip


@lru_cache(maxsize=20_000)
def words(name: str) -> tuple[str, ...]:
    """Split a name at its capitals, digits and signs."""
    return tuple(found.lower() for found in _WORDS.findall(name))


@lru_cache(maxsize=20_000)
def role_of(name: str) -> Role:
    """Tell what a name says; a password is one that is typed or a field."""
    found = words(name)
    known = set(found)
    spoken = " ".join(found)
    is_password = not known & _CREDENTIAL and _PASSWORD.search("_".join(found)) is not None
    if is_password and known & _HASH_WORDS:
        return Role.STORED
    if known & _SALT_WORDS:
        return Role.SALT
    if is_password and not known & _OTHER_WORDS:
        return Role.PASSWORD
    if is_password:
        return Role.OTHER
    if spoken.replace(" ", "") in _STORED_NAMES or known & {"hash", "digest", "stored"}:
        return Role.STORED if not known & _OTHER_WORDS else Role.OTHER
    if known & _KEY_WORDS and not known & {"public", "primary", "foreign"}:
        return Role.KEY
    if known & _LOGIN_WORDS and len(found) <= 2:
        return Role.LOGIN
    return Role.OTHER


def is_request(name: str) -> bool:
    """Tell whether a name speaks of what a program was sent."""
    return bool(set(words(name)) & _REQUEST_WORDS)


# Names by which a function may have to do with passwords; a file that lacks them is not parsed.
INTERESTING = re.compile(
    rb"pass(?:wd|word|wort|phrase|code)|(?:[$.'\"_]|\b(?:my|user))pass\b|\bpass[_'\"\]]|\bpwd|pwd\b"
    rb"|\bpw|_pw\b|kennwort|contrase|senha|wachtwoord|\bclave|mot_?de_?passe|plain_?text"
    rb"|bcrypt|argon2|scrypt|pbkdf2|\bcrypt\b|\bmd5|\bsha-?1|\bsha-?256|\bsha-?512"
    rb"|select \*|create\(req\.body|create\(params|request->all\(\)"
    rb"|hash_hmac|hashlib|messagedigest|digest::"
)


def is_of_interest(small: bytes) -> bool:
    """Tell whether source may have to do with passwords, by its words in small letters."""
    return INTERESTING.search(small) is not None
