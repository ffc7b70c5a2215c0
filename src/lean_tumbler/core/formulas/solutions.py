"""What a search is given, and what it finds."""

from msgspec import Struct

from lean_tumbler.core.formulas.evaluation import Inputs
from lean_tumbler.core.formulas.search_space import DIGEST_ORDER
from lean_tumbler.core.records import Hidden, MaskedRecord


class SolvedAccount(MaskedRecord, Struct, frozen=True, kw_only=True):
    """What is known of one account: the inputs, and the text that a formula must print."""

    inputs: Hidden[Inputs]
    stored: Hidden[str]


class NearMiss(Struct, frozen=True):
    """A formula that explains some accounts, by their places in the list."""

    formula: str
    explained: tuple[int, ...]


class Solution(Struct, frozen=True, kw_only=True):
    """What the search found."""

    formulas: tuple[str, ...]  # canonical texts that explain every account, the plausible first
    near_misses: tuple[NearMiss, ...]  # those that explain some, the most first
    tried: int  # digests that were computed
    seconds: float  # how long it took
    exhausted: bool  # whether the whole space was searched
    reached: str  # the last stage that was begun, in words
    # the formulas that explain most accounts, and the places of these; None for none
    best: tuple[tuple[str, ...], tuple[int, ...]] | None = None
    led_by: int = 0  # the place of the account that led the search


class Narrowed(Struct, frozen=True, kw_only=True):
    """What a hint leaves of the space: digests, and kinds of formula to try first."""

    digests: tuple[str, ...] = DIGEST_ORDER
    first: str = ""
