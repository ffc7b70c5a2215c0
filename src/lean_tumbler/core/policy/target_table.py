"""The table [target]: what new values are written with, over digests too, and under which key.

The costs of a scheme are read here for [floor] too.
"""

import re
from collections.abc import Mapping, Sequence
from types import MappingProxyType
from typing import Annotated, Any, Literal

from msgspec import Meta, Struct, defstruct

from lean_tumbler.core.keyring import REALM
from lean_tumbler.core.policy.entries import Entries
from lean_tumbler.core.policy.model import DIRECTORY_SCHEMES, LayeredWith, StoragePolicy, Target
from lean_tumbler.core.schemes.catalogue import DERIVATIONS, TUNED, USUAL_TARGET
from lean_tumbler.core.schemes.derivation import Derivation
from lean_tumbler.core.schemes.keyed import KEY_NAME, Bound
from lean_tumbler.core.stock_functions import Program, languages, packages, schemes_for

LAYER_READERS = ("service", "library", "own check")  # the last one by docs/FORMATS.md


def _known_programs() -> str:
    """Name all languages, and the packages of each."""
    return ", ".join(
        language + (f" ({', '.join(packages(language))})" if packages(language) else "")
        for language in languages()
    )


class _Chosen(Struct):
    scheme: str


class TargetTables(Entries):
    """Turns [target] into the target, and refuses one that could not be used."""

    def scheme_named(self, table: str, name: str) -> Derivation:
        """Give a scheme.

        Raises:
            PolicyError: there is none of that name.
        """
        if name not in DERIVATIONS:
            raise self.error(table, f"unknown scheme “{name}”; known: {', '.join(DERIVATIONS)}")
        return DERIVATIONS[name]

    def target(self, entries: Mapping[str, Any]) -> Target:
        """Read the table.

        Raises:
            PolicyError: it has a mistake.
        """
        verified_by = self._verified_by(entries)
        usual = next(iter(schemes_for(verified_by, tuple(TUNED))), USUAL_TARGET)
        chosen = self.read("target", {"scheme": entries.get("scheme", usual)}, _Chosen)
        derivation = self.scheme_named("target", chosen.scheme)
        beside: list[Any] = [
            ("verified_by", list[str], []),
            ("layer_with", dict[str, Any] | None, None),
            ("keyed_by", str, ""),
            ("bound_to", Literal["account", "realm"], "account"),
            ("realm", str, ""),
        ]
        given, parameters = self._costs("target", derivation, entries, beside)
        over = given.layer_with
        return Target(
            chosen.scheme,
            parameters,
            verified_by=verified_by,
            layer_with=None if over is None else self._layer_with(over),
            keyed_by=given.keyed_by,
            bound_to=Bound(given.bound_to),
            realm=given.realm,
        )

    def _layer_with(self, entries: Mapping[str, Any]) -> LayeredWith:
        """Read what lies over digests, and who verifies the result."""
        place = "target.layer_with"
        chosen = self.read(place, {"scheme": entries.get("scheme", USUAL_TARGET)}, _Chosen)
        derivation = self.scheme_named(place, chosen.scheme)
        if derivation.on_top is None:
            able = ", ".join(name for name, found in DERIVATIONS.items() if found.on_top)
            raise self.error(place, f"{chosen.scheme} lies over no digest; these do: {able}")
        beside: list[Any] = [("verified_by", list[str], [])]
        given, parameters = self._costs(place, derivation, entries, beside)
        if not given.verified_by or not set(given.verified_by) <= set(LAYER_READERS):
            raise self.error(
                place,
                "“verified_by” must say who verifies layered values: a list of "
                + ", ".join(LAYER_READERS),
            )
        return LayeredWith(chosen.scheme, parameters, tuple(given.verified_by))

    def _costs(
        self, place: str, derivation: Derivation, entries: Mapping[str, Any], beside: Sequence[Any]
    ) -> tuple[Any, Mapping[str, int]]:
        """Read a scheme with its costs, and what stands beside them."""
        table = defstruct(
            "CostsTable",
            [
                ("scheme", str, derivation.scheme),
                *beside,
                *(
                    (
                        cost.name,
                        Annotated[int, Meta(ge=cost.lowest, le=cost.highest)],
                        derivation.defaults[cost.name],
                    )
                    for cost in derivation.parameters
                ),
            ],
            forbid_unknown_fields=True,
        )
        given = self.read(place, entries, table)
        costs = {cost.name: getattr(given, cost.name) for cost in derivation.parameters}
        return given, MappingProxyType(costs)

    def _verified_by(self, entries: Mapping[str, Any]) -> tuple[Program, ...]:
        given = entries.get("verified_by", [])
        texts = given if isinstance(given, list) else [None]
        found = [Program.named(text) if isinstance(text, str) else None for text in texts]
        if None in found:
            raise self.error(
                "target",
                "“verified_by” must be a list of languages with versions, like "
                '["php 8.2", "node 20"], packages of them, like "node 20 bcryptjs 2", or schemes, '
                f'like "bcrypt"; known: {_known_programs()}',
            )
        return tuple(filter(None, found))

    def check_target(self, policy: StoragePolicy) -> None:
        """Refuse a target that could not be used with the rest of the policy.

        Raises:
            PolicyError: saying why.
        """
        target = policy.target
        if target.hindrances:
            able = ", ".join(schemes_for(target.verified_by, tuple(DERIVATIONS))) or "no scheme"
            raise self.error("target", f"{target.hindrances[0]}; all of verified_by verify: {able}")
        written = [("target", target.scheme, target.parameters)]
        if target.layer_with is not None:
            over = target.layer_with
            written.append(("target.layer_with", over.scheme, over.parameters))
        for place, scheme, costs in written:
            if not policy.floor.reached_by(scheme, costs):
                raise self.error(
                    place,
                    f"{Target(scheme, costs)} is below the floor ({policy.floor.source}); raise it",
                )
            if DERIVATIONS[scheme].memory_kib(costs) > policy.limits.memory_kib:
                raise self.error(place, "asks for more than [limits] memory_kib allows")
        self._check_keyed(policy)

    def _check_keyed(self, policy: StoragePolicy) -> None:
        """Refuse a key over stored values that could not be used, or would lock people out."""
        target = policy.target
        if target.realm and not re.fullmatch(REALM, target.realm, re.ASCII):
            raise self.error("target", "“realm” must be 1 to 64 of a-z, 0-9, “.” and “-”")
        if not target.keyed_by:
            return
        source = policy.keys.get(target.keyed_by)
        if not target.realm:
            problem = "“keyed_by” needs a “realm”: a name for this place that never changes"
        elif not re.fullmatch(KEY_NAME, target.keyed_by, re.ASCII):
            problem = "“keyed_by” must be 1 to 32 of a-z, 0-9, “.” and “-”"
        elif source is None:
            problem = f"“keyed_by” is “{target.keyed_by}”; name it in [keys]"
        elif not source.may_seal:
            problem = f'the key “{target.keyed_by}” must be random: form = "base64" in [keys]'
        elif target.verified_by:
            problem = (
                "“verified_by” names programs that cannot open a value under a key: with "
                "“keyed_by”, only `serve` and the library check passwords"
            )
        else:
            problem = ""
        if problem:
            raise self.error("target", problem)
        self._check_keyed_stores(policy)

    def _check_keyed_stores(self, policy: StoragePolicy) -> None:
        for store in policy.stores.values():
            if store.locator.partition("://")[0] in DIRECTORY_SCHEMES:
                raise self.error(
                    f"store.{store.name}",
                    "a directory checks values itself and cannot open one under a key; put it "
                    "into a policy of its own, without “keyed_by”",
                )
