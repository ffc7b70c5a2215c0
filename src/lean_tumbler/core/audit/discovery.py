"""Finding the column that holds credentials, by its content and by its name."""

import hashlib
import re
from collections.abc import Mapping, Sequence
from enum import Enum, auto
from typing import Any

from msgspec import Struct, field
from msgspec.structs import replace

from lean_tumbler.core.audit.exchanged import exchanged_with
from lean_tumbler.core.audit.kinds import (
    CredentialKind,
    is_slow,
    kind_by_content,
    kind_by_names,
    may_be_of,
)
from lean_tumbler.core.audit.opening import Opens, columns_that_open
from lean_tumbler.core.password_words import PASSWORD_WORDS
from lean_tumbler.core.policy import Columns
from lean_tumbler.core.schemes.base import HASHED, PREFIXED_HEX, Kind, Says
from lean_tumbler.core.schemes.catalogue import read_value

SAMPLE_ROWS = 1000
_CONTENT_SHARE = 0.6  # of a sample's values; a mixed column has plain text among its digests

_STORED = re.compile(rf"(^|[_.])(user)?({PASSWORD_WORDS}|hash|digest)(s|_?hash)?($|[_.0-9])")
_PASSWORDS = re.compile(rf"(^|[_.])(user)?({PASSWORD_WORDS})(s|_?hash)?($|[_.0-9])")
_IS_PASSWORD = re.compile(
    rf"(^|[_.])(user)?({PASSWORD_WORDS})s?(_?\d)?$"
)  # and nothing that is said of it
# What is said of a password in a column beside it.
_SAID_OF = re.compile(
    r"_(type|format|algo(rithm)?|scheme|method|version|encoding|kind|strategy|policy|status|state"
    r"|hint|question|length|count|attempts|failures|tries|age|rounds|iterations|cost)$"
)
_CLEAR = re.compile(r"(^|[_.])(plain|clear)(_?text)?($|[_.0-9])")
# What a column beside the credentials is for, by customary names; the first that fits is taken.
_ROLES = {
    "account": re.compile(r"^(_?id(\.\$oid)?|pk|dn|user_?id|account(_?id)?|uid)$"),
    "salt": re.compile(r"salt"),
    "login": re.compile(r"(^|\.)(login|login_name|user_?name|e_?mail|e?_?mail_address|user|uid)$"),
    "last_login": re.compile(r"last_?(login|seen)|seen_on|last_sign"),
    "created": re.compile(
        r"^(created|joined|registered|signed_?up|sign_?up|member_since|customer_since|added)"
        r"(_(on|at|date|time))?$|^(date|day)_(created|joined|registered|added)$"
    ),
    "privileged": re.compile(
        r"^(is_)?(admin|administrator|superuser|super_user|privileged|staff)$"
    ),
    "origin": re.compile(
        r"^(account_|user_|signup_|sign_up_|registration_)?(source|origin)(_(system|name|code))?$"
        r"|^(imported|migrated|registered|came)_(from|via)$"
    ),
}
# A column of roles, and the roles in it that may do much.
_ROLE_NAMES = re.compile(r"(^|[_.])(roles?|groups?|level|user_type|account_type|rank)($|_)")
_ADMINISTRATOR = re.compile(
    r"(^|_)(admin(istrator)?s?|root|super_?users?|sys_?admins?|sysops?|staff|owners?)($|_)"
)
_MOST_ROLES = 50
_HUMP = re.compile(r"(?<=[a-z0-9])(?=[A-Z])|(?<=[A-Z])(?=[A-Z][a-z])")
_SEPARATORS = re.compile(r"[_\s-]+")
_TIME = re.compile(r"\d{4}-\d\d-\d\d[ T]\d\d:.*")
_DATE = re.compile(r"\d{4}-\d\d-\d\d.*|\d{1,2}[./]\d{1,2}[./]\d{2,4}|[\d.:-]+")
# What stands in columns that say yes or no.
_FLAGS = frozenset({"on", "off", "y", "n", "yes", "no", "t", "f", "true", "false", "0", "1"})
_PEOPLE = re.compile(
    r"(user|person|people|account|member|customer|client|login|owner|employee|staff|passenger)"
)
_VALUE = re.compile(r"(^|_)(value|val|data|content)s?$")
_MOST_ATTRIBUTES = 100
_LOGIN = re.compile(r"[\w.@+-]{2,64}")
_CODE = re.compile(r"[0-9a-fA-F-]+|[\d.:-]+")
_FILE = re.compile(r"\.[A-Za-z]{2,4}\d?$")  # how names of files and hosts end
_LOGINS_SHARE = 0.9
_FEW_COLUMNS = 2
_ROWS_FOLLOWED = 50  # of a sample, whose digests are held against what stands beside them


