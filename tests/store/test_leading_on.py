"""What the numbers of a result lead on to, a send that begins with a message or with people, and
what is said before somebody gets the same message twice."""

import datetime as dt
import re
import zoneinfo

import pytest
import sqlalchemy as sa

from meadowrun.base import clock, jobs
from meadowrun.messages.models import Message
from meadowrun.people import keeping
from meadowrun.people.models import Contact, PeopleList
from meadowrun.people.moment import Moment
from meadowrun.people.queries import dictionary
from meadowrun.results import leading_on, queries
from meadowrun.segments.models import Segment
from meadowrun.sends import repeated
from meadowrun.sends.models import Send
from meadowrun.sends.queries import audience
from meadowrun.tracking.taking import take_events
from tests.conftest import NOW
from tests.store.people import IDA
from tests.store.sending import run_all, started
from tests.store.web import sign_in
from tests.store.web import words as words_of
from tests.store.work import reacted

HOUR = dt.timedelta(hours=1)
LATER = NOW + 5 * HOUR
ZONE = zoneinfo.ZoneInfo("Europe/London")


@pytest.fixture
def send_id(database, settings, job_context, keeper):
    """Nine people got it: 1 opened, 2 clicked with pictures off, of 3 only a program opened, 4
    opened and clicked, 5 unsubscribed, 6 complained, 7 replied, 8 bought without opening."""
    ident = started(database, settings, 9)
    run_all(database, ident)
    did = [
        (1, "opened"),
        (2, "clicked"),
        (4, "opened"),
        (4, "clicked"),
        (5, "unsubscribed"),
        (6, "complained"),
        (7, "replied"),
    ]
    with clock.at(LATER), database.session() as session:
        send = session.get_one(Send, ident)
        for contact, kind in did:
            link = 1 if kind == "clicked" else None
            reacted(session, send, contact, kind, NOW + HOUR, link)
        reacted(session, send, 3, "opened", NOW + HOUR, machine=True)
        bought = {"event": "ticket_bought", "contact": 8, "at": (NOW + HOUR).isoformat()}
        take_events(session, LATER, "t", [bought])
    return ident


BEHIND = {
    "delivered": [1, 2, 3, 4, 5, 6, 7, 8, 9],
    "opened": [1, 2, 4],
    "clicked": [2, 4],
    "replied": [7],
    "complained": [6],
    "unsubscribed": [5],
    "converted": [8],
    "not_opened": [3, 5, 6, 7, 8, 9],
    "not_clicked": [1, 3, 5, 6, 7, 8, 9],
}


def in_segment(session, segment):
    """Who is in a segment, by the database."""
    moment = Moment(session, dictionary(session), LATER, ZONE)
    who = audience(moment, {"in": [{"segment": segment.id}]})
    asked = f"SELECT c.id FROM contacts c WHERE {who.predicate} ORDER BY 1"
    return list(session.scalars(sa.text(asked), who.values))


@pytest.mark.parametrize("what", list(leading_on.SEGMENTS))
def test_the_segment_of_a_number_holds_those_behind_it(database, send_id, what):
    with clock.at(LATER), database.session() as session:
        send = session.get_one(Send, send_id)
        assert queries.all_behind(session, send, what) == BEHIND[what]
        assert queries.count_behind(session, send, what) == len(BEHIND[what])
        words = dictionary(session)
        made = leading_on.keep_segment(session, IDA, LATER, send, what, words, "Those")
        assert in_segment(session, made) == BEHIND[what]


def test_a_segment_lives_on_and_a_list_does_not(database, send_id):
    with clock.at(LATER), database.session() as session:
        send = session.get_one(Send, send_id)
        words = dictionary(session)
        segment = leading_on.keep_segment(session, IDA, LATER, send, "not_opened", words, "Living")
        kept = leading_on.keep_list(session, IDA, LATER, send, "not_opened", "Fixed")
        reacted(session, send, 9, "opened", LATER)
        session.flush()
        assert in_segment(session, segment) == [3, 5, 6, 7, 8]
        members = sa.text("SELECT contact_id FROM list_members WHERE list_id = :list ORDER BY 1")
        assert session.scalars(members, {"list": kept.id}).all() == BEHIND["not_opened"]


