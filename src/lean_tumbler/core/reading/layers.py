"""What may lie below a layer, by its head alone."""

from collections.abc import Iterator, Mapping, Sequence

from lean_tumbler.core.formulas.alternatives import Alternative, alternatives
from lean_tumbler.core.formulas.named import NamedFormula
from lean_tumbler.core.reading.readings import Reading, State
from lean_tumbler.core.reading.ways import Certainty, CryptWay, DerivationWay, FormulaWay, Way
from lean_tumbler.core.schemes import layered
from lean_tumbler.core.schemes.base import ParsedValue
from lean_tumbler.core.schemes.catalogue import CRYPT_SCHEMES, DERIVATIONS


def with_alternatives(formulas: Mapping[str, NamedFormula]) -> dict[str, NamedFormula]:
    """Give all formulas that heads may refer to: those named, and what may stand beside them.

    So a policy in which nothing is untested any more still reads what was layered before.

    Args:
        formulas: by fingerprint.
    """
    beside = (each.formula for named in formulas.values() for each in alternatives(named))
    return {formula.fingerprint: formula for formula in beside} | dict(formulas)


class BelowLayers:
    """Reads the heads of layered values.

    Args:
        formulas: by fingerprint, as the policy declares them.
    """

    def __init__(self, formulas: Mapping[str, NamedFormula]) -> None:
        self._declared = formulas
        self._formulas = with_alternatives(formulas)

    def read(self, text: str, parsed: ParsedValue) -> Reading:
        """Find what may lie below a layer."""
        origins = layered.origins_of(parsed.contents.origin)
        known = dict(self._alternatives(origins))
        ways = {origin: self._way(origin, parsed, known.get(origin)) for origin in origins}
        return Reading(
            state=State.LAYERED,
            text=text,
            parsed=parsed,
            ways=tuple(way for way in ways.values() if way is not None),
            missing=tuple(origin for origin, way in ways.items() if way is None),
        )

    def _way(self, origin: str, parsed: ParsedValue, beside: Alternative | None) -> Way | None:
        contents = parsed.contents
        setting = (parsed.salt or b"").decode("utf-8", "replace")
        if origin in CRYPT_SCHEMES:
            return CryptWay(name=origin, certainty=Certainty.SAID, scheme=origin, setting=setting)
        if origin in DERIVATIONS:
            below = DERIVATIONS[origin].read_setting(setting)
            if below is None or below.scheme != origin:
                return None
            return DerivationWay(name=origin, parsed=below)
        named = self._formulas.get(origin)
        if named is None:
            return None
        login = None if contents.login is None else contents.login.decode("utf-8", "replace")
        return FormulaWay(
            name=named.name,
            certainty=Certainty.SAID,
            formula=named,
            alternative=beside,
            salt=parsed.salt,
            login=login,
            parts=contents.parts,
        )

    def _alternatives(self, origins: Sequence[str]) -> Iterator[tuple[str, Alternative]]:
        """Find which formulas of a head are alternatives of one that the policy declares."""
        left = set(origins)
        for main in origins if len(origins) > 1 else ():
            if main not in self._declared or main not in left:
                continue
            beside = {each.formula.fingerprint: each for each in alternatives(self._declared[main])}
            found = left & beside.keys()
            if len(found) > 1:
                left -= found
                yield from ((origin, beside[origin]) for origin in sorted(found))
