"""The login service and the stores behind it: races, locks, lost servers, dearer values."""

import threading
import time
from collections.abc import Callable, Iterator
from concurrent.futures import ThreadPoolExecutor
from functools import partial
from itertools import pairwise
from pathlib import Path
from typing import Any

import pytest

import servers
from lean_tumbler.service.derivation_slots import DerivationSlots
from lean_tumbler.service.metrics import Metrics
from lean_tumbler.service.promise import Promise
from server_portal import make_portal as make_server_portal
from server_portal import may_only_read
from test_servers import STARTERS
from test_service import STORE, served

ANSWERS = 12


@pytest.fixture(scope="module", params=STARTERS)
def server(request: pytest.FixtureRequest) -> Iterator[servers.Server]:
    with STARTERS[request.param]() as running:
        yield running


def at_once(ask: Callable[[], Any], number: int = ANSWERS) -> list[Any]:
    with ThreadPoolExecutor(number) as executor:
        return [answer.result() for answer in [executor.submit(ask) for _ in range(number)]]


def test_logins_of_one_account_at_once(server: servers.Server, tmp_path: Path) -> None:
    """All are admitted; one writes, and what it wrote opens."""
    login, password = next(iter(make_server_portal(server, tmp_path).items()))
    with served(tmp_path, "--concurrency", "4", "--within", "30s") as service:
        answers = at_once(lambda: service.admit(login, password))
        assert all(answer["admitted"] for answer in answers)
        actions = [answer["action"] for answer in answers]
        assert actions.count("upgraded") == 1
        assert set(actions) <= {"upgraded", "deferred", "none"}
        assert service.admit(login, password) == {"admitted": True, "action": "none"}


def test_a_password_that_is_changed_beside_upgrades(server: servers.Server, tmp_path: Path) -> None:
    """Whichever writes first, the new password holds once its change is answered with yes."""
    passwords = make_server_portal(server, tmp_path)
    with served(tmp_path, "--concurrency", "4", "--within", "30s") as service:
        for login, password in list(passwords.items())[:8]:
            new = f"ebb and flow {login}"
            asking = threading.Thread(
                target=at_once, args=(partial(service.admit, login, password), 4)
            )
            asking.start()
            fields = {"store": STORE, "login": login, "password": password, "new_password": new}
            changed = service.post("change", **fields).json()["changed"]
            asking.join()
            holds, other = (new, password) if changed else (password, new)
            assert service.admit(login, holds)["admitted"]
            assert not service.admit(login, other)["admitted"]


def test_a_row_that_another_locks(server: servers.Server, tmp_path: Path) -> None:
    """The login is answered after a short wait, its upgrade is deferred to the next one."""
    login, password = next(iter(make_server_portal(server, tmp_path).items()))
    with served(tmp_path) as service:
        with server.holding("UPDATE passengers SET is_admin = is_admin + 1;"):
            assert service.admit(login, password) == {"admitted": True, "action": "deferred"}
            assert "was not written" in service.events()[-1]["message"]
        assert service.admit(login, password) == {"admitted": True, "action": "upgraded"}


def test_a_store_that_may_not_be_written(server: servers.Server, tmp_path: Path) -> None:
    """Logins are answered right, upgrades are deferred, and the log says which right is missing."""
    login, password = next(iter(make_server_portal(server, tmp_path).items()))
    may_only_read(server, tmp_path)
    with served(tmp_path) as service:
        assert service.admit(login, password) == {"admitted": True, "action": "deferred"}
        assert service.admit(login, "wrong") == {"admitted": False, "action": "none"}
        assert "lacks the right" in service.log.read_text()


def test_a_server_that_goes_away_and_comes_back(server: servers.Server, tmp_path: Path) -> None:
    """Meanwhile it is an error and never “wrong password”; afterwards all is as before."""
    login, password = next(iter(make_server_portal(server, tmp_path).items()))
    with served(tmp_path) as service:
        assert not service.admit(login, "wrong")["admitted"]
        server.kill()
        answer = service.post("admit", store=STORE, login=login, password=password)
        assert (answer.status_code, answer.json()["type"]) == (503, "/problems/busy")
        assert service.client.get("/health/ready").status_code == 503
        assert service.client.get("/health/live").status_code == 200
        server.start_again()
        deadline = time.monotonic() + 60
        while service.client.get("/health/ready").status_code != 200:
            assert time.monotonic() < deadline
            time.sleep(0.2)
        assert service.admit(login, password) == {"admitted": True, "action": "upgraded"}


def test_who_would_wait_too_long_is_told_to_come_back() -> None:
    """By the mean of the latest turns; with nobody waiting, there is room however slow it is."""
    now = [0.0]
    turns = DerivationSlots(at_once=2, within_seconds=1.0, clock=lambda: now[0])
    assert turns.has_room(inside=100)  # nothing is known yet
    for _ in range(30):
        with turns:
            now[0] += 0.1
    assert turns.has_room(inside=16)  # eight rounds of 0.1 s before it
    assert not turns.has_room(inside=20)
    with turns:  # one slow row alone says little of the next
        now[0] += 60.0
    assert turns.has_room(inside=10)
    for _ in range(60):
        with turns:
            now[0] += 5.0
    assert turns.has_room(inside=1)
    assert not turns.has_room(inside=2)


def test_a_turn_that_ends_soon_is_waited_for() -> None:
    """Who holds a turn, and since when, counts: late is who would be late in truth."""
    now = [0.0]
    turns = DerivationSlots(at_once=1, within_seconds=1.0, clock=lambda: now[0])
    for _ in range(30):
        with turns:
            now[0] += 0.6
    with turns:
        assert not turns.has_room(inside=1)  # 0.6 s until it begins, and 0.6 s for itself
        now[0] += 0.3
        assert turns.has_room(inside=1)  # 0.3 s and 0.6 s
        assert not turns.has_room(inside=2)


@pytest.mark.parametrize(
    ("gap", "turn", "why"),
    [
        (0.1, 0.2, "are more than this host carries; run `lean-tumbler tune` for that load"),
        (1.0, 0.2, "come in bursts, or other programs take the cores"),
    ],
)
def test_a_promise_that_is_not_kept_is_told_once_a_minute(
    gap: float, turn: float, why: str
) -> None:
    """Of the last thousand more than ten late or refused: how many, and why."""
    now = [0.0]
    turns = DerivationSlots(at_once=1, within_seconds=0.25, clock=lambda: now[0])
    with turns:
        now[0] += turn
    metrics = Metrics()
    promise = Promise(turns, metrics, clock=lambda: now[0])
    alerts = []
    for number in range(1_100):
        now[0] += gap
        seconds = None if number % 100 == 3 else 0.9 if number % 100 == 5 else turn
        alerts.append((now[0], promise.note(seconds)))
    told = [(at, text) for at, text in alerts if text]
    assert told[0][1].startswith("980 of the last 1,000 logins were answered within 250 ms")
    assert told[0][1].partition("at once, ")[2].startswith(why)
    assert all(later - earlier >= 60 for (earlier, _), (later, _) in pairwise(told))
    assert 'tumbler_promise_total{outcome="no-room"} 11.0' in metrics.text().decode()
    assert "tumbler_promise_seconds 0.25" in metrics.text().decode()


def test_a_promise_that_is_kept_is_not_told() -> None:
    """Ten in a thousand may be late."""
    turns = DerivationSlots(at_once=1, within_seconds=0.25, clock=lambda: 0.0)
    promise = Promise(turns, Metrics(), clock=lambda: 0.0)
    assert not any(promise.note(0.9 if number % 100 == 5 else 0.2) for number in range(3_000))
