"""Heavy reads from a copy of the database that follows it, by streaming replication of PostgreSQL's
own: what it shows, and what becomes of reports when it lags or is gone."""

import os
import shutil
import time

import pytest
import sqlalchemy as sa

from meadowrun.base import clock, jobs
from meadowrun.base.cluster import Cluster
from meadowrun.base.db import Database
from meadowrun.base.reports import Reports
from meadowrun.base.schema import migrate
from meadowrun.base.testing import memory_folder
from meadowrun.features import load_tasks
from meadowrun.results.models import SendNumbers
from meadowrun.sends.models import Send
from meadowrun.shell import accounts
from tests.conftest import NOW, settings_for
from tests.store.people import many, ready_send
from tests.store.web import browser, sign_in, words
from tests.store.work import delivered, dispatched, reacted

PEOPLE = 12


def eventually(holds, seconds=15):
    until = time.monotonic() + seconds
    while not (found := holds()) and time.monotonic() < until:
        time.sleep(0.1)
    return found


def follow(copy, first):
    """Makes a cluster one that follows another, and starts it."""
    copy.data.mkdir(parents=True, mode=0o700)
    if os.geteuid() == 0:
        shutil.chown(copy.data, "postgres", "postgres")
    made = copy._run("pg_basebackup", "-D", str(copy.data), "-R", "-c", "fast", "-d", first.url())
    assert made.returncode == 0, made.stderr
    copy.password_file.write_text(first.password_file.read_text())
    copy.start()


@pytest.fixture
def pair():
    """A database and a copy that follows it, each a server of its own."""
    folder = memory_folder()
    first = Cluster(folder / "first", ("jit=off", "shared_buffers=64MB"), 55600)
    copy = Cluster(folder / "copy", ("jit=off", "shared_buffers=64MB"), 55700)
    try:
        url = first.start()
        with (
            Database(f"{url}/postgres")
            .engine.connect()
            .execution_options(isolation_level="AUTOCOMMIT") as connection
        ):
            connection.execute(sa.text("CREATE DATABASE house"))
        migrate(Database(f"{url}/house"))
        follow(copy, first)
        yield first, copy
    finally:
        for cluster in (copy, first):
            cluster.stop("immediate")
        shutil.rmtree(folder, ignore_errors=True)


@pytest.fixture
def house(pair, monkeypatch):
    """The application on both, with a send that some opened: settings, its number."""
    first, copy = pair
    more = {"MEADOWRUN_REPORTS_DATABASE_URL": f"{copy.url()}/house"}
    settings = settings_for(f"{first.url()}/house", **more)
    database = Database(settings.database_url)
    load_tasks(True)
    monkeypatch.setattr(jobs, "_context", jobs.Context(database, settings))
    with clock.at(NOW), database.session() as session:
        many(session, NOW, PEOPLE)
        send = ready_send(session, NOW, {"in": [{"everyone": True}], "out": []})
        dispatched(session, send, NOW, state="done", size=PEOPLE)
        send.state = "done"
        for contact in range(1, PEOPLE + 1):
            delivered(session, send, contact, at=NOW)
        reacted(session, send, 1, "opened", NOW)
        ident = send.id
    return settings, database, ident


@pytest.mark.long
def test_reports_come_from_the_copy_while_it_follows(pair, house, monkeypatch):
    """Opened on the first, read on the copy within seconds; counted there and kept on the first.
    When it lags or is gone, the first is asked, and it is asked again later."""
    first, copy = pair
    settings, database, ident = house
    reports = Reports(database, settings.reports_database_url)
    assert eventually(lambda: reports.database() is not database)
    with reports.session() as session, pytest.raises(sa.exc.DBAPIError):
        session.execute(sa.text("DELETE FROM contacts"))

    def opened():
        with reports.session() as session:
            asked = sa.text("SELECT count(*) FROM reactions WHERE kind = 'opened'")
            return session.execute(asked).scalar_one()

    assert eventually(lambda: opened() == 1)
    with database.session() as session:
        reacted(session, session.get_one(Send, ident), 2, "opened", NOW)
    assert eventually(lambda: opened() == 2)
    with clock.at(NOW):
        jobs.run_here("results.refresh")
    with database.session() as session:
        assert session.get_one(SendNumbers, ident).numbers["opened"] == 2
    with database.session() as session:
        accounts.add_user(
            session, NOW, "admin@farrowhill.example", "Ada", "admin", "a long password"
        )
    web = browser(database, settings)
    sign_in(web)
    jobs.set_context(jobs.Context(database, settings))
    page = web.get(f"/results/{ident}")
    assert page.status_code == 200
    said = words(page.text)
    assert "Opened 2" in said, said

    # It stands still while the first goes on.
    replica = Database(settings.reports_database_url)
    with replica.engine.connect().execution_options(isolation_level="AUTOCOMMIT") as connection:
        connection.execute(sa.text("SELECT pg_wal_replay_pause()"))
    with database.session() as session:
        reacted(session, session.get_one(Send, ident), 3, "opened", NOW)
    assert eventually(lambda: "behind" in reports.problem(), 20)
    assert reports.database() is database and opened() == 3
    # A look every half minute is enough to find it again.
    reports = Reports(database, settings.reports_database_url)
    with replica.engine.connect().execution_options(isolation_level="AUTOCOMMIT") as connection:
        connection.execute(sa.text("SELECT pg_wal_replay_resume()"))
    assert eventually(lambda: reports.problem() == "") and reports.database() is not database

    replica.close()
    copy.stop("immediate")
    assert reports.problem() and reports.database() is database and opened() == 3
