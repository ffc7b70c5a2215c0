"""What the service does with a request, whatever carries it."""

import asyncio
from collections.abc import AsyncIterator, Callable, Collection, Mapping
from concurrent.futures import Executor
from contextlib import asynccontextmanager, suppress
from typing import Any, TypeVar

from msgspec import Struct, field

from lean_tumbler.core.login.gateway import CredentialGateway
from lean_tumbler.core.login.outcome import Action, Outcome
from lean_tumbler.core.reading.rows import Row as RowOfStore
from lean_tumbler.core.reading.rows import given_row
from lean_tumbler.errors import RequestRefused, StoreUnavailable, TumblerError
from lean_tumbler.migration.admission import (
    Admission,
    Found,
    admit_login,
    change_password,
    look_up,
)
from lean_tumbler.service.derivation_slots import DerivationSlots
from lean_tumbler.service.events import Event, Log
from lean_tumbler.service.failures import FailureLimit, counted_as
from lean_tumbler.service.metrics import Metrics
from lean_tumbler.service.promise import Promise
from lean_tumbler.service.requests import Admit, AdmitValue, Change, Hash
from lean_tumbler.service.watch import AcceptanceWatch
from lean_tumbler.stores.interface import LoginStore
from lean_tumbler.stores.login_evidence import Observations
from lean_tumbler.stores.scans.costs import learn_costs

T = TypeVar("T")
Answer = dict[str, Any]

REFUSED: Mapping[str, object] = {"admitted": False, "action": "none"}
RETRY_SECONDS = 1
READY_SECONDS = 2.0  # so long an answer about the stores holds
COSTS_SECONDS = 600.0  # so long what the stores' rows ask for holds


class ServiceContext(Struct, frozen=True, kw_only=True):
    """What the service works with."""

    executor: Executor  # runs what derives, and what reads and writes before and after
    # lets so many derive at once as were chosen, and nobody wait longer than promised
    slots: DerivationSlots
    # requests that derive or wait for it; beyond them callers are told to come back
    most_inside: int
    failures: FailureLimit
    metrics: Metrics
    log: Log  # takes one event
    observed: Observations  # what logins show of cohorts
    clock: Callable[[], float]  # seconds, monotonic
    # stops a store's upgrades; it outlasts the policy
    watch: AcceptanceWatch = field(default_factory=AcceptanceWatch)
    promise: Promise  # how logins are answered beside it


class NoRoom(StoreUnavailable):
    """More logins at once than can be answered in time."""


