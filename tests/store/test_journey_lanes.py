"""Lanes of a journey as people walk them: in both at once, counted apart and together, by a jump
from one into the other; and as they are written on the page."""

import re

import pytest
import sqlalchemy as sa

from meadowrun.base import clock
from meadowrun.base.errors import Invalid
from meadowrun.core.journeys import edit
from meadowrun.core.journeys.steps import Goal, JumpStep, Span, Start, WaitStep
from meadowrun.journeys import actions, figures, queries
from meadowrun.journeys.models import JourneyEntry
from meadowrun.people import duplicates
from meadowrun.tracking.taking import take_events
from tests.conftest import NOW
from tests.store.journeys import advance
from tests.store.people import IDA
from tests.store.starting import (
    DAY,
    HOUR,
    LONG,
    MINUTE,
    did,
    happens,
    running,
)
from tests.store.writing_journeys import draft, post, ready, version

SHORT = WaitStep("", Span(1, "hour"))


def with_lane(database, ident, *steps, event="ticket_bought", change=lambda one: one):
    """Has people go on by an edition with a second lane; gives its id."""

    def changed(itinerary):
        itinerary = edit.add_lane(itinerary, "Buyers")
        lane = itinerary.beside[-1].id
        for step in steps:
            itinerary = edit.add(itinerary, step, lane)
        if event:
            itinerary = edit.add_start(itinerary, Start("event", event, lane=lane))
        return change(itinerary)

    with clock.at(NOW), database.session() as session:
        found = queries.journey(session, ident)
        made = actions.write(session, IDA, NOW, found, found.version, "wrote", changed)
        actions.start(session, IDA, NOW, found, found.version)
    advance(database, NOW)
    return made.beside[-1].id


def numbers(database, ident):
    with database.session() as session:
        return figures.numbers(session, ident)


def where(database, ident):
    """Every time that somebody is or was on it: contact, lane, state, what brought them in."""
    with database.session() as session:
        asked = sa.select(JourneyEntry).where(JourneyEntry.journey_id == ident)
        return [
            (one.contact_id, one.lane, one.state, one.because)
            for one in session.scalars(asked.order_by(JourneyEntry.id))
        ]


def test_whoever_is_in_both_gets_both_and_is_counted_in_each(database, given):
    """One in the first lane alone, one in the second alone, one in both; each lane once."""
    ident = running(database, given, Start("event", "visited"), LONG)
    lane = with_lane(database, ident, SHORT)
    happens(database, "visited", NOW + MINUTE, 1, 2)
    happens(database, "ticket_bought", NOW + 2 * MINUTE, 2, 3)
    advance(database, NOW + 2 * HOUR)
    happens(database, "ticket_bought", NOW + DAY, 3)
    found = numbers(database, ident)
    assert where(database, ident) == [
        (1, "", "inside", ""),
        (2, "", "inside", ""),
        (2, lane, "finished", "end"),
        (3, lane, "finished", "end"),
    ]
    assert (found.lanes[""].entered, found.lanes[""].inside) == (2, 2)
    assert (found.lanes[lane].entered, found.lanes[lane].finished) == (2, 2)
    assert (found.stand.entered, found.stand.inside, found.stand.finished) == (4, 2, 2)
    # Of the third, who bought again: once for each person.
    assert found.refused == {"before": 1}


def test_a_lane_reaches_the_goal_by_itself(database, given):
    ident = running(database, given, Start("event", "visited"), LONG)
    lane = with_lane(
        database,
        ident,
        LONG,
        change=lambda one: edit.with_goal(one, Goal("survey_answered", 14)),
    )
    happens(database, "visited", NOW + MINUTE, 1, 2)
    happens(database, "ticket_bought", NOW + MINUTE, 3, 4)
    happens(database, "survey_answered", NOW + HOUR, 3, 4)
    found = numbers(database, ident)
    assert (found.lanes[""].reached, found.lanes[lane].reached) == (0, 2)
    with database.session() as session:
        itinerary = queries.walked(session, queries.journey(session, ident))
        goals = figures.goal_reached(session, ident, itinerary, NOW + 20 * DAY)
    assert goals[figures.of_lane(lane)].share == 1.0
    assert goals[""].share == 0.5


def test_a_jump_leads_into_another_lane_with_what_it_is_about(database, given):
    """Two cases of one person go over by themselves; in the second lane each is known."""
    ident = running(database, given, Start("event", "visited"), SHORT, again="any", subject="case")
    lane = with_lane(database, ident, LONG, event="", change=over_to_the_last)
    with clock.at(NOW + MINUTE), database.session() as session:
        rows = [
            {
                "event": "visited",
                "contact": 1,
                "at": (NOW + MINUTE).isoformat(),
                "details": {"case": case},
            }
            for case in ("A-1", "A-2")
        ]
        take_events(session, NOW + MINUTE, "t", rows)
    advance(database, NOW + MINUTE)
    advance(database, NOW + 2 * HOUR)
    assert where(database, ident) == [
        (1, "", "left", "jumped"),
        (1, "", "left", "jumped"),
        (1, lane, "inside", ""),
        (1, lane, "inside", ""),
    ]
    with database.session() as session:
        entries = queries.entries(session, ident, 1)[:2]
        assert {one.subject for one in entries} == {"A-1", "A-2"}
        assert {one.began_at for one in entries} == {NOW + MINUTE + HOUR}
        assert [one.because for one in queries.moves(session, entries[0].id)] == ["jumped_in"]


