"""What an attacker pays for an audited column, as rows of text and as a document."""

from __future__ import annotations

import math
from typing import TYPE_CHECKING

from lean_tumbler.core.tuning.exposure import SPEND_EACH, exposures
from lean_tumbler.reports.wording import duration, guess_count, money, share_cracked

if TYPE_CHECKING:
    from lean_tumbler.core.audit.results import Profile
    from lean_tumbler.core.tuning.attacker import Attacker
    from lean_tumbler.core.tuning.exposure import Exposure
    from lean_tumbler.reports.documents import Document

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
    f"opens if ${SPEND_EACH:.2f} is spent on each; docs/ATTACKER.md says how far off all may be"
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
                found.reading.scheme,
                guess_count(found.guesses_per_second),
                f"{duration(one.seconds)}, {money(one.money)}",
                f"{duration(every.seconds)}, {money(every.money)}",
                share_cracked(found.opened),
            )
        )
    return rows


def attack_document(profile: Profile, attacker: Attacker) -> Document:
    """Give all of it as a part of the audit's document."""
    return {
        "hardware": attacker.hardware.name,
        "groups": [_entry(found) for found in _exposures(profile, attacker)],
    }


def _exposures(profile: Profile, attacker: Attacker) -> list[Exposure]:
    groups = ((reading, affected.rows) for reading, affected in profile.groups.items())
    return exposures(groups, attacker)


def _entry(found: Exposure) -> Document:
    rate = found.guesses_per_second
    return {
        "scheme": found.reading.scheme,
        "grade": found.reading.grade,
        "rows": found.rows,
        "guesses_per_second": round(rate, 1) if math.isfinite(rate) else None,
        "all_at_once": found.together,
        "likeliest": [
            {
                "guesses": guesses,
                "seconds_one_account": round(one.seconds, 4),
                "money_one_account": round(one.money, 4),
                "seconds_all_accounts": round(every.seconds, 4),
                "money_all_accounts": round(every.money, 4),
            }
            for guesses, (one, every) in found.likeliest.items()
        ],
        "money_each": SPEND_EACH,
        "share_cracked": round(found.opened.share, 4),
        "share_is_at_most": found.opened.is_at_most,
    }
