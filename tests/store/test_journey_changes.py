"""Steps that change something about people, messages that are tried in turn, and a control group
that walks without them: held against the tables of people and of what was handed over."""

import datetime as dt

import pytest
import sqlalchemy as sa

from meadowrun.base import clock
from meadowrun.campaigns.models import Campaign
from meadowrun.core.content import document as doc
from meadowrun.core.journeys import edit
from meadowrun.core.journeys.chance import in_control
from meadowrun.core.journeys.reading import ItineraryError, from_json
from meadowrun.core.journeys.steps import (
    ChangeStep,
    ExitStep,
    Goal,
    MessageStep,
    Span,
    Start,
    WaitStep,
)
from meadowrun.core.journeys.words import as_text
from meadowrun.journeys import actions, checking, figures, queries
from meadowrun.journeys.models import Journey
from meadowrun.messages import actions as messages
from meadowrun.messages import copying
from meadowrun.messages.models import Message
from meadowrun.people import dictionary
from meadowrun.people.actions import company_by_name, set_consent
from meadowrun.people.models import Field, Topic
from meadowrun.tracking.taking import take_events
from tests.conftest import NOW
from tests.store.journeys import advance, started_by
from tests.store.people import IDA, add, kinds, ready_send

PEOPLE = 40
TEXT = {"channel": "sms", "text_only": True, "plain": "Hello"}
FIELDS = (
    ("contact", "level", "choice", ["new", "gold"]),
    ("contact", "greeted", "date", []),
    ("contact", "visits", "number", []),
    ("company", "rank", "text", []),
)
OUTCOMES = """
SELECT d.contact_id, s.channel, d.outcome FROM deliveries d
JOIN dispatches s ON s.id = d.dispatch_id ORDER BY 1, d.number
"""


@pytest.fixture
def world(database, settings, job_context, keeper):
    """A few people: Ada in Tokyo has a phone and said no to email; Ben said yes; Cleo has neither.
    Fields, a topic, an email (1) and a text (2). The number of a journey that is not written
    yet."""
    with clock.at(NOW), database.session() as session:
        add(session, NOW, "ada@post.example", False, first_name="Ada", phone="+447700900001")
        add(session, NOW, "ben@post.example", first_name="Ben", company="Dome Ltd")
        add(session, NOW, "cleo@post.example", False, first_name="Cleo", company="Dome Ltd")
        session.execute(sa.text("UPDATE contacts SET timezone = 'Asia/Tokyo' WHERE id = 1"))
        set_consent(session, NOW, 1, 0, True, "test", "sms")
        company_by_name(session, "Nobody's Ltd", NOW)
        kinds(session)
        for owner, key, kind, options in FIELDS:
            session.add(
                Field(owner=owner, key=key, label=key, type=kind, options=options, created_at=NOW)
            )
        session.add(Topic(key="diary", name="Sky diary"))
        send = ready_send(session, NOW, {"in": [], "out": []})
        campaign = session.get_one(Campaign, send.campaign_id)
        messages.create(session, IDA, NOW, "A text", doc.take(doc.empty() | TEXT), "sms")
        return actions.create(session, IDA, NOW, campaign, "First weeks").id


def runs(database, ident, *steps, goal=None, who=(1, 2, 3)):
    """Starts a journey of some steps, and has some people come in."""
    with clock.at(NOW), database.session() as session:
        journey = session.get_one(Journey, ident)

        def built(itinerary):
            itinerary = edit.with_goal(itinerary, goal)
            itinerary = started_by(itinerary, Start("event", "visited"), "any", 30)
            for step in steps:
                itinerary = edit.add(itinerary, step)
            return itinerary

        actions.write(session, IDA, NOW, journey, journey.version, "wrote", built)
        actions.start(session, IDA, NOW, journey, journey.version)
        at = NOW.isoformat()
        rows = [{"event": "visited", "contact": one, "at": at} for one in who]
        take_events(session, NOW, "t", rows)
    advance(database, NOW)


def of_contacts(database, what):
    with database.session() as session:
        return dict(session.execute(sa.text(f"SELECT id, {what} FROM contacts")).tuples().all())


def outcomes(database):
    with database.session() as session:
        return [tuple(row) for row in session.execute(sa.text(OUTCOMES))]


