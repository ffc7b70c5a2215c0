"""Who falls when, after a copy of the table has left the house, and what each must do."""

from collections import Counter
from collections.abc import Iterator, Mapping
from datetime import date

import polars as pl
from msgspec import Struct

from lean_tumbler.core.grades import Grade
from lean_tumbler.core.tuning.attacker import Attacker
from lean_tumbler.core.tuning.leak import LeakedKind, SinceThen, Urgency, opened, urgency
from lean_tumbler.core.tuning.popularity import Opened
from lean_tumbler.stores.scans.leaked import Leaked

_ORDER = list(Urgency)


class ExposedGroup(Struct, frozen=True, kw_only=True):
    """Accounts that the copy holds alike, and that must do the same."""

    kind: LeakedKind  # what the copy holds of them
    since: SinceThen  # what has happened to them
    administrators: bool  # whether they are
    accounts: int  # how many
    # by period, the share that an attacker opens who spends all on these
    falls: Mapping[str, Opened]
    urgency: Urgency  # what must be done


class Exposed(Struct, frozen=True, kw_only=True):
    """What was found."""

    name: str  # the store's
    since: date  # the day on which the copy left
    hardware: str  # the attacker's, in words
    groups: tuple[ExposedGroup, ...]  # the most urgent first
    rows: pl.DataFrame  # every account, as the copy and today's table tell, with `urgency`
    unreadable: int  # rows that could not be read
    by_copy: bool  # whether the copy itself was read, or today's values stand for it

    @property
    def in_copy(self) -> int:
        """How many accounts the copy holds."""
        return sum(group.accounts for group in self.groups if group.since is not SinceThen.MADE)

    @property
    def grades(self) -> Mapping[Grade, int]:
        """The accounts of the copy by grade, where that is known; the worst first."""
        counted: Counter[Grade] = Counter()
        for group in self.groups:
            if group.since not in (SinceThen.MADE, SinceThen.UPGRADED):
                counted[group.kind.grade] += group.accounts
        return {grade: counted[grade] for grade in Grade if counted[grade]}


def judged(name: str, found: Leaked, *, since: date, attacker: Attacker) -> Exposed:
    """Say of all accounts what must be done.

    Args:
        name: the store's.
        found: what the copy holds.
        since: the day on which it left.
        attacker: who has it.
    """
    groups = tuple(sorted(_groups(found, attacker), key=_most_urgent_first))
    place = {(found.kinds.index(group.kind), group.since, group.administrators): group.urgency
             for group in groups}  # fmt: skip
    urgencies = pl.DataFrame(
        [(*key, str(urgent), _ORDER.index(urgent)) for key, urgent in place.items()],
        schema={"kind": pl.UInt32, "since": pl.String, "privileged": pl.Boolean,
                "urgency": pl.String, "order": pl.UInt8},
        orient="row",
    )  # fmt: skip
    rows = found.rows.join(urgencies, on=["kind", "since", "privileged"], maintain_order="left")
    return Exposed(
        name=name,
        since=since,
        hardware=attacker.hardware.name,
        groups=groups,
        rows=rows.sort("order", pl.col("privileged").not_(), maintain_order=True),
        unreadable=found.unreadable,
        by_copy=found.by_copy,
    )


def _groups(found: Leaked, attacker: Attacker) -> Iterator[ExposedGroup]:
    counted = found.rows.group_by("kind", "since", "privileged").len()
    for number, since, administrators, accounts in counted.iter_rows():
        kind, what = found.kinds[number], SinceThen(since)
        falls = opened(kind, accounts, attacker)
        yield ExposedGroup(
            kind=kind,
            since=what,
            administrators=administrators,
            accounts=accounts,
            falls=falls,
            urgency=urgency(kind, what, falls, administrators=administrators),
        )


def _most_urgent_first(group: ExposedGroup) -> tuple[int, bool, int, str, str]:
    order = _ORDER.index(group.urgency)
    return order, not group.administrators, -group.accounts, group.kind.words, group.since