def test_a_follow_up_is_a_send_of_the_same_to_whoever_did_not_react(database, send_id):
    """Whoever bought without opening gets none."""
    with clock.at(LATER), database.session() as session:
        send = session.get_one(Send, send_id)
        send.no_room, send.success_days = "skip", 9
        words = dictionary(session)
        made = leading_on.follow_up(session, IDA, LATER, send, "not_opened", words, ZONE)
        assert (made.no_room, made.success_days, made.again_rule) == ("skip", 9, "each")
        assert (made.state, made.name) == ("draft", "A send, follow-up")
        assert (made.message_id, made.sender_id) == (send.message_id, send.sender_id)
        assert made.campaign_id == send.campaign_id
        segment = session.get_one(Segment, made.audience["in"][0]["segment"])
        assert in_segment(session, segment) == [3, 5, 6, 7, 9]
        again = leading_on.follow_up(session, IDA, LATER, send, "not_opened", words, ZONE)
        assert again.name == "A send, follow-up 2"


def test_it_is_said_who_has_the_message_already(database, send_id):
    with clock.at(LATER), database.session() as session:
        send = session.get_one(Send, send_id)
        words = dictionary(session)
        moment = Moment(session, words, LATER, ZONE)
        made = leading_on.follow_up(session, IDA, LATER, send, "not_opened", words, ZONE)
        found = repeated.have_it(moment, made)
        assert (found.people, found.last) == (5, NOW)
        # Whoever gets nothing this time is no matter.
        key = session.get_one(Contact, 3).email_key
        keeping.suppress(session, LATER, key, "asked", "by hand", None)
        session.flush()
        assert repeated.have_it(moment, made).people == 4
        # They are left out anyway, it is another message, or nobody has it.
        made.again_rule = "message"
        assert repeated.have_it(moment, made) is None
        made.again_rule, made.message_id = "each", None
        assert repeated.have_it(moment, made) is None
        made.message_id, made.audience = send.message_id, {"in": [], "out": []}
        assert repeated.have_it(moment, made) is None


# By the pages.


@pytest.fixture
def web(client, send_id):
    sign_in(client)
    with clock.at(LATER):
        yield client


def follow(web, answer):
    assert answer.status_code == 303, answer.text
    return web.get(answer.location)


def test_the_people_of_a_number_are_written_to(web, database, send_id):
    page = web.get(f"/results/{send_id}/people/not_opened").text
    assert "Did not open: 6 people" in page
    path = f"/results/{send_id}/people/not_opened"
    kept = web.post(path, data={"do": "write", "name": "Quiet ones"})
    page = follow(web, kept).text
    assert "Write to “Quiet ones”" in page
    people = re.search(r'name="people" value="([^"]+)"', page)[1]
    chosen = re.search(r'<option value="(\d+)" selected', page)[1]
    made = web.post("/sends/new", data={"people": people, "campaign": chosen, "name": "Hello"})
    assert "Quiet ones" in follow(web, made).text
    with database.session() as session:
        send = session.scalar(sa.select(Send).where(Send.name == "Hello"))
        assert send.audience["in"] == [{"list": session.scalar(sa.select(PeopleList.id))}]


def test_they_are_kept_and_tagged(web, database, send_id):
    path = f"/results/{send_id}/people/clicked"
    segment = web.post(path, data={"do": "segment", "name": "Clickers"})
    assert "/segments/" in segment.location
    assert "Clickers" in follow(web, segment).text
    assert "/lists/" in web.post(path, data={"do": "list", "name": "Clickers"}).location
    tagged = follow(web, web.post(path, data={"do": "tag", "tag": "keen"})).text
    assert "2 people got the tag." in tagged
    with database.session() as session:
        asked = "SELECT contact_id FROM contact_tags ORDER BY 1"
        assert session.scalars(sa.text(asked)).all() == [2, 4]
    assert "Give one tag" in follow(web, web.post(path, data={"do": "tag", "tag": ""})).text
    # The name is taken, and what is of that moment only is no segment.
    again = follow(web, web.post(path, data={"do": "segment", "name": "Clickers"})).text
    assert "There is a segment called “Clickers” already" in again
    link = f"/results/{send_id}/people/link1"
    assert "As a segment" not in web.get(link).text
    assert "as a list only" in follow(web, web.post(link, data={"do": "segment"})).text


def test_a_result_proposes_the_follow_up(web, send_id):
    page = web.get(f"/results/{send_id}").text
    assert 'data-count="not_opened">6<' in page and 'data-count="not_clicked">7<' in page
    made = web.post(f"/results/{send_id}/follow-up/not_clicked")
    assert "A send, follow-up" in follow(web, made).text
    look = web.get(made.location + "/look").text
    assert "6</b> of them" in look and "already" in look
    assert web.post(f"/results/{send_id}/follow-up/opened").status_code == 303
    assert web.post(f"/results/{send_id}/follow-up/nonsense").status_code == 404


