"""What standards ask of stored passwords, point by point, and whether a store meets it."""

from collections.abc import Callable, Mapping
from enum import StrEnum

from msgspec import Struct, field

_NIST = "NIST SP 800-63B-4"
_ASVS = "OWASP ASVS 5.0"
_SINGLE_FACTOR, _WITH_ANOTHER = 15, 8  # characters, NIST SP 800-63B-4 section 3.1.1.2
_SALT_FINDINGS = ("static-salt", "salt-reused", "salt-is-login", "short-salt")


_OWN_SALTS = "what this tool writes has 16 random bytes of salt for each value"
_ENOUGH = (
    "{} characters are enough beside a second factor; alone it asks for "
    f"{_SINGLE_FACTOR}: set [new_passwords] min_length"
)


class PointVerdict(StrEnum):
    """Whether a point is met."""

    MET = "met"
    NOT_YET = "not met"
    ELSEWHERE = "outside the store"


class Facts(Struct, frozen=True, kw_only=True):
    """What is known of a store."""

    weak: int  # values below the floor
    unsalted: int  # values of one fast digest without salt, or readable
    unknown: int  # values that were not understood
    values: int  # all
    keyed: int = 0  # values under a key that stands apart
    findings: Mapping[str, int] = field(default_factory=dict)  # rows by the code of a finding
    min_length: int = _WITH_ANOTHER  # characters that new passwords must have
    # whether the column admits nothing weaker; None where it cannot be guarded
    guarded: bool | None = None


Judged = tuple[PointVerdict, str]


class Point(Struct, frozen=True):
    """One thing that a standard asks."""

    standard: str
    section: str
    asks: str
    judge: Callable[[Facts], Judged]


def _resists(facts: Facts) -> Judged:
    if facts.weak:
        return PointVerdict.NOT_YET, f"{facts.weak:,} values are below the floor"
    if facts.unknown:
        return (
            PointVerdict.NOT_YET,
            f"{facts.unknown:,} values are not understood; a person must look",
        )
    return (
        PointVerdict.MET,
        "every value is at the floor or above, or lies under one that does",
    )


def _salts(facts: Facts) -> Judged:
    if facts.unsalted:
        return PointVerdict.NOT_YET, f"{facts.unsalted:,} values have no salt"
    if not facts.weak:
        return PointVerdict.MET, _OWN_SALTS
    wrong = {code: facts.findings[code] for code in _SALT_FINDINGS if facts.findings.get(code)}
    if wrong:
        words = ", ".join(f"{code}: {rows:,} rows" for code, rows in wrong.items())
        return PointVerdict.NOT_YET, words
    return PointVerdict.MET, _OWN_SALTS


def _length(facts: Facts) -> Judged:
    if facts.min_length >= _SINGLE_FACTOR:
        return PointVerdict.MET, f"new passwords have {facts.min_length} characters or more"
    if facts.min_length >= _WITH_ANOTHER:
        return PointVerdict.ELSEWHERE, _ENOUGH.format(facts.min_length)
    return PointVerdict.NOT_YET, f"new passwords may have {facts.min_length} characters"


def _blocklist(_: Facts) -> Judged:
    return (
        PointVerdict.ELSEWHERE,
        "met where /v1/hash and /v1/change take new passwords",
    )


def _failures(_: Facts) -> Judged:
    return (
        PointVerdict.ELSEWHERE,
        "met where logins go through `serve`: a hundred failures in a row",
    )


def _pepper(facts: Facts) -> Judged:
    if facts.values and facts.keyed == facts.values:
        return (
            PointVerdict.MET,
            "every value is under a key that stands apart: the table alone lets nobody try a guess",
        )
    if facts.keyed:
        share = facts.keyed / facts.values
        return (
            PointVerdict.NOT_YET,
            (
                f"{facts.keyed:,} of {facts.values:,} values ({share:.1%}) are under a key: "
                "`lean-tumbler rekey` puts it over the others"
            ),
        )
    return (
        PointVerdict.NOT_YET,
        (
            "values are under no key that stands apart: it is recommended, not required; "
            "`keys new NAME --over-values` makes one"
        ),
    )


def _stays(facts: Facts) -> Judged:
    if facts.guarded is None:
        return (
            PointVerdict.ELSEWHERE,
            "this kind of store has no constraints; `enforce gate` watches it",
        )
    if facts.guarded:
        return PointVerdict.MET, "the column admits current, layered and locked values alone"
    return (
        PointVerdict.NOT_YET,
        "the column is not guarded: `lean-tumbler enforce constraint --apply`",
    )


POINTS: tuple[Point, ...] = (
    Point(_NIST, "3.1.1.2", "stored in a form that resists offline attacks", _resists),
    Point(_NIST, "3.1.1.2", "salted, with 32 bits or more, chosen for each value", _salts),
    Point(_NIST, "3.1.1.2", "new passwords of a least length", _length),
    Point(_NIST, "3.1.1.2", "new passwords compared with a blocklist", _blocklist),
    Point(_NIST, "3.2.2", "failed tries in a row limited to a hundred", _failures),
    Point(_NIST, "3.1.1.2", "a further operation with a secret that is kept apart", _pepper),
    Point(_ASVS, "11.4.2", "stored by a costly key derivation, at the cost of current guidance",
          _resists),
    Point("this policy", "[floor]", "stays so, whatever writes to the column", _stays),
)  # fmt: skip
