"""What `plan`, `progress` and `report` share: options of the forecast, and making it."""

from contextlib import closing
from datetime import datetime
from typing import TYPE_CHECKING

from lean_tumbler.cli.option_types import LATELY_DAYS, CountOptions, ForecastOptions
from lean_tumbler.cli.options import policy_path
from lean_tumbler.cli.session import Session
from lean_tumbler.errors import UsageError

if TYPE_CHECKING:
    from collections.abc import Sequence

    from lean_tumbler.core.policy import StoragePolicy, StorePolicy
    from lean_tumbler.stores.history import Entry
    from lean_tumbler.stores.scans.auditing import AuditedColumn
    from lean_tumbler.stores.scans.migration_progress import MigrationProgress
    from lean_tumbler.stores.scans.store_forecast import Accounts, StoreForecast
    from lean_tumbler.stores.sql.column_move import ColumnMove


def store_forecast(
    options: ForecastOptions,
    session: Session,
    policy: "StoragePolicy",
    store: "StorePolicy",
    *,
    needs_log: bool = False,
) -> "StoreForecast | None":
    """Forecast a store; None where it has no dates, and none were asked for.

    Raises:
        UsageError: a back-test is asked for without a log.
        SourceError: store or log cannot be read.
    """
    from lean_tumbler.stores.scans.profiling import AuditContext, graded_rows

    if needs_log and options.logins is None:
        raise UsageError(
            "--back-test needs --logins: last logins alone tell nothing of earlier ones"
        )
    accounts = _accounts(options, session, store)
    if accounts is None:
        return None
    context = AuditContext(floor=policy.floor, policy=policy)
    for frame in graded_rows(store, base=policy_path(options).parent, context=context):
        accounts.add(frame)
    return _forecast(options, session, store, accounts)


def counted(
    options: CountOptions,
    session: Session,
    policy: "StoragePolicy",
    store: "StorePolicy",
    *,
    entries: "Sequence[Entry]",
    taken_at: datetime,
) -> "tuple[AuditedColumn, MigrationProgress]":
    """Audit a store, forecast it where it has dates, and hold it against earlier counts.

    Its rows are read once.

    Raises:
        SourceError: store or log cannot be read.
    """
    from lean_tumbler.stores.scans.auditing import audit_policy_store
    from lean_tumbler.stores.scans.migration_progress import migration
    from lean_tumbler.stores.scans.profiling import AuditContext

    accounts = _accounts(options, session, store)
    audit = audit_policy_store(
        store,
        base=policy_path(options).parent,
        context=AuditContext(floor=policy.floor, policy=policy),
        watch=None if accounts is None else accounts.add,
    )
    column = audit.columns[0]
    return column, migration(
        store.name,
        column.table,
        column.profile,
        found=None
        if accounts is None
        else _forecast(options, session, store, accounts, lately_days=options.lately),
        entries=entries,
        taken_at=taken_at,
        lately_days=options.lately,
        move=_column_move(options, store),
    )


def _column_move(options: CountOptions, store: "StorePolicy") -> "ColumnMove | None":
    from lean_tumbler.stores.interface import HasSchema
    from lean_tumbler.stores.kinds import open_store

    if store.source.write_to is None:
        return None
    with closing(open_store(store, base=policy_path(options).parent)) as opened:
        return opened.column_move() if isinstance(opened, HasSchema) else None


def _accounts(
    options: ForecastOptions, session: Session, store: "StorePolicy"
) -> "Accounts | None":
    """Begin to gather accounts; None where there are no dates to forecast from."""
    from lean_tumbler.stores.scans.login_log import login_column
    from lean_tumbler.stores.scans.store_forecast import Accounts

    has_log = options.logins is not None
    if has_log:
        login_column(store)
    elif not store.columns.last_login:
        return None
    return Accounts(
        today=session.today(),
        with_logins=has_log,
        with_created=store.columns.created is not None,
    )


def _forecast(
    options: ForecastOptions,
    session: Session,
    store: "StorePolicy",
    accounts: "Accounts",
    *,
    lately_days: int = LATELY_DAYS,
) -> "StoreForecast":
    from lean_tumbler.stores.scans.login_log import read_log
    from lean_tumbler.stores.scans.store_forecast import ForecastContext, forecast_accounts

    log = (
        read_log(
            options.logins,
            store,
            base=policy_path(options).parent,
            today=session.today(),
            accounts=accounts.rows["login"],
        )
        if accounts.with_logins and options.logins is not None
        else None
    )
    return forecast_accounts(
        accounts,
        context=ForecastContext(
            today=session.today(),
            session_days=options.session_days,
            lately_days=lately_days,
        ),
        log=log,
    )
