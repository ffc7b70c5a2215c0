"""Looking at what the program needs: extras, system libraries, policy, keys and stores."""

import re
import sys
from collections.abc import Iterator, Mapping
from contextlib import closing
from enum import StrEnum
from importlib import metadata
from pathlib import Path
from typing import Annotated

from lean_tumbler.core.policy import APPLICATION, StoragePolicy, StorePolicy
from lean_tumbler.core.schemes.obsolete.system_crypt import crypt_function
from lean_tumbler.errors import TumblerError
from lean_tumbler.reports.documents import Document, DocumentPart, Remedy, named
from lean_tumbler.stores.interface import HasRights
from lean_tumbler.stores.keys import read_keys
from lean_tumbler.stores.kinds import open_store
from lean_tumbler.stores.policy_file import read_policy

PACKAGE = "lean-tumbler"
# What each extra gives, in the order in which people need them.
EXTRAS: Mapping[str, str] = {
    "analysis": "`audit`, `draft`, `tune`, `plan`, `progress`, `residue`, `exposed` and reports",
    "postgresql": "stores on PostgreSQL",
    "mysql": "stores on MariaDB and MySQL",
    "directory": "LDAP directories",
    "service": "`serve`",
    "cluster": "`layer --cluster`",
    "code": "`code`",
    "redis": "`serve --failure-store`",
}
_NAME = re.compile(r"[A-Za-z0-9._-]+")


class Health(StrEnum):
    """How something is."""

    OK = "ok"
    MISSING = "missing"  # nothing is wrong unless it is needed
    WRONG = "wrong"


class Examined(DocumentPart, kw_only=True):
    """One thing that was looked at."""

    what: Annotated[str, "what it is about"]
    state: Annotated[Health, "how it is"]
    says: Annotated[str, "what was found"]
    remedy: Remedy = ""


class DoctorDocument(Document, tag=named("doctor")):
    """All that was looked at."""

    examined: Annotated[list[Examined], "what was looked at"]


def examined(path: Path, environment: Mapping[str, str]) -> Iterator[Examined]:
    """Look at everything, the program first.

    Args:
        path: of the policy.
        environment: where keys are looked up.
    """
    version = ".".join(map(str, sys.version_info[:3]))
    yield Examined(what="program", state=Health.OK,
                   says=f"{PACKAGE} {metadata.version(PACKAGE)} on Python {version}")  # fmt: skip
    yield from _extras()
    yield _libcrypt()
    yield from _policy(path, environment)


def _extras() -> Iterator[Examined]:
    needed: dict[str, list[str]] = {}
    for requirement in metadata.requires(PACKAGE) or ():
        wanted, _, marker = requirement.partition(";")
        extra = marker.partition("extra == ")[2].strip("\"' ")
        if extra and (name := _NAME.match(wanted)):
            needed.setdefault(extra, []).append(name[0])
    for extra, gives in EXTRAS.items():
        missing = [name for name in needed.get(extra, ()) if not _is_installed(name)]
        yield Examined(
            what=f"extra {extra}",
            state=Health.MISSING if missing else Health.OK,
            says=f"gives {gives}" + (f"; missing: {', '.join(missing)}" if missing else ""),
            remedy=f"pip install '{PACKAGE}[{extra}]'" if missing else "",
        )


def _is_installed(name: str) -> bool:
    try:
        metadata.version(name)
    except metadata.PackageNotFoundError:
        return False
    return True


def _libcrypt() -> Examined:
    gives = "checks des-crypt, yescrypt and their kin"
    if crypt_function() is None:
        return Examined(
            what="libcrypt", state=Health.MISSING, says=gives,
            remedy="install the system's package, on Debian libcrypt1",
        )  # fmt: skip
    return Examined(what="libcrypt", state=Health.OK, says=gives)


def _policy(path: Path, environment: Mapping[str, str]) -> Iterator[Examined]:
    if not path.exists():
        yield Examined(
            what="policy", state=Health.MISSING, says=f"{path}: no such file",
            remedy="write one with `lean-tumbler draft SOURCE known.csv`, or name it by --policy",
        )  # fmt: skip
        return
    try:
        policy = read_policy(path)
    except TumblerError as error:
        yield Examined(what="policy", state=Health.WRONG, says=str(error),
                       remedy="mend that line; docs/POLICY.md explains the file")  # fmt: skip
        return
    names = ", ".join(policy.stores)
    yield Examined(what="policy", state=Health.OK, says=f"{path}; stores: {names or 'none'}")
    yield from _keys(policy, path.parent, environment)
    for store in policy.stores.values():
        yield _store(store, path.parent)


def _keys(policy: StoragePolicy, base: Path, environment: Mapping[str, str]) -> Iterator[Examined]:
    try:
        found = read_keys(policy, base=base, environment=environment)
    except TumblerError as error:
        yield Examined(what="keys", state=Health.WRONG, says=str(error),
                       remedy="chmod 600 the file, or mend the key's form")  # fmt: skip
        return
    for name, source in policy.keys.items():
        is_there = name in found
        yield Examined(
            what=f"key {name}", state=Health.OK if is_there else Health.WRONG, says=source.place,
            remedy="" if is_there else "set it: rows that need the key cannot be checked",
        )  # fmt: skip


def _store(store: StorePolicy, base: Path) -> Examined:
    what = f"store {store.name}"
    if store.locator == APPLICATION:
        return Examined(what=what, state=Health.OK, says="kept by the application itself")
    try:
        with closing(open_store(store, base=base)) as opened:
            opened.require_answer()
            if isinstance(opened, HasRights):
                opened.require_readable()
                may = _may_write(store, base)
            else:
                may = ""
    except TumblerError as error:
        return Examined(what=what, state=Health.WRONG, says=str(error),
                        remedy="mend what it says; then run `doctor` again")  # fmt: skip
    except ImportError as error:
        return Examined(what=what, state=Health.WRONG, says=f"the module {error.name} is missing",
                        remedy="install the extra above that is missing")  # fmt: skip
    ready = store.readers_ready
    says = f"answers; {may}" + (
        f"readers ready since {ready}" if ready else "bulk steps write nothing yet"
    )
    remedy = "" if ready else "set readers_ready once every program knows the new check"
    return Examined(what=what, state=Health.OK, says=says, remedy=remedy)


def _may_write(store: StorePolicy, base: Path) -> str:
    """Say whether the account of the policy may write, where it may read."""
    try:
        with closing(open_store(store, base=base, writable=True)) as opened:
            if isinstance(opened, HasRights):
                opened.require_writable()
    except TumblerError:
        return "this account may read it, and not write (docs/RIGHTS.md); "
    return "this account may read and write it; "
