"""On a large world the frame of a dear page is there at once; what is dear comes in behind it, and
can be stopped."""

import threading
import time

import pytest
import sqlalchemy as sa

from meadowrun.base import clock, large
from tests.conftest import NOW
from tests.store.people import add
from tests.store.web import sign_in

PAGES = ["/segments/compare", "/people/duplicates"]


@pytest.fixture
def many(monkeypatch, database):
    """Two hundred contacts are many here."""
    monkeypatch.setattr(large, "LARGE", 100)
    with clock.at(NOW), database.session() as session:
        for number in range(200):
            add(session, NOW, f"p{number}@post.example", first_name="Ann")
    with database.session() as session:
        session.execute(sa.text("ANALYZE contacts"))


TOKEN = {"X-Later": "a1b2c3d4e5f6"}


@pytest.mark.parametrize("path", PAGES)
def test_the_frame_comes_first_and_the_page_once_it_is_worked_out(web, many, path):
    frame = web.get(path)
    assert frame.status_code == 200 and 'id="later"' in frame.text
    assert web.get(path, headers=TOKEN).json == {"ready": True}
    whole = web.get(path)
    assert whole.status_code == 200 and 'id="later"' not in whole.text and "<h1>" in whole.text
    # It is given once; the next opening is worked out anew.
    assert 'id="later"' in web.get(path).text


def test_nobody_else_gets_what_was_worked_out(web, many):
    web.get("/people/duplicates", headers=TOKEN)
    sign_in(web, "author")
    assert 'id="later"' in web.get("/people/duplicates").text


def test_a_small_world_needs_no_frame(web, database):
    assert 'id="later"' not in web.get("/people/duplicates").text


def test_what_was_said_after_a_change_waits_for_the_page_itself(web, many):
    with web.session_transaction() as kept:
        kept["_flashes"] = [("message", "Two became one.")]
    assert "Two became one." not in web.get("/people/duplicates").text
    web.get("/people/duplicates", headers=TOKEN)
    assert "Two became one." in web.get("/people/duplicates").text


@pytest.mark.parametrize("pause", [0, 0.3])
def test_what_is_worked_out_can_be_stopped(web, database, pause):
    """Also where the stop comes between two statements."""
    ended = []

    def work():
        with database.session() as session:
            session.execute(
                sa.text("SELECT set_config('application_name', 'later-a1b2c3d4e5f6', true)")
            )
            time.sleep(pause)
            try:
                session.execute(sa.text("SELECT pg_sleep(30)"))
            except sa.exc.OperationalError as problem:
                ended.append(str(problem.orig))
                session.rollback()

    thread = threading.Thread(target=work)
    thread.start()
    until = time.monotonic() + 10
    while (
        time.monotonic() < until
        and not web.post("/later/stop", data={"token": "a1b2c3d4e5f6"}).json["stopped"]
    ):
        time.sleep(0.1)
    thread.join(10)
    assert ended and "canceling statement due to user request" in ended[0]
    assert web.post("/later/stop", data={"token": "a1b2c3d4e5f6"}).json == {"stopped": False}
    assert web.post("/later/stop", data={"token": "x' OR true --"}).json == {"stopped": False}
