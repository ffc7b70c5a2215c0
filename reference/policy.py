"""docs/POLICY.md: every key of the policy with its type, default and meaning, from the tables."""

import re
from collections.abc import Iterator, Mapping
from dataclasses import dataclass, field
from datetime import date
from types import MappingProxyType, NoneType, UnionType
from typing import Annotated, Any, Literal, Union, get_args, get_origin, get_type_hints

import msgspec

from lean_tumbler.core.decryption import Decryption
from lean_tumbler.core.grades import Floor
from lean_tumbler.core.limits import Limits
from lean_tumbler.core.login.new_passwords import NewPasswords
from lean_tumbler.core.policy import Columns
from lean_tumbler.core.policy.model import KeySource
from lean_tumbler.core.policy.tables import (
    CohortTable,
    JoinTable,
    PolicyDocument,
    PrivilegedTable,
    RowsTable,
    StoreTable,
    WriteToTable,
)
from lean_tumbler.core.reasons import Reason
from lean_tumbler.core.schemes.catalogue import DERIVATIONS, TUNED, USUAL_TARGET
from lean_tumbler.core.warrant import NOT_ASKED, Check, Step
from reference.tables import GENERATED, table

_HEAD = f"""\
# The policy

One file, `tumbler.toml`, says where the stores are, how their values came about, what new values
are written with and what counts as current. `lean-tumbler draft SOURCE KNOWN` writes one for your
database, and `lean-tumbler demo` one for the demo, both with comments. {GENERATED}

- An unknown key is an error, and the message names the nearest known one.
- Secrets never stand in it. A key comes from the environment, a file for its owner alone, a systemd
  credential or a helper program.
- A relative path starts from the folder of the policy.

Cohorts, conditions and layouts: [COHORTS.md](COHORTS.md). Formulas: [FORMULAS.md](FORMULAS.md).

## A policy with every table

```toml
EXAMPLE```

With its key, a store of encrypted values is checked like any other. `layer` replaces all of its
values at once, because the passwords are known; a login replaces its own.
"""

# Every key stands in it; a test reads it.
EXAMPLE = """\
[target]                          # what new values are written with
scheme = "argon2id"
memory_kib = 47104
passes = 1
lanes = 1
verified_by = ["php 8.2"]            # the programs that must be able to verify it
layer_with = { memory_kib = 47104, passes = 1, verified_by = ["service"] }  # over digests meanwhile

[floor]                           # the least that counts as current
bcrypt = { cost_log2 = 11 }

[limits]
password_bytes = 512

[new_passwords]
min_length = 12
max_length = 256
words = ["tidepost", "coldharbour"]
composition = []

[formulas]
desk-2009 = "utf-8, hmac-sha256 key desk, hex"

[keys]
desk = { environment = "COLDHARBOUR_DESK_KEY", form = "hex" }
cards = { file = "cards.key" }
pepper-2025 = { credential = "pepper-2025", form = "base64" }  # of a systemd unit
pepper-2026 = { helper = ["/usr/local/bin/vault-key"], form = "base64" }  # asks a vault for it

[store.desk]
locator = "postgresql://127.0.0.1/coldharbour"
table = "credentials"
join = { table = "people", key = "id", by = "person_id" }
readers_ready = 2026-05-01
mode = "upgrade"
share = "5%"
error_bound = "10%"
replicas = ["postgresql://127.0.0.2/coldharbour"]
embedded = ["app/PassengersLogin.php"]   # files of `embed` that bulk steps wait for
replace_lossy = true

[store.desk.columns]
account = "id"
login = "people.email"
stored = "code"
write_to = { column = "pw_hash", empty_stored = true }
salt = "code_salt"
privileged = { column = "role", values = ["master", "purser"] }
last_login = "seen_at"
created = "since"
updated = "changed_at"
origin = "came_from"

[store.desk.rows]
when = 'deleted_at null and kind = "password"'

[store.desk.parts]
rounds = "code_rounds"

[[store.desk.cohort]]
name = "desk-2003"
formula = "utf-8, md5, hex"
untested = ["letter case", "blanks", "encoding"]
when = "created before 2009-07-01"

[[store.desk.cohort]]
name = "terminals"
formula = "utf-8, pbkdf2-sha1 rounds 20 salt, hex"
layout = "{salt:base64}/{rounds}/{digest:hex}"

[[store.desk.cohort]]
name = "old-unix"
scheme = "des-crypt"

[[store.desk.cohort]]
name = "clerks"
plain_text = true
when = 'made_by = "desk"'

[store.cards]                     # a store whose values are encrypted
locator = "cards.csv"
columns = { login = "login", stored = "pw" }

[store.cards.decryption]
cipher = "aes"
mode = "cbc"
key = "cards"
text_encoding = "base64"
padding = "pkcs7"
first_block = "iv"
encoding = "utf-8"

[store.piers]                     # equal tables: piers/pier01.guests, piers/pier02.guests, …
locator = "mysql://tumbler@127.0.0.1/piers"
tables = "pier*.guests"
alike = ["pier01.guests", "pier02.guests"]
columns = { account = "id", login = "email", stored = "pw" }

[store.mailboxes]                 # an export that only the application's own login code reads
locator = "mailboxes.ldif"
columns = { login = "uid", stored = "userPassword" }
checked_by_application = true
"""


