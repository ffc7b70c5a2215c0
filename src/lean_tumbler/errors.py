"""Every error of this project, under one root.

    TumblerError                 exit code  HTTP status
    ├── UsageError                2      400    the call is wrong
    │   ├── PolicyError           2      500    the policy file is wrong
    │   ├── FormulaError          2      400    a formula's text is wrong
    │   ├── ConditionError        2      400    a cohort's condition is wrong
    │   ├── LayoutError           2      400    a cohort's layout is wrong
    │   ├── NotReady              2      400    a bulk step may not write yet
    │   ├── KnownAccountsError    2      400    a file of known accounts is wrong
    │   ├── RequestRefused        2      400    an HTTP request is wrong
    │   └── PasswordRefused       2      422    a new password may not be used
    ├── CheckImpossible           3      503    a stored value cannot be checked here
    │   ├── OverLimit             3      503    it asks for more work than is allowed
    │   └── KeyMissing            3      503    a formula needs a key that is not there
    ├── WriteNotConfirmed         3      500    a value would not be read as what it is
    ├── InputDoesNotFit           1      200    a formula has no result for this password
    ├── SourceError               3      503    a source or store cannot be read or written
    │   └── StoreUnavailable      3      503    its server is away, or a lock is held; try again
    └── Interrupted               4      503    stopped; run again to continue

A message says what is wrong, where (file, row, field, offset) and what to do. It never holds a
stored value, a salt, a password or a key; where the cause might, it is raised `from None`.
"""

from typing import TYPE_CHECKING, ClassVar

if TYPE_CHECKING:
    from collections.abc import Sequence


class TumblerError(Exception):
    """The root: whatever this project raises on purpose is one of these."""

    exit_code: ClassVar[int] = 3
    http_status: ClassVar[int] = 500


class UsageError(TumblerError):
    """The command or call is wrong; the same call will fail again."""

    exit_code = 2
    http_status = 400


class PolicyError(UsageError):
    """The policy file has a mistake; the message names the file, the table and the key."""

    http_status = 500


class FormulaError(UsageError):
    """A formula's text has a mistake.

    Attributes:
        offset: where, in characters from the start of the text, counted from 0.
    """

    def __init__(self, message: str, *, offset: int) -> None:
        super().__init__(message)
        self.offset = offset


class ConditionError(UsageError):
    """A cohort's condition has a mistake; the message names the position."""


class LayoutError(UsageError):
    """A cohort's layout has a mistake; the message names the position."""


class NotReady(UsageError):
    """A bulk step may not write yet; the message says what has to come first."""


class KnownAccountsError(UsageError):
    """A file of known accounts has a mistake; the message names line and column."""


class PasswordRefused(UsageError):
    """A new password may not be used; the message says why, never what it was.

    Attributes:
        reasons: all that speaks against it, in words that stay the same in all versions.
    """

    http_status = 422

    def __init__(self, message: str, *, reasons: "Sequence[str]") -> None:
        super().__init__(message)
        self.reasons = list(reasons)


class RequestRefused(UsageError):
    """An HTTP request is wrong.

    Attributes:
        kind: the problem's type, which stays the same in all versions.
        field: the field that is wrong; empty where it is none.
        status: of the answer.
    """

    def __init__(self, kind: str, message: str, *, field: str = "", status: int = 400) -> None:
        super().__init__(message)
        self.kind, self.field, self.status = kind, field, status


class CheckImpossible(TumblerError):
    """A stored value cannot be checked: not an answer of "wrong password"."""

    http_status = 503


class OverLimit(CheckImpossible):
    """A stored value asks for more memory or rounds than the policy's limits allow."""


class KeyMissing(CheckImpossible):
    """A formula needs a key that the environment does not supply."""


class WriteNotConfirmed(TumblerError):
    """A value was made that would not be read again as what it is; it was not written."""


class InputDoesNotFit(TumblerError):
    """A formula gives nothing for these inputs.

    A character that its encoding lacks, a salt that is not there or not hexadecimal: the legacy
    system would have refused too.
    """

    exit_code = 1
    http_status = 200


class SourceError(TumblerError):
    """A file, database or directory could not be read or written."""

    http_status = 503


class StoreUnavailable(SourceError):
    """A store's server cannot be reached, or a lock is held too long: later it may work."""


class Interrupted(TumblerError):
    """A bulk step ended early; what was done is whole, and running it again continues."""

    exit_code = 4
    http_status = 503
