"""The steps of the tour: what each shows, and the command lines that are typed."""

from collections.abc import Mapping

from lean_tumbler.demo.bookings import BOOKINGS_KNOWN, BOOKINGS_POLICY
from lean_tumbler.demo.half_year import HALF_YEAR_DAYS
from lean_tumbler.demo.keys_apart import FIRST_KEY, REKEYED, SECOND_KEY
from lean_tumbler.demo.other_stores import AGENTS_KNOWN
from lean_tumbler.demo.portal import (
    GATE,
    KNOWN,
    KNOWN_FEW,
    LAYERED,
    LOCKED,
    RECOVERY,
    REMAINS,
    REPORT,
    RESET,
    SIGN_INS,
)

TourStep = tuple[str, str, *tuple[list[str], ...]]  # title, why, command lines
# So many, so soon, that the demo stays short; a real choice would measure longer and allow more.
WITHIN_MILLISECONDS = 100
LOGINS_PER_SECOND = 25

FIRST_STEPS = (
    (
        "Recover a formula that nobody remembers",
        "The freight agents' values are digests of something. Three passwords are known.",
        ["formula", "solve", AGENTS_KNOWN, "--save", "agents-1998"],
    ),
    (
        "Read it aloud",
        "To be held against the old source, line by line, should anybody find it.",
        ["formula", "show", "agents-1998"],
    ),
    (
        "Prove the legacy formulas",
        "Some passwords are known, from test accounts. Does the policy accept every one?",
        ["verify", KNOWN, "--store", "passengers"],
    ),
    (
        "Choose parameters by measuring",
        f"{LOGINS_PER_SECOND} logins a second, {WITHIN_MILLISECONDS} ms: how costly may a hash be?",
        [
            "tune",
            "--quick",
            "--schemes",
            "argon2id,scrypt",
            "--peak-logins",
            f"{LOGINS_PER_SECOND}/s",
            "--within",
            f"{WITHIN_MILLISECONDS}ms",
            "--save",
        ],
    ),
    (
        "Rehearse",
        "The whole change on a copy, with some accounts whose password is known.",
        ["rehearse", KNOWN_FEW, "--store", "passengers", "--rows", "20"],
    ),
)

STEPS = (
    (
        "Layer now",
        "Every weak value goes under a slow hash at once, without anybody's password.",
        ["keys", "new", RECOVERY],
        ["layer", "--store", "passengers", "--backup", LAYERED, "--to", f"{RECOVERY}.public.pem"],
    ),
    (
        "Accept a figure",
        "Three known clerks are too few for twelve rows. Somebody looks at the rows, and decides.",
        [
            "layer",
            "--store",
            "passengers",
            "--error-bound",
            "50%",
            "--backup",
            LAYERED,
            "--to",
            f"{RECOVERY}.public.pem",
        ],
    ),
    (
        "Prove it again",
        "The same known accounts, against the layered values.",
        ["verify", KNOWN, "--store", "passengers"],
    ),
    (
        "Say when it will be over",
        "Logins take the layers off, one by one. How many will wait on which day?",
        ["progress", "--logins", SIGN_INS],
    ),
)

GENERATIONS = (
    "Several generations in one column",
    "The booking desk has five, told apart by a date, by a layout, or by nothing.",
    ["verify", BOOKINGS_KNOWN, "--policy", BOOKINGS_POLICY, "--store", "desk"],
    ["layer", "--policy", BOOKINGS_POLICY, "--no-backup"],
    ["verify", BOOKINGS_KNOWN, "--policy", BOOKINGS_POLICY, "--store", "desk"],
)

LAST_STEPS = (
    (
        "Close what nobody opens",
        "Who has not come in half a year gets a mail; until then, no password opens the account.",
        ["lock-dormant", "--inactive-days", str(HALF_YEAR_DAYS), "--include-never-seen",
         "--backup", LOCKED, "--to", f"{RECOVERY}.public.pem", "--list", RESET],
    ),
    (
        "Keep it finished",
        "The column itself refuses what is weak from now on, and a job looks every night.",
        ["enforce", "constraint", "--apply"],
        ["enforce", "gate", "--state", GATE],
    ),
    (
        "Sign it off",
        "The last count, and one page for whoever is responsible.",
        ["progress"],
        ["report", "--backup", LOCKED, "--residue", REMAINS,
         "--output", REPORT],
    ),
)  # fmt: skip


# What a reader types on the copy that nobody has touched.
TO_TRY = (
    ["audit", "passengers"],
    ["explain", "--store", "passengers", "--login", "ida.gullwharfer@tidepost.example"],
    ["verify", KNOWN, "--store", "passengers"],
    ["plan", "--logins", SIGN_INS],
    ["progress"],
)

# By key: how it is made, and, once the policy names it, what is done with it.
KEYS: Mapping[str, tuple[TourStep, TourStep]] = {
    FIRST_KEY: (
        (
            "Keep a secret apart",
            "With a key that the database does not hold, a copy of the table lets nobody guess.",
            ["keys", "new", FIRST_KEY, "--over-values", "--copy-for", f"{RECOVERY}.public.pem"],
        ),
        (
            "Put it over every value",
            "Nothing is hashed again, and no password is needed.",
            ["keys", "check"],
            ["rekey", "--backup", REKEYED.format(1), "--to", f"{RECOVERY}.public.pem"],
        ),
    ),
    SECOND_KEY: (
        (
            "Replace it",
            "An old machine was given away with its disk: the key may be known. Another follows.",
            ["keys", "new", SECOND_KEY, "--over-values", "--copy-for", f"{RECOVERY}.public.pem"],
        ),
        (
            "Rotate",
            "Rows move to the new key in bulk; logins would move them too, one by one.",
            ["rekey", "--backup", REKEYED.format(2), "--to", f"{RECOVERY}.public.pem"],
        ),
    ),
}