def test_who_jumps_into_a_lane_does_so_also_while_it_winds_down(database, given):
    ident = running(database, given, Start("event", "visited"), SHORT)
    lane = with_lane(database, ident, LONG, change=over_to_the_last)
    happens(database, "visited", NOW + MINUTE, 1)
    with clock.at(NOW + MINUTE), database.session() as session:
        actions.wind_down(session, IDA, NOW + MINUTE, queries.journey(session, ident))
    happens(database, "ticket_bought", NOW + 2 * MINUTE, 2)
    advance(database, NOW + 2 * HOUR)
    assert where(database, ident) == [(1, "", "left", "jumped"), (1, lane, "inside", "")]


def test_somebody_is_brought_into_a_lane_by_hand(database, given):
    ident = running(database, given, Start("event", "visited"), LONG)
    lane = with_lane(database, ident, LONG)
    with clock.at(NOW + HOUR), database.session() as session:
        found = queries.journey(session, ident)
        assert actions.bring_in(session, IDA, NOW + HOUR, found, [1, 2], lane) == 2
        assert actions.bring_in(session, IDA, NOW + HOUR, found, [1]) == 1
        with pytest.raises(Invalid, match="lane is not there"):
            actions.bring_in(session, IDA, NOW + HOUR, found, [1], "s99")
    assert where(database, ident) == [
        (1, lane, "inside", ""),
        (2, lane, "inside", ""),
        (1, "", "inside", ""),
    ]


def test_nobody_goes_round_for_ever_while_it_winds_down(database, given):
    """From the first lane into the second, and back, each hour, as often as one likes."""
    ident = running(database, given, Start("event", "visited"), SHORT, again="any")

    def there_and_back(itinerary):
        itinerary = over_to_the_last(itinerary)
        return edit.add(itinerary, JumpStep("", 0, ""), itinerary.beside[-1].id)

    lane = with_lane(database, ident, SHORT, event="", change=there_and_back)
    happens(database, "visited", NOW + MINUTE, 1)
    for hour in range(1, 4):
        advance(database, NOW + hour * HOUR + 2 * MINUTE)
    assert [one for _, one, _, _ in where(database, ident)] == ["", lane, "", lane]
    with clock.at(NOW + DAY), database.session() as session:
        actions.wind_down(session, IDA, NOW + DAY, queries.journey(session, ident))
    for hour in range(30):
        advance(database, NOW + DAY + hour * HOUR)
    assert len(where(database, ident)) <= 6
    assert numbers(database, ident).stand.inside == 0


def test_a_jump_to_a_journey_that_was_never_started_brings_nobody_there(database, given):
    """They leave all the same, and nobody else stands still over it."""
    with clock.at(NOW), database.session() as session:
        campaign = session.get_one(queries.Campaign, given[0])
        other = actions.create(session, IDA, NOW, campaign, "Not started").id
    ident = running(database, given, Start("event", "visited"), JumpStep("", other))
    happens(database, "visited", NOW + MINUTE, 1)
    assert where(database, ident) == [(1, "", "left", "jumped")]
    assert where(database, other) == []


def over_to_the_last(itinerary):
    return edit.add(itinerary, JumpStep("", 0, itinerary.beside[-1].id))


def test_two_records_that_are_merged_stay_in_each_lane(database, given):
    """The first is in one lane, the second in the other: who is left is in both."""
    ident = running(database, given, Start("event", "visited"), LONG)
    lane = with_lane(database, ident, LONG)
    happens(database, "visited", NOW + MINUTE, 1)
    happens(database, "ticket_bought", NOW + MINUTE, 1, 2)
    with clock.at(NOW + HOUR), database.session() as session:
        duplicates.merge(session, IDA, NOW + HOUR, 1, 2, set())
    assert where(database, ident) == [
        (1, "", "inside", ""),
        (1, lane, "inside", ""),
        (1, lane, "left", "merged"),
    ]


def test_a_lane_that_is_taken_away_lets_people_out(database, given):
    ident = running(database, given, Start("event", "visited"), LONG)
    lane = with_lane(database, ident, LONG)
    happens(database, "visited", NOW + MINUTE, 1)
    happens(database, "ticket_bought", NOW + MINUTE, 2)
    later = NOW + HOUR
    with clock.at(later), database.session() as session:
        found = queries.journey(session, ident)
        actions.write(
            session,
            IDA,
            later,
            found,
            found.version,
            "wrote",
            lambda one: edit.remove_lane(one, lane),
        )
        actions.start(session, IDA, later, found, found.version)
    advance(database, later)
    assert where(database, ident) == [(1, "", "inside", ""), (2, lane, "finished", "end")]
    # They are counted all the same.
    assert numbers(database, ident).stand.entered == 2


