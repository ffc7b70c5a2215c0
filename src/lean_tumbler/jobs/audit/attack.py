"""What an attacker pays for an audited column, as rows of text and as a document."""

from __future__ import annotations

import math
from typing import TYPE_CHECKING, Annotated

from lean_tumbler.core.tuning.exposure import SPEND_EACH, exposures
from lean_tumbler.reports.documents import DocumentPart, Rows, Scheme
from lean_tumbler.reports.wording import duration, guess_count, money, share_cracked

if TYPE_CHECKING:
    from lean_tumbler.core.audit.results import Profile
    from lean_tumbler.core.tuning.attacker import Attacker
    from lean_tumbler.core.tuning.exposure import Exposure

_SHOWN_GUESSES = 10**6

ATTACK_HEADINGS = (
    "scheme",
    "guesses/s",
    f"{_SHOWN_GUESSES:,} likeliest at one account",
    "at all",
    f"open for ${SPEND_EACH:.2f} each",
)
ATTACK_MEANING = (
    f"guesses/s: at one value, on this hardware · likeliest: time and price of the "
    f"{_SHOWN_GUESSES:,} passwords that people choose most · open: the share of the accounts that "
    f"opens if ${SPEND_EACH:.2f} is spent on each; for their error see docs/ATTACKER.md"
)


def attack_rows(profile: Profile, attacker: Attacker) -> list[tuple[str, ...]]:
    """Give a row for each scheme that is guessed at, the cheapest first, under the headings."""
    rows: list[tuple[str, ...]] = []
    for found in _exposures(profile, attacker):
        if math.isinf(found.guesses_per_second):
            continue
        one, every = found.likeliest[_SHOWN_GUESSES]
        rows.append(
            (
                found.reading.scheme + (", with its key" if found.reading.keyed_by else ""),
                guess_count(found.guesses_per_second),
                f"{duration(one.seconds)}, {money(one.money)}",
                f"{duration(every.seconds)}, {money(every.money)}",
                share_cracked(found.opened),
            )
        )
    return rows


class LikeliestPart(DocumentPart):
    """What it costs to try the likeliest passwords."""

    guesses: Annotated[int, "passwords that are tried"]
    seconds_one_account: Annotated[float, "time for one account"]
    money_one_account: Annotated[float, "cost for one account, in US dollars"]
    seconds_all_accounts: Annotated[float, "time for all of these accounts"]
    money_all_accounts: Annotated[float, "cost for all of these accounts, in US dollars"]


class AttackedGroup(DocumentPart):
    """Values that are guessed at alike."""

    scheme: Scheme
    grade: Annotated[str, "the grade"]
    rows: Rows
    guesses_per_second: Annotated[float | None, "guesses a second; null for what can be read"]
    needs_key: Annotated[str, "the key without which no guess can be tried; empty for none"]
    all_at_once: Annotated[bool, "whether one guess is tried against all of them at once"]
    likeliest: Annotated[list[LikeliestPart], "time and money of the likeliest passwords"]
    money_each: Annotated[float, "US dollars spent on each account, for the share below"]
    share_cracked: Annotated[float, "part of the accounts that falls, 0 to 1"]
    share_is_at_most: Annotated[bool, "whether that share is an upper bound"]


class AttackPart(DocumentPart):
    """What an attacker pays for a column."""

    hardware: Annotated[str, "the attacker's hardware"]
    groups: Annotated[list[AttackedGroup], "values that are guessed at alike"]


def attack_part(profile: Profile, attacker: Attacker) -> AttackPart:
    """Give all of it as a part of the audit's document."""
    return AttackPart(
        hardware=attacker.hardware.name,
        groups=[_entry(found) for found in _exposures(profile, attacker)],
    )


def _exposures(profile: Profile, attacker: Attacker) -> list[Exposure]:
    groups = ((reading, affected.rows) for reading, affected in profile.groups.items())
    return exposures(groups, attacker)


def _entry(found: Exposure) -> AttackedGroup:
    return AttackedGroup.of(
        found,
        scheme=found.reading.scheme,
        grade=found.reading.grade,
        needs_key=found.reading.keyed_by,
        all_at_once=found.together,
        likeliest=[
            LikeliestPart(
                guesses=guesses,
                seconds_one_account=one.seconds,
                money_one_account=one.money,
                seconds_all_accounts=every.seconds,
                money_all_accounts=every.money,
            )
            for guesses, (one, every) in found.likeliest.items()
        ],
        money_each=SPEND_EACH,
        share_cracked=found.opened.share,
        share_is_at_most=found.opened.is_at_most,
    )
