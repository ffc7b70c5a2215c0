"""Counting a column: groups of equal readings, odd rows, and texts that stand more than once."""

import hashlib
from collections.abc import Iterator, Sequence
from dataclasses import dataclass, replace
from functools import lru_cache

import polars as pl

from lean_tumbler.core.audit.results import ACCOUNTS_SHOWN, Affected, Profile, Reading
from lean_tumbler.core.audit.shapes import with_shapes
from lean_tumbler.core.audit.tally import Tally
from lean_tumbler.core.formulas.analysis import digests_used
from lean_tumbler.core.grades import BELOW_FLOOR, Floor, Grade, grade
from lean_tumbler.core.policy import NamedFormula
from lean_tumbler.core.schemes.base import Kind, ParsedValue
from lean_tumbler.core.schemes.catalogue import read_value

SHORT_SALT_BYTES = 8  # RFC 8018 section 4.1 asks for at least 64 bits
_EMPTY_DIGESTS = tuple(
    hashlib.new(name, b"", usedforsecurity=False).hexdigest()
    for name in ("md5", "sha1", "sha224", "sha256", "sha384", "sha512")
)
_BASE64 = r"^[A-Za-z0-9+/]+={0,2}$"
_BLOCK_TEXT = 21  # characters of base64 that lie within the first 16 bytes
_BLOCK_LAYOUTS = frozenset({"base64", "base64 of whole cipher blocks"})
# Of 16, 32 and 64 bytes, they pass for digests one by one.
_BLOCK_SCHEMES = frozenset({"md5", "sha256", "sha512", "encrypted"})
_BLOCK_SHARE = 0.9  # of all values; digests would have one length, words have any
_LENGTH_SHARE = 0.02
# Variants that newer ones replaced because of a fault or a weakness.
_OBSOLETE_VARIANTS = frozenset({"2", "2x", "v=16"})


@dataclass(frozen=True, slots=True)
class _Read:
    """A representative's reading, and what is odd about all values of its shape."""

    reading: Reading
    odd: tuple[str, ...]


class Profiler:
    """Takes frames in and gives the profile of all of them.

    Args:
        floor: the least that counts as current.
        formulas: the store's formulas; where one fits a value, it names the scheme for certain.
    """

    def __init__(self, *, floor: Floor, formulas: Sequence[NamedFormula] = ()) -> None:
        self._floor = floor
        self._formulas = tuple(formulas)
        self._profile = Profile()
        self._digests = Tally()
        self._salts = Tally()
        self._first_blocks = Tally()
        self._read = lru_cache(maxsize=65_536)(self._read_value)

    def add(self, frame: pl.DataFrame) -> None:
        """Count one frame.

        Args:
            frame: `account`, `stored`, `salt` and `login` as text, `privileged` as a truth value.
        """
        profile = self._profile
        profile.rows += frame.height
        profile.without_value += frame["stored"].null_count()
        self._flag("no-credential", frame.filter(pl.col("stored").is_null()))
        rows = frame.filter(pl.col("stored").is_not_null())
        self._count(rows)
        self._flag_texts(rows)

    def _flag(self, code: str, rows: pl.DataFrame) -> None:
        """Count rows under the code of a finding."""
        if rows.height == 0:
            return
        privileged = rows.filter("privileged")["account"]
        others = rows.filter(~pl.col("privileged"))["account"].head(ACCOUNTS_SHOWN).to_list()
        self._profile.flagged.setdefault(code, Affected()).add(
            rows.height, len(privileged), privileged.head(ACCOUNTS_SHOWN).to_list(), others
        )

    def _flag_texts(self, rows: pl.DataFrame) -> None:
        """Note what the texts themselves show, whatever they are."""
        stored, salt = pl.col("stored"), pl.col("salt")
        coded = rows.filter(stored.str.contains(_BASE64) & (stored.str.len_bytes() > _BLOCK_TEXT))
        self._first_blocks.add(coded, stored.str.slice(0, _BLOCK_TEXT))
        self._flag("stray-blanks", rows.filter(_has_blanks_around(stored)))
        self._flag("empty-password", rows.filter(stored.str.to_lowercase().is_in(_EMPTY_DIGESTS)))
        salted = rows.filter(salt.str.len_bytes() > 0)
        if salted.height == 0:
            return
        self._profile.salted_rows += salted.height
        self._flag("salt-with-blanks", salted.filter(_has_blanks_around(salt)))
        self._flag("short-salt", salted.filter(salt.str.len_bytes() < SHORT_SALT_BYTES))
        own = (salt == pl.col("login")) | (salt == pl.col("account"))
        self._flag("salt-is-login", salted.filter(own.fill_null(value=False)))
        self._salts.add(salted, salt)

    def _count(self, rows: pl.DataFrame) -> None:
        shaped = with_shapes(rows, column="stored", shape="shape").with_columns(
            salted=pl.col("salt").str.len_bytes().fill_null(0) > 0,
            # A value without a shape is its own shape.
            shape=pl.coalesce("shape", pl.concat_str(pl.lit("="), pl.col("stored"))),
        )
        privileged = pl.col("privileged")
        accounts = pl.col("account")
        groups = shaped.group_by("shape", "salted", maintain_order=True).agg(
            pl.len().alias("rows"),
            privileged.sum().alias("privileged_rows"),
            accounts.filter(privileged).head(ACCOUNTS_SHOWN).alias("privileged"),
            accounts.filter(~privileged).head(ACCOUNTS_SHOWN).alias("others"),
            pl.col("stored").first(),
        )
        fast: list[tuple[str, bool, bool]] = []
        for row in groups.iter_rows(named=True):
            read = self._read(row["stored"], row["salted"])
            if read.reading.grade in {Grade.FAST_UNSALTED, Grade.FAST_SALTED}:
                fast.append((row["shape"], row["salted"], "hex" in read.reading.layout))
            counted = (row["rows"], row["privileged_rows"], row["privileged"], row["others"])
            self._profile.groups.setdefault(read.reading, Affected()).add(*counted)
            for code in read.odd:
                self._profile.flagged.setdefault(code, Affected()).add(*counted)
            if row["privileged_rows"] and read.reading.grade in BELOW_FLOOR:
                self._profile.flagged.setdefault("privileged-at-risk", Affected()).add(
                    row["privileged_rows"], row["privileged_rows"], row["privileged"], []
                )
        if fast:
            self._note_digests(shaped, fast)

    def _read_value(self, stored: str, salted: bool) -> _Read:
        parsed = read_value(stored)
        odd = tuple(_odd(parsed))
        salted_inside = parsed.salted
        salted_beside = salted and parsed.kind in {Kind.FAST, Kind.UNKNOWN}
        parsed, takes_salt = self._explained(parsed, stored, salted=salted)
        has_salt = salted_inside or (salted_beside if takes_salt is None else takes_salt)
        reading = Reading(
            scheme=parsed.scheme,
            layout=parsed.layout,
            salted=has_salt,
            grade=grade(parsed, self._floor, salted=has_salt),
            parameters=tuple(parsed.parameters.items()),
            confidence=parsed.contents.confidence,
            also_possible=parsed.contents.also_possible,
        )
        return _Read(reading, odd)

    def _explained(
        self, parsed: ParsedValue, stored: str, *, salted: bool
    ) -> tuple[ParsedValue, bool | None]:
        """Let the store's formulas say what a bare value is, where only one kind fits."""
        if parsed.kind not in {Kind.FAST, Kind.UNKNOWN}:
            return parsed, None
        salt = b"salt" if salted else None
        fitting = [named for named in self._formulas if named.fits(stored, salt=salt)]
        digests = {(digests_used(named.formula) or ("",))[-1] for named in fitting}
        takes_salt = {named.takes_salt or named.takes_login for named in fitting}
        if len(digests) != 1 or len(takes_salt) != 1:
            return parsed, None
        contents = replace(parsed.contents, confidence=1.0, also_possible=())
        explained = replace(parsed, scheme=digests.pop(), kind=Kind.FAST, contents=contents)
        return explained, takes_salt.pop()

    def _note_digests(self, shaped: pl.DataFrame, fast: list[tuple[str, bool, bool]]) -> None:
        """Count equal digests; the letter case of hexadecimal does not count."""
        schema = {"shape": pl.String, "salted": pl.Boolean, "is_hex": pl.Boolean}
        keys = pl.DataFrame(fast, schema=schema, orient="row")
        digests = shaped.join(keys, on=["shape", "salted"], maintain_order="left")
        stored = pl.col("stored")
        folded = pl.when(pl.col("is_hex")).then(stored.str.to_lowercase()).otherwise(stored)
        self._digests.add(digests, folded, pl.col("salt"))

    def finish(self) -> Profile:
        """Give the profile of all frames."""
        self._profile.digests = self._digests.clusters()
        self._profile.salts = self._salts.clusters()
        self._profile.first_blocks = self._first_blocks.clusters()
        if is_encrypted(self._profile):
            self._profile.groups = _as_encrypted(self._profile)
        return self._profile