def test_whose_first_lane_has_no_step_comes_into_the_second(database, given):
    """A lane whose only step is switched off takes nobody in, and keeps nobody from the other."""
    ident = running(database, given, Start("event", "visited"), LONG)
    lane = with_lane(
        database,
        ident,
        LONG,
        event="visited",
    )
    did(
        database,
        """UPDATE journey_editions SET itinerary = jsonb_set(itinerary, '{steps,0,off}', 'true')
        WHERE journey_id = :id AND number = 2""",
        id=ident,
    )
    happens(database, "visited", NOW + MINUTE, 1)
    assert where(database, ident) == [(1, lane, "inside", "")]


def test_lanes_by_the_api(database, given, api):
    ident = running(database, given, Start("event", "visited"), LONG)
    lane = with_lane(database, ident, SHORT)
    asked = {"contacts": [1, 2], "lane": lane}
    with clock.at(NOW + MINUTE):
        assert api("post", f"/journeys/{ident}/people", asked) == (200, {"entered": 2})
        code, _ = api("post", f"/journeys/{ident}/people", asked | {"lane": "s99"})
        assert code == 422
    _, whole = api("get", f"/journeys/{ident}")
    assert [(one["id"], one["name"], one["entered"]) for one in whole["lanes"]] == [
        ("", "", 0),
        (lane, "Buyers", 2),
    ]
    assert whole["entered"] == 2 and whole["itinerary"]["beside"][0]["id"] == lane


# On the page.


@pytest.fixture
def web(client, database):
    return ready(client, database)


def lines(page):
    """The numbers of the lines of a page."""
    return [one for one in re.findall(r'step-no">([^<]*)<', page) if one]


def test_a_lane_is_written_on_the_page(web, database):
    web.post(f"/campaigns/{web.campaign}/journeys", data={"name": "Two groups"})
    post(web, database, "add", text="email Welcome")
    post(web, database, "starts", text="bought a ticket")
    made = post(web, database, "lanes", do="add", name="Sponsors")
    assert made.status_code == 303 and made.location.endswith("edit=1#line-lanes")
    (lane,) = draft(database).beside
    added = post(web, database, "add", text="wait 3 days", path=lane.id)
    assert added.location.endswith(f"#add{lane.id}")
    post(web, database, "starts", text="visited", lane=lane.id)
    post(web, database, "lanes", do="name", lane="", name="Guests")
    post(web, database, "add", text="go over to lane Guests", path=lane.id)
    page = web.get("/journeys/1?edit=1").text
    assert lines(page) == ["A", "A1", "B", "B1", "B2"]
    assert page.index("Sponsors") > page.index("Guests")
    assert "to the lane “Guests”" in page
    found = draft(database)
    assert [(one.event, one.lane) for one in found.starts] == [
        ("ticket_bought", ""),
        ("visited", lane.id),
    ]
    # What is changed stays in its lane.
    start = found.starts[1].id
    post(web, database, "starts", start=start, what="event:ticket_bought", lane="")
    assert draft(database).starts[1].lane == lane.id
    post(web, database, "lanes", do="remove", lane=lane.id)
    assert lines(web.get("/journeys/1?edit=1").text) == ["1"]
    web.post("/journeys/1/do", data={"version": version(database), "do": "undo"})
    assert [one.name for one in draft(database).lanes] == ["Guests", "Sponsors"]


def test_words_that_start_nothing_stay_in_their_lane(web, database):
    web.post(f"/campaigns/{web.campaign}/journeys", data={"name": "Two groups"})
    post(web, database, "lanes", do="add", name="Sponsors")
    (lane,) = draft(database).beside
    answer = post(web, database, "starts", text="hopes for rain", lane=lane.id)
    assert answer.status_code == 422
    page = answer.text
    mine = page.index(f'id="starts{lane.id}"')
    assert page.index("hopes for rain", mine) and page.count('value="hopes for rain"') == 1
    assert post(web, database, "lanes", do="remove", lane="").status_code == 422
    assert post(web, database, "lanes", do="name", lane="s99", name="x").status_code == 303
    assert [one.name for one in draft(database).lanes] == ["", "Sponsors"]


def test_a_step_into_a_lane_is_no_pattern(web, database):
    """Kept, it would lead nowhere in any other journey, and no table of journeys could be read."""
    web.post(f"/campaigns/{web.campaign}/journeys", data={"name": "Two groups"})
    post(web, database, "lanes", do="add", name="Sponsors")
    post(web, database, "add", text="go over to lane Sponsors")
    (jump,) = draft(database).steps
    kept = web.post("/journeys/1/patterns", data={"step": jump.id, "name": "Over"})
    assert "has no place in another" in web.get(kept.location).text
    assert web.get("/journeys").status_code == 200


def test_how_often_people_come_in_is_said_by_the_first_start_there_is(web, database):
    """The first lane is come to by a jump alone."""
    web.post(f"/campaigns/{web.campaign}/journeys", data={"name": "Two groups"})
    post(web, database, "lanes", do="add", name="Sponsors")
    (lane,) = draft(database).beside
    post(web, database, "starts", text="visited", lane=lane.id)
    assert web.get("/journeys/1?edit=1").text.count("once per person") == 1