class CredentialColumn(Struct, frozen=True, kw_only=True):
    """A column that holds credentials, and what stands beside it."""

    table: str
    columns: Columns
    opens: Opens | None = None  # the values that its content opens; None where it opens none
    exchanged_with: str = ""  # the column that holds the stored values in its place; or empty


def folded(name: str) -> str:
    """Write a column's name in small letters with underscores, however its schema writes it."""
    return _SEPARATORS.sub("_", _HUMP.sub("_", name)).lower()


def names_passwords(text: str) -> bool:
    """Tell a word for passwords from one for other kinds of credentials."""
    return _STORED.search(folded(text)) is not None


def names_digests(text: str) -> bool:
    """Tell a word for digests, which may be of anything, from one for passwords."""
    return names_passwords(text) and not _PASSWORDS.search(folded(text))


class ColumnContent(Enum):
    """What a column holds, as far as its name and content say."""

    CREDENTIALS = auto()
    DIGESTS = auto()  # of anything: passwords only where logins stand beside them
    OTHER = auto()


def content_of(name: str, values: Sequence[str | None]) -> ColumnContent:
    """Tell what a column holds.

    Args:
        name: the column's name.
        values: a sample of its values.
    """
    name = folded(name)
    texts = [value for value in values if value]
    if _ROLES["salt"].search(name) or not texts or _FLAGS.issuperset(map(str.lower, texts)):
        return ColumnContent.OTHER
    says_passwords = _PASSWORDS.search(name) is not None
    # Bytes of a digest's length may be a key or an address: there the name decides.
    read = [parsed for parsed in map(read_value, texts) if parsed.layout != PREFIXED_HEX]
    digests = sum(parsed.kind in HASHED for parsed in read)
    locked = sum(parsed.kind is Kind.LOCKED for parsed in read)  # says nothing of the others
    if digests and digests >= _CONTENT_SHARE * (len(texts) - locked):
        says_itself = any(parsed.says is not Says.NOTHING for parsed in read)
        return ColumnContent.CREDENTIALS if says_passwords or says_itself else ColumnContent.DIGESTS
    if _SAID_OF.search(name):
        return ColumnContent.OTHER
    # Numbers and dates are passwords where a name says nothing but that; beside other words they
    # tell when or how often.
    when = _TIME if _IS_PASSWORD.search(name) else _DATE
    dates = sum(bool(when.fullmatch(text)) for text in texts)
    if _CLEAR.search(name):
        return ColumnContent.CREDENTIALS if dates < len(texts) / 2 else ColumnContent.OTHER
    if not _STORED.search(name) or dates >= len(texts) / 2:
        return ColumnContent.OTHER
    return ColumnContent.CREDENTIALS if says_passwords else ColumnContent.DIGESTS


def _has_logins(sample: Mapping[str, Sequence[str | None]], roles: Columns) -> bool:
    """Tell whether a table is of people: by a name, by what looks like logins, or by a reference.

    A table of a column or two is given the benefit of the doubt.
    """
    return (
        len(sample) <= _FEW_COLUMNS
        or _is_of_people(tuple(sample), roles)
        or any(map(_are_logins, sample.values()))
    )


