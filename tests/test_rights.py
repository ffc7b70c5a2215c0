"""The rights that docs/RIGHTS.md names: its own statements, run on each server."""

import re
from collections.abc import Iterator
from pathlib import Path

import pytest

import servers
from conftest import run_program
from server_portal import is_mariadb, make_portal
from test_servers import STARTERS

PAGE = (Path(__file__).parent.parent / "docs" / "RIGHTS.md").read_text("utf-8")
BACKUP = ("--backup", "1.sealed", "--to", "recovery.public.pem")


@pytest.fixture(scope="module", params=STARTERS)
def server(request: pytest.FixtureRequest) -> Iterator[servers.Server]:
    """A server with the accounts of the page, beside the owner's."""
    with STARTERS[request.param]() as running:
        yield running


def granted(server: servers.Server) -> None:
    """Make the accounts by the statements of the page."""
    heading = "## MariaDB and MySQL" if is_mariadb(server) else "## PostgreSQL"
    part = PAGE.partition(heading)[2].partition("\n## ")[0]
    blocks = re.findall(r"```sql\n(.*?)```", part, re.DOTALL)
    assert len(blocks) == 2
    server.run("".join(blocks))


def test_each_account_can_do_what_the_page_says_and_no_more(
    server: servers.Server, tmp_path: Path
) -> None:
    """Every command runs by the account for its use, and is refused by one with fewer rights."""
    passwords = make_portal(server, tmp_path)
    server.run(
        "ALTER TABLE passengers ADD COLUMN last_login timestamp NULL;"
        "UPDATE passengers SET last_login = '2020-05-01' WHERE id = 9;"
        "UPDATE passengers SET last_login = '2026-05-01' WHERE id <> 9;"
    )
    granted(server)
    policy = tmp_path / "tumbler.toml"
    text = policy.read_text().replace('stored = "pw"', 'stored = "pw"\nlast_login = "last_login"')
    owner = "root" if is_mariadb(server) else "tumbler"
    (tmp_path / "known.csv").write_text(
        "login,password\n"
        + "".join(f"{login},{password}\n" for login, password in list(passwords.items())[:12])
    )
    run_program("keys", "new", "recovery", cwd=tmp_path)

    def run(account: str, *command: str, stdin: bytes = b"") -> tuple[int, str]:
        policy.write_text(text.replace(f"//{owner}@", f"//{account}@"))
        ended = run_program(*command, cwd=tmp_path, stdin=stdin)
        return ended.code, ended.err

    login, password = next(iter(passwords.items()))
    typed = f"{password}\n".encode()
    for command in (
        ["audit", "passengers"], ["plan"], ["verify", "known.csv", "--store", "passengers"],
        ["rehearse", "known.csv", "--rows", "20"], ["progress"], ["layer", "--dry-run"],
        ["exposed", "--since", "2026-05-01"],
    ):  # fmt: skip
        code, err = run("tumbler_reader", *command)
        assert code in {0, 1}, (command, err)
    for account, may in (
        ("tumbler_reader", "read it, and not write"),
        ("tumbler_writer", "read and write"),
    ):
        policy.write_text(text.replace(f"//{owner}@", f"//{account}@"))
        assert (
            f"this account may {may}" in run_program("doctor", "--format", "json", cwd=tmp_path).out
        )
    refused = run("tumbler_reader", "layer", *BACKUP)
    assert refused[0] == 3
    assert "lacks the right" in refused[1]
    assert run("tumbler_writer", "admit", login, stdin=typed) == (0, "")
    for command in (
        ["layer", "--backup", "3.sealed", *BACKUP[2:]], ["lock-dormant", "--before", "2024-01-01",
                             "--backup", "2.sealed", "--to", "recovery.public.pem"],
        ["undo", "2.sealed", "--key", "recovery.private.pem"],
    ):  # fmt: skip
        code, err = run("tumbler_writer", *command)
        assert code == 0, (command, err)
    assert run("tumbler_writer", "enforce", "constraint", "--apply")[0] == 3
    assert run(owner, "enforce", "constraint", "--apply")[0] in {0, 1}
    assert run("tumbler_reader", "admit", login, stdin=typed)[0] == 0
