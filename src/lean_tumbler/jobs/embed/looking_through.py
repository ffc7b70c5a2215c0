"""Goes through a column before its check is written: what it holds, and what differs."""

from collections import Counter
from collections.abc import Callable, Mapping

from msgspec import Struct, field

from lean_tumbler.core.embedding.check import StoreCheck
from lean_tumbler.core.embedding.interpreting import CheckReader, ReadDifference, difference
from lean_tumbler.core.embedding.language import Language
from lean_tumbler.core.embedding.making import Looking, made_check
from lean_tumbler.core.policy import StoragePolicy, StorePolicy
from lean_tumbler.core.reading.evidence import StoreEvidence
from lean_tumbler.core.reading.reader import RowReader
from lean_tumbler.core.reading.readings import Reading, State
from lean_tumbler.core.reading.ways import DerivationWay
from lean_tumbler.core.schemes.base import Kind
from lean_tumbler.errors import UsageError
from lean_tumbler.stores.interface import Store
from lean_tumbler.stores.scans.surveying import pages_of


class Seen(Struct, frozen=True, kw_only=True):
    """What going through a column showed."""

    check: StoreCheck
    rows: int = 0
    # what the rows are of that the file cannot check -> how many
    lacking: Mapping[str, int] = field(default_factory=dict)


def look_through(
    store: Store,
    *,
    policy: StoragePolicy,
    store_policy: StorePolicy,
    reader: RowReader,
    evidence: StoreEvidence,
    language: Language,
    progress: Callable[[int], None],
) -> Seen:
    """Read every row twice: by the library, and as the file will.

    Args:
        store: opened.
        policy: the whole.
        store_policy: of the store.
        reader: the library's, which knows the column.
        evidence: which alternatives people have ruled out.
        language: that the check is for.
        progress: told of each row.

    Raises:
        UsageError: the file would open a row in a way that the library does not.
        PolicyError: the policy leaves open what logins write.
    """
    looking, rows = Looking(), 0
    for page in pages_of(store):
        for account in page:
            looking.add(reader.read(account.row))
        rows += len(page)
        progress(len(page))
    check = made_check(policy, store_policy, looking.found, evidence)
    own = CheckReader(check, policy.keyring)
    return Seen(check=check, rows=rows, lacking=_lacking(store, own, language, reader, progress))


def _lacking(
    store: Store,
    own: CheckReader,
    language: Language,
    reader: RowReader,
    progress: Callable[[int], None],
) -> dict[str, int]:
    lacking: Counter[str] = Counter()
    for page in pages_of(store):
        for account in page:
            row = account.row
            reading = reader.read(row)
            found = difference(own.read(row), reading)
            if found is ReadDifference.MORE:
                raise UsageError(
                    f"the file would read the account {account.key!r} otherwise than `explain "
                    f"--store {own.store_name} --account KEY` does, so it is not written. Next: "
                    "`layer`, and then the same again"
                )
            if found is ReadDifference.LACKING or not _computes(language, reading):
                lacking[reading.label or reading.parsed.scheme] += 1
        progress(len(page))
    return dict(lacking.most_common())


def _computes(language: Language, reading: Reading) -> bool:
    """Tell whether a language runs the slow schemes of a row with the row's settings."""
    inner, is_layered = reading.parsed.inner, reading.state is State.LAYERED
    over = inner if is_layered and inner is not None else reading.parsed
    below = [way.parsed for way in reading.ways if is_layered and isinstance(way, DerivationWay)]
    return (over.kind is not Kind.DERIVATION or language.computes(over, is_below=False)) and all(
        language.computes(each, is_below=True) for each in below
    )
