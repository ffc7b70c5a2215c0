"""Of what the texts of one length are a mixture, by expectation and maximisation.

Dempster, Laird and Rubin, Journal of the Royal Statistical Society B 39 (1977).
"""

from collections.abc import Callable, Sequence
from math import log2

from lean_tumbler.core.likelihood import typed_bits
from lean_tumbler.core.reading.digest_kinds import KINDS, DigestKind

EVIDENCE_BITS = 12.0  # one false alarm in some four thousand classes
_ROUNDS = 10
_COUNTING_BITS = 50.0
_MOST_KINDS = 3  # of one length
_LEAST = 1e-300


def _of(alphabet_size: int, holds: Callable[[str], bool]) -> Callable[[str], float | None]:
    """Give the bits of a text that a program draws from an alphabet."""
    bits = log2(alphabet_size)
    return lambda text: len(text) * bits if holds(text) else None


# What texts are that are no digests, beside what people make up. How many there are of each
# length is free: managers have favourite lengths.
_OTHERS: tuple[Callable[[str], float | None], ...] = (
    _of(10, str.isdigit),
    _of(36, lambda text: text.isalnum() and text == text.lower()),
    _of(36, lambda text: text.isalnum() and text == text.upper()),
    _of(62, str.isalnum),
    _of(72, bool),
    _of(94, bool),
)


class Mixture:
    """The texts of one length in a column.

    Args:
        texts: some of them, each with how many it stands for.
        total: texts of the column, of whatever length.
    """

    def __init__(self, texts: Sequence[tuple[str, float]], total: int) -> None:
        self._texts = [text for text, _ in texts]
        self._weights = [weight for _, weight in texts]
        self._total = total
        self._others = max(0.0, total - sum(self._weights))
        self._known = [[-typed_bits(text) for text in self._texts]]
        self._known += [[_minus(look(text)) for text in self._texts] for look in _OTHERS]
        self._best_known = [max(logs) for logs in zip(*self._known, strict=True)]

    def kinds(self, length: int) -> list[tuple[DigestKind, float]]:
        """Give the kinds of digests among them, each with its share of the column."""
        found: list[tuple[DigestKind, list[float]]] = []
        candidates = self._candidates(length)
        if not candidates:
            return []
        best = self._fitted([])[0]
        while candidates and len(found) < _MOST_KINDS:
            beside = [logs for _, logs in found]
            tried = [
                (self._fitted([*beside, logs])[0] - kind.prior_bits, number)
                for number, (kind, logs) in enumerate(candidates)
            ]
            bits, number = max(tried)
            kind, logs = candidates.pop(number)
            gained = bits - best
            if gained < EVIDENCE_BITS:
                break
            share = self._fitted([*beside, logs])[1][-1]
            if gained < kind.least_bits_each(length) * share * self._total:
                continue  # too little for each: words of an odd kind, and no digests
            best = bits + kind.prior_bits
            found.append((kind, logs))
        _, shares = self._fitted([logs for _, logs in found])
        return [(kind, share) for (kind, _), share in zip(found, shares, strict=True)]

    def _candidates(self, length: int) -> list[tuple[DigestKind, list[float]]]:
        """Give the kinds that explain some text better than all that is no digest."""
        found = []
        for kind in KINDS:
            if kind.lengths and length - kind.padding not in kind.lengths:
                continue
            logs = [_minus(kind.bits(text)) for text in self._texts]
            if any(log > best for log, best in zip(logs, self._best_known, strict=True)):
                found.append((kind, logs))
        return found

    def _fitted(self, digests: Sequence[list[float]]) -> tuple[float, list[float]]:
        """Fit the shares, and give the likelihood in bits and the shares of the digests."""
        columns = [*self._known, *digests]
        rows = [_relative(logs) for logs in zip(*columns, strict=True)]
        here = sum(self._weights) / self._total
        shares = [1 - here] + [here / len(columns)] * (len(columns) - 1)
        for _ in range(_ROUNDS):
            counts = [0.0] * len(columns)
            for weight, (_, chances) in zip(self._weights, rows, strict=True):
                each = weight / (sum(shares[place] * chance for place, chance in chances) or _LEAST)
                for place, chance in chances:
                    counts[place] += each * shares[place] * chance
            # What people make up stands at other lengths too.
            counts[0] += self._others
            shares = [count / self._total for count in counts]
        bits = self._others * log2(max(shares[0], _LEAST)) if self._others else 0.0
        for weight, (most, chances) in zip(self._weights, rows, strict=True):
            mixed = sum(shares[place] * chance for place, chance in chances)
            bits += weight * (most + log2(max(mixed, _LEAST)))
        return bits, shares[len(self._known) :]


_NEVER = -1e9


def _minus(bits: float | None) -> float:
    return _NEVER if bits is None else -bits


def _relative(logs: Sequence[float]) -> tuple[float, list[tuple[int, float]]]:
    """Give the largest logarithm, and the chances relative to it that count beside it."""
    most = max(logs)
    least = most - _COUNTING_BITS
    return most, [(place, 2.0 ** (log - most)) for place, log in enumerate(logs) if log > least]
