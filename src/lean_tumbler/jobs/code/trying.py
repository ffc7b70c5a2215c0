"""Trying formulas of source code on accounts whose password is known."""

import base64
import re
from collections.abc import Iterator, Sequence

from lean_tumbler.core.code.recovered import Recovered
from lean_tumbler.core.formulas.evaluation import Inputs, evaluate
from lean_tumbler.errors import TumblerError
from lean_tumbler.stores.known_accounts import KnownAccount


def opened_by(formula: Recovered, accounts: Sequence[KnownAccount]) -> int:
    """Count the accounts whose stored value a formula computes from their password."""
    return sum(_opens(formula, account) for account in accounts)


def _opens(formula: Recovered, account: KnownAccount) -> bool:
    if formula.steps is None or account.stored is None:
        return False
    keys = {key.name: key.value.reveal() for key in formula.keys if key.value is not None}
    for stored, salt in _parts(formula.layout, account):
        inputs = Inputs(
            password=account.password.reveal(), salt=salt, login=account.login, keys=keys,
            parts={name: text.encode() for name, text in account.others.items()},
        )  # fmt: skip
        try:
            made = evaluate(formula.steps, inputs)
        except TumblerError:
            continue
        if made == _as_stored(stored, is_raw=formula.is_raw):
            return True
    return False


def _as_stored(stored: str, *, is_raw: bool) -> str:
    """Write bytes that are stored as the formula's end writes them."""
    if not is_raw:
        return stored
    if re.fullmatch(r"(?:\\x|0x)?([0-9a-fA-F]{2})+", stored):
        return re.sub(r"^(\\x|0x)", "", stored).lower()
    try:
        return base64.b64decode(stored, validate=True).hex()
    except ValueError:
        return stored


def _parts(layout: str, account: KnownAccount) -> Iterator[tuple[str, bytes | None]]:
    """Give digest and salt of a stored text, as its layout says or the columns do."""
    stored = account.stored.reveal() if account.stored is not None else ""
    if not layout:
        yield stored, account.salt
        # a program may find the salt in the text itself
        for sign in "$:|;.":
            pieces = stored.split(sign)
            if len(pieces) == 2:
                yield pieces[1], pieces[0].encode()
                yield pieces[0], pieces[1].encode()
        return
    pattern = "".join(
        {"{digest}": "(?P<digest>.+)", "{salt}": "(?P<salt>.+?)"}.get(piece, re.escape(piece))
        for piece in re.split(
            r"(\{digest\}|\{salt\})", layout.replace("{{", "{").replace("}}", "}")
        )
    )
    match = re.fullmatch(pattern, stored)
    if match is not None:
        yield match["digest"], match["salt"].encode()