def _are_logins(values: Sequence[str | None]) -> bool:
    texts = [value for value in values if value]
    if not texts:
        return False
    if sum("@" in text for text in texts) >= _CONTENT_SHARE * len(texts):
        return True
    named = sum(
        bool(_LOGIN.fullmatch(text)) and not _CODE.fullmatch(text) and not _FILE.search(text)
        for text in texts
    )
    return named >= _LOGINS_SHARE * len(texts) and len(set(texts)) == len(texts)


def roles_beside(names: Sequence[str], known: Columns) -> Columns:
    """Find what the columns of a table are for, by customary names.

    Args:
        names: of the table's columns.
        known: roles that somebody named; they are not looked for.
    """
    taken = set(known.mapped.values())
    found: dict[str, Any] = {
        role: next((n for n in names if n not in taken and pattern.search(folded(n))), None)
        for role, pattern in _ROLES.items()
        if role not in known.mapped
    }
    return replace(known, **found)


class PasswordAttributes(Struct, frozen=True, kw_only=True):
    """A table of attributes and values, some of which are passwords."""

    attribute: str  # the column that names what a row is of
    value: str  # the column that holds it
    texts: tuple[str, ...]  # the attributes that name passwords


def password_attributes(sample: Mapping[str, Sequence[str | None]]) -> PasswordAttributes | None:
    """Find passwords among rows that each hold one attribute of somebody; None without any.

    Args:
        sample: for each column of a table, its values in some rows.
    """
    value = next((name for name in sample if _VALUE.search(folded(name))), None)
    names = tuple(sample)
    # Settings have passwords too, but nobody's.
    if value is None or not _is_of_people(names, roles_beside(names, Columns())):
        return None
    for name, attributes in sample.items():
        texts = {text for text in attributes if text}
        if name == value or len(texts) > _MOST_ATTRIBUTES:
            continue
        told = {
            text for text in texts if names_passwords(text)
            and content_of(text, [v for t, v in zip(attributes, sample[value], strict=True)
                                  if t == text]) is ColumnContent.CREDENTIALS
        }  # fmt: skip
        if told:
            return PasswordAttributes(attribute=name, value=value, texts=tuple(sorted(told)))
    return None


def _is_of_people(names: Sequence[str], roles: Columns) -> bool:
    """Tell by the names of its columns whether a table is of people."""
    return roles.login is not None or any(_PEOPLE.search(folded(name)) for name in names)


def privileged_values(name: str, values: Sequence[str | None]) -> tuple[str, ...]:
    """Give what stands for an administrator in a column of roles; nothing where it is none.

    Args:
        name: the column's.
        values: all different ones that stand there.
    """
    if not _ROLE_NAMES.search(folded(name)) or len(values) > _MOST_ROLES:
        return ()
    return tuple(sorted(v for v in values if v and _ADMINISTRATOR.search(folded(v))))


class Aside(Struct):
    """Columns that are told apart from passwords."""

    # names of those that hold digests, in tables of no people or beside the passwords
    digests: list[str] = field(default_factory=list)
    kinds: dict[str, CredentialKind] = field(default_factory=dict)  # of what else opens something


def _other_kinds(
    table: str,
    sample: Mapping[str, Sequence[str | None]],
    roles: Columns,
    kinds: Mapping[str, ColumnContent],
) -> dict[str, CredentialKind]:
    """Tell the columns that hold other kinds of credentials than passwords, or none."""
    found = {}
    for name, values in sample.items():
        texts = [value for value in values if value]
        told = kind_by_names(folded(name), folded(table)) or kind_by_content(texts)
        if told is None and kinds.get(name) is ColumnContent.DIGESTS:
            told = CredentialKind.IDENTIFIER if _follows(sample, name, roles) else None
        if not (told and texts and may_be_of(told, texts)) or _are_flags_or_dates(texts):
            continue
        # Of what opens nothing, that alone is told which might be taken for passwords.
        if told.opens_something or kinds.get(name) is not ColumnContent.OTHER:
            found[name] = told
    if not _has_passwords(sample, {n: k for n, k in kinds.items() if n not in found}):
        # What a login checks by a slow scheme is the password there, whatever it is called.
        for name in list(found):
            if roles.login and is_slow([value for value in sample[name] if value]):
                del found[name]
    return found


