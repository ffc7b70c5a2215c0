"""Kinds of credentials beside passwords: what a column is, and how it has to be kept.

A column's name decides first, then its table's, then what stands in it. Where a policy or an option
names a column, none of this is asked.
"""

import re
from collections.abc import Mapping, Sequence
from enum import StrEnum
from types import MappingProxyType

from msgspec import Struct

from lean_tumbler.core.schemes.base import PREFIXED_HEX, SLOW, Kind
from lean_tumbler.core.schemes.catalogue import read_value


class CredentialKind(StrEnum):
    """What opens something, and is no password of an account."""

    PIN = "PIN"
    ANSWER = "security answer"
    RECOVERY_CODE = "recovery code"
    OTP_SECRET = "one-time-password secret"  # noqa: S105 - the name of a kind, as those below
    RESET_TOKEN = "reset token"  # noqa: S105
    SESSION_TOKEN = "session token"  # noqa: S105
    REFRESH_TOKEN = "access or refresh token"  # noqa: S105
    API_KEY = "API key"
    PRIVATE_KEY = "private key"
    SHARED_KEY = "pre-shared key"
    IDENTIFIER = "identifier or content hash"

    @property
    def opens_something(self) -> bool:
        """Whether who has one gets in somewhere."""
        return self is not CredentialKind.IDENTIFIER


class Keeping(StrEnum):
    """How a kind has to be kept, so that a copy of the table opens nothing."""

    HASHED = "as a hash"  # only compared with what somebody presents
    SLOWLY_HASHED = "under a slow, salted hash"  # likewise, and short enough to be guessed
    SEALED = "encrypted, under a key that is kept elsewhere"  # needed as it is
    ANYHOW = ""


class KindRule(Struct, frozen=True, kw_only=True):
    """How a kind is told by its names, and what is asked of it."""

    kind: CredentialKind
    column: re.Pattern[str]  # of a column's name, folded
    table: re.Pattern[str] | None = None  # of a table's name, in which a plain word will do
    keeping: Keeping = Keeping.ANYHOW
    breaks: str = ""  # the published rule that a readable one breaks
    remedy: str = ""


# Words that say what a column holds only in a table that says whose.
_PLAIN_WORD = re.compile(
    r"^(hashed_)?(token|code|key|hash|digest|value|secret|id|sid|data|link|selector|validator)s?"
    r"(_(hash|digest|value))?$"
)
_ASVS_TOKENS = "OWASP ASVS 5.0, chapter V7"
_ASVS_SECRETS = "OWASP ASVS 5.0, chapter V13"
_ASVS_AUTHENTICATION = "OWASP ASVS 5.0, chapter V6"


def _words(pattern: str) -> re.Pattern[str]:
    """Compile a pattern of words, between underscores, dots or ends."""
    return re.compile(rf"(^|[_.])(?:{pattern})(?=$|[_.0-9])")


