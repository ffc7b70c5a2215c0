"""`serve`: logins over HTTP, for applications in any language."""

import argparse
import json
import os
import time
from concurrent.futures import Executor, ThreadPoolExecutor
from pathlib import Path
from typing import TYPE_CHECKING

from lean_tumbler.cli.options import (
    add_policy_option,
    gateway_of,
    policy_path,
    positive_integer,
    read_policy,
)
from lean_tumbler.cli.session import Session
from lean_tumbler.errors import UsageError

if TYPE_CHECKING:
    from collections.abc import Mapping

    from lean_tumbler.service.failures import FailureLimit
    from lean_tumbler.service.logins import Log, LoginService
    from lean_tumbler.service.metrics import Metrics

EXAMPLE = """\
  lean-tumbler serve --listen unix:tumbler.sock
  lean-tumbler serve --listen 127.0.0.1:8460 --at-once 2
  curl --unix-socket tumbler.sock -H 'Content-Type: application/json' http://tumbler/v1/admit \\
       -d '{"store": "passengers", "login": "ada@tidepost.example", "password": "…"}'"""

DEFAULT_PLACE = "127.0.0.1:8460"
_QUEUE_FOR_EACH = 10
_TOKEN_BYTES = 4096


def configure(parser: argparse.ArgumentParser) -> None:
    """Declare the arguments."""
    parser.add_argument(
        "--listen",
        default=DEFAULT_PLACE,
        metavar="PLACE",
        help=f"unix:PATH, HOST:PORT, or inherited for systemd's socket (default {DEFAULT_PLACE})",
    )
    parser.add_argument(
        "--at-once",
        type=positive_integer,
        metavar="N",
        help="derivations at once, as `tune` says; without it, one for each core",
    )
    parser.add_argument(
        "--queue",
        type=positive_integer,
        metavar="N",
        help="requests that may wait for one; further ones are told to come back "
        f"(default {_QUEUE_FOR_EACH} for each at once)",
    )
    parser.add_argument(
        "--token-file",
        type=Path,
        metavar="FILE",
        help="what callers must show; readable by you alone",
    )
    parser.add_argument("--certificate", type=Path, metavar="FILE", help="for TLS, in PEM")
    parser.add_argument("--private-key", type=Path, metavar="FILE", help="the certificate's key")
    add_policy_option(parser)


def run(arguments: argparse.Namespace, session: Session) -> int:
    """Run the command."""
    from lean_tumbler.core.audit.likely import likely_passwords
    from lean_tumbler.service.app import Access
    from lean_tumbler.service.failures import FailureLimit
    from lean_tumbler.service.metrics import Metrics
    from lean_tumbler.service.serving import Listening, serve

    def log(event: "Mapping[str, object]") -> None:
        session.message(json.dumps({"time": round(time.time(), 3), **event}, ensure_ascii=False))

    at_once = arguments.at_once or os.cpu_count() or 1
    metrics = Metrics()
    failures = FailureLimit(key=os.urandom(32), clock=time.monotonic)
    common = frozenset(text.casefold() for text in likely_passwords())
    listening = Listening(
        place=arguments.listen,
        certificate=arguments.certificate,
        private_key=arguments.private_key,
    )
    with ThreadPoolExecutor(at_once) as executor:

        def make() -> "LoginService":
            return _service(arguments, executor, at_once, failures, metrics, common, log)

        serve(make, listening, Access(token=_token(arguments.token_file)), log=log)
    return 0


def _service(
    arguments: argparse.Namespace,
    executor: Executor,
    at_once: int,
    failures: "FailureLimit",
    metrics: "Metrics",
    common: frozenset[str],
    log: "Log",
) -> "LoginService":
    """Read the policy, open its stores and check that all their formulas are there."""
    from lean_tumbler.core.policy import APPLICATION
    from lean_tumbler.operations.layering import require_formulas
    from lean_tumbler.service.logins import LoginService, Means
    from lean_tumbler.service.watch import AcceptanceWatch
    from lean_tumbler.stores.locators import is_file, open_store

    policy = read_policy(arguments)
    # The values of files and of the application's own stores come with requests alone.
    base = policy_path(arguments).parent
    stores = {
        name: open_store(store, base=base, writable=True)
        for name, store in policy.stores.items()
        if store.locator != APPLICATION and not is_file(store, base=base)
    }
    for store in stores.values():
        require_formulas(store, policy)
    means = Means(
        executor=executor,
        most_inside=at_once + (arguments.queue or _QUEUE_FOR_EACH * at_once),
        failures=failures,
        watch=AcceptanceWatch(),
        metrics=metrics,
        common=common,
        log=log,
    )
    return LoginService(gateway_of(arguments, policy), stores, means)


def _token(path: Path | None) -> str:
    """Read the access token.

    Raises:
        UsageError: others can read the file, or it is empty.
    """
    from lean_tumbler.stores.files import read_text

    if path is None:
        return ""
    token = read_text(path, limit_bytes=_TOKEN_BYTES).strip()
    if path.stat().st_mode & 0o077:
        raise UsageError(f"{path}: others may read the token; chmod 600 it")
    if not token:
        raise UsageError(f"{path}: the token is empty")
    return token
