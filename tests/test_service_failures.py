"""Logins that fail too often: counted by one instance, or by all of them in Redis."""

import asyncio
import shutil
import time
from contextlib import ExitStack
from pathlib import Path

import pytest

import servers
from conftest import Portal, Program
from lean_tumbler.service.failures import OwnFailures
from lean_tumbler.service.shared_failures import SharedFailures, redis_client
from test_service import served


def test_a_login_that_fails_too_often_is_refused_unseen(portal: Portal) -> None:
    """After a hundred failures in a row the right password is refused too, with the same answer."""
    person = portal.openable[0]
    with served(portal.folder) as service:
        for number in range(100):
            assert not service.admit(person.login, f"wrong {number}")["admitted"]
        assert service.admit(person.login, person.password) == {"admitted": False, "action": "none"}
        assert service.admit(portal.openable[1].login, portal.openable[1].password)["admitted"]
        assert service.events()[-1]["message"].startswith("a login failed too often")


def test_failures_decay_and_end_with_a_success() -> None:
    """One is forgotten in each span of time; a success ends them."""
    now = [0.0]

    async def run() -> None:
        limit = OwnFailures(key=b"k", clock=lambda: now[0], most=3, forgiven_seconds=10.0)
        for _ in range(3):
            await limit.note("a", "ada", admitted=False)
        assert await limit.is_reached("a", "ada")
        assert not await limit.is_reached("b", "ada")
        now[0] = 11.0
        assert not await limit.is_reached("a", "ada")
        await limit.note("a", "ada", admitted=False)
        assert await limit.is_reached("a", "ada")
        await limit.note("a", "ada", admitted=True)
        assert not await limit.is_reached("a", "ada")

    asyncio.run(run())


def test_failures_that_instances_count_together(portal: Portal, tmp_path: Path) -> None:
    """Tries at one count for all; while the server is away, each goes by its own count."""
    person, other = portal.openable[:2]
    with servers.redis(tmp_path) as redis, ExitStack() as stack:
        folders = [tmp_path / "one", tmp_path / "two"]
        for folder in folders:
            shutil.copytree(portal.folder, folder)
        one, two = (
            stack.enter_context(served(folder, "--failure-store", redis.url)) for folder in folders
        )
        for number in range(100):
            assert not (one, two)[number % 2].admit(person.login, f"wrong {number}")["admitted"]
        for service in (one, two):
            assert not service.admit(person.login, person.password)["admitted"]
            assert service.admit(other.login, other.password)["admitted"]
        redis.process.kill()
        for service in (one, two):
            assert service.admit(person.login, person.password)["admitted"]
            told = [
                event for event in service.events() if "counts alone" in event.get("message", "")
            ]
            assert len(told) == 1


def test_shared_failures_decay_by_the_servers_clock(tmp_path: Path) -> None:
    """The script that counts forgets as the count in memory does, and ends with a success."""

    async def run(url: str) -> None:
        never = OwnFailures(key=b"k", clock=time.monotonic)
        limit = SharedFailures(
            redis_client(url, None), own=never, clock=time.monotonic, alert=pytest.fail,
            most=3, forgiven_seconds=0.5,
        )  # fmt: skip
        for _ in range(3):
            await limit.note("a", "ada", admitted=False)
        assert await limit.is_reached("a", "ada")
        await asyncio.sleep(0.8)
        assert not await limit.is_reached("a", "ada")
        for _ in range(2):
            await limit.note("a", "ada", admitted=False)
        assert await limit.is_reached("a", "ada")
        await limit.note("a", "ada", admitted=True)
        assert not await limit.is_reached("a", "ada")

    with servers.redis(tmp_path) as redis:
        asyncio.run(run(redis.url))


@pytest.mark.parametrize(
    ("url", "expected"),
    [
        ("http://127.0.0.1", "redis://HOST:6379/0"),
        ("redis://:secret@127.0.0.1:6379/0", "LEAN_TUMBLER_REDIS_PASSWORD"),
    ],
)
@pytest.mark.usefixtures("portal")
def test_addresses_of_shared_counts(program: Program, url: str, expected: str) -> None:
    """Another form, or a password that others can see, is refused before anything listens."""
    finished = program("serve", "--failure-store", url)
    assert (finished.code, expected in finished.err, "secret" in finished.err) == (2, True, False)