def test_fields_of_people_and_of_their_company_are_set_and_emptied(database, world):
    with database.session() as session:
        session.execute(
            sa.text('UPDATE contacts SET attributes = \'{"visits": 3, "other": 1}\' WHERE id = 1')
        )
    runs(
        database,
        world,
        ChangeStep("", "field", field="level", value="GOLD"),
        ChangeStep("", "field", field="greeted", value="today"),
        ChangeStep("", "field", field="visits", value=""),
        ChangeStep("", "field", field="town", value="Farrow"),
        ChangeStep("", "field", field="company.rank", value="partner"),
    )
    # A choice is stored as it is offered; 14:00 UTC on the 23rd is the 23rd in Tokyo too.
    day = NOW.date().isoformat()
    assert of_contacts(database, "attributes") == {
        1: {"other": 1, "level": "gold", "greeted": day},
        2: {"level": "gold", "greeted": day},
        3: {"level": "gold", "greeted": day},
    }
    assert set(of_contacts(database, "town").values()) == {"Farrow"}
    with database.session() as session:
        asked = sa.text("SELECT name, attributes FROM companies ORDER BY 1")
        found = [tuple(row) for row in session.execute(asked)]
    assert found == [("Dome Ltd", {"rank": "partner"}), ("Nobody's Ltd", {})]


def test_today_is_the_day_of_each_person(database, world):
    runs(database, world, WaitStep("", Span(9, "hour")), change_greeted())
    advance(database, NOW + dt.timedelta(hours=9))
    # 23:00 UTC on the 23rd is the 24th in Tokyo.
    assert of_contacts(database, "attributes->>'greeted'") == {
        1: "2026-11-24",
        2: "2026-11-23",
        3: "2026-11-23",
    }


def change_greeted():
    return ChangeStep("", "field", field="greeted", value="today")


def test_people_are_subscribed_and_unsubscribed_with_the_journey_as_evidence(database, world):
    with database.session() as session:
        topic = session.scalar(sa.select(Topic.id))
        set_consent(session, NOW, 2, topic, True, "before")
    runs(database, world, ChangeStep("", "topic", topic))
    asked = "SELECT contact_id, agreed, how FROM {} WHERE topic_id = :topic ORDER BY 1, at"
    with database.session() as session:
        found, told = (
            [tuple(row) for row in session.execute(sa.text(asked.format(t)), {"topic": topic})]
            for t in ("consents", "consent_changes")
        )
    # Ben had said so already: nothing of his is written anew.
    assert found == [
        (1, True, "the journey “First weeks”"),
        (2, True, "before"),
        (3, True, "the journey “First weeks”"),
    ]
    assert told == found


def test_a_field_that_cannot_hold_it_or_is_gone_changes_nothing_and_nobody_is_stuck(
    database, world
):
    with clock.at(NOW), database.session() as session:
        journey = session.get_one(Journey, world)
        wrong = [
            ChangeStep("", "field", field="visits", value="many"),
            ChangeStep("", "field", field="gone", value="x"),
            ChangeStep("", "topic", 99),
        ]

        def built(itinerary):
            for step in wrong:
                itinerary = edit.add(itinerary, step)
            return itinerary

        actions.write(session, IDA, NOW, journey, journey.version, "wrote", built)
        said = [
            one.text
            for one in checking.findings(session, journey, queries.draft(session, journey))
            if one.line in ("s1", "s2", "s3")
        ]
    assert said == [
        "“many” is not a number",
        "The field that this step sets is gone. Choose another.",
        "What this step gives or takes is gone.",
    ]


def test_a_field_that_a_step_sets_is_in_use_and_followed_when_merged(database, world):
    runs(database, world, ChangeStep("", "field", field="level", value="gold"))
    with database.session() as session:
        field = session.scalars(sa.select(Field).where(Field.key == "level")).one()
        session.add(Field(owner="contact", key="tier", label="tier", type="choice", created_at=NOW))
        session.flush()
        assert "the journey “First weeks”" in dictionary.uses(session, field)
        kept = session.scalars(sa.select(Field).where(Field.key == "tier")).one()
        dictionary.merge(session, IDA, field, kept)
    with database.session() as session:
        walked = queries.walked(session, session.get_one(Journey, world))
        assert walked.steps[0].field == "tier"


def test_whoever_may_not_get_the_first_message_gets_the_next(database, world):
    with database.session() as session:
        # It is night in Tokyo: a text would wait.
        session.execute(sa.text("UPDATE contacts SET timezone = NULL"))
    runs(database, world, MessageStep("", 1, refused="exit", instead=(2,)), change_greeted())
    assert outcomes(database) == [
        (1, "email", "no_consent"),
        (1, "sms", "delivered"),
        (2, "email", "delivered"),
        (3, "email", "no_consent"),
        (3, "sms", "no_address"),
    ]
    with database.session() as session:
        told = {contact: queries.entry(session, world, contact).because for contact in (1, 2, 3)}
        moves = queries.moves(session, queries.entry(session, world, 1).id)
    # Ada went on by the text; Cleo may get neither, and leaves.
    assert told == {1: "end", 2: "end", 3: "no_address"}
    assert [one.because for one in moves] == ["start", "sent", "done"]
    assert sorted(k for k, v in of_contacts(database, "attributes").items() if v) == [1, 2]


