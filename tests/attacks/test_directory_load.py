"""Many logins at once at a directory: everybody is answered rightly, and upgraded once."""

import base64
import hashlib
from concurrent.futures import ThreadPoolExecutor
from pathlib import Path

import pytest

import servers
from test_directory import ENTRY
from test_service import served

PEOPLE = 12
POLICY = """\
[target]
memory_kib = 256
passes = 1
[floor]
argon2id = {{ memory_kib = 256, passes = 1 }}
[store.freight]
readers_ready = 2026-01-01
locator = "{url}"
[store.freight.columns]
login = "uid"
stored = "userPassword"
"""


def password(number: int) -> str:
    return f"Möwe {number} harbour"


def entry(number: int, base: str) -> str:
    digest = hashlib.sha1(password(number).encode() + b"bollard8").digest()
    value = b"{SSHA}" + base64.b64encode(digest + b"bollard8")
    stored = base64.b64encode(value).decode()
    return ENTRY.format(login=f"p{number}", base=base, values=f"userPassword:: {stored}")


def test_logins_at_once_are_answered_rightly(
    tmp_path: Path, monkeypatch: pytest.MonkeyPatch
) -> None:
    """Right and wrong passwords, several of one entry at the same time, over a live directory."""
    monkeypatch.setenv("LEAN_TUMBLER_DATABASE_PASSWORD", servers.DIRECTORY_PASSWORD)
    with servers.openldap() as directory:
        head = (
            f"dn: {directory.base}\nobjectClass: dcObject\nobjectClass: organization\n"
            "dc: tidepost\no: Tidepost\n"
        )
        directory.add(head + "".join(entry(n, directory.base) for n in range(PEOPLE)))
        (tmp_path / "tumbler.toml").write_text(POLICY.format(url=directory.url()))
        asked = [
            (number, right) for number in range(PEOPLE) for right in (True, False, True, False)
        ]
        with served(tmp_path, "--within", "60s") as service, ThreadPoolExecutor(12) as executor:

            def ask(one: tuple[int, bool]) -> tuple[bool, str]:
                number, right = one
                typed = password(number) if right else "no such"
                answer = service.post(
                    "admit", store="freight", login=f"p{number}", password=typed
                ).json()
                return answer["admitted"], answer["action"]

            answers = list(executor.map(ask, asked))
            assert [admitted for admitted, _ in answers] == [right for _, right in asked]
            again = list(executor.map(ask, ((number, True) for number in range(PEOPLE))))
            assert again == [(True, "none")] * PEOPLE
    upgraded = [number for (number, _), (_, action) in zip(asked, answers, strict=True)
                if action == "upgraded"]  # fmt: skip
    assert len(upgraded) == len(set(upgraded)) == PEOPLE
