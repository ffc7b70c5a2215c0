"""docs/LANGUAGES.md: what each language's stock functions verify, from the table."""

from lean_tumbler.core.stock_functions import StockFunction, stock_functions
from reference.tables import GENERATED, table

_HEAD = f"""\
# What languages and packages verify

An application that has only what its language brings can check the schemes of its rows here. Where
it uses a package for one primitive, name that: then what is written is what the package reads.
{GENERATED}

Name your programs in the policy, and `tune`, `plan` and `layer` keep to what all of them verify:

```toml
[target]
verified_by = ["php 8.2", "node 20"]       # a language and its version; “core” may follow
# verified_by = ["node 20 bcryptjs 2"]     # a package of it, whose version may be left out
# verified_by = ["go x/crypto", "bcrypt"]  # or a scheme, and a variant: "bcrypt 2y"
```

A target that one of them lacks is refused, with the reason. Without `scheme`, the target is the
first of argon2id, scrypt, bcrypt, pbkdf2-sha256 and pbkdf2-sha512 that all of them verify. Of
bcrypt, the variant is written that all of them take: `$2y$` for PHP, `$2a$` for PostgreSQL.

**Nothing is layered then:** no stock function verifies a layered value, so digests wait for their
owner's next login. `tune` says which choice `verified_by` costs, and `plan` how many rows wait.
Leave it out where your programs use this tool's check, or the twenty lines of
[FORMATS.md](FORMATS.md).

Functions that *take the text* verify a stored value as it is. The others compute the hash: the
program takes salt, costs and digest out of the text, and compares in constant time.

"""
_COLUMNS = (
    "language", "function", "since: verifies", "takes the text", "bounds and needs", "source",
)  # fmt: skip


def languages_page() -> str:
    """Write the page."""
    return _HEAD + table(_COLUMNS, map(_row, stock_functions()))


def _row(found: StockFunction) -> tuple[str, ...]:
    by_version: dict[str, list[str]] = {}
    for scheme, since in found.schemes.items():
        by_version.setdefault(".".join(map(str, since)), []).append(scheme)
    verifies = "; ".join(f"{since}: {', '.join(names)}" for since, names in by_version.items())
    needs = [f"{name} at most {most}" for name, most in found.most.items()]
    needs += [f"bcrypt as {', '.join(found.variants)}"] if found.variants else []
    needs += [f"gone since {'.'.join(map(str, found.until))}"] if found.until else []
    needs += [found.note] if found.note else []
    takes = "yes" if found.takes_text else "no"
    language = f"{found.language} {found.package}".rstrip()
    return language, f"`{found.name}`", verifies, takes, "; ".join(needs), found.source