def _in_blocks(reading: Reading) -> bool:
    return reading.layout in _BLOCK_LAYOUTS and reading.scheme in _BLOCK_SCHEMES


def is_encrypted(profile: Profile) -> bool:
    """Tell whether a column holds cipher text: whole blocks throughout, of more than one length.

    A column of digests has one length; where lengths vary and all are whole blocks, something
    of varying length was encrypted, and can be decrypted.
    """
    blocks = {
        (reading.scheme, reading.layout): affected.rows
        for reading, affected in profile.groups.items()
        if _in_blocks(reading) and not reading.salted
    }
    values = profile.rows - profile.without_value
    lengths = sum(rows >= _LENGTH_SHARE * values for rows in blocks.values())
    return lengths > 1 and sum(blocks.values()) >= _BLOCK_SHARE * values


def _as_encrypted(profile: Profile) -> dict[Reading, Affected]:
    """Call all groups of whole blocks what they are."""
    encrypted = Reading(
        scheme="encrypted",
        layout="base64 of whole cipher blocks",
        salted=False,
        grade=Grade.READABLE,
        parameters=(),
        confidence=0.9,
        also_possible=(),
    )
    groups: dict[Reading, Affected] = {}
    for reading, affected in profile.groups.items():
        to = encrypted if _in_blocks(reading) and not reading.salted else reading
        groups.setdefault(to, Affected()).add(
            affected.rows, affected.privileged_rows, affected.privileged, affected.others
        )
    return groups


def _has_blanks_around(text: pl.Expr) -> pl.Expr:
    return text.str.contains(r"^\s|\s$").fill_null(value=False)


def _odd(parsed: ParsedValue) -> Iterator[str]:
    """Name the findings that a value's own reading gives rise to."""
    contents = parsed.contents
    if parsed.scheme == "empty":
        yield "empty-password"
    if contents.variant in _OBSOLETE_VARIANTS or parsed.scheme in {"argon2d", "mysql-old"}:
        yield "obsolete-variant"
    if parsed.kind is Kind.UNKNOWN and contents.also_possible:
        yield "truncated-value"
    if parsed.layout == "hex, mixed case":
        yield "mixed-case-digest"
    if contents.salted_by_login:
        yield "salt-is-login"
    is_salted = parsed.salt is not None and parsed.kind is not Kind.LAYERED
    if is_salted and len(parsed.salt or b"") < SHORT_SALT_BYTES:
        yield "short-salt"
