"""What to do first in a new installation, each with whether it is done; gone once all is."""

import re

import pytest

from meadowrun.base import clock
from meadowrun.home.beginning import first_steps
from meadowrun.messages.models import Message
from meadowrun.messages.senders import Sender
from meadowrun.people.models import Topic
from meadowrun.readiness import looking
from meadowrun.readiness.models import Probed
from tests.conftest import NOW, settings_for
from tests.store.people import add, kinds, ready_send
from tests.store.web import sign_in
from tests.store.work import dispatched


def done(database, settings):
    with database.session() as session:
        return [one.done for one in first_steps(session, settings)]


def everything_tried(session, settings):
    for one in looking.standing(session, settings):
        session.merge(Probed(key=one.probe.key, ok=True, said="", at=NOW))


@pytest.fixture
def own(settings):
    """Not a demo."""
    assert not settings.demo
    return settings


def test_each_is_done_by_what_is_there(database, own):
    assert done(database, own) == [False, False, True, *[False] * 5]
    with clock.at(NOW), database.session() as session:
        add(session, NOW, "ann@post.example")
        session.add(Topic(key="news", name="News"))
    assert done(database, own) == [False, False, True, True, False, True, False, False]
    with clock.at(NOW), database.session() as session:
        kinds(session)
        send = ready_send(session, NOW, {"in": [], "out": []})
        assert session.get(Message, send.message_id) and session.get(Sender, send.sender_id)
        everything_tried(session, own)
    assert done(database, own) == [True, True, True, True, False, True, True, False]
    with clock.at(NOW), database.session() as session:
        one = looking.standing(session, own)
        mail = next(each.found for each in one if each.probe.key.startswith("gateway:email"))
        mail.ok = False
    assert not done(database, own)[1]


def test_a_postal_address_is_given_by_the_settings(database, own):
    without = settings_for(database.url, MEADOWRUN_POSTAL_ADDRESS="")
    assert (done(database, own)[2], done(database, without)[2]) == (True, False)


def test_they_go_once_all_is_done(client, database, own):
    """Three people can sign in."""
    sign_in(client)
    page = re.sub(r"\s+", " ", client.get("/").text)
    assert "What to do first" in page and "2 of 8 done" in page
    assert 'href="/imports/new">Import your contacts' in page
    with clock.at(NOW), database.session() as session:
        kinds(session)
        add(session, NOW, "ann@post.example")
        session.add(Topic(key="news", name="News"))
        send = ready_send(session, NOW, {"in": [], "out": []})
        dispatched(session, send, NOW, "done", 0)
        everything_tried(session, own)
    assert done(database, own) == []
    assert "What to do first" not in client.get("/").text


def test_whoever_may_not_do_it_is_told_who_does(client, database, own):
    sign_in(client, "viewer")
    page = client.get("/").text
    assert "an administrator does this" in page and 'href="/imports/new">Import' not in page
