"""The table of messages says when each was last sent, when it goes next, and in which journeys."""

import datetime as dt

from meadowrun.base import clock
from meadowrun.campaigns.models import Campaign
from meadowrun.core.journeys import edit
from meadowrun.core.journeys.reading import to_json
from meadowrun.core.journeys.steps import Itinerary, MessageStep
from meadowrun.journeys import actions as journeys
from meadowrun.journeys.models import JourneyEdition
from meadowrun.journeys.queries import running_by_message
from meadowrun.sends.models import Send
from meadowrun.sends.queries import dates_by_message
from tests.conftest import NOW
from tests.store.people import IDA, ready_send
from tests.store.web import words

DAY = dt.timedelta(days=1)


def sends_of(session, first):
    """Sends of the same message: two that went out, two that are planned, and a draft."""
    for name, state, taken, leaves in (
        ("Earlier", "done", NOW - 40 * DAY, None),
        ("Latest", "done", NOW - 2 * DAY, None),
        ("Next", "planned", None, NOW + 3 * DAY),
        ("Later", "planned", None, NOW + 9 * DAY),
        ("Someday", "draft", None, NOW + 1 * DAY),
    ):
        session.add(
            Send(
                campaign_id=first.campaign_id,
                message_id=first.message_id,
                name=name,
                state=state,
                audience={"in": [], "out": []},
                zone="Europe/London",
                taken_at=taken,
                leaves_at=leaves,
                created_at=NOW,
                changed_at=NOW,
            )
        )


def runs_with(session, campaign, message, name, state):
    """A journey with one message."""
    itinerary = edit.add(Itinerary(), MessageStep("", message))
    made = journeys.create(session, IDA, NOW, campaign, name, itinerary)
    made.state, made.edition, made.started_at = state, 1, NOW
    session.flush()
    session.add(
        JourneyEdition(journey_id=made.id, number=1, itinerary=to_json(itinerary), by="Ida", at=NOW)
    )
    return made.id


def test_when_a_message_was_sent_and_goes_next_and_the_journeys_that_it_is_in(web, database):
    with clock.at(NOW), database.session() as session:
        first = ready_send(session, NOW, {"in": [], "out": []})
        sends_of(session, first)
        session.flush()
        message = first.message_id
        campaign = session.get_one(Campaign, first.campaign_id)
        walked = runs_with(session, campaign, message, "First weeks", "running")
        runs_with(session, campaign, message, "Long over", "ended")
        dates = dates_by_message(session)
        assert list(dates) == [message]
        assert [(one.name, one.ahead) for one in dates[message]] == [
            ("Latest", False),
            ("Next", True),
        ]
        assert running_by_message(session) == {message: [("First weeks", f"/journeys/{walked}")]}
    with clock.at(NOW):
        table = words(web.get("/messages").text)
    assert "21 Nov 2026 26 Nov 2026 6 sends First weeks" in table
    assert "Long over" not in table
