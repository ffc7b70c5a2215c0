"""The table of mistakes: those that damage data first."""

from collections.abc import Iterator, Mapping, Sequence
from types import MappingProxyType

from msgspec import Struct

from lean_tumbler.core.audit.rule import Severity
from lean_tumbler.core.code.mistakes import checking, leaving, making, storing
from lean_tumbler.core.code.mistakes.facts import CodeFacts, Detector
from lean_tumbler.core.code.places import CodeEvent
from lean_tumbler.core.code.terms import Gap, SourceLine, inside


class CodeRule(Struct, frozen=True, kw_only=True):
    """One mistake that a line of source can make."""

    severity: Severity
    means: str  # in a sentence
    remedy: str  # with {make}, {check} and {outdated} for the language's own functions
    detect: Detector


# What makes a value, checks one, and tells an outdated one, in each language.
STOCK: Mapping[str, Mapping[str, str]] = MappingProxyType(
    {
        "php": {
            "make": "password_hash($password, PASSWORD_ARGON2ID)",
            "check": "password_verify($password, $stored)",
            "outdated": "password_needs_rehash($stored, PASSWORD_ARGON2ID)",
            "equal": "hash_equals($stored, $computed)",
            "random": "random_bytes(16)",
        },
        "javascript": {
            "make": "await argon2.hash(password)",
            "check": "await argon2.verify(stored, password)",
            "outdated": "a comparison of the parameters in the stored text",
            "equal": "crypto.timingSafeEqual(stored, computed)",
            "random": "crypto.randomBytes(16)",
        },
        "python": {
            "make": "argon2.low_level.hash_secret(…), or hashlib.scrypt(…)",
            "check": "argon2.low_level.verify_secret(stored, password, …)",
            "outdated": "a comparison of the parameters in the stored text",
            "equal": "hmac.compare_digest(stored, computed)",
            "random": "secrets.token_bytes(16)",
        },
        "java": {
            "make": "Argon2BytesGenerator of Bouncy Castle",
            "check": "Argon2BytesGenerator, and MessageDigest.isEqual on the result",
            "outdated": "a comparison of the parameters in the stored text",
            "equal": "MessageDigest.isEqual(stored, computed)",
            "random": "new SecureRandom().nextBytes(salt)",
        },
        "ruby": {
            "make": "BCrypt::Password.create(password, cost: 12)",
            "check": "BCrypt::Password.new(stored) == password",
            "outdated": "BCrypt::Password.new(stored).cost < 12",
            "equal": "OpenSSL.fixed_length_secure_compare(stored, computed)",
            "random": "SecureRandom.random_bytes(16)",
        },
        "go": {
            "make": "argon2.IDKey(password, salt, …)",
            "check": "argon2.IDKey, and subtle.ConstantTimeCompare on the result",
            "outdated": "a comparison of the parameters in the stored text",
            "equal": "subtle.ConstantTimeCompare(stored, computed)",
            "random": "rand.Read(salt) of crypto/rand",
        },
        "sql": {
            "make": "a hash that the application computes",
            "check": "a check in the application",
            "outdated": "a comparison of the parameters in the stored text",
            "equal": "a comparison in the application",
            "random": "a salt that the application draws",
        },
    }
)

_C, _H, _M, _L = Severity.CRITICAL, Severity.HIGH, Severity.MEDIUM, Severity.LOW

