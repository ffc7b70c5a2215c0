"""`serve`: logins over HTTP, for applications in any language."""

import os
import time
from concurrent.futures import ThreadPoolExecutor
from dataclasses import dataclass
from datetime import datetime
from pathlib import Path
from typing import TYPE_CHECKING

from lean_tumbler.cli.declared import option
from lean_tumbler.cli.option_types import PolicyOptions
from lean_tumbler.cli.options import (
    DEFAULT_MILLISECONDS,
    gateway_of,
    policy_path,
    read_policy,
)
from lean_tumbler.cli.session import Session
from lean_tumbler.cli.typed import milliseconds
from lean_tumbler.errors import UsageError
from lean_tumbler.service.events import Event, Log, log_lines

if TYPE_CHECKING:
    from lean_tumbler.service.failures import FailureLimit
    from lean_tumbler.service.logins import LoginService, ServiceContext

EXAMPLE = """\
  lean-tumbler serve --listen unix:tumbler.sock
  lean-tumbler serve --listen 127.0.0.1:8460 --concurrency 2
  curl --unix-socket tumbler.sock -H 'Content-Type: application/json' http://tumbler/v1/admit \\
       -d '{"store": "passengers", "login": "ada@tidepost.example", "password": "…"}'"""

DEFAULT_PLACE = "127.0.0.1:8460"
_QUEUE_FOR_EACH = 10
_THREADS_FOR_EACH = 2  # one derives while another reads or writes
_TOKEN_BYTES = 4096
_KEY_BYTES = 32


@dataclass(frozen=True, kw_only=True)
class Options(PolicyOptions):
    """What the command was asked for."""

    listen: str = option(
        "PLACE",
        f"unix:PATH, HOST:PORT, or inherited for systemd's socket (default {DEFAULT_PLACE})",
        default=DEFAULT_PLACE,
    )
    concurrency: int | None = option(
        "N", "derivations at once, as `tune` says; without it, one for each core"
    )
    queue: int | None = option(
        "N",
        "requests that may wait for one; further ones are asked to retry "
        f"(default {_QUEUE_FOR_EACH} for each at once)",
    )
    within: float = option(
        "MILLISECONDS",
        "the longest wait, as given to `tune`; a login that would wait longer is asked to "
        f"retry (default {DEFAULT_MILLISECONDS:.0f})",
        read=milliseconds,
        default=DEFAULT_MILLISECONDS,
    )
    token_file: Path | None = option(
        "FILE", "the token that callers must send; the file is readable by you alone"
    )
    failure_store: str | None = option(
        "URL",
        "redis://HOST:6379/0, where all instances count failed logins together; its password "
        "comes from LEAN_TUMBLER_REDIS_PASSWORD",
    )
    certificate: Path | None = option("FILE", "for TLS, in PEM")
    private_key: Path | None = option("FILE", "the certificate's key")


def run(options: Options, session: Session) -> int:
    """Run the command."""
    from lean_tumbler.service.app import Access
    from lean_tumbler.service.serving import Listening, serve
    from lean_tumbler.stores.host import keep_freed_memory

    log = log_lines(session.message, clock=time.time)
    listening = Listening(
        place=options.listen,
        certificate=options.certificate,
        private_key=options.private_key,
    )
    token = _token(options.token_file)
    # Instances with the same token answer side by side.
    at_once = options.concurrency or os.cpu_count() or 1
    keep_freed_memory()
    with ThreadPoolExecutor(at_once * _THREADS_FOR_EACH) as executor:
        context = _context(options, log, executor, at_once)
        serve(
            lambda: _service(options, context),
            listening,
            Access(token=token),
            log=log,
            clock=time.monotonic,
        )
        context.observed.write()
    return 0


def _context(
    options: Options, log: "Log", executor: ThreadPoolExecutor, at_once: int
) -> "ServiceContext":
    """Give what all requests share."""
    from lean_tumbler.service.derivation_slots import DerivationSlots
    from lean_tumbler.service.logins import ServiceContext
    from lean_tumbler.service.metrics import Metrics
    from lean_tumbler.service.promise import Promise
    from lean_tumbler.stores.evidence_file import EvidenceFile
    from lean_tumbler.stores.login_evidence import Observations

    slots = DerivationSlots(
        at_once=at_once, within_seconds=options.within / 1000, clock=time.monotonic
    )
    metrics = Metrics()
    return ServiceContext(
        executor=executor,
        slots=slots,
        promise=Promise(slots, metrics, clock=time.monotonic),
        most_inside=at_once + (options.queue or _QUEUE_FOR_EACH * at_once),
        failures=_failures(options.failure_store, log),
        metrics=metrics,
        log=log,
        clock=time.monotonic,
        observed=Observations(
            EvidenceFile.beside(policy_path(options)),
            clock=time.monotonic,
            alert=lambda message: log(Event.ALERT, message=message),
        ),
    )


def _failures(shared: str | None, log: "Log") -> "FailureLimit":
    """Count failures here, or in Redis too."""
    from lean_tumbler.service.failures import OwnFailures
    from lean_tumbler.service.shared_failures import SharedFailures, redis_client
    from lean_tumbler.stores.credentials import REDIS_PASSWORD_VARIABLE, from_environment

    own = OwnFailures(key=os.urandom(_KEY_BYTES), clock=time.monotonic)
    if shared is None:
        return own
    return SharedFailures(
        redis_client(shared, from_environment(REDIS_PASSWORD_VARIABLE)),
        own=own,
        clock=time.monotonic,
        alert=lambda message: log(Event.ALERT, message=message),
    )


def _service(options: Options, context: "ServiceContext") -> "LoginService":
    """Read the policy, open its stores and check that all their formulas are there."""
    from lean_tumbler.migration.bulk.key_checks import require_keys
    from lean_tumbler.migration.bulk.layering import require_formulas
    from lean_tumbler.service.logins import LoginService
    from lean_tumbler.stores.interface import LOGIN_LOCK_SECONDS
    from lean_tumbler.stores.kinds import kind_of, open_store
    from lean_tumbler.stores.scans.binding import bindings_of
    from lean_tumbler.stores.scans.costs import learn_costs

    policy = read_policy(options)
    # The values of files and of the application's own stores come with requests alone.
    base = policy_path(options).parent
    stores = {
        name: open_store(store, base=base, writable=True, lock_seconds=LOGIN_LOCK_SECONDS)
        for name, store in policy.stores.items()
        if kind_of(store.locator, base=base).has_logins
    }
    for store in stores.values():
        require_formulas(store, policy)
        require_keys(store, policy)
    gateway = gateway_of(options, policy)
    for name, store in stores.items():
        gateway.reader(name).look_at_column()  # now, and not at the first login that needs it
        learn_costs(gateway, store, store_name=name)
    context.observed.take_from(
        bindings_of(stores, policy=policy, today=lambda: datetime.now().astimezone().date())
    )
    return LoginService(gateway, stores, context)


def _token(path: Path | None) -> str:
    """Read the access token.

    Raises:
        UsageError: others can read the file, or it is empty.
    """
    from lean_tumbler.stores.file_access import read_secret

    if path is None:
        return ""
    raw = read_secret(path, what="the token", limit_bytes=_TOKEN_BYTES)
    token = raw.decode("utf-8", "replace").strip()
    if not token:
        raise UsageError(f"{path}: the token is empty")
    return token
