"""The findings: code, severity, what each means, and what to do."""

from types import MappingProxyType

from lean_tumbler.core.audit import detectors
from lean_tumbler.core.audit.results import FOLDED, MOVED_VALUE
from lean_tumbler.core.audit.rule import Rule, Severity
from lean_tumbler.core.audit.value_detectors import (
    CommonPassword,
    CutOff,
    DigestOfDigest,
    DrawnAtRandom,
    Encrypted,
    MixedCase,
    UnusualWork,
)
from lean_tumbler.core.grades import Grade
from lean_tumbler.core.schemes.obsolete.remnants import REMNANT

_ASVS = "OWASP ASVS 5.0, 11.4.2"


_NIST = "NIST SP 800-63B-4, 3.1.1.2"


_BELOW = frozenset({Grade.FAST_SALTED, Grade.OUTDATED})


RULES: MappingProxyType[str, Rule] = MappingProxyType(
    {
        "plain-text": Rule(
            severity=Severity.CRITICAL,
            summary="Passwords can be read by anyone who reads the column.",
            breaks=f"{_NIST}; {_ASVS}",
            remedy="Declare a cohort with plain_text = true for the store, then run "
            "`lean-tumbler layer`: these rows become current at once.",
            detect=detectors.ByReading(
                lambda reading: reading.scheme == "plain-text",
                "{rows} of {all} rows hold text that is no digest",
                lambda case: case.place.opens is None and not case.place.exchanged_with,
            ),
        ),
        "exchanged-columns": Rule(
            severity=Severity.CRITICAL,
            summary="A program wrote two columns the wrong way round: this one holds no passwords, "
            "and the other one does.",
            remedy="Find that program, and put the columns right in these rows; declare nothing "
            "as plain text here.",
            detect=detectors.WholeColumn(
                lambda case: bool(case.place.exchanged_with),
                lambda case: (
                    f"the stored values are in {case.place.exchanged_with}, and "
                    f"{case.place.column} holds what belongs there"
                ),
            ),
        ),
        "digests-among-texts": Rule(
            severity=Severity.HIGH,
            summary="Texts that are drawn at random, as a group, are digests of something: taken "
            "for passwords, they would be lost.",
            remedy="Find out how they were made (`lean-tumbler formula solve`), and declare a "
            "cohort for them.",
            detect=DrawnAtRandom(),
        ),
        "encoded-only": Rule(
            severity=Severity.CRITICAL,
            summary="An encoding protects nothing: the passwords can be computed without guessing.",
            breaks=f"{_NIST}; {_ASVS}",
            remedy="Decode them once into the column, then run `lean-tumbler layer` on plain text.",
            detect=detectors.ByReading(
                lambda reading: reading.scheme == "encoded", "{rows} rows decode to words"
            ),
        ),
        "reversible-encryption": Rule(
            severity=Severity.CRITICAL,
            summary="Anyone who has the key, or the application's server, has every password.",
            breaks=f"{_NIST}; {_ASVS}",
            remedy="Decrypt once into a column of plain text, run `lean-tumbler layer` on it, "
            "then destroy key and cipher text.",
            detect=Encrypted(),
        ),
        "empty-password": Rule(
            severity=Severity.CRITICAL,
            summary="The value is empty, or the digest of nothing.",
            breaks=_NIST,
            remedy="Find out what the old login code did with it; lock the account until then.",
            detect=detectors.Flagged("empty-password", "{rows} rows"),
        ),
        "unsalted-digest": Rule(
            severity=Severity.CRITICAL,
            summary="One guess is tried against every account at once, billions a second.",
            breaks=f"{_NIST}; {_ASVS}",
            remedy="Name the formula in the policy, prove it with `lean-tumbler verify`, "
            "then run `lean-tumbler layer`.",
            detect=detectors.ByReading(
                lambda reading: reading.grade is Grade.FAST_UNSALTED,
                "{rows} bare digests without salt ({schemes})",
            ),
        ),
        "password-in-log": Rule(
            severity=Severity.CRITICAL,
            summary="A log or history holds credentials that no login upgrades.",
            breaks="OWASP ASVS 5.0, chapter V16",
            remedy="Delete the column's content, and stop the code that writes it.",
            detect=detectors.ByReading(
                detectors.is_not_locked, "the table is named {place.table}", detectors.is_log
            ),
        ),
        "privileged-at-risk": Rule(
            severity=Severity.CRITICAL,
            summary="Administrators' values are below the floor: they fall first.",
            breaks=f"{_NIST}; {_ASVS}",
            remedy="Have these people log in or set new passwords first; then layer the rest.",
            detect=detectors.PrivilegedBelowFloor(),
        ),
        "newest-weaker": Rule(
            severity=Severity.CRITICAL,
            summary="New rows are made in a weaker way than all before: a program has changed, or "
            "another one writes now.",
            breaks=f"{_NIST}; {_ASVS}",
            remedy="Find the program that wrote the first of them, and what was changed then, "
            "before anything is upgraded; `lean-tumbler enforce` keeps such values out.",
            detect=detectors.NewestWeaker(),
        ),
        "copied-value": Rule(
            severity=Severity.HIGH,
            summary="One salted value is in several rows: it was copied, and one password opens "
            "all of these accounts.",
            breaks=_ASVS,
            remedy="Find out who copied it; all of these accounts need new passwords.",
            detect=detectors.Repeated(
                lambda profile: profile.copies,
                lambda profile: profile.repeated_copies,
                lambda frame: frame.copies,
                ("value occurs", "values occur"),
            ),
        ),
        FOLDED: Rule(
            severity=Severity.HIGH,
            summary="The letters of these values were folded to one case: nobody can log in.",
            remedy="Find the program that folds them; the passwords must be reset.",
            detect=detectors.Flagged(FOLDED, "{rows} of {all} values have letters of one case"),
        ),
        "static-salt": Rule(
            severity=Severity.HIGH,
            summary=(
                "One salt for all rows protects like none: one guess is tried against all of them."
            ),
            breaks=f"{_NIST}; {_ASVS}",
            remedy="Mend the code that makes salts. `lean-tumbler layer` gives each old digest a "
            "fresh one; slow values get theirs with a new password.",
            detect=detectors.SharedSalt(static=True),
        ),
        "shared-digest": Rule(
            severity=Severity.HIGH,
            summary="Equal digests show equal passwords: if one is guessed, all of them are known.",
            breaks=_ASVS,
            remedy="Run `lean-tumbler layer`: a fresh salt for each row hides which are equal.",
            detect=detectors.SharedDigest(),
        ),
        "cost-below-floor": Rule(
            severity=Severity.HIGH,
            summary="The hash is fast enough to try likely passwords in bulk.",
            breaks=f"{_NIST}; the floor in force",
            remedy="Run `lean-tumbler tune`, then `lean-tumbler layer`; logins upgrade the rest.",
            detect=detectors.ByReading(
                lambda reading: reading.grade in _BELOW, "{schemes}; floor: {floor}"
            ),
        ),
        "leftover-column": Rule(
            severity=Severity.HIGH,
            summary="A readable column beside a hashed one makes the hashing useless.",
            breaks=_ASVS,
            remedy="Prove with `lean-tumbler verify` that the other is in use, then drop this one.",
            detect=detectors.ByReading(
                lambda reading: reading.grade is Grade.READABLE,
                "beside it stands: {beside}",
                lambda case: (
                    bool(case.place.beside)
                    and case.place.opens is None
                    and not case.place.exchanged_with
                ),
            ),
        ),
        "password-beside-hash": Rule(
            severity=Severity.CRITICAL,
            summary="The column holds the passwords themselves, beside their hashes.",
            breaks=_ASVS,
            remedy="Stop the code that writes it and empty it; backups and copies hold it too.",
            detect=detectors.WholeColumn(
                lambda case: case.place.opens is not None, lambda case: str(case.place.opens)
            ),
        ),
        "leftover-table": Rule(
            severity=Severity.HIGH,
            summary="A copy that was left behind still holds the old values.",
            breaks=_ASVS,
            remedy="Delete it, and the backups that it was made for.",
            detect=detectors.ByReading(
                detectors.is_not_locked,
                "the table is named {place.table}",
                detectors.is_leftover_table,
            ),
        ),
        "same-value-elsewhere": Rule(
            severity=Severity.HIGH,
            summary="The same value is in another column for the same login: a copy, or one "
            "password for both. An upgrade of one leaves the other as it is.",
            remedy="Find out which column is checked at login; empty the other, or migrate both.",
            detect=detectors.SameElsewhere(),
        ),
        "common-password": Rule(
            severity=Severity.CRITICAL,
            summary="These passwords are among the first that anybody would try.",
            breaks="NIST SP 800-63B-4, 3.1.1.2 (blocklist)",
            remedy="Have these people choose new ones; the administrators today.",
            detect=CommonPassword(),
        ),
        "column-too-narrow": Rule(
            severity=Severity.HIGH,
            summary="A new value would be refused, or cut off without an error: a lockout.",
            remedy="Widen the column to 255 characters before anything is written to it.",
            detect=detectors.WholeColumn(detectors.is_too_narrow, detectors.how_narrow),
        ),
        "login-not-unique": Rule(
            severity=Severity.HIGH,
            summary="Two rows have one login, so it is undefined which of them is checked.",
            remedy="Merge or rename them; the commands that write refuse such logins until then.",
            detect=detectors.Repeated(
                lambda profile: profile.logins,
                lambda profile: profile.repeated_logins,
                lambda frame: frame.logins,
                ("logins occur", "logins occur"),
                ", letter case and blanks around aside",
            ),
        ),
        MOVED_VALUE: Rule(
            severity=Severity.CRITICAL,
            summary="A value under a key that another row's was copied over, or that was changed: "
            "nobody can log in.",
            remedy="Find who wrote it: it is what an attacker with write access does. Then put "
            "the account's own value back from a backup.",
            detect=detectors.Flagged(MOVED_VALUE, "{rows} of {all} rows do not open by their key"),
        ),
        "truncated-value": Rule(
            severity=Severity.HIGH,
            summary="The value begins like a known scheme but is not whole: nobody can log in.",
            remedy="Look at the column's width; the passwords must be reset.",
            detect=CutOff(),
        ),
        "unusual-work": Rule(
            severity=Severity.MEDIUM,
            summary="A few values ask for far more work than all others: somebody may have planted "
            "them to make logins dear.",
            remedy="Find out who wrote them. Logins check them one at a time, and refusals do not "
            "imitate them; lower [limits] to refuse them.",
            detect=UnusualWork(),
        ),
        "obsolete-variant": Rule(
            severity=Severity.MEDIUM,
            summary="A variant that newer software replaced because of a fault or a weakness.",
            breaks="RFC 9106 section 4",
            remedy="The next login rewrites it; until then check that these accounts can log in.",
            detect=detectors.Flagged("obsolete-variant", "{rows} rows"),
        ),
        "case-folding-collation": Rule(
            severity=Severity.MEDIUM,
            summary="The database ignores letter case when it compares this column.",
            remedy=(
                "Give the column a binary collation; until then, values compared in SQL may "
                "match wrongly."
            ),
            detect=detectors.WholeColumn(
                lambda case: bool(case.place.collation),
                lambda case: f"{case.place.column} is compared by {case.place.collation}",
            ),
        ),
        "digest-of-digest": Rule(
            severity=Severity.MEDIUM,
            summary="A digest of a digest is as fast to guess as one; somebody layered it already.",
            breaks=_ASVS,
            remedy="Write both digests into the formula, then run `lean-tumbler layer`.",
            detect=DigestOfDigest(),
        ),
        "salt-reused": Rule(
            severity=Severity.MEDIUM,
            summary="Accounts that share a salt are attacked together.",
            breaks="RFC 8018 section 4.1",
            remedy="Mend the code that makes salts. `lean-tumbler layer` gives each old digest a "
            "fresh one; slow values get theirs with a new password.",
            detect=detectors.SharedSalt(static=False),
        ),
        "salt-is-login": Rule(
            severity=Severity.MEDIUM,
            summary="A login as salt is known in advance, and is the same in other systems.",
            breaks="RFC 8018 section 4.1",
            remedy="Run `lean-tumbler layer`: it keeps the old login, so renames do no harm.",
            detect=detectors.Flagged("salt-is-login", "{rows} rows"),
        ),
        "short-salt": Rule(
            severity=Severity.LOW,
            summary="A salt below 8 bytes repeats by chance in a large store.",
            breaks="RFC 8018 section 4.1",
            remedy="Run `lean-tumbler layer`: each row gets 16 fresh random bytes.",
            detect=detectors.Flagged("short-salt", "{rows} rows"),
        ),
        "salt-with-blanks": Rule(
            severity=Severity.LOW,
            summary="Blanks around a salt are part of the formula, or were added by the column.",
            remedy="Try `append salt:trim` beside `append salt` with `lean-tumbler verify`.",
            detect=detectors.Flagged("salt-with-blanks", "{rows} salts begin or end with a blank"),
        ),
        "stray-blanks": Rule(
            severity=Severity.LOW,
            summary="Blanks surround a text that is not a digest; most come from a padded column.",
            remedy="Find out whether the old program took them off; as plain text they count.",
            detect=detectors.Flagged("stray-blanks", "{rows} texts begin or end with a blank"),
        ),
        "quoted-or-encoded": Rule(
            severity=Severity.MEDIUM,
            summary="Something surrounds whole values: a copy, an export or a bug put it "
            "there, and most software fails on it.",
            remedy="No reset is needed: checks here look inside, and logins and `lean-tumbler "
            "layer` write clean values. Find the code that wrote them.",
            detect=detectors.ByReading(
                lambda reading: bool(reading.wrappers), "{rows} of {all} values have {wrappers}"
            ),
        ),
        "remnant": Rule(
            severity=Severity.HIGH,
            summary="A failed write stored a word for “no value”, a printed object or a mask: no "
            "password opens these accounts.",
            remedy="Find the code that ignored an error, or did not wait for a result (a missing "
            "await); these accounts need a reset.",
            detect=detectors.ByReading(
                lambda reading: reading.scheme == REMNANT, "{rows} of {all} values are remnants"
            ),
        ),
        "not-understood": Rule(
            severity=Severity.HIGH,
            summary=(
                "It is not known how these values were made, or whether their owners can log in."
            ),
            remedy="Look at one with `lean-tumbler explain`; known accounts and `lean-tumbler "
            "formula solve` may say how they were made.",
            detect=detectors.ByReading(
                lambda reading: reading.grade is Grade.UNKNOWN and reading.scheme != REMNANT,
                "{rows} of {all} values are not understood",
            ),
        ),
        "mixed-case-digest": Rule(
            severity=Severity.LOW,
            summary="The hexadecimal digits have both cases: more than one program wrote here.",
            remedy="Verify known accounts of each kind before layering.",
            detect=MixedCase(),
        ),
        "no-credential": Rule(
            severity=Severity.LOW,
            summary=(
                "These accounts have no stored value: they log in another way, or were never "
                "finished."
            ),
            remedy="Find out how they log in before you count them as safe.",
            detect=detectors.Flagged("no-credential", "{rows} of {all} rows"),
        ),
        "lock-marker": Rule(
            severity=Severity.LOW,
            summary=(
                "No password opens these accounts; an old value behind a marker would open them "
                "again once the marker is removed."
            ),
            remedy="Nothing to do; if an old value follows the marker, delete it.",
            detect=detectors.ByReading(
                lambda reading: reading.grade is Grade.LOCKED, "{rows} of {all} rows"
            ),
        ),
    }
)
