"""A Flask application that works by the library, in its own process, on SQLite.

Login, registration, change and a reset behind a mailed link; seeds go the way of registration. The
library notes nothing: to observe before anything is written, ask the service, as its examples do.

flask --app portal run
"""

import os
import sqlite3
from contextlib import closing
from pathlib import Path

from flask import Flask, request

from lean_tumbler import CredentialGateway, PasswordRefused, StoragePolicy

FOLDER = Path(os.environ.get("PORTAL", "coldharbour"))
gateway = CredentialGateway(StoragePolicy.from_toml((FOLDER / "tumbler.toml").read_text()))
app = Flask(__name__)


def admit(login: str, password: str, *, new: str = "") -> bool:
    """Check a login, and upgrade its value where due; or put a new password in its place.

    A new password is in force only where this gives True.
    """
    with closing(sqlite3.connect(FOLDER / "harbour.db")) as connection:
        row = connection.execute(
            "SELECT id, pw, pw_salt FROM passengers WHERE email = ?", (login,)
        ).fetchone()
        # An unknown login is asked about too, so that its answer takes as long.
        key, stored, salt = row or (None, None, None)
        outcome = gateway.admit(
            store="passengers",
            stored=stored,
            salt=salt,
            login=login,
            account=None if row is None else str(key),
            password=password,
        )
        if outcome.admitted and new:
            value = gateway.hash(password=new, login=login, account=str(key))
            return swap(connection, key, stored, value)
        if outcome.new_value is not None:
            # Where the swap fails, the login is right all the same.
            swap(connection, key, stored, outcome.new_value)
        return outcome.admitted


def swap(connection: sqlite3.Connection, key: int, old: str, value: str) -> bool:
    """Write only where exactly the old value still stands: else somebody else has changed it."""
    with connection:
        written = connection.execute(
            "UPDATE passengers SET pw = ? WHERE id = ? AND CAST(pw AS BLOB) = ?",
            (value, key, old.encode()),
        )
    return written.rowcount == 1


@app.post("/login")
def login() -> tuple[str, int]:
    """Answer the form."""
    if admit(request.form.get("login", ""), request.form.get("password", "")):
        return "welcome aboard\n", 200
    return "not known\n", 401


@app.post("/register")
def register() -> tuple[str, int]:
    """Make an account; its value is written and never answered."""
    login, password = request.form.get("login", ""), request.form.get("password", "")
    with closing(sqlite3.connect(FOLDER / "harbour.db")) as connection, connection:
        connection.execute(
            "INSERT INTO passengers (email, pw) VALUES (?, ?)",
            (login, gateway.hash(password=password, login=login)),
        )
    return "welcome aboard\n", 201


@app.post("/change")
def change() -> tuple[str, int]:
    """Put a new password in the place of one that is known."""
    form = request.form
    if not form.get("new"):
        return "a new password is missing\n", 422
    if not admit(form.get("login", ""), form.get("password", ""), new=form["new"]):
        return "not known\n", 401
    return "changed\n", 200


def reset(login: str, password: str) -> None:
    """Write a new password behind the link of a reset mail, whatever stood there."""
    value = gateway.hash(password=password, login=login)
    with closing(sqlite3.connect(FOLDER / "harbour.db")) as connection, connection:
        connection.execute("UPDATE passengers SET pw = ? WHERE email = ?", (value, login))


@app.errorhandler(PasswordRefused)
def refused(error: PasswordRefused) -> tuple[str, int]:
    """Show every rule that a new password breaks."""
    return "".join(f"{reason}\n" for reason in error.reasons), 422