class LoginService:
    """Logins, new passwords and changes, for all stores of a policy."""

    def __init__(
        self,
        gateway: CredentialGateway,  # decides by the policy
        stores: Mapping[str, LoginStore],  # by the policy's names
        context: ServiceContext,  # what outlasts the policy
    ) -> None:
        self.gateway, self.stores, self.context = gateway, stores, context
        self._watch = context.watch
        self._inside = 0
        self._readiness: asyncio.Future[bool] | None = None
        self._ready_until = 0.0
        self._costs_until = context.clock() + COSTS_SECONDS

    async def admit(self, request: Admit) -> Answer:
        """Check a login of a store, and upgrade its value where due."""
        async with self._promised(request.store):
            return await self._admit(request)

    async def _admit(self, request: Admit) -> Answer:
        name, login, password = request.store, request.login, request.password
        store = self._store(name)
        found = await self._look_up(store, login)
        who = _counted_as(login, found)
        if await self._is_refused_unseen(name, who, password, found):
            return dict(REFUSED)
        admission = await self._derive(
            lambda: admit_login(
                store,
                self.gateway,
                store_name=name,
                login=login,
                password=password,
                upgrade=self._watch.may_upgrade(name),
                slot=self.context.slots,
                found=found,
            )
        )
        await self.context.failures.note(name, who, admitted=admission.outcome.admitted)
        return self._answer(name, login, admission, request.expected)

    async def admit_value(self, request: AdmitValue) -> Answer:
        """Check a value that the application has fetched, and give what it is to write."""
        async with self._promised(request.store or ""):
            return await self._admit_value(request)

    async def _admit_value(self, request: AdmitValue) -> Answer:
        login = request.login
        if request.store is not None:
            _require_known(request.store, self.gateway.policy.stores)
        place, who = request.store or "", counted_as(login or "", None)
        if login and await self._is_refused_unseen(place, who, request.password):
            return dict(REFUSED)
        outcome = await self._derive(
            lambda: self.gateway.admit_row(
                given_row(
                    stored=request.stored,
                    salt=request.salt,
                    login=login,
                    account=request.account,
                    columns=request.columns or {},
                ),
                password=request.password,
                store=request.store,
                upgrade=self._watch.may_upgrade(place),
                slot=self.context.slots,
            )
        )
        if login:
            await self.context.failures.note(place, who, admitted=outcome.admitted)
        answer = self._answer(place, login or "", Admission(outcome=outcome), request.expected)
        return {**answer, "new_value": outcome.new_value} if outcome.new_value else answer

    async def hash(self, request: Hash) -> Answer:
        """Give the stored value for a new password."""
        value = await self._derive_in_turn(
            lambda: self.gateway.hash(
                password=request.password, login=request.login, account=request.account
            )
        )
        return {"value": value}

    async def change(self, request: Change) -> Answer:
        """Check a password, and put a new one in its place."""
        name, login, password = request.store, request.login, request.password
        store = self._store(name)
        found = await self._look_up(store, login)
        who = _counted_as(login, found)
        if await self._is_refused_unseen(name, who, password, found):
            return {"changed": False}
        changed, outcome = await self._derive(
            lambda: change_password(
                store,
                self.gateway,
                store_name=name,
                login=login,
                password=password,
                new=request.new_password,
                slot=self.context.slots,
                found=found,
            )
        )
        await self.context.failures.note(name, who, admitted=outcome.admitted)
        return {"changed": changed}

    async def ready(self) -> bool:
        """Tell whether every store answers; asked by many at once, the stores are asked once."""
        now = self.context.clock()
        if self._readiness is None or now >= self._ready_until:
            self._ready_until = now + READY_SECONDS
            self._readiness = asyncio.ensure_future(self._look_at_stores())
        return await asyncio.shield(self._readiness)

    async def _look_at_stores(self) -> bool:
        loop = asyncio.get_running_loop()
        for store in self.stores.values():
            try:
                await loop.run_in_executor(None, store.require_answer)
            except TumblerError:
                return False
        return True

    async def _look_up(self, store: LoginStore, login: str) -> Found:
        loop = asyncio.get_running_loop()
        return await loop.run_in_executor(
            self.context.executor, look_up, store, self.gateway, login
        )

    async def _is_refused_unseen(
        self, store: str, who: str, password: str, found: Found | None = None
    ) -> bool:
        """Tell whether somebody has failed too often; it costs what an unknown login does."""
        if not await self.context.failures.is_reached(store, who):
            return False
        await self._derive(
            lambda: self.gateway.admit_row(
                RowOfStore(stored=None),
                password=password,
                store=store or None,
                slot=self.context.slots,
                fetched_seconds=found.seconds if found else 0.0,
            )
        )
        self._alert(store, "a login failed too often in a row and is refused without a check")
        return True

    async def _derive_in_turn(self, work: Callable[[], T]) -> T:
        def in_turn() -> T:
            with self.context.slots:
                return work()

        return await self._derive(in_turn)

    async def _derive(self, work: Callable[[], T]) -> T:
        """Run something that derives, or refuse at once where too many wait already."""
        if self._inside >= self.context.most_inside or not self.context.slots.has_room(
            self._inside
        ):
            raise NoRoom("too many logins at once; retry in a moment")
        self._inside += 1
        self.context.metrics.waiting.set(self._inside)
        try:
            return await asyncio.get_running_loop().run_in_executor(self.context.executor, work)
        finally:
            self._inside -= 1
            self.context.metrics.waiting.set(self._inside)

    def _answer(self, store: str, login: str, admission: Admission, expected: object) -> Answer:
        verdict = expected if isinstance(expected, bool) else None
        self.context.observed.note(
            store, login, admission.outcome, row=admission.row, expected=verdict
        )
        if self.context.observed.is_due:
            self.context.executor.submit(self.context.observed.write)
        if self.context.clock() >= self._costs_until:
            self._costs_until = self.context.clock() + COSTS_SECONDS
            self.context.executor.submit(self._learn_costs_again)
        outcome, metrics = admission.outcome, self.context.metrics
        cohort, admitted = outcome.cohort or "none", str(outcome.admitted).lower()
        metrics.logins.labels(store, cohort, admitted, outcome.action).inc()
        if outcome.cohort and (
            alert := self._watch.note(store, outcome.cohort, admitted=outcome.admitted)
        ):
            self._alert(store, alert)
        if outcome.refusal:
            metrics.refusals.labels(store, outcome.refusal).inc()
        if expected is not None:
            metrics.agreement.labels(store, cohort, str(expected).lower(), admitted).inc()
        if admission.alert:
            self._alert(store, admission.alert)
        return {"admitted": outcome.admitted, "action": str(_seen(outcome))}

    @asynccontextmanager
    async def _promised(self, store: str) -> AsyncIterator[None]:
        """Hold a login's time beside the promise."""
        began = self.context.clock()
        try:
            yield
        except StoreUnavailable as error:
            if isinstance(error, NoRoom):
                self._hear(store, self.context.promise.note(None))
            raise
        self._hear(store, self.context.promise.note(self.context.clock() - began))

    def _hear(self, store: str, alert: str) -> None:
        if alert:
            self._alert(store, alert)

    def _learn_costs_again(self) -> None:
        """See what rows ask for now; what gone rows asked for is forgotten."""
        for name, store in self.stores.items():
            with suppress(TumblerError):  # then what was learned before holds
                learn_costs(self.gateway, store, store_name=name)

    def _alert(self, store: str, message: str) -> None:
        self.context.metrics.alerts.labels(store).inc()
        self.context.log(Event.ALERT, store=store, message=message)

    def _store(self, name: str) -> LoginStore:
        _require_known(name, self.stores)
        return self.stores[name]


def _counted_as(login: str, found: Found) -> str:
    """Name whom failures of a login count for."""
    return counted_as(login, found.one.key if found.one else None)


def _require_known(name: str, stores: Collection[str]) -> None:
    if name not in stores:
        known = ", ".join(stores) or "none"
        message = f"no such store is served here; served: {known}"
        raise RequestRefused("unknown-store", message, field="store")


def _seen(outcome: Outcome) -> Action:
    """What the caller hears of the action: nothing where the login is refused."""
    return outcome.action if outcome.admitted else Action.NONE
