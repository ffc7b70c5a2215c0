"""The head of a written check: what it is, what its column held, and whether it still holds.

A file says in its head of which store it is, what the column held when it was written, and a
fingerprint of all its other text. So one that was edited is told from one that the policy has left
behind: the latter's text is its own, and is no longer what would be written now.
"""

import hashlib
import re
from collections.abc import Callable, Iterator
from enum import StrEnum

from msgspec import Struct

from lean_tumbler.core.embedding.check import Holds, KindOfWork, StoreCheck
from lean_tumbler.core.embedding.language import Language
from lean_tumbler.core.embedding.registry import LANGUAGES
from lean_tumbler.core.embedding.rendering import filled

_STORE, _COLUMN, _FINGERPRINT = "store: ", "column: ", "fingerprint: "
_KEYED, _FINISHED = "keyed", "finished"
_WIDTH = 90
_HEAD_CHARACTERS = 20_000
LARGEST_BYTES = 1 << 21


class Standing(StrEnum):
    """How a file stands to the policy."""

    CURRENT = "it is what would be written now"
    BEHIND = "the policy says something else now"
    EDITED = "it was edited after it was written"
    FOREIGN = "it is no file of `lean-tumbler embed`"
    MISSING = "it is not there"


class FileHead(Struct, frozen=True, kw_only=True):
    """What a head says."""

    language: str
    store: str
    holds: Holds
    fingerprint: str


def written(language: Language, check: StoreCheck) -> str:
    """Write the file of a check, head and all."""
    text = language.source(check, list(_lines(language, check)))
    return text.replace(f"{_FINGERPRINT}…", f"{_FINGERPRINT}{_fingerprint(text)}", 1)


def _lines(language: Language, check: StoreCheck) -> Iterator[str]:
    yield f"Checks the logins of the store “{check.store}”, and says what to write instead."
    yield ""
    yield f"Written by `lean-tumbler embed {language.name}`, for {language.title}. Do not edit it:"
    yield "`lean-tumbler embed --check FILE` tells, and says when the policy has changed."
    if language.is_finished(check):
        yield ""
        yield "No legacy value was left when it was written: call these two functions in the"
        yield "application's own code, and this file can go."
    needs = language.needed(check)
    if needs:
        yield ""
        yield "It needs:"
        yield from (f"- {need}" for need in needs)
    yield ""
    if not language.is_finished(check):
        yield from language.usage(check)
        yield ""
    yield f"{_STORE}{check.store}"
    yield from filled([_COLUMN.strip(), *_tokens(check.holds)], indent="", width=_WIDTH, mark="")
    yield f"{_FINGERPRINT}…"


def _tokens(holds: Holds) -> Iterator[str]:
    yield from (f"direct={name}" for name in sorted(holds.direct))
    yield from (f"over={name}" for name in sorted(holds.on_top))
    yield from (f"from={name}" for name in sorted(holds.origins))
    yield from (f"layout={name}" for name in sorted(holds.layouts))
    yield from ([_KEYED] if holds.keyed else [])
    yield from ([_FINISHED] if holds.is_finished else [])
    for work in holds.work:
        yield f"work={work.name}x{work.times}"
    yield "end"


def _fingerprint(text: str) -> str:
    without = re.sub(rf"{_FINGERPRINT}\S+", _FINGERPRINT, text, count=1)
    return hashlib.sha256(without.encode("utf-8", "surrogatepass")).hexdigest()


def head_of(text: str) -> FileHead | None:
    """Read the head of a file; None where it is none that this tool wrote."""
    head = text[:_HEAD_CHARACTERS]
    language = re.search(r"Written by `lean-tumbler embed ([a-z]+)`", head)
    store = re.search(rf"{_STORE}(.+)", head)
    column = re.search(rf"{_COLUMN}(.*?) end$", head, re.DOTALL | re.MULTILINE)
    fingerprint = re.search(rf"{_FINGERPRINT}([0-9a-f]{{64}})", head)
    if not (language and store and fingerprint) or language[1] not in LANGUAGES:
        return None
    tokens = column[1].split() if column else []
    return FileHead(
        language=language[1],
        store=store[1].strip(),
        holds=_holds([each for each in tokens if "=" in each or each in {_KEYED, _FINISHED}]),
        fingerprint=fingerprint[1],
    )


def _holds(tokens: list[str]) -> Holds:
    named: dict[str, list[str]] = {}
    for token in tokens:
        name, _, value = token.partition("=")
        named.setdefault(name, []).append(value)
    return Holds(
        direct=frozenset(named.get("direct", ())),
        on_top=frozenset(named.get("over", ())),
        origins=frozenset(named.get("from", ())),
        layouts=frozenset(named.get("layout", ())),
        keyed=_KEYED in named,
        is_finished=_FINISHED in named,
        work=tuple(filter(None, map(_work, named.get("work", ())))),
    )


def _work(text: str) -> KindOfWork | None:
    match = re.fullmatch(r"([a-z0-9-]+):([0-9,]*)x([0-9]+)", text)
    if match is None:
        return None
    return KindOfWork(
        match[1], tuple(int(each) for each in match[2].split(",") if each), int(match[3])
    )


def standing(text: str, again: Callable[[FileHead], str | None]) -> Standing:
    """Say how a file stands to the policy.

    Args:
        text: the file's.
        again: writes it again by its head; None where the policy has no such store.
    """
    head = head_of(text)
    if head is None:
        return Standing.FOREIGN
    if head.fingerprint != _fingerprint(text):
        return Standing.EDITED
    return Standing.CURRENT if again(head) == text else Standing.BEHIND