def _are_flags_or_dates(texts: Sequence[str]) -> bool:
    told = sum(text.lower() in _FLAGS or bool(_TIME.fullmatch(text)) for text in texts)
    return told > len(texts) / 2


def _has_passwords(
    sample: Mapping[str, Sequence[str | None]], kinds: Mapping[str, ColumnContent]
) -> bool:
    """Tell whether a column that is named for passwords is filled in most rows."""
    return any(
        kind is ColumnContent.CREDENTIALS
        and _PASSWORDS.search(folded(name)) is not None
        and sum(bool(value) for value in sample[name]) > len(sample[name]) / 2
        for name, kind in kinds.items()
    )


def _is_old_hash(name: str, sample: Mapping[str, Sequence[str | None]], roles: Columns) -> bool:
    """Tell a hash of passwords that was left beside those in use, by its name."""
    return _has_logins(sample, roles) and _STORED.search(folded(name)) is not None


def _follows(sample: Mapping[str, Sequence[str | None]], name: str, roles: Columns) -> bool:
    """Tell a column of digests of something that its row says anyway: a login, a mail, a URL."""
    sources = [
        other
        for other, values in sample.items()
        if other != name and (other in {roles.login, roles.account} or _says_where(values))
    ]
    rows = [place for place, text in enumerate(sample[name]) if text][:_ROWS_FOLLOWED]
    for source in sources:
        for digest in (hashlib.md5, hashlib.sha1, hashlib.sha256):
            alike = sum(
                digest((sample[source][place] or "").strip().lower().encode()).hexdigest()
                == (sample[name][place] or "").lower()
                for place in rows
            )
            if rows and alike >= _LOGINS_SHARE * len(rows):
                return True
    return False


def _says_where(values: Sequence[str | None]) -> bool:
    texts = [value for value in values if value]
    return sum("@" in text or "://" in text for text in texts) > len(texts) / 2


def with_role(columns: Columns, sample: Mapping[str, Sequence[str | None]]) -> Columns:
    """Add who is an administrator by a column of roles, where no column says yes or no."""
    if columns.privileged:
        return columns
    told = {
        name: values
        for name, texts in sample.items()
        if (values := privileged_values(name, tuple({text for text in texts if text})))
    }
    name = next(iter(told), None)
    return replace(columns, privileged=name, privileged_values=told[name]) if name else columns


def credential_columns(
    table: str,  # its name
    sample: Mapping[str, Sequence[str | None]],  # for each column, its values in some rows
    known: Columns | None = None,  # roles that somebody named; they are not looked for
    *,
    aside: "Aside",  # takes the columns that hold something else than passwords
) -> list[CredentialColumn]:
    """Find the passwords in one table."""
    roles = with_role(roles_beside(tuple(sample), known or Columns()), sample)
    kinds = {
        name: content_of(name, values) for name, values in sample.items() if name != roles.salt
    }
    others = _other_kinds(table, sample, roles, kinds)
    aside.kinds |= others
    kinds |= dict.fromkeys(others, ColumnContent.OTHER)
    if not _has_logins(sample, roles) or _has_passwords(sample, kinds):
        digests = [
            name
            for name, kind in kinds.items()
            if kind is ColumnContent.DIGESTS and not _is_old_hash(name, sample, roles)
        ]
        kinds |= dict.fromkeys(digests, ColumnContent.OTHER)
        aside.digests += digests
    found = {
        name: replace(roles, stored=name)
        for name, kind in kinds.items()
        if kind is not ColumnContent.OTHER
    }
    opened_by: dict[str, Opens] = {}
    for columns in found.values():
        opened = columns_that_open(sample, columns)
        opened_by |= {name: opens for name, opens in opened.items() if name not in others}
    found |= {name: replace(roles, stored=name) for name in opened_by if name not in found}
    return [
        CredentialColumn(
            table=table,
            columns=columns,
            opens=opened_by.get(name),
            exchanged_with=exchanged_with(name, sample) if names_passwords(name) else "",
        )
        for name, columns in found.items()
    ]
