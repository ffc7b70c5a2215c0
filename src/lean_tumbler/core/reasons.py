"""Why a row is not written: one list for all steps, each reason with what settles it."""

from enum import StrEnum


class Reason(StrEnum):
    """One reason, as the sentence that people read."""

    # what settles it, as a sentence without its full stop; empty where nothing must be done
    remedy: str
    # whether nobody has to look at such rows one by one: nothing is to be done, or the same for all
    # of them
    is_settled: bool

    def __new__(cls, sentence: str, remedy: str = "", is_settled: bool = False) -> "Reason":
        """Make a member of its sentence, with what belongs to it."""
        member = str.__new__(cls, sentence)
        member._value_ = sentence
        member.remedy, member.is_settled = remedy, is_settled
        return member

    # What the value is.
    NO_VALUE = "no value", "", True
    LOCKED = "locked: no password opens it", "", True
    LAYERED = "already layered: replaced at login", "", True
    CURRENT = "current: neither this step nor a login changes it", "", True
    REWRITTEN = "current, but not what the target writes: replaced at login", "", True
    NOT_UNDERSTOOD = "not understood", "look at one with `explain --store NAME --account KEY`"
    REMNANT = (
        "a remnant of a failed write: no password opens it",
        (
            "these accounts need a reset; find the code that ignored an error, or did not wait "
            "for a result"
        ),
    )
    NO_COHORT = (
        "no cohort of the policy says how it was made",
        (
            "declare a cohort that says how they were made; `formula solve` finds it from known "
            'accounts; if every one is a password, declare plain_text = "all"'
        ),
    )
    TEXT_UNDECLARED = (
        "reads as plain text, and no cohort says so",
        "if they are passwords, declare a cohort with plain_text = true",
    )
    MAY_BE_DIGEST = (
        "may be a digest, so it is not taken for plain text",
        (
            "declare a cohort that says how they were made; if every one is a password, one with "
            'plain_text = "all"'
        ),
    )
    STRUCTURED_TEXT = (
        "a text with a structure; no login has proven that it is a password",
        "prove it with a known account of such a row; or name the class in plain_text",
    )
    TWO_CLAIM_IT = (
        "one cohort says that it is a digest, another that it is a password",
        "a condition (`when`) that tells these cohorts apart decides it",
    )
    ONLY_SHAPE = (
        "only its shape says what it may be: no cohort and no other row confirms it",
        "declare a cohort for them: by its scheme, by a formula, or as plain text",
    )
    WAYS_DIFFER = (
        "several formulas fit, and their digests differ",
        "a condition (`when`) that tells these cohorts apart decides it",
    )
    KEY_MISSING = (
        "under a key that is not there",
        "name the key in [keys], and the realm in [target]; `keys check` tries each key",
    )
    MOVED = (
        "moved from another row, or damaged: no password opens it",
        (
            "find who wrote it; put the account's own value back from a backup, or give it a new "
            "one with `set-password`"
        ),
    )
    NOT_SEALABLE = (
        "neither layered nor of a slow scheme: no key goes over it",
        "layer it first (`layer`), or wait for its login",
        True,
    )
    UNDER_NO_KEY = "under no key", "", True
    KEYED_ALREADY = "under the key of new values already", "", True
    NO_ACCOUNT = (
        "nothing names its row, and new values are bound to it",
        "name the column “account”, or set bound_to to “realm”",
    )
    # What could be written.
    HEAD_TOO_LONG = (
        "an input of its formula is too long for a layered value",
        "the next login replaces them",
    )
    AT_NEXT_LOGIN = (
        "the target cannot be layered over a digest: replaced at login",
        (
            "with layer_with in [target] they are layered now; check first that every program can "
            "verify a layered value"
        ),
    )
    READERS_OF_TARGET = (
        "no stock function of [target] verified_by verifies a layered value: replaced at login",
        (
            "with layer_with in [target] they are layered now, for programs that use the check of "
            "docs/FORMATS.md"
        ),
    )
    PREPARED = "a formula under a slow scheme: replaced at login", "", True
    NOT_STORABLE = (
        "its password cannot be stored in a new value",
        "these accounts need a reset",
    )
    LAYER_TOO_WEAK = "layered below the floor: replaced at login", "", True
    LOSSY = (
        "other passwords open it too",
        "it stays layered; replace_lossy = true in the store's policy has logins replace it",
        True,
    )
    CASE_UNSETTLED = (
        "whether letter case counts is not settled",
        "a known account or a login with a capital letter settles it",
        True,
    )
    # What is known of the row.
    LOGIN_REPEATED = (
        "its login is not unique",
        (
            "if a column tells live rows from deleted ones, name it in [store.NAME.rows]; "
            "otherwise give each row a login of its own"
        ),
    )
    UNPROVEN = (
        "no account of its cohort is known to open",
        (
            "prove it with known accounts (`verify KNOWN`), or with logins (`serve` while the "
            "application still checks)"
        ),
        True,
    )
    TOO_FEW = (
        "too few accounts of its cohort are known to open",
        "add known accounts, observe more logins, or accept the figure with --error-bound",
        True,
    )
    CONTRADICTED = (
        "accounts of its cohort were refused",
        "look at them with `verify KNOWN`: are they of another generation, or is a password wrong?",
        True,
    )
    REFUSED_ITSELF = (
        "its own known password did not open it",
        "look at the account with `verify KNOWN`",
    )
    CAME_LATER = (
        "it came after the proof of its cohort",
        "prove the cohort again with an account among the newer rows",
        True,
    )
    STRATUM_UNKNOWN = (
        "older or newer than all accounts that prove its cohort",
        "add a known account of these years",
        True,
    )
    # What the store says.
    OBSERVED = (
        "the store observes",
        'set mode = "upgrade" once the verdicts of the new check agree with the old one',
        True,
    )
    READERS_NOT_READY = (
        "not every program that checks passwords has the new check",
        "set readers_ready once they have",
        True,
    )
    EMBEDDED_BEHIND = (
        "a file of `embed` that the policy names is not what would be written now",
        "`embed --check FILE` says which; write it again, deploy it, and the same again",
        True,
    )
    OUTSIDE_SHARE = "outside the share that is upgraded now", "", True
    STOPPED = (
        "upgrades of the store are stopped",
        (
            "fewer logins than before were admitted: look at the alert; reading the policy "
            "again goes on"
        ),
        True,
    )
    TOO_NARROW = (
        "the column is too narrow for what would be written",
        "`plan` prints the statement that widens it",
        True,
    )
    NO_WAY_BACK = (
        "nothing says how to put the old values back",
        "seal them with --backup FILE --to PUBLICKEY, or say --no-backup",
        True,
    )
    # What a step that closes accounts looks at.
    NOT_WEAK = "current, or locked already", "", True
    SEEN = "seen since", "", True
    NOT_LISTED = "not on the list", "", True
    UNDATED = "no date of a last login", "--include-never-seen takes them for never seen", True
    UNREADABLE_DATE = "a date that cannot be read, or has not come yet"
