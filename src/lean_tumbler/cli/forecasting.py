"""What `plan` and `progress` share: options of the forecast, and making it."""

import argparse
from datetime import date
from typing import TYPE_CHECKING

from lean_tumbler.cli.options import policy_path, positive_integer
from lean_tumbler.cli.session import Session
from lean_tumbler.errors import UsageError

if TYPE_CHECKING:
    from lean_tumbler.core.policy import StoragePolicy, StorePolicy
    from lean_tumbler.operations.forecasting import LoginLog, StoreForecast

LATELY_DAYS = 30


def add_forecast_options(parser: argparse.ArgumentParser) -> None:
    """Add what a forecast is made from."""
    parser.add_argument(
        "--logins",
        metavar="FILE|TABLE",
        help="a log of logins with typed passwords (who, when): better than last logins alone",
    )
    parser.add_argument(
        "--session-days",
        type=positive_integer,
        default=0,
        metavar="N",
        help="how long a session is remembered: “last seen” is newer than the last typed password",
    )


def store_forecast(
    arguments: argparse.Namespace,
    session: Session,
    policy: "StoragePolicy",
    store: "StorePolicy",
    *,
    with_back_test: bool = False,
    lately_days: int = LATELY_DAYS,
) -> "StoreForecast | None":
    """Forecast a store; None where it has no dates, and none were asked for.

    Raises:
        UsageError: a back-test is asked for without a log.
        SourceError: store or log cannot be read.
    """
    from lean_tumbler.operations.auditing import Means
    from lean_tumbler.operations.forecasting import (
        ForecastMeans,
        draws_of,
        forecast_store,
    )

    if with_back_test and arguments.logins is None:
        raise UsageError(
            "--back-test needs --logins: last logins alone tell nothing of earlier ones"
        )
    if arguments.logins is None and not store.columns.last_login:
        return None
    base = policy_path(arguments).parent
    audit = Means(floor=policy.floor, target=policy.target)
    log = login_log(arguments, policy, store, session.today())
    total = draws_of(with_back_test=with_back_test)
    with session.progress("Forecasting", total=total, unit="draws") as advance:
        return forecast_store(
            store,
            base=base,
            audit=audit,
            means=ForecastMeans(
                today=session.today(),
                session_days=arguments.session_days,
                lately_days=lately_days,
                progress=advance,
            ),
            log=log,
            with_back_test=with_back_test,
        )


def login_log(
    arguments: argparse.Namespace, policy: "StoragePolicy", store: "StorePolicy", today: date
) -> "LoginLog | None":
    """Read the log that --logins names; None where it names none."""
    from lean_tumbler.operations.auditing import Means
    from lean_tumbler.operations.forecasting import logins_of, read_log

    if arguments.logins is None:
        return None
    base = policy_path(arguments).parent
    audit = Means(floor=policy.floor, target=policy.target)
    return read_log(
        arguments.logins,
        store,
        base=base,
        today=today,
        accounts=lambda: logins_of(store, base=base, audit=audit),
    )
