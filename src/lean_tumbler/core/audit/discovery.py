"""Finding the column that holds credentials, by its content and by its name."""

import re
from collections.abc import Mapping, Sequence
from dataclasses import dataclass

from lean_tumbler.core.policy import Columns
from lean_tumbler.core.schemes.base import Kind
from lean_tumbler.core.schemes.catalogue import read_value

SAMPLE_ROWS = 1000
_CONTENT_SHARE = 0.6  # of a sample's values; a mixed column has plain text among its digests

_STORED = re.compile(
    r"(^|[_.])(user)?(pw|pwd|pass|passwd|password|passphrase|passcode|secret|hash|digest|credential)"
    r"s?($|[_.0-9])",
    re.IGNORECASE,
)
# What a column beside the credentials is for, by customary names; the first that fits is taken.
_ROLES = {
    "account": re.compile(r"^(_?id|pk|dn|user_?id|account(_?id)?|uid)$", re.IGNORECASE),
    "salt": re.compile(r"salt", re.IGNORECASE),
    "login": re.compile(r"(^|\.)(login|user_?name|e?mail|e?mail_address|user|uid)$", re.IGNORECASE),
    "last_login": re.compile(r"last_?(login|seen)|seen_on|last_sign", re.IGNORECASE),
    "privileged": re.compile(
        r"^(is_)?(admin|administrator|superuser|privileged|staff)$", re.IGNORECASE
    ),
}
_DATE = re.compile(r"\d{4}-\d\d-\d\d.*|\d{1,2}[./]\d{1,2}[./]\d{2,4}|[\d.:-]+")
_DIGESTS = frozenset({Kind.FAST, Kind.ITERATED, Kind.DERIVATION, Kind.LAYERED})


@dataclass(frozen=True, slots=True, kw_only=True)
class CredentialColumn:
    """A column that holds credentials, and what stands beside it."""

    table: str
    columns: Columns


def holds_credentials(name: str, values: Sequence[str | None]) -> bool:
    """Tell whether a column holds credentials.

    Args:
        name: the column's name.
        values: a sample of its values.
    """
    if _ROLES["salt"].search(name):
        return False
    texts = [value for value in values if value]
    if not texts:
        return False
    digests = sum(read_value(text).kind in _DIGESTS for text in texts)
    if digests >= _CONTENT_SHARE * len(texts):
        return True
    dates = sum(bool(_DATE.fullmatch(text)) for text in texts)
    return bool(_STORED.search(name)) and dates < len(texts) / 2


def credential_columns(
    table: str, sample: Mapping[str, Sequence[str | None]]
) -> list[CredentialColumn]:
    """Find the credentials in one table.

    Args:
        table: its name.
        sample: for each column, its values in some rows.
    """
    roles = {
        role: next((name for name in sample if pattern.search(name)), None)
        for role, pattern in _ROLES.items()
    }
    return [
        CredentialColumn(table=table, columns=Columns(stored=name, **roles))
        for name, values in sample.items()
        if holds_credentials(name, values)
    ]
