"""Looking at every byte of a block at once: what occurs how often, and whether quotes pair up."""

from functools import cached_property
from typing import Any

import numpy as np
import numpy.typing as npt

_Positions = npt.NDArray[np.intp]


class Scan:
    """A block of text in an encoding that keeps ASCII, UTF-8 for one.

    Counting a frequent byte this way is several times as quick as `bytes.count`.
    """

    def __init__(self, text: bytes) -> None:
        self._bytes = np.frombuffer(text, np.uint8)

    def _places_of(self, character: str) -> npt.NDArray[np.bool_]:
        found: npt.NDArray[np.bool_] = self._bytes == ord(character)
        return found

    def count(self, character: str) -> int:
        """Count an ASCII character."""
        return int(np.count_nonzero(self._places_of(character)))

    @cached_property
    def _quotes(self) -> _Positions:
        return np.flatnonzero(self._places_of('"'))

    def has_quotes(self) -> bool:
        """Tell whether there is a quote."""
        return self._quotes.size > 0

    def has_only_line_ends(self) -> bool:
        """Tell whether each carriage return, if there is any, stands before a line feed."""
        returns = self._places_of("\r")
        paired = returns[:-1] & (self._bytes[1:] == ord("\n"))
        return bool(np.count_nonzero(returns) == np.count_nonzero(paired))

    def _at(self, positions: _Positions, characters: str) -> npt.NDArray[np.bool_]:
        """Tell for each position whether one of some characters stands there; not outside."""
        inside = (positions >= 0) & (positions < self._bytes.size)
        there = self._bytes[np.where(inside, positions, 0)] if self._bytes.size else positions
        return inside & np.isin(there, np.frombuffer(characters.encode("ascii"), np.uint8))

    def is_well_quoted(self, delimiter: str) -> bool:
        """Tell whether each field is quoted as a whole or not at all (RFC 4180 section 2)."""
        opening, closing = self._quotes[0::2], self._quotes[1::2]
        if opening.size != closing.size:
            return False
        # A quote inside a field is written twice: one seems to close it, the next to open it.
        doubled = closing[:-1] + 1 == opening[1:]
        at_end = closing + 1 == self._bytes.size
        begins = (opening == 0) | self._at(opening - 1, delimiter + "\n")
        ends = at_end | self._at(closing + 1, delimiter + "\r\n")
        begins[1:] |= doubled
        ends[:-1] |= doubled
        return bool(begins.all() and ends.all())

    def count_outside_quotes(self, character: str) -> int:
        """Count an ASCII character where it stands in no quotes."""
        found: Any = np.flatnonzero(self._places_of(character))
        return int(np.count_nonzero(np.searchsorted(self._quotes, found) % 2 == 0))
