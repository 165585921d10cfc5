"""Writes journeys by their pages, as an author would."""

import sqlalchemy as sa

from meadowrun.base import clock
from meadowrun.journeys import queries
from meadowrun.journeys.models import Journey
from meadowrun.tracking.taking import take_events
from tests.conftest import NOW
from tests.store.journeys import advance
from tests.store.people import kinds, many, ready_send
from tests.store.sending import segment
from tests.store.web import sign_in


def ready(client, database):
    """Signed in, with a campaign, a message called Welcome, five people and a segment."""
    sign_in(client)
    with database.session() as session:
        many(session, NOW, 5)
        kinds(session)
        send = ready_send(session, NOW, {"in": [], "out": []})
        session.execute(sa.text("UPDATE messages SET name = 'Welcome'"))
        segment(session)
        client.campaign = send.campaign_id
    return client


def version(database, ident=1):
    with database.session() as session:
        return session.get_one(Journey, ident).version


def post(web, database, path, /, **data):
    return web.post(f"/journeys/1/{path}", data={"version": version(database), **data})


def begins(web, database, what, again, **who):
    """Has one thing start it, in the place of what did before."""
    before = draft(database).starts
    ident = before[0].id if before else ""
    assert post(web, database, "starts", start=ident, what=what, **who).status_code == 303
    post(web, database, "again", again=again, again_days="30")


def welcome(web, database):
    """A journey: a welcome, a day, then two ways by whether they visited within three days."""
    web.post(f"/campaigns/{web.campaign}/journeys", data={"name": "First  two weeks"})
    for text in ("email Welcome", "wait 1 day", "wait for visited, 3 days"):
        assert post(web, database, "add", text=text).status_code == 303
    begins(web, database, "event:ticket_bought", "once")
    post(web, database, "goal", event="visited", days="14")
    return 1


def draft(database, ident=1):
    with database.session() as session:
        return queries.draft(session, session.get_one(Journey, ident))


def starts(web, database):
    """Starts the journey on its page; gives its state."""
    answer = web.post("/journeys/1/start", data={"version": version(database)})
    assert answer.status_code == 303
    with database.session() as session:
        return session.get_one(Journey, 1).state


def buys(database, *contacts, at=NOW):
    """Some people buy a ticket, and go on."""
    with clock.at(at), database.session() as session:
        rows = [
            {"event": "ticket_bought", "contact": one, "at": at.isoformat()} for one in contacts
        ]
        take_events(session, at, "t", rows)
    advance(database, at)
