"""What explains known accounts: a formula, a bare scheme or plain text, tried as a login is."""

from collections.abc import Iterable, Mapping, Sequence

from msgspec import Struct

from lean_tumbler.core.drafting.classes import ValueClass
from lean_tumbler.core.login.checking import check
from lean_tumbler.core.policy.cohort_tables import CohortTables, takes_salt_column
from lean_tumbler.core.policy.entries import Entries
from lean_tumbler.core.reading.reader import RowReader
from lean_tumbler.core.reading.rows import Row
from lean_tumbler.core.reading.survey import ALONE, Column
from lean_tumbler.core.reading.ways import Bounds
from lean_tumbler.core.records import Hidden, MaskedRecord
from lean_tumbler.errors import CheckImpossible, PolicyError

_NAME = "drafted"


class KnownRow(MaskedRecord, Struct, frozen=True, kw_only=True):
    """A row of the store whose password is known."""

    line: int  # in the file of known accounts
    login: str
    password: Hidden[str]
    row: Row
    value_class: ValueClass  # of its stored value

    @property
    def text(self) -> str:
        """The stored value as text."""
        return self.row.text or ""


class Explanation(Struct, frozen=True, kw_only=True):
    """How values came about, as a cohort of the policy says it."""

    formula: str = ""  # in the notation, and “…, then SCHEME” where a slow scheme took its result
    layout: str = ""  # where digest and parts stand in a composite value
    scheme: str = ""  # of bare shapes
    plain_text: bool = False  # whether the texts are passwords

    @property
    def entries(self) -> dict[str, str | bool]:
        """What a cohort's table says."""
        written: dict[str, str | bool] = {
            "formula": self.formula,
            "layout": self.layout,
            "scheme": self.scheme,
            "plain_text": self.plain_text,
        }
        return {key: value for key, value in written.items() if value}


class Trial:
    """Tries explanations on known accounts, by the reading and the check that a login goes through.

    Args:
        roles: role -> the table's own name of its column.
        parts: further inputs of formulas -> the table's own names.
        column: what the column as a whole shows.
    """

    def __init__(
        self, *, roles: Mapping[str, str], parts: Mapping[str, str], column: Column = ALONE
    ) -> None:
        self._roles, self._parts, self._column = roles, parts, column
        self._opened: dict[tuple[Explanation, int], bool] = {}

    def opened(self, explanation: Explanation, known: Sequence[KnownRow]) -> frozenset[int]:
        """Give the lines of the accounts that open by an explanation."""
        reader = self._reader(explanation)
        if reader is None:
            return frozenset()
        for account in known:
            key = (explanation, account.line)
            if key not in self._opened:
                self._opened[key] = _opens(reader, account)
        return frozenset(a.line for a in known if self._opened[explanation, a.line])

    def _reader(self, explanation: Explanation) -> RowReader | None:
        tables = CohortTables(
            Entries("draft"), store="draft", roles=self._roles, parts=self._parts, formulas={}
        )
        try:
            cohorts = tables.cohorts([{"name": _NAME, **explanation.entries}])
        except PolicyError:
            return None
        if any(map(takes_salt_column, cohorts)) and "salt" not in self._roles:
            return None  # a policy that says so would be refused
        return RowReader(
            cohorts=cohorts,
            parts=self._parts,
            has_salts="salt" in self._roles,
            column=lambda: self._column,
        )


def _opens(reader: RowReader, account: KnownRow) -> bool:
    """Tell whether an account opens as the cohort says, and not in another way."""
    try:
        verdict = check(reader.read(account.row), account.password, bounds=Bounds())
    except CheckImpossible:
        return False
    return verdict.accepted and verdict.way is not None and verdict.way.name == _NAME


def opens_by_itself(account: KnownRow) -> bool:
    """Tell whether an account opens without any cohort."""
    try:
        return check(RowReader().read(account.row), account.password, bounds=Bounds()).accepted
    except CheckImpossible:
        return False


def fewest(
    explained: Mapping[Explanation, frozenset[int]], lines: Iterable[int]
) -> list[Explanation]:
    """Give the fewest explanations for some accounts: the one that explains most, and so on.

    Args:
        explained: explanation -> the lines that it explains; the plausible first.
        lines: of the accounts.
    """
    left = set(lines)
    chosen: list[Explanation] = []
    while left:
        best = max(explained, key=lambda each: len(explained[each] & left), default=None)
        if best is None or not explained[best] & left:
            break
        chosen.append(best)
        left -= explained[best]
    return chosen
