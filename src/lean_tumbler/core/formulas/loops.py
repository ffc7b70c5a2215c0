"""Loops: one join before, one inside, and each digest on the way held against what is stored."""

from collections.abc import Callable

from lean_tumbler.core.formulas.search_space import Form, Piece

Final = tuple[str, Callable[[bytes], bytes], tuple[str, ...]]
_BETWEEN: dict[str, Callable[[bytes], bytes]] = {
    "hex": lambda raw: raw.hex().encode("ascii"),
    "hex-upper": lambda raw: raw.hex().upper().encode("ascii"),
}


class LoopSearch:
    """Tries loops for one account."""

    def __init__(
        self,
        *,
        pivot: int,  # which account
        prefix: bytes,  # how the digest begins that is sought
        most: int,  # rounds
        hit: Callable[[tuple[str, ...]], None],  # told of steps that may fit
        count: Callable[[int], None],  # told how many digests were computed
    ) -> None:
        self._pivot, self._prefix, self._most = pivot, prefix, most
        self._hit, self._count = hit, count

    def of(self, start: Piece, first: Form, final: Final, body: Form) -> None:
        """Try one join before a loop, and one inside it: raw digests, then written ones."""
        p = self._pivot
        name, compute, text_encoding = final
        value = first.before[p] + start.values[p] + first.after[p]
        lead, steps = (*start.steps, *first.steps), (*body.steps, name)
        self._loop(lead, value, body, compute, bytes, (steps, text_encoding))
        digest = compute(value)
        if body.steps != first.steps:
            self._loop((*lead, name), digest, body, compute, bytes, (steps, text_encoding))
        for form, between in _BETWEEN.items():
            self._loop(
                (*lead, name, form), between(digest), body, compute, between,
                ((*steps, form), ()),
            )  # fmt: skip

    def _loop(
        self,
        lead: tuple[str, ...],
        value: bytes,
        body: Form,
        compute: Callable[[bytes], bytes],
        between: Callable[[bytes], bytes],
        steps: tuple[tuple[str, ...], tuple[str, ...]],
    ) -> None:
        """Run one loop to its end, looking at each digest; `steps` are those inside and behind."""
        before, after, prefix = body.before[self._pivot], body.after[self._pivot], self._prefix
        inside, behind = steps
        for number in range(1, self._most + 1):
            digest = compute(before + value + after)
            if digest.startswith(prefix):
                loop = (f"{number} times ({', '.join(inside)})",) if number > 1 else inside
                self._hit((*lead, *loop, *behind))
            value = between(digest)
        self._count(self._most)
