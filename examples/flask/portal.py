"""A Flask application that checks logins by the library, in its own process, on SQLite.

flask --app portal run
"""

import os
import sqlite3
from contextlib import closing
from pathlib import Path

from flask import Flask, request

from lean_tumbler import CredentialGateway, StoragePolicy

FOLDER = Path(os.environ.get("PORTAL", "coldharbour"))
gateway = CredentialGateway(StoragePolicy.from_toml((FOLDER / "tumbler.toml").read_text()))
app = Flask(__name__)


def admit(login: str, password: str) -> bool:
    """Check a login, and upgrade its value where due."""
    with closing(sqlite3.connect(FOLDER / "harbour.db")) as connection:
        row = connection.execute(
            "SELECT id, pw, pw_salt FROM passengers WHERE email = ?", (login,)
        ).fetchone()
        # An unknown login is asked about too, so that its answer takes as long.
        key, stored, salt = row or (None, None, None)
        outcome = gateway.admit(
            store="passengers", stored=stored, salt=salt, login=login, password=password
        )
        if outcome.new_value is not None:
            # A swap: only where exactly the old value still stands. Where it does not, somebody
            # else has changed it meanwhile, and the login is right all the same.
            with connection:
                connection.execute(
                    "UPDATE passengers SET pw = ? WHERE id = ? AND CAST(pw AS BLOB) = ?",
                    (outcome.new_value, key, stored.encode()),
                )
        return outcome.admitted


@app.post("/login")
def login() -> tuple[str, int]:
    """Answer the form."""
    if admit(request.form.get("login", ""), request.form.get("password", "")):
        return "welcome aboard\n", 200
    return "not known\n", 401