def test_a_message_that_is_tried_in_turn_is_in_use(database, world):
    runs(database, world, MessageStep("", 1, instead=(2,)))
    with database.session() as session:
        assert "the journey “First weeks”" in copying.uses(session, session.get_one(Message, 2))


def test_the_control_group_walks_without_messages_and_is_compared(database, world):
    with clock.at(NOW), database.session() as session:
        for number in range(4, PEOPLE + 1):
            add(session, NOW, f"p{number}@post.example")
    runs(
        database,
        world,
        MessageStep("", 1, refused="exit"),
        change_greeted(),
        ExitStep(""),
        goal=Goal("ticket_bought", 10, control=50),
        who=range(2, PEOPLE + 1),
    )
    control = {one for one in range(2, PEOPLE + 1) if in_control(one, 50, f"journey {world}")} - {3}
    assert 10 <= len(control) <= 28
    got = {contact for contact, _, outcome in outcomes(database) if outcome == "delivered"}
    none = {contact for contact, _, outcome in outcomes(database) if outcome == "control"}
    # Cleo may not be written to at all: that is told first.
    assert none == control
    assert got == set(range(2, PEOPLE + 1)) - control - {3}
    # They walked on, though whoever may not get it exits.
    on = {k for k, v in of_contacts(database, "attributes->>'greeted'").items() if v}
    assert on == got | control
    later = NOW + dt.timedelta(days=1)
    buys = [*sorted(got)[:6], *sorted(control)[:2]]
    with clock.at(later), database.session() as session:
        rows = [{"event": "ticket_bought", "contact": one, "at": later.isoformat()} for one in buys]
        take_events(session, later, "t", rows)
    advance(database, later)
    with database.session() as session:
        found = figures.compared(session, world)
        of_control = {
            one for one in range(2, PEOPLE + 1) if queries.entry(session, world, one).control
        }
    assert of_control - {3} == control
    assert (found.written.succeeded, found.control.succeeded) == (6, 2)
    assert found.written.people + found.control.people == PEOPLE - 1


def test_service_messages_go_to_everybody(database, world):
    with database.session() as session:
        journey = session.get_one(Journey, world)
        journey.consent_rule = "service"
    runs(
        database,
        world,
        MessageStep("", 1),
        goal=Goal("ticket_bought", 10, control=50),
    )
    assert {outcome for _, _, outcome in outcomes(database)} == {"delivered"}


def test_points_of_a_score_are_given_and_taken_once_each(database, world):
    with database.session() as session:
        session.execute(
            sa.text(
                "INSERT INTO scores (name, rules, version, changed_at, changed_by) "
                "VALUES ('Interest', '[]', 1, now(), 'Ida')"
            )
        )
        score = session.scalar(sa.text("SELECT id FROM scores"))
    runs(
        database,
        world,
        ChangeStep("", "score", score, value="5"),
        WaitStep("", Span(1, "day")),
        ChangeStep("", "score", score, True, value="2.5"),
        who=(1, 2),
    )
    # Looked at again nothing is given again.
    advance(database, NOW)
    advance(database, NOW + dt.timedelta(days=1))
    with database.session() as session:
        found = session.execute(
            sa.text("SELECT contact_id, points, by, why FROM score_points ORDER BY id")
        )
        said = "the journey “First weeks”"
        assert [tuple(row) for row in found] == [
            (1, 5.0, "Ida", said),
            (2, 5.0, "Ida", said),
            (1, -2.5, "Ida", said),
            (2, -2.5, "Ida", said),
        ]
        assert "add 5 points to “Interest”" in as_text(
            queries.draft(session, session.get_one(Journey, world)), queries.names(session)
        )


@pytest.mark.parametrize("points", ["", "0", "-3", "many", "1001"])
def test_points_that_cannot_be_are_named_by_their_place(points):
    step = {"kind": "change", "id": "s1", "what": "score", "number": 1, "value": points}
    with pytest.raises(ItineraryError) as found:
        from_json({"steps": [step]})
    assert found.value.place == "steps[0].value"