@dataclass(frozen=True, slots=True)
class KeyTable:
    """One table of the policy: how it is written, and the structure that reads it."""

    name: str
    structure: type
    left_out: frozenset[str] = field(default_factory=frozenset)


TABLES = (
    KeyTable("the whole file", PolicyDocument),
    KeyTable("[store.NAME]", StoreTable),
    KeyTable("[store.NAME.columns]", Columns, frozenset({"privileged_values"})),
    KeyTable("privileged = { … }", PrivilegedTable),
    KeyTable("write_to = { … }", WriteToTable),
    KeyTable("join = { … }", JoinTable),
    KeyTable("[store.NAME.rows]", RowsTable),
    KeyTable("[[store.NAME.cohort]]", CohortTable),
    KeyTable("[store.NAME.decryption]", Decryption),
    KeyTable("[keys] NAME = { … }", KeySource),
    KeyTable("[limits]", Limits),
    KeyTable("[new_passwords]", NewPasswords),
)
_TYPES: Mapping[object, str] = MappingProxyType(
    {str: "text", int: "number", bool: "true or false", date: "date", NoneType: ""}
)
# Of columns that a table can say more of.
_OTHER_TYPES = MappingProxyType({"privileged": "text or table", "account": "text or list of text"})
_COLUMNS = ("key", "type", "default", "meaning")
_NO_DEFAULT = frozenset({"", "()", "{}", "[]", "None"})


def policy_page() -> str:
    """Write the page."""
    parts = [_HEAD.replace("EXAMPLE", EXAMPLE)]
    for each in TABLES:
        parts.append(f"\n## `{each.name}`\n\n{_summary(each.structure)}\n\n")
        parts.append(table(_COLUMNS, _rows(each)))
    return "".join([*parts, *_of_schemes(), *_of_warrants()])


def _rows(each: KeyTable) -> Iterator[tuple[str, ...]]:
    meanings = meanings_of(each.structure)
    types = get_type_hints(each.structure, include_extras=True)
    for name, default in _defaults(each.structure).items():
        if name not in each.left_out:
            words = _OTHER_TYPES.get(name) if each.structure is Columns else None
            yield f"`{name}`", words or _type_in_words(types[name]), default, meanings[name]
    if each.structure is Columns:
        meaning = "the column that takes the place of `stored`: a name, or a table (see below)"
        yield "`write_to`", "text or table", "", meaning


def _defaults(structure: type) -> dict[str, str]:
    """Give the keys of a structure, each with its default as TOML writes it."""
    fields = msgspec.inspect.type_info(structure).fields  # type: ignore[attr-defined]
    return {each.name: _as_toml(each.default) for each in fields}


def _as_toml(default: object) -> str:
    if default is msgspec.NODEFAULT or repr(default) in _NO_DEFAULT:
        return ""
    if isinstance(default, bool):
        return f"`{str(default).lower()}`"
    return f"`{default}`" if isinstance(default, int) else f'`"{default}"`' if default else ""