# The first that fits is taken.
KINDS: tuple[KindRule, ...] = (
    KindRule(
        kind=CredentialKind.RECOVERY_CODE,
        column=_words(r"(recovery|backup|scratch|emergency|rescue)_?codes?"),
        table=_words(r"(recovery|backup|scratch|rescue)_?codes?"),
        keeping=Keeping.SLOWLY_HASHED,
        breaks="NIST SP 800-63B-4, 3.1.2 (look-up secrets)",
        remedy="Keep a hash of each code, and delete it once it is used; print new ones once.",
    ),
    KindRule(
        kind=CredentialKind.OTP_SECRET,
        column=re.compile(
            r"(^|[_.])(totp|hotp|otp|mfa|2fa|tfa|two_?factor(_auth)?|authenticator|google_auth)"
            r"(_(secret|seed|key|base32|token|enc(rypted)?|shared))*$"
            r"|(^|[_.])(otp|totp|mfa|2fa|two_?factor)_\w*(secret|seed|key)"
        ),
        table=_words(
            r"(totp|hotp|otp|mfa|2fa|two_?factor|authenticators?)(_?(devices?|secrets?))?"
        ),
        keeping=Keeping.SEALED,
        breaks="NIST SP 800-63B-4, 3.1.4",
        remedy="Encrypt them under a key that is not in the database; they cannot be hashed.",
    ),
    KindRule(
        kind=CredentialKind.ANSWER,
        column=re.compile(
            r"(^|[_.])(security|secret|hint|challenge|recovery)_?(question_?)?answers?"
            r"|(^|[_.])(mothers?_)?maiden(_name)?$|(^|[_.])(question_?)?answer_?\d?(_hash)?$"
        ),
        keeping=Keeping.SLOWLY_HASHED,
        breaks="NIST SP 800-63B-4, 3.1.1.2 (no prompts for knowledge)",
        remedy="Take the questions out of the login and delete the answers; they open accounts.",
    ),
    KindRule(
        kind=CredentialKind.RESET_TOKEN,
        column=re.compile(
            r"(^|[_.])(reset|forgot(ten)?|recovery|recover|activation|activate|confirm(ation)?"
            r"|unlock|sign_?up|regist(er|ration)"
            r"|verif(y|ication)|invite|invit(ation)?|magic|opt_?in|unsubscribe|change_email)"
            r"(_\w+)*_(token|code|key|hash|digest|secret|link)s?(_(hash|digest))?$"
            r"|(^|[_.])(activation|confirmation|verification|reset)(key|code|token)$"
            r"|(^|[_.])password_?reset(_(token|code|key|hash|digest))?$"
        ),
        table=_words(
            r"(\w+_)?(resets?|forgot(ten)?|activations?|confirmations?|verifications?"
            r"|invit(es?|ations?)|magic_?links?)(_?(tokens?|requests?|codes?|keys?))?"
        ),
        keeping=Keeping.HASHED,
        breaks=_ASVS_AUTHENTICATION,
        remedy="Keep SHA-256 of each token, delete it once it is used or has expired; those that "
        "stand there open accounts today.",
    ),
    KindRule(
        kind=CredentialKind.SESSION_TOKEN,
        column=re.compile(
            r"(^|[_.])(php|jsession|asp)?(session|sess)_?(id|key|token|hash|sid|data|cookie)?s?$"
            r"|(^|[_.])(sid|cookie|csrf|xsrf|remember(_me)?)(_?(token|hash|id|key|value))*$"
            r"|(^|[_.])(login|auth|user)_?token(_hash)?$|^(_?)tokens?(_hash)?$"
        ),
        table=_words(r"(\w+_)?(sessions?|sess|cookies?|remember_?(me|tokens?))"),
        keeping=Keeping.HASHED,
        breaks=_ASVS_TOKENS,
        remedy="Keep SHA-256 of each token, and let it expire; who reads the table is logged in.",
    ),
    KindRule(
        kind=CredentialKind.REFRESH_TOKEN,
        column=re.compile(
            r"(^|[_.])(refresh|access|bearer|oauth2?|id|push|device|fcm|apns|jwt)_?tokens?(_hash)?$"
            r"|(^|[_.])(authori[sz]ation|auth|device)_code(_hash)?$|(^|[_.])jwt$"
        ),
        table=_words(r"(\w+_)?(oauth2?|refresh|access)(_?\w*tokens?|_?grants?)"),
        keeping=Keeping.HASHED,
        breaks=_ASVS_TOKENS,
        remedy="Keep SHA-256 of tokens that you issue; encrypt those that you present to others.",
    ),
    KindRule(
        kind=CredentialKind.API_KEY,
        column=re.compile(
            r"(^|[_.])(api|access|client|app(lication)?|consumer|service|licen[sc]e|webhook"
            r"|signing|hook|integration|partner|merchant|rest)_?(key|secret|token)s?"
            r"(_(hash|digest|value))?$|(^|[_.])(apikey|accesskey|licen[sc]e)s?$"
        ),
        table=_words(r"(\w+_)?(api|access|licen[sc]e|app)_?(keys?|clients?|tokens?)|webhooks?"),
        keeping=Keeping.HASHED,
        breaks=_ASVS_SECRETS,
        remedy="Keep SHA-256 of keys that you issue, with a few readable characters in front; "
        "encrypt those that you present to others.",
    ),
    KindRule(
        kind=CredentialKind.PRIVATE_KEY,
        column=_words(r"private_?key|priv_?key|ssh_?key_?private|secret_?key_?pem|keystore|wallet"),
        keeping=Keeping.SEALED,
        breaks=_ASVS_SECRETS,
        remedy="Take the keys out of the database, into a key store; replace those that were read.",
    ),
    KindRule(
        kind=CredentialKind.SHARED_KEY,
        column=_words(
            r"psk|pre_?shared(_?key)?|shared_?(secret|key)|wpa(_?\w*)?|wifi_?\w*|wlan_?\w*"
            r"|radius_?secret|snmp_?\w*|community(_?string)?|(encryption|hmac|master)_?(key|secret)"
        ),
        keeping=Keeping.SEALED,
        breaks=_ASVS_SECRETS,
        remedy="Encrypt them under a key that is not in the database; devices need them as such.",
    ),
    KindRule(
        kind=CredentialKind.PIN,
        column=_words(r"pin_?(code|number|hash|digest)?|(card|door|locker)_?(pin|code)|tan"),
        keeping=Keeping.SLOWLY_HASHED,
        breaks="NIST SP 800-63B-4, 3.1.1.2",
        remedy="A PIN falls to ten thousand guesses whatever its hash: count its failures, and "
        "keep the hash under a key that is not in the database.",
    ),
    KindRule(
        kind=CredentialKind.IDENTIFIER,
        column=re.compile(
            r"(^|[_.])(e_?tag|check_?sum|crc(32)?|uuid|guid|nonce|fingerprint|signature|gravatar"
            r"|commit(_?(id|sha|hash))?|revision|rev|blob(_?(id|sha))?|tree(_?sha)?"
            r"|parent_?(sha|hash|commit)|idempotency_?key|dedup\w*|(trace|request|correlation"
            r"|tracking|external|visitor|anonymous|device|client|object|message)_?id"
            r"|object_?key|cache_?key|row_?hash|(content|file|image|picture|photo|avatar|thumb"
            r"|document|attachment|body|url|link|path|e_?mail|mail|phone|ip|address|name|search"
            r"|query|template|asset|media|video|audio|block|tx|transaction|prev(ious)?|chunk"
            r"|package|source|layer|manifest|index|partition|build|release|version|order)s?_?"
            r"(hash|digest|md5|sha_?1|sha_?256|sha_?512|sum|checksum|fingerprint)(_?sum)?)$"
            r"|(^|[_.])public_?key$|_id$"
        ),
    ),
    # What is called a token without saying of what.
    KindRule(
        kind=CredentialKind.SESSION_TOKEN,
        column=re.compile(r"_?tokens?(_(hash|digest|value))?$"),
        table=None,
    ),
)
RULES_OF_KINDS: Mapping[CredentialKind, KindRule] = MappingProxyType(
    {rule.kind: rule for rule in reversed(KINDS)}
)
_BEGINS_KEY = re.compile(r"-----BEGIN [A-Z ]*PRIVATE KEY|PuTTY-User-Key-File")
_MOST = 0.5
# Characters of the shortest; what is drawn at random stands once for each person.
_SHORTEST: Mapping[CredentialKind, int] = MappingProxyType(
    {
        CredentialKind.PIN: 3,
        CredentialKind.RECOVERY_CODE: 6,
        CredentialKind.OTP_SECRET: 10,
        CredentialKind.RESET_TOKEN: 4,
        CredentialKind.SESSION_TOKEN: 12,
        CredentialKind.REFRESH_TOKEN: 12,
        CredentialKind.API_KEY: 12,
        CredentialKind.PRIVATE_KEY: 30,
        CredentialKind.SHARED_KEY: 4,
    }
)
_DRAWN = frozenset(
    {
        CredentialKind.RECOVERY_CODE,
        CredentialKind.OTP_SECRET,
        CredentialKind.RESET_TOKEN,
        CredentialKind.SESSION_TOKEN,
        CredentialKind.REFRESH_TOKEN,
        CredentialKind.API_KEY,
    }
)


