"""Reading JSON that others wrote: nothing in it raises what no caller expects."""

import json
from collections.abc import Callable
from typing import Any, NoReturn


def load_record(text: str | bytes) -> Any:
    """Read JSON as programs write it: numbers that are none (NaN, Infinity) are texts.

    Raises:
        ValueError: as `load_json` does, but for these.
    """
    return _load(text, constant=str)


def load_json(text: str | bytes) -> Any:
    """Read JSON (RFC 8259).

    Raises:
        ValueError: it is none, goes too deep, has numbers that are none or have no end, or gives
            one name twice in an object; the message holds nothing of the text.
    """
    return _load(text, constant=_no_number)


def _load(text: str | bytes, *, constant: Callable[[str], object]) -> Any:
    try:
        return json.loads(text, parse_constant=constant, object_pairs_hook=_once)
    except RecursionError:
        raise ValueError("nested too deep") from None
    except json.JSONDecodeError as error:
        raise ValueError(f"not JSON at character {error.pos + 1}") from None
    except _Refused:
        raise
    except ValueError:  # a number of thousands of digits
        raise ValueError("a number that is too long") from None


class _Refused(ValueError):
    """What this reading refuses, beyond the grammar."""


def _no_number(_: str) -> NoReturn:
    raise _Refused("NaN or Infinity, which JSON does not have")


def _once(pairs: list[tuple[str, Any]]) -> dict[str, Any]:
    found = dict(pairs)
    if len(found) != len(pairs):
        raise _Refused("an object that has one name twice")
    return found
