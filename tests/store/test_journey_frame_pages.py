"""What stands around the steps of a journey on its page: its starts as they are typed and chosen,
and what is asked of its messages before it starts."""

import datetime as dt
import re

import pytest

from meadowrun.base import clock
from meadowrun.journeys.models import Journey
from meadowrun.messages.models import Message
from meadowrun.tracking.taking import take_events
from tests.conftest import NOW
from tests.store.journeys import advance
from tests.store.web import words
from tests.store.writing_journeys import begins, draft, post, starts, version

DAY = dt.timedelta(days=1)


def test_a_start_is_chosen_typed_changed_and_taken_away(ida, database, journey):
    first = draft(database).starts[0].id
    post(
        ida,
        database,
        "starts",
        text="every first Monday at 10:00, everyone whose town is Farrow",
    )
    post(ida, database, "starts", what="everyone:", who="town is Farrow")
    shown = ida.get("/journeys/1").text
    for said in (
        "someone bought a ticket",
        "it is the first Monday of each month, at 10:00 their time, for everyone whose town is",
        "it is started, for everyone whose town is",
    ):
        assert said in shown
    days = draft(database).starts[1]
    # The words of its days are given back as they stand; the hour alone is another.
    post(
        ida,
        database,
        "starts",
        start=days.id,
        what="rhythm:",
        rhythm="the first Monday of each month",
        first=days.first,
        at="11:30",
        who="town is Farrow",
    )
    changed = draft(database).starts[1]
    assert (changed.rhythm, changed.at) == ("FREQ=MONTHLY;BYDAY=1MO", 11 * 60 + 30)
    post(ida, database, "starts", remove=first)
    assert [one.how for one in draft(database).starts] == ["rhythm", "everyone"]


def test_how_many_come_in_at_once_is_said_before_it_starts(ida, database, journey):
    with clock.at(NOW), database.session() as session:
        at = (NOW - DAY).isoformat()
        rows = [{"event": "visited", "contact": one, "at": at} for one in (1, 2, 2)]
        take_events(session, NOW, "t", rows)
    with clock.at(NOW):
        post(ida, database, "starts", what="event:visited", back="3")
        post(ida, database, "starts", text="everyone whose town is Nowhere")
        said = words(ida.get("/journeys/1").text)
    assert "someone visited, also in the last 3 days" in said
    assert "2 people as soon as it starts" in said and "0 people as soon as it starts" in said


@pytest.mark.parametrize(
    ("given", "problem"),
    [
        ({"what": ""}, "Choose what brings people in."),
        ({"what": "turns:"}, "Say who they are: choose a segment, or write it."),
        ({"what": "rhythm:", "segment": "1", "first": "soon"}, "Say from which day on."),
        (
            {"what": "rhythm:", "segment": "1", "first": "2026-12-01", "rhythm": "at full moon"},
            "“full moon” was not understood.",
        ),
        (
            {"what": "event:visited", "start": "gone"},
            "What is to be changed is not there any more.",
        ),
    ],
)
def test_a_start_that_cannot_be_is_refused_with_the_reason(ida, database, journey, given, problem):
    answer = post(ida, database, "starts", **given)
    assert answer.status_code == 422 and problem in answer.text
    assert len(draft(database).starts) == 1


def says(database, html, message=1):
    """Has a message say other words than it did."""
    with database.session() as session:
        found = session.get_one(Message, message)
        lines = found.document["lines"]
        found.document = {**found.document, "lines": [{**lines[0], "html": html}, *lines[1:]]}


def of_the_step(ida):
    """What must be mended in its messages, as the page shows it."""
    found = re.findall(r"“Welcome”: [^<]+", ida.get("/journeys/1").text)
    return list(dict.fromkeys(one.strip() for one in found))


@pytest.mark.parametrize(
    ("html", "problem"),
    [
        ("{{ event.amount }}", ""),
        ("{{ event.moon }}", "What this is sent for does not always say “moon”. Add a fallback."),
        ("{{ event.moon | default('none', true) }}", ""),
        ("{{ fact.venue }}", ""),
        ("{{ fact.hall }}", "The campaign has no fact “hall”."),
        ("{{ contact.shoe_size }}", "There is no field “shoe_size”."),
        ("{{ feed.weather.today }}", "There is no feed “weather”."),
    ],
)
def test_a_journey_asks_of_its_messages_what_a_send_asks(ida, database, journey, html, problem):
    says(database, f"<p>Dear {html}</p>")
    assert of_the_step(ida) == ([f"“Welcome”: {problem}"] if problem else [])
    ida.post("/journeys/1/start", data={"version": version(database)})
    with database.session() as session:
        state = session.get_one(Journey, 1).state
    assert state == ("draft" if problem else "running")


def test_a_message_of_a_journey_without_an_event_cannot_speak_of_one(ida, database, journey):
    says(database, "<p>{{ event.amount }}</p>")
    begins(ida, database, "everyone", "once", segment="1")
    assert of_the_step(ida) == ["“Welcome”: No event says “amount” where this is sent."]


def test_a_greeting_is_held_against_the_hours_of_its_step(ida, database, journey):
    says(database, "<p>Good morning</p>")
    first = draft(database).steps[0].id
    for first_hour, last, said in (("09:00", "11:00", 0), ("14:00", "18:00", 1), ("", "", 0)):
        post(ida, database, "set", step=first, message="1", begins=first_hour, ends=last)
        assert len(of_the_step(ida)) == said


def test_who_comes_in_by_hand_reads_what_stands_there_instead(ida, database, journey, keeper):
    says(database, "<p>Thanks for {{ event.amount | default('coming', true) }}.</p>")
    starts(ida, database)
    with clock.at(NOW):
        ida.post("/journeys/1/bring-in", data={"email": "p3@post.example"})
    advance(database, NOW)
    assert [letter.to for letter in keeper.letters] == ["p3@post.example"]
    assert "Thanks for coming." in keeper.letters[0].html