def _type_in_words(hint: Any) -> str:
    if get_origin(hint) is Annotated:
        return _type_in_words(get_args(hint)[0])
    arguments = [each for each in get_args(hint) if each not in (Ellipsis, NoneType)]
    match get_origin(hint):
        case None:
            return _TYPES.get(hint, "value")
        case kind if kind is Literal:
            return " or ".join(f'`"{each}"`' for each in arguments)
        case kind if kind in (Union, UnionType):
            return " or ".join(map(_type_in_words, arguments))
        case kind if kind in (list, tuple):
            inner = _type_in_words(arguments[0])
            return "list of tables" if inner == "table" else f"list of {inner}"
        case _:
            return "table"


def _summary(structure: type) -> str:
    text = (structure.__doc__ or "").partition("\n\n")[0]
    return " ".join(text.split())


def meanings_of(structure: type) -> dict[str, str]:
    """Give what each attribute of a structure means, from its docstring."""
    listed = (structure.__doc__ or "").partition("Attributes:\n")[2]
    found = re.findall(r"^ {8}(\w+): (.*(?:\n {12}.*)*)", listed, re.MULTILINE)
    return {name: " ".join(meaning.split()) for name, meaning in found}


def _floor_in_words(scheme: str) -> str:
    return ", or ".join(
        " and ".join(f"`{name}` {number:,}" for name, number in each.items())
        for each in Floor().alternatives.get(scheme, ())
    )


def _of_warrants() -> Iterator[str]:
    """Write which checks each step passes before it writes a row."""
    yield (
        "\n## What may be written\n\n"
        "One place decides whether a row may be written, by which step, and now. Where a check is "
        "not asked, the table says why. A store without `readers_ready` observes, whatever `mode` "
        "says: no login and no step writes to it. What a row holds is decided beside: see "
        "[COHORTS.md](COHORTS.md).\n\n"
    )
    rows = (
        (str(step), *(NOT_ASKED.get((step, check), "asked") for check in Check)) for step in Step
    )
    yield table(("step", *map(str, Check)), rows)
    yield (
        "\nThe reasons for which a row is left, and what settles them; `plan`, dry runs and runs "
        "give the same:\n\n"
    )
    yield table(("reason", "what settles it"), ((str(each), each.remedy) for each in Reason))


def _of_schemes() -> Iterator[str]:
    """Write the costs that [target] and [floor] take."""
    yield (
        "\n## `[target]` and `[floor]`\n\n"
        f"`scheme` names what new values are written with; without it, `{USUAL_TARGET}`. Beside it "
        "stand the costs of that scheme. `verified_by` lists languages with versions, like "
        "`php 8.2`: a target that one of them cannot verify is refused (see "
        "[LANGUAGES.md](LANGUAGES.md)). "
        "`layer_with` is a table of its own: the scheme and costs that `layer` lays over digests, "
        "where that is not the target, and as `verified_by` who verifies layered values: "
        "`service`, `library` or `own check` (by [FORMATS.md](FORMATS.md)). "
        "`lean-tumbler tune --save` writes the table from a measurement.\n\n"
        "`keyed_by` names a key of `[keys]` that all new values go under; "
        "[KEYED-VALUES.md](KEYED-VALUES.md) says what that protects, and from whom. `realm` is a "
        "name for this place, which every value is bound to and which must never change. "
        "`bound_to` is `account` (the default: a value copied to another row does not open) or "
        "`realm`. With `keyed_by`, `verified_by` must be empty and no store may be a directory: "
        "only `serve` and the library open such values.\n\n"
        "`[floor]` has a table for each scheme, or a list of tables that count as equal. A scheme "
        "that it leaves out keeps the published floor.\n\n"
    )
    rows = (
        (
            derivation.scheme,
            f"`{cost.name}`",
            f"{cost.lowest:,} to {cost.highest:,}",
            f"`{derivation.defaults[cost.name]}`",
            _floor_in_words(derivation.scheme) if cost is derivation.parameters[0] else "",
        )
        for derivation in sorted(DERIVATIONS.values(), key=lambda each: each.scheme not in TUNED)
        for cost in derivation.parameters
    )
    yield table(("scheme", "cost", "range", "default", "floor"), rows)
