"""The plan: cohorts, a schema change that really works, and what would be touched."""

from collections.abc import Iterator
from pathlib import Path

import pytest

import servers
from conftest import Portal, Program
from server_portal import is_mariadb, make_portal
from test_servers import STARTERS


@pytest.fixture
def program(in_process: Program) -> Program:
    """Many short runs: in this process. Other modules run the built program."""
    return in_process


@pytest.fixture(scope="module", params=STARTERS)
def server(request: pytest.FixtureRequest) -> Iterator[servers.Server]:
    with STARTERS[request.param]() as running:
        yield running


def test_cohorts_and_what_each_gets(portal: Portal, program: Program) -> None:
    """Counts agree with what a run then does, and nothing is written."""
    before = portal.stored()
    plan = program("plan", "--format", "json").document
    assert portal.stored() == before
    gets = {entry["cohort"]: entry["gets"] for entry in plan["cohorts"]}
    assert gets["portal-2004"].startswith("layered now")
    assert gets["clerks"].startswith("replaced now")
    assert sum(entry["rows"] for entry in plan["cohorts"]) == plan["rows"] == len(before)
    assert plan["schema_change"] is None
    rates = {entry["cohort"]: entry["guesses_per_second"] for entry in plan["cohorts"]}
    assert rates["portal-2004"] > rates["portal-2011"] > plan["guesses_per_second_after"] > 0
    assert rates["clerks"] is None
    planned = {entry["cohort"]: entry["rows"] for entry in plan["cohorts"]}
    done = program("layer", "--no-backup", "--format", "json").document["cohorts"]
    assert done == {name: planned[name] for name in done}
    assert program("plan").out.startswith("passengers: 0 of ")


def test_rows_that_need_a_person_are_named(
    portal: Portal, program: Program, tmp_path: Path
) -> None:
    """What no formula fits is counted apart, with some accounts."""
    policy = (tmp_path / "tumbler.toml").read_text()
    (tmp_path / "tumbler.toml").write_text(policy.replace("utf-8, md5, hex", "utf-8, sha256, hex"))
    plan = program("plan", "--format", "json").document
    person = [entry for entry in plan["cohorts"] if entry["gets"] == "needs a person"]
    assert sum(entry["rows"] for entry in person) == 3
    assert len(plan["listed"]) == 3
    assert portal.passengers


def column(server: servers.Server) -> str:
    return server.ask(
        "SELECT character_maximum_length FROM information_schema.columns"
        " WHERE table_name = 'passengers' AND column_name = 'pw'"
    ).strip()


@pytest.mark.parametrize("kind", ["varchar(60)", "varchar(100)", "char(60)"])
def test_the_statements_widen_the_column_and_take_it_back(
    kind: str, server: servers.Server, tmp_path: Path, program: Program
) -> None:
    """Run as they are printed: then a layered value fits; undone, the old type stands again."""
    make_portal(server, tmp_path, rows=24)
    server.run("DELETE FROM passengers WHERE length(pw) > 60 OR pw IS NULL;")
    alter = "MODIFY COLUMN pw" if is_mariadb(server) else "ALTER COLUMN pw TYPE"
    server.run(f"ALTER TABLE passengers {alter} {kind};")
    narrow = column(server)
    refused = program("layer", "--backup", "none.sealed", "--to", "recovery.public.pem")
    assert (refused.code, refused.out) == (2, "")
    assert "the column is too narrow for what would be written" in refused.err
    assert not (tmp_path / "none.sealed").exists()
    change = program("plan", "--format", "json").document["schema_change"]
    server.run("\n".join(change["statements"]))
    assert int(column(server)) >= 255
    program("keys", "new", "recovery")
    sealed = ("--backup", "one.sealed", "--to", "recovery.public.pem")
    assert program("layer", *sealed).code == 0
    assert program("undo", "one.sealed", "--key", "recovery.private.pem").code == 0
    server.run("\n".join(change["reverse"]))
    assert column(server) == narrow
    text = program("plan").out
    assert "First widen the column; review, and run it yourself:" in text
    assert change["statements"][-1] in text


def test_what_stands_around_the_table_is_named(
    server: servers.Server, tmp_path: Path, program: Program
) -> None:
    """Triggers, views, generated columns, columns set by themselves, tables with its past."""
    make_portal(server, tmp_path, rows=12)
    server.run(
        "DROP VIEW IF EXISTS admins; CREATE VIEW admins AS SELECT email, pw FROM passengers;"
        "DROP TABLE IF EXISTS passengers_old; CREATE TABLE passengers_old (id int);"
    )
    if is_mariadb(server):
        server.run(
            "ALTER TABLE passengers ADD COLUMN pw_length int AS (length(pw)) STORED,"
            " ADD COLUMN changed_at timestamp DEFAULT current_timestamp()"
            " ON UPDATE current_timestamp();"
            "CREATE TRIGGER noted AFTER UPDATE ON passengers FOR EACH ROW SET @noted = 1;"
        )
    else:
        server.run(
            "ALTER TABLE passengers ADD COLUMN pw_length int"
            " GENERATED ALWAYS AS (length(pw)) STORED;"
            "CREATE OR REPLACE FUNCTION noted() RETURNS trigger LANGUAGE plpgsql AS"
            " $$ BEGIN RETURN NEW; END $$;"
            "CREATE TRIGGER noted AFTER UPDATE ON passengers FOR EACH ROW"
            " EXECUTE FUNCTION noted();"
            "CREATE PUBLICATION ferries FOR TABLE passengers;"
        )
    touched = program("plan", "--format", "json").document["touched"]
    assert touched["triggers"] == ["noted"]
    assert touched["views"] == ["admins"]
    assert touched["generated"] == ["pw_length"]
    assert touched["relatives"] == ["passengers_old"]
    if is_mariadb(server):
        assert touched["updated_by_itself"] == ["changed_at"]
    else:
        assert touched["copies"] == ["publication ferries"]
    server.run("DROP VIEW admins;")