def test_a_send_begins_with_its_message(web, database, send_id):
    with database.session() as session:
        send = session.get_one(Send, send_id)
        message, campaign = send.message_id, send.campaign_id
    assert f"/sends/new?message={message}" in web.get(f"/messages/{message}").text
    page = web.get(f"/sends/new?message={message}").text
    assert f'<option value="{campaign}" selected' in page and "A send" in page
    # A new campaign would be called like the message.
    with database.session() as session:
        called = session.get_one(Message, message).name
    assert re.search(rf'id="b-new"[^>]*value="{called}"', page)
    made = web.post("/sends/new", data={"message": message, "campaign": campaign})
    follow(web, made)
    with database.session() as session:
        last = session.scalar(sa.select(Send).order_by(Send.id.desc()).limit(1))
        assert (last.message_id, last.campaign_id) == (message, campaign) and last.name
    # In a new campaign; without a name of it nothing begins, and what was typed stays.
    refused = web.post("/sends/new", data={"message": message, "campaign": "new", "name": "Mine"})
    assert refused.status_code == 422 and 'value="Mine"' in refused.text
    assert 'data-where="new"' in refused.text
    data = {"message": message, "campaign": "new", "new": "Winter", "name": "Mine"}
    assert "Winter" in follow(web, web.post("/sends/new", data=data)).text


@pytest.mark.parametrize(
    "query", ["message=99", "people=segment:99", "people=list:x", "people=x:1"]
)
def test_what_a_send_cannot_begin_with_is_said(web, query):
    answer = web.get(f"/sends/new?{query}")
    assert answer.status_code in (404, 422)


def test_clicks_are_drawn_on_the_email_as_it_was_sent(web, database, send_id):
    """Two of nine clicked “Book”; nobody clicked “More”. To look at it is no opening."""
    with database.session() as session:
        reactions = session.scalar(sa.text("SELECT count(*) FROM reactions"))
    assert f"/results/{send_id}/email" in web.get(f"/results/{send_id}").text
    page = web.get(f"/results/{send_id}/email")
    # Of somebody who clicked.
    shown = re.search(rf"/results/{send_id}/email/(\d+)\.html", page.text)
    assert shown and int(shown[1]) in (2, 4)
    frame = web.get(shown[0])
    assert "sandbox" in frame.headers["Content-Security-Policy"]
    assert re.search(r">Book<.*?2 · 22\.2%.*?</a>", frame.text, re.S)
    assert re.search(r">More<.*?0 · 0%.*?</a>", frame.text, re.S) or "0 · 0.0%" in frame.text
    assert "/c/" not in frame.text.replace("about:blank#", "") and "/o/" not in frame.text
    with database.session() as session:
        assert session.scalar(sa.text("SELECT count(*) FROM reactions")) == reactions
    assert web.get(f"/results/{send_id}/email/999.html").status_code == 404


def test_what_is_no_email_or_has_not_left_is_not_drawn(web, database, send_id):
    with database.session() as session:
        session.execute(sa.text("UPDATE sends SET taken_at = NULL WHERE id = :id"), {"id": send_id})
    assert web.get(f"/results/{send_id}/email").status_code == 404


def test_a_campaign_and_a_send_say_what_came_of_it(web, send_id, database):
    """By hand: of nine delivered three opened, two clicked, one bought and one unsubscribed. Beside
    the send it is said once it was worked out in the background."""
    with database.session() as session:
        campaign = session.get_one(Send, send_id).campaign_id
    with clock.at(LATER):
        page = words_of(web.get(f"/campaigns/{campaign}").text)
        assert "9 33.3% 22.2% 11.1% Results" in page
        assert "9 delivered by 1 send 33.3% opened 22.2% clicked" in page
        assert "11.1% did what counts as success 11.1% unsubscribed" in page.replace(
            "11.11%", "11.1%"
        )
        assert "So far" not in words_of(web.get(f"/sends/{send_id}").text)
        jobs.run_here("results.refresh")
        beside = words_of(web.get(f"/sends/{send_id}").text)
    assert "So far 9 delivered 33.3% opened 22.2% clicked 11.1% did what counts" in beside