CODE_RULES: Mapping[str, CodeRule] = MappingProxyType(
    {
        "stored-as-typed": CodeRule(
            severity=_C,
            means="The password is written to a column as it was typed.",
            remedy="Write {make}.",
            detect=storing.stored_readable,
        ),
        "not-awaited": CodeRule(
            severity=_C,
            means="A result is used before it is there: an object is stored, or every login is "
            "let in.",
            remedy="Wait for it: {make}; {check}.",
            detect=checking.not_awaited,
        ),
        "salt-not-kept": CodeRule(
            severity=_C,
            means="The salt is drawn, used and forgotten: nobody can log in.",
            remedy="Write the salt beside the digest, or {make}, which keeps it itself.",
            detect=storing.salt_not_stored,
        ),
        "swapped-arguments": CodeRule(
            severity=_C,
            means="The check gets the stored text in the password's place.",
            remedy="Write {check}.",
            detect=checking.swapped_arguments,
        ),
        "hash-compared-with-hash": CodeRule(
            severity=_C,
            means="Two hashes are compared where a password has to be checked.",
            remedy="Write {check} with the password as it was typed.",
            detect=checking.compared_hashes,
        ),
        "hashed-twice": CodeRule(
            severity=_C,
            means="A handler hashes the password, and a hook hashes the result once more.",
            remedy="Hash in one of the two places.",
            detect=storing.hashed_twice,
        ),
        "hashed-on-every-save": CodeRule(
            severity=_C,
            means="The field is hashed each time that the record is saved.",
            remedy="Hash only where the password changed.",
            detect=storing.hashed_on_every_save,
        ),
        "changed-on-one-path": CodeRule(
            severity=_C,
            means="The password is changed before it is hashed on one path and not on another.",
            remedy="Take the password as it was typed on all paths.",
            detect=storing.changed_on_one_path,
        ),
        "bytes-printed-as-text": CodeRule(
            severity=_C,
            means="Bytes of a digest become text without an encoding: they are damaged.",
            remedy="Write them in hexadecimal, or {make}.",
            detect=making.printed_bytes,
        ),
        "nul-ends-digest": CodeRule(
            severity=_C,
            means="A slow hash reads the bytes of a digest up to the first NUL.",
            remedy="Write {make} with the password itself.",
            detect=making.nul_after_digest,
        ),
        "error-ignored": CodeRule(
            severity=_H,
            means="The hash may be empty where hashing failed.",
            remedy="Stop where the error is not nil.",
            detect=storing.ignored_error,
        ),
        "cut-password": CodeRule(
            severity=_H,
            means="Only a part of the password counts.",
            remedy="Take the whole password; limit its length where it is set.",
            detect=making.cut_password,
        ),
        "beyond-72-bytes": CodeRule(
            severity=_H,
            means="bcrypt reads 72 bytes, and more go in: the rest does not count.",
            remedy="Write {make} with the password itself.",
            detect=making.beyond_72_bytes,
        ),
        "accepts-stored-text": CodeRule(
            severity=_C,
            means="The stored text itself opens the account.",
            remedy="Write {check}; take the comparison out.",
            detect=checking.plain_fallback,
        ),
        "seeded-password": CodeRule(
            severity=_H,
            means="A constant is written as a password, and stands in the source.",
            remedy="Let the script ask for a password, or lock the account until it is set.",
            detect=storing.seeded,
        ),
        "mass-assignment": CodeRule(
            severity=_H,
            means="Whoever sends a field named as the column sets the stored value.",
            remedy="Name the fields that a request may set.",
            detect=storing.mass_assignment,
        ),
        "fast-digest": CodeRule(
            severity=_H,
            means="A fast digest protects the password: billions of guesses a second.",
            remedy="Write {make}.",
            detect=making.fast_digest,
        ),
        "unsalted": CodeRule(
            severity=_H,
            means="Equal passwords give equal values; one guess tries every account.",
            remedy="Write {make}, which draws a salt.",
            detect=making.unsalted,
        ),
        "constant-salt": CodeRule(
            severity=_H,
            means="All accounts have one salt, which stands in the source.",
            remedy="Write {make}, which draws a salt.",
            detect=making.constant_salt,
        ),
        "weak-salt": CodeRule(
            severity=_M,
            means="The salt can be guessed, and may repeat.",
            remedy="Draw it with {random}, or write {make}.",
            detect=making.weak_salt,
        ),
        "login-as-salt": CodeRule(
            severity=_M,
            means="The salt is the login: it is known, and a renamed login locks out.",
            remedy="Draw it with {random}, or write {make}.",
            detect=making.login_salt,
        ),
        "low-cost": CodeRule(
            severity=_M,
            means="The scheme is slow, but its cost is below the floor.",
            remedy="Take the parameters that `lean-tumbler tune` chooses.",
            detect=making.low_cost,
        ),
        "database-function": CodeRule(
            severity=_H,
            means="The database's function for its own accounts hashes the passwords.",
            remedy="Write {make}.",
            detect=storing.database_function,
        ),
        "found-by-password": CodeRule(
            severity=_C,
            means="The row is found by the password itself: the column is readable.",
            remedy="Find the row by its login, then {check}.",
            detect=checking.found_by_password,
        ),
        "found-by-hash": CodeRule(
            severity=_M,
            means="The database compares the hash: without salt, by its collation.",
            remedy="Find the row by its login, then {check}.",
            detect=checking.found_by_hash,
        ),
        "loose-comparison": CodeRule(
            severity=_M,
            means="The comparison ends at the first difference, or takes texts for numbers.",
            remedy="Write {equal}.",
            detect=checking.loose_comparison,
        ),
        "folded-comparison": CodeRule(
            severity=_M,
            means="The comparison does not see the letter case.",
            remedy="Write {equal}.",
            detect=checking.folded_comparison,
        ),
        "folded-password": CodeRule(
            severity=_M,
            means="The letter case of the password does not count.",
            remedy="Take the password as it was typed.",
            detect=making.folded_password,
        ),
        "cut-digest": CodeRule(
            severity=_M,
            means="Only a part of the digest is stored.",
            remedy="Write {make}.",
            detect=making.cut_digest,
        ),
        "encrypted-password": CodeRule(
            severity=_H,
            means="The password is encrypted where it should be hashed.",
            remedy="Write {make}.",
            detect=storing.encrypted,
        ),
        "key-in-source": CodeRule(
            severity=_H,
            means="A key of stored values stands in the source, and in every copy of it.",
            remedy="Move it to a key source; see `lean-tumbler keys`.",
            detect=storing.key_in_source,
        ),
        "password-logged": CodeRule(
            severity=_H,
            means="Passwords can be read in a log or a file.",
            remedy="Take it out, and search old logs with `lean-tumbler residue`.",
            detect=leaving.password_logged,
        ),
        "stored-value-logged": CodeRule(
            severity=_M,
            means="Stored values can be read in a log or a file.",
            remedy="Take it out, and search old logs with `lean-tumbler residue`.",
            detect=leaving.hash_logged,
        ),
        "answered": CodeRule(
            severity=_H,
            means="A password or stored value is sent to whoever asks.",
            remedy="Name the fields that an answer may have.",
            detect=leaving.answered,
        ),
        "in-url-or-token": CodeRule(
            severity=_H,
            means="A password or stored value goes into a URL, cookie or token.",
            remedy="Put a random reference there.",
            detect=leaving.in_token,
        ),
        "mailed-password": CodeRule(
            severity=_H,
            means="A password is sent by mail.",
            remedy="Send a link that works once.",
            detect=leaving.mailed,
        ),
        "different-answers": CodeRule(
            severity=_L,
            means="The answer tells an unknown login from a wrong password.",
            remedy="Give one answer for both, after equal work.",
            detect=checking.different_answers,
        ),
        "no-rehash": CodeRule(
            severity=_L,
            means="A right login does not renew a value whose cost is outdated.",
            remedy="After a right login, ask {outdated}, and store a new value.",
            detect=checking.no_rehash,
        ),
    }
)


class CodeFinding(Struct, frozen=True, kw_only=True):
    """One mistake, at one line."""

    code: str
    severity: Severity
    place: SourceLine
    function: str
    language: str
    evidence: str
    is_certain: bool  # whether the values were followed from a request or a query
    means: str
    remedy: str


def find_mistakes(facts: CodeFacts) -> Sequence[CodeFinding]:
    """List the mistakes of a program, the worst first, each line once."""
    found = {(each.code, each.place): each for each in _findings(facts)}
    return sorted(found.values(), key=lambda each: (-each.severity.rank, each.place))


def _findings(facts: CodeFacts) -> Iterator[CodeFinding]:
    for code, rule in CODE_RULES.items():
        for event, place, evidence in rule.detect(facts):
            yield CodeFinding(
                code=code,
                severity=rule.severity,
                place=place,
                function=event.function,
                language=event.language,
                evidence=evidence,
                is_certain=_is_certain(event),
                means=rule.means,
                remedy=rule.remedy.format_map(STOCK[event.language]),
            )


def _is_certain(event: CodeEvent) -> bool:
    if any(isinstance(found, Gap) for term in event.terms for found in inside(term)):
        return False
    return event.is_from_outside
