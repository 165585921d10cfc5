"""What a journey uses is not deleted unseen, and follows where things are merged."""

import datetime as dt

import pytest
import sqlalchemy as sa

from meadowrun.base import clock
from meadowrun.base.errors import Conflict
from meadowrun.campaigns.models import Campaign
from meadowrun.core.journeys import edit
from meadowrun.core.journeys.steps import (
    BranchStep,
    ChangeStep,
    Itinerary,
    MessageStep,
    Path,
    Span,
    Start,
    WaitStep,
    Who,
)
from meadowrun.journeys import actions, queries
from meadowrun.messages import copying
from meadowrun.messages.models import Message
from meadowrun.people import dictionary, keeping
from meadowrun.people.models import EventKind, Field, PeopleList
from meadowrun.people.queries import uses_of_list
from meadowrun.scores import actions as scores
from meadowrun.scores.models import Score
from meadowrun.tags import actions as tags
from meadowrun.tags.models import Tag
from tests.conftest import NOW
from tests.store.journeys import started_by
from tests.store.people import IDA, kinds, many, ready_send

TAGGED = Who(lines=({"id": "t", "kind": "tag", "tag": 1, "inside": True},))


@pytest.fixture
def journey(database, settings, job_context, keeper):
    """A journey that uses one of everything; its number."""
    with clock.at(NOW), database.session() as session:
        many(session, NOW, 3)
        kinds(session)
        send = ready_send(session, NOW, {"in": [], "out": []})
        session.add_all(
            [
                Field(owner="contact", key=key, label=key, type="date", created_at=NOW)
                for key in ("renewal", "renews")
            ]
        )
        session.add(PeopleList(name="Volunteers", source="test", taken_at=NOW))
        session.add_all(
            [Tag(path="vip", created_at=NOW), Tag(path="very-important", created_at=NOW)]
        )
        session.flush()
        campaign = session.get_one(Campaign, send.campaign_id)
        made = actions.create(session, IDA, NOW, campaign, "First weeks")

        def built(itinerary):
            for step in (
                MessageStep("", 1),
                ChangeStep("", "list", 1),
                ChangeStep("", "tag", 1),
                BranchStep("", (Path("", who=TAGGED), Path(""))),
                WaitStep("", Span(1, "day"), 600, date="renewal", before=True),
            ):
                itinerary = edit.add(itinerary, step)
            start = Start("date", date="renewal", before=3)
            return started_by(itinerary, start, "once", 30)

        actions.write(session, IDA, NOW, made, made.version, "wrote", built)
        actions.start(session, IDA, NOW, made, made.version)
        session.execute(sa.text("DELETE FROM sends"))
        return made.id


def walked(session, ident) -> Itinerary:
    session.expire_all()
    found = queries.walked(session, queries.journey(session, ident))
    assert found is not None
    return found


def test_nothing_that_it_uses_is_deleted(database, journey):
    with database.session() as session:
        message = session.scalars(sa.select(Message)).first()
        with pytest.raises(Conflict, match="is used by the journey “First weeks”"):
            copying.delete(session, IDA, NOW, message)
        found = session.scalars(sa.select(PeopleList)).one()
        with pytest.raises(Conflict, match="is used by the journey “First weeks”"):
            keeping.delete_list(session, IDA, NOW, found, uses_of_list(session, found.id))
        tag = session.scalars(sa.select(Tag).where(Tag.path == "vip")).one()
        with pytest.raises(Conflict, match="is named by the journey “First weeks”"):
            tags.delete(session, IDA, NOW, tag)
        actions.end(session, IDA, NOW, queries.journey(session, journey))
        # Of one that has ended nothing is used any more.
        keeping.delete_list(session, IDA, NOW, found, uses_of_list(session, found.id))


def test_a_score_that_a_step_gives_points_of_is_not_deleted(database, journey):
    with database.session() as session:
        made = Score(
            name="Interest",
            rules=[],
            version=1,
            changed_at=NOW,
            changed_by="Ida",
            worked_out_at=NOW,
        )
        session.add(made)
        session.flush()
        found, step = queries.journey(session, journey), ChangeStep("", "score", made.id, value="5")
        actions.write(session, IDA, NOW, found, found.version, "w", lambda one: edit.add(one, step))
        with pytest.raises(Conflict, match="is used by the journey “First weeks”"):
            scores.delete(session, IDA, NOW, made)


def test_the_page_of_an_event_names_the_journeys_that_it_starts(database, journey):
    with database.session() as session:
        found, start = queries.journey(session, journey), Start("event", "visited")
        kind = session.scalars(sa.select(EventKind).where(EventKind.key == "visited")).one()
        assert dictionary.kind_facts(session, kind)["used"] == []
        actions.write(
            session, IDA, NOW, found, found.version, "w", lambda one: edit.add_start(one, start)
        )
        assert dictionary.kind_facts(session, kind)["used"] == ["the journey “First weeks”"]


def test_it_follows_a_merge_of_tags(database, journey):
    with database.session() as session:
        by_path = {one.path: one for one in session.scalars(sa.select(Tag))}
        tags.move(session, IDA, NOW, by_path["vip"], "very-important")
        found, kept = walked(session, journey), by_path["very-important"].id
        assert found.steps[2].number == kept
        assert found.steps[3].paths[0].who.lines[0]["tag"] == kept
        assert found.steps[1].number == 1


def test_it_follows_a_merge_of_fields(database, journey):
    with database.session() as session:
        by_key = {one.key: one for one in session.scalars(sa.select(Field))}
        dictionary.merge(session, IDA, by_key["renewal"], by_key["renews"])
        found = walked(session, journey)
        assert (found.starts[0].date, found.steps[4].date) == ("renews", "renews")


def test_it_follows_a_merge_of_events(database, journey):
    with clock.at(NOW + dt.timedelta(minutes=1)), database.session() as session:
        made = queries.journey(session, journey)
        actions.write(
            session,
            IDA,
            NOW,
            made,
            made.version,
            "wrote",
            lambda one: started_by(one, Start("event", "visited"), "once", 30),
        )
        by_key = {one.key: one for one in session.scalars(sa.select(EventKind))}
        dictionary.merge_kinds(session, IDA, by_key["visited"], by_key["ticket_bought"])
        assert queries.draft(session, made).starts[0].event == "ticket_bought"
