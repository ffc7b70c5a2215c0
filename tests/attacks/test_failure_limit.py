"""Whoever writes one login in many ways: all of them count for the one row."""

import sqlite3
from contextlib import closing

import pytest

from conftest import Portal
from lean_tumbler.service.failures import counted_as
from test_service import served


def test_writings_of_one_login_count_together(portal: Portal) -> None:
    """Where the store takes them for one, the hundred-and-first try is refused unseen."""
    person = portal.openable[0]
    with closing(sqlite3.connect(portal.database)) as connection, connection:
        connection.executescript(
            "ALTER TABLE passengers RENAME TO old; CREATE TABLE passengers AS SELECT * FROM old LIMIT 0;"
            "DROP TABLE passengers; CREATE TABLE passengers (id INTEGER PRIMARY KEY, email TEXT COLLATE"
            " NOCASE, pw TEXT, pw_salt TEXT, is_admin INTEGER);"
            "INSERT INTO passengers SELECT id, email, pw, pw_salt, is_admin FROM old; DROP TABLE old;"
        )
    with served(portal.folder) as service:
        ways = (person.login, person.login.upper(), person.login.title())
        assert service.admit(ways[1], person.password)["admitted"]
        for number in range(100):
            assert not service.admit(ways[number % 3], f"wrong {number}")["admitted"]
        for way in ways:
            assert not service.admit(way, person.password)["admitted"]
        other = portal.openable[1]
        assert service.admit(other.login, other.password)["admitted"]


def test_values_that_the_application_brings_count_too(portal: Portal) -> None:
    """A login that comes with them is counted as everywhere."""
    person = next(each for each in portal.openable if each.cohort == "md5")
    body = {"store": "passengers", "stored": person.stored, "login": person.login}
    with served(portal.folder) as service:
        for number in range(100):
            answer = service.post("admit-value", **body, password=f"wrong {number}").json()
            assert not answer["admitted"]
        assert not service.post("admit-value", **body, password=person.password).json()["admitted"]


@pytest.mark.parametrize(
    "other", ["ADA", " ada", "ada ", "\uff41da", "\u00e1da", "a\u0301da", "Ada\t"]
)
def test_what_is_no_row_is_folded(other: str) -> None:
    """Letter case, blanks, accents and widths make no other of an unknown login."""
    assert counted_as(other, None) == counted_as("ada", None)
    assert counted_as("ada", 7) == counted_as(other, 7) != counted_as("ada", 8)
