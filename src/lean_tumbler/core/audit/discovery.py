"""Finding the column that holds credentials, by its content and by its name."""

import re
from collections.abc import Mapping, Sequence
from dataclasses import dataclass, replace
from enum import Enum, auto
from typing import Any

from lean_tumbler.core.audit.opening import Opens, columns_that_open
from lean_tumbler.core.policy import Columns
from lean_tumbler.core.schemes.base import PREFIXED_HEX, Kind, Says
from lean_tumbler.core.schemes.catalogue import read_value

SAMPLE_ROWS = 1000
_CONTENT_SHARE = 0.6  # of a sample's values; a mixed column has plain text among its digests

_WORDS = "pw|pwd|pass|passwd|password|passphrase|passcode|secret|credential"
_STORED = re.compile(rf"(^|[_.])(user)?({_WORDS}|hash|digest)s?($|[_.0-9])")
_PASSWORDS = re.compile(rf"(^|[_.])(user)?({_WORDS})s?($|[_.0-9])")
_CLEAR = re.compile(r"(^|[_.])(plain|clear)(_?text)?($|[_.0-9])|(^|[_.])pin(_?(code|number))?$")
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
_PIN = re.compile(r"\d{4,8}")
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
_LOGINS_SHARE = 0.9
_FEW_COLUMNS = 2
_DIGESTS = frozenset({Kind.FAST, Kind.ITERATED, Kind.DERIVATION, Kind.LAYERED})


@dataclass(frozen=True, slots=True, kw_only=True)
class CredentialColumn:
    """A column that holds credentials, and what stands beside it."""

    table: str
    columns: Columns
    opens: Opens | None = None  # the values that its content opens; None where it opens none


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
    digests = sum(parsed.kind in _DIGESTS for parsed in read)
    locked = sum(parsed.kind is Kind.LOCKED for parsed in read)  # says nothing of the others
    if digests and digests >= _CONTENT_SHARE * (len(texts) - locked):
        says_itself = any(parsed.says is not Says.NOTHING for parsed in read)
        return ColumnContent.CREDENTIALS if says_passwords or says_itself else ColumnContent.DIGESTS
    dates = sum(bool(_DATE.fullmatch(text)) for text in texts)
    if _CLEAR.search(name):
        dates -= sum(bool(_PIN.fullmatch(text)) for text in texts)
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
    named = sum(bool(_LOGIN.fullmatch(text)) and not _CODE.fullmatch(text) for text in texts)
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


@dataclass(frozen=True, slots=True, kw_only=True)
class PasswordAttributes:
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


def credential_columns(
    table: str,  # its name
    sample: Mapping[str, Sequence[str | None]],  # for each column, its values in some rows
    known: Columns | None = None,  # roles that somebody named; they are not looked for
    *,
    # takes the names of columns that hold digests, in a table that is of no people
    set_aside: list[str],
) -> list[CredentialColumn]:
    """Find the credentials in one table."""
    roles = roles_beside(tuple(sample), known or Columns())
    kinds = {
        name: content_of(name, values) for name, values in sample.items() if name != roles.salt
    }
    if not _has_logins(sample, roles):
        digests = [name for name, kind in kinds.items() if kind is ColumnContent.DIGESTS]
        kinds |= dict.fromkeys(digests, ColumnContent.OTHER)
        set_aside += digests
    found = {
        name: replace(roles, stored=name)
        for name, kind in kinds.items()
        if kind is not ColumnContent.OTHER
    }
    opened_by: dict[str, Opens] = {}
    for columns in found.values():
        opened_by |= columns_that_open(sample, columns)
    found |= {name: replace(roles, stored=name) for name in opened_by if name not in found}
    return [
        CredentialColumn(table=table, columns=columns, opens=opened_by.get(name))
        for name, columns in found.items()
    ]
