"""Keyed values of a frame, opened where the key is at hand: the rest of the audit sees within."""

import polars as pl

from lean_tumbler.core.keyring import Closed, Keyring, OpenedValue
from lean_tumbler.core.reading.rows import account_name
from lean_tumbler.core.schemes import keyed

NAME = "name"  # the frame's column of what names a row; values may be bound to it
KEY, MOVED = "key", "moved"  # which key a value is under, and whether it did not open by it


def opened(frame: pl.DataFrame, keyring: Keyring) -> pl.DataFrame:
    """Give a frame with what stands under keys in the place of keyed values.

    Args:
        frame: with `stored`, and with `name` where rows have one.
        keyring: of the policy.

    Returns:
        It, with `key`, which is empty where there is none, and `moved`.
    """
    is_keyed = frame["stored"].str.starts_with(keyed.TAG).fill_null(value=False)
    if not is_keyed.any():
        return frame.with_columns(pl.lit("").alias(KEY), moved=pl.lit(value=False))
    names = frame[NAME] if NAME in frame.columns else pl.Series([None] * frame.height)
    stored = frame["stored"].to_list()
    keys = [""] * frame.height
    moved = [False] * frame.height
    for place in is_keyed.arg_true():
        text, name = stored[place], names[place]
        value = keyed.read(text)
        if value is None:
            continue
        keys[place] = value.head.name
        found = keyring.open(text, account=None if name is None else account_name(name))
        if isinstance(found, OpenedValue):
            stored[place] = found.text
        moved[place] = found is Closed.MOVED
    return frame.with_columns(
        pl.Series("stored", stored, pl.String),
        pl.Series(KEY, keys, pl.String),
        pl.Series(MOVED, moved, pl.Boolean),
    )