def kind_by_names(column: str, table: str) -> CredentialKind | None:
    """Tell the kind by the folded names of a column and of its table; None for no such kind."""
    if _PLAIN_WORD.search(column):
        for rule in KINDS:
            if rule.table is not None and rule.table.search(table):
                return rule.kind
    return next((rule.kind for rule in KINDS if rule.column.search(column)), None)


def kind_by_content(texts: Sequence[str]) -> CredentialKind | None:
    """Tell what says itself that it is no password."""
    keys = sum(bool(_BEGINS_KEY.match(text)) for text in texts)
    return CredentialKind.PRIVATE_KEY if keys > _MOST * len(texts) else None


def may_be_of(kind: CredentialKind, texts: Sequence[str]) -> bool:
    """Tell whether texts can be of a kind: long enough, and no states, numbers or dates."""
    shortest = _SHORTEST.get(kind, 1)
    long_enough = sum(len(text) >= shortest for text in texts)
    is_drawn = kind in _DRAWN
    different = len(set(texts)) >= _MOST * len(texts) or not is_drawn
    return long_enough > _MOST * len(texts) and different


def is_slow(texts: Sequence[str]) -> bool:
    """Tell values of slow schemes, as logins make them."""
    return sum(read_value(text).kind in SLOW for text in texts) > _MOST * len(texts)


def is_readable(text: str) -> bool:
    """Tell whether a value stands there as it is presented, as far as its form tells.

    Digits of a digest's length may be a hash, or drawn so: they are not called readable.
    """
    parsed = read_value(text)
    is_digest = parsed.kind in {Kind.FAST, *SLOW}
    return not is_digest and parsed.kind is not Kind.LOCKED and parsed.layout != PREFIXED_HEX
