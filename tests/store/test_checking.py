"""The command that says what an installation lacks, and commands that say what they do not start
without."""

import http.server
import os
import socket
import threading

import pytest
import sqlalchemy as sa

from meadowrun.__main__ import run as command
from meadowrun.base.db import Database
from meadowrun.base.schema import is_behind
from meadowrun.features import features
from meadowrun.readiness.checking import check
from meadowrun.shell import accounts
from tests.conftest import NOW
from tests.store.test_server import SECRET, started


@pytest.fixture
def environment(database):
    features(demo=False)
    return {
        "MEADOWRUN_DATABASE_URL": database.url,
        "MEADOWRUN_SECRET": SECRET,
        "MEADOWRUN_PUBLIC_URL": "http://127.0.0.1:1",
        "MEADOWRUN_SMTP_URL": "null:",
    }


def wrong(environment):
    """What is not right, and what to do about it."""
    return {one.what: one.todo for one in check(environment) if not one.right}


@pytest.fixture
def bare(database):
    """A database without a table of ours."""
    name = f"{database.url.rsplit('/', 1)[1]}_bare"
    with database.engine.connect() as connection:
        connection.execution_options(isolation_level="AUTOCOMMIT")
        connection.execute(sa.text(f"CREATE DATABASE {name}"))
    made = Database(f"{database.url.rsplit('/', 1)[0]}/{name}")
    yield made
    made.close()
    with database.engine.connect() as connection:
        connection.execution_options(isolation_level="AUTOCOMMIT")
        connection.execute(sa.text(f"DROP DATABASE {name}"))


def test_every_setting_that_is_missing_or_wrong_is_named_at_once(environment):
    said = [one.todo for one in check({"MEADOWRUN_SECRET": "short"})]
    for name in ("DATABASE_URL", "PUBLIC_URL", "SMTP_URL"):
        assert any(line.startswith(f"MEADOWRUN_{name} is not set") for line in said)
    assert any(line.startswith("MEADOWRUN_SECRET is shorter") for line in said)


def test_a_database_that_is_away_is_said_and_nothing_else(environment):
    away = environment | {"MEADOWRUN_DATABASE_URL": "postgresql://nobody@127.0.0.1:1/x"}
    found = wrong(away)
    assert list(found) == ["the database answers"]
    assert "MEADOWRUN_DATABASE_URL" in found["the database answers"]


def test_a_database_that_is_not_migrated_is_said(database, bare, environment):
    assert is_behind(bare) and not is_behind(database)
    found = wrong(environment | {"MEADOWRUN_DATABASE_URL": bare.url})
    assert found == {
        "the database is as this version needs it": "Run: ./meadowrun migrate",
    }


def test_what_is_missing_is_said_and_how_it_is_put_right(database, environment):
    found = wrong(environment)
    assert "user add" in found["an administrator can sign in"]
    assert "./meadowrun work" in found["a worker runs"]
    assert "./meadowrun serve" in found["the application answers at http://127.0.0.1:1"]


class _Well(http.server.BaseHTTPRequestHandler):
    def do_GET(self):
        self.send_response(200 if self.path == "/healthz" else 404)
        self.end_headers()

    def log_message(self, *arguments):
        pass


def test_what_is_right_is_said_too(database, environment):
    with database.session() as session:
        accounts.add_user(session, NOW, "a@b.example", "A", "admin", "a long password")
        session.execute(sa.text("INSERT INTO procrastinate_workers DEFAULT VALUES"))
    with http.server.ThreadingHTTPServer(("127.0.0.1", 0), _Well) as server:
        threading.Thread(target=server.serve_forever, daemon=True).start()
        url = f"http://127.0.0.1:{server.server_address[1]}"
        right = {
            one.what for one in check(environment | {"MEADOWRUN_PUBLIC_URL": url}) if one.right
        }
        server.shutdown()
    assert right >= {
        "settings",
        "the database answers",
        "the database is as this version needs it",
        "an administrator can sign in",
        "a worker runs",
        f"the application answers at {url}",
    }


def test_a_server_does_not_start_on_a_database_of_another_version(database, bare):
    code, said = started(bare)
    assert code == 1 and "not up to date. Run: ./meadowrun migrate" in said


def test_what_nobody_uses_is_not_missing(environment):
    """Without a gateway for text messages everything else can be in order; a named one has to
    answer."""
    [unused] = [one for one in check(environment) if one.what.startswith("text messages")]
    assert not unused.right and not unused.missing and unused.line.startswith("--  ")
    named = environment | {"MEADOWRUN_SMS_URL": "http://127.0.0.1:1"}
    [away] = [one for one in check(named) if one.what.startswith("text messages")]
    assert away.missing and away.line.startswith("NOT ")


def test_what_to_do_follows_what_was_found_as_a_sentence_of_its_own(environment):
    named = environment | {"MEADOWRUN_SMS_URL": "http://127.0.0.1:1"}
    [away] = [one for one in check(named) if one.what.startswith("text messages")]
    assert "until it does. An administrator sets it" in away.todo


@pytest.fixture
def run(monkeypatch):
    """A command, run with these settings alone: how it ended."""

    def ended(environment, *arguments):
        for name in [name for name in os.environ if name.startswith("MEADOWRUN_")]:
            monkeypatch.delenv(name)
        for name, value in environment.items():
            monkeypatch.setenv(name, value)
        with pytest.raises(SystemExit) as end:
            command(list(arguments))
        return str(end.value)

    return ended


ADMIN = ("user", "add", "a@b.example", "--name", "A", "--password", "a long password")


@pytest.mark.parametrize("arguments", [("migrate",), ADMIN])
def test_commands_say_that_the_database_is_away(environment, run, arguments):
    away = environment | {"MEADOWRUN_DATABASE_URL": "postgresql://nobody@127.0.0.1:1/x"}
    said = run(away, *arguments)
    assert "The database does not answer" in said and "MEADOWRUN_DATABASE_URL" in said


def test_nobody_is_added_to_a_database_without_tables(bare, environment, run):
    said = run(environment | {"MEADOWRUN_DATABASE_URL": bare.url}, *ADMIN)
    assert said.endswith("not up to date. Run: ./meadowrun migrate")


def test_a_port_that_another_program_has_is_said(environment, run):
    with socket.socket() as other:
        other.bind(("127.0.0.1", 0))
        other.listen()
        port = other.getsockname()[1]
        said = run(environment, "serve", "--port", str(port))
        assert f"cannot listen at 127.0.0.1:{port}" in said and "--port" in said
        taken = environment | {"MEADOWRUN_INBOUND": f"127.0.0.1:{port}"}
        said = run(taken, "inbound")
        assert f"cannot listen at 127.0.0.1:{port}" in said and "MEADOWRUN_INBOUND" in said
    said = run(environment, "serve", "--port", "99999")
    assert "cannot listen at 127.0.0.1:99999" in said and "--port" in said
