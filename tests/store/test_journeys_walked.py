"""People walk a journey that was written and started on its pages, and what becomes of them."""

import datetime as dt

import pytest
import sqlalchemy as sa

from meadowrun.base import clock, jobs
from meadowrun.journeys import figures, queries
from meadowrun.journeys.models import Journey, JourneyEntry
from meadowrun.messages.models import Message
from meadowrun.people import actions as people
from meadowrun.people.duplicates import merge
from meadowrun.people.models import Contact
from meadowrun.people.wholly import erase, everything
from meadowrun.tracking.taking import take_events
from tests.conftest import NOW
from tests.store.journeys import advance, due_next
from tests.store.people import IDA
from tests.store.writing_journeys import begins, buys, draft, post, starts, version

DAY = dt.timedelta(days=1)


def test_people_walk_it(ida, database, journey, keeper):
    """Two people buy a ticket: both get the welcome; the one who visits goes on at once, the other
    after three days. A third bought before it ran, one a week ago."""
    buys(database, 3, at=NOW - DAY)
    assert starts(ida, database) == "running"
    buys(database, 1, 2)
    assert sorted(letter.to for letter in keeper.letters) == ["p1@post.example", "p2@post.example"]
    assert due_next(database, NOW) == NOW + DAY
    advance(database, NOW + DAY)
    shown = ida.get("/journeys/1").text
    assert "2 sent" in shown and ">2</b> came in" in shown
    with clock.at(NOW + 2 * DAY), database.session() as session:
        at = (NOW + 2 * DAY).isoformat()
        take_events(session, NOW + 2 * DAY, "t", [{"event": "visited", "contact": 1, "at": at}])
    advance(database, NOW + 2 * DAY)
    with database.session() as session:
        stand = figures.numbers(session, 1).stand
        assert (stand.inside, stand.finished, stand.reached) == (1, 1, 1)
    advance(database, NOW + 4 * DAY)
    with database.session() as session:
        stand = figures.numbers(session, 1).stand
        assert (stand.entered, stand.finished, stand.left) == (2, 2, {})
    for path in ("/people?state=finished", "/people", "/people/1", "/people/5", ".txt", ".svg"):
        assert ida.get(f"/journeys/1{path}").status_code == 200
    story = ida.get("/journeys/1/people/1").text
    assert "Came in" in story and "Reached the goal" in story and "out of the journey" in story
    assert "it did not happen since it runs" in ida.get("/journeys/1/people/5").text
    assert ida.get("/journeys/1.json").json["itinerary"]["starts"][0]["event"] == "ticket_bought"
    campaign = ida.get(f"/campaigns/{ida.campaign}").text
    assert "First two weeks" in campaign and "First two weeks" in ida.get("/journeys").text


def refused(database):
    with database.session() as session:
        return figures.numbers(session, 1).refused


def test_a_kind_of_event_that_was_merged_into_another(ida, database, journey):
    """What was written before goes on: the start, and what is waited for."""
    starts(ida, database)
    with database.session() as session:
        session.execute(
            sa.text(
                "UPDATE event_kinds SET key = 'sale', did = 'bought', aka = '{ticket_bought}' "
                "WHERE key = 'ticket_bought'"
            )
        )
        session.execute(
            sa.text(
                "UPDATE event_kinds SET key = 'came', did = 'came', aka = '{visited}' "
                "WHERE key = 'visited'"
            )
        )
    buys(database, 1)
    advance(database, NOW + DAY)
    with clock.at(NOW + 2 * DAY), database.session() as session:
        at = NOW + 2 * DAY
        take_events(session, at, "t", [{"event": "came", "contact": 1, "at": at.isoformat()}])
    advance(database, NOW + 2 * DAY)
    with database.session() as session:
        stand = figures.numbers(session, 1).stand
        assert (stand.finished, stand.reached) == (1, 1)
    assert "someone bought" in ida.get("/journeys/1").text


def test_details_of_the_event_stand_in_the_message(ida, database, journey, keeper):
    """“event.amount” is what the very event said that brought them in; who comes in by hand has
    none, and gets what stands there instead."""
    with database.session() as session:
        message = session.get_one(Message, 1)
        document = dict(message.document)
        text = (
            "<p>Thank you for {{ event.amount | default('nothing', true) }}, {{ event.night }}</p>"
        )
        document["lines"] = [{**document["lines"][0], "html": text}, *document["lines"][1:]]
        message.document = document
    starts(ida, database)
    with clock.at(NOW), database.session() as session:
        rows = [
            {
                "event": "ticket_bought",
                "contact": contact,
                "at": NOW.isoformat(),
                "details": {"amount": amount, "night": "Moon & stars"},
            }
            for contact, amount in ((1, 12), (2, 30))
        ]
        take_events(session, NOW, "t", rows)
    advance(database, NOW)
    said = {letter.to: letter.html for letter in keeper.letters}
    assert "Thank you for 12, Moon &amp; stars" in said["p1@post.example"]
    assert "Thank you for 30, Moon &amp; stars" in said["p2@post.example"]


def test_its_messages_keep_hours(ida, database, journey, keeper):
    """It is 14:00: from 9:00 to 11:00 nothing goes before the next morning, and the wait counts
    from then."""
    post(ida, database, "sending", sender="1", rule="agreed", **{"from": "09:00", "to": "11:00"})
    assert "from 09:00 to 11:00" in ida.get("/journeys/1").text
    starts(ida, database)
    buys(database, 1)
    assert keeper.letters == []
    morning = NOW.replace(hour=9) + DAY
    advance(database, morning)
    assert len(keeper.letters) == 1
    with database.session() as session:
        assert queries.entry(session, 1, 1).due == morning + DAY


def test_starts_that_are_refused_are_counted(ida, database, journey):
    starts(ida, database)
    buys(database, 1)
    # Within ten minutes: the same start. Later: they are inside. Told two days late: too late.
    buys(database, 1, at=NOW + dt.timedelta(minutes=5))
    buys(database, 1, at=NOW + DAY)
    with clock.at(NOW + 3 * DAY), database.session() as session:
        late = (NOW + DAY).isoformat()
        row = {"event": "ticket_bought", "contact": 2, "at": late}
        take_events(session, NOW + 3 * DAY, "t", [row])
    advance(database, NOW + 3 * DAY)
    assert refused(database) == {"twice": 1, "inside": 1, "late": 1}
    advance(database, NOW + 9 * DAY)
    buys(database, 1, at=NOW + 9 * DAY)
    assert refused(database) == {"twice": 1, "inside": 1, "late": 1, "before": 1}


def test_again_after_some_days(ida, database, journey):
    begins(ida, database, "event:ticket_bought", "after")
    starts(ida, database)
    for days in (0, 29, 31):
        buys(database, 1, at=NOW + days * DAY)
        advance(database, NOW + days * DAY + 6 * DAY)
    with database.session() as session:
        began = session.scalars(sa.select(JourneyEntry.began_at).order_by(JourneyEntry.id)).all()
    assert began == [NOW, NOW + 31 * DAY]
    assert refused(database) == {"before": 1}


def test_everyone_in_a_segment_once(ida, database, journey):
    begins(ida, database, "everyone:", "once", segment="1")
    starts(ida, database)
    jobs.run_here("journeys.begin", journey_id=1, start=draft(database).starts[0].id)
    advance(database, NOW)
    with database.session() as session:
        assert figures.numbers(session, 1).stand.entered == 5


def test_paused_wound_down_and_ended(ida, database, journey, keeper):
    starts(ida, database)
    buys(database, 1)
    ida.post("/journeys/1/turn/pause")
    buys(database, 2, at=NOW + DAY)
    advance(database, NOW + 9 * DAY)
    assert len(keeper.letters) == 1
    with clock.at(NOW + DAY), database.session() as session:
        at = NOW + DAY
        take_events(session, at, "t", [{"event": "visited", "contact": 1, "at": at.isoformat()}])
    advance(database, NOW + 9 * DAY)
    with database.session() as session:
        stand = figures.numbers(session, 1).stand
        assert (stand.inside, stand.reached) == (1, 1)
    ida.post("/journeys/1/turn/resume")
    ida.post("/journeys/1/turn/wind-down")
    buys(database, 3, at=NOW + 9 * DAY)
    with database.session() as session:
        stand = figures.numbers(session, 1).stand
        assert (stand.entered, stand.finished) == (1, 1)
    answer = ida.post("/journeys/1/turn/pause", follow_redirects=True)
    assert "Paused" in answer.text
    ida.post("/journeys/1/turn/end")
    with database.session() as session:
        found = session.get_one(Journey, 1)
        assert (found.state, found.ended_at) == ("ended", NOW)
    answer = post(ida, database, "add", text="wait 1 day")
    assert answer.status_code == 409 and "This journey has ended." in answer.text


def test_brought_in_and_taken_out_by_hand(ida, database, journey, keeper):
    starts(ida, database)
    answer = ida.post("/journeys/1/bring-in", data={"email": "P4@post.example"})
    assert answer.status_code == 303
    advance(database, NOW)
    assert [letter.to for letter in keeper.letters] == ["p4@post.example"]
    again = ida.post(
        "/journeys/1/bring-in", data={"email": "p4@post.example"}, follow_redirects=True
    )
    assert "did not come in: they are inside already." in again.text
    nobody = ida.post("/journeys/1/bring-in", data={"email": "x@y.example"}, follow_redirects=True)
    assert "Nobody has the address “x@y.example”." in nobody.text
    ida.post("/journeys/1/people/4/take-out")
    with database.session() as session:
        assert figures.numbers(session, 1).stand.left == {"by_hand": 1}
    once_more = ida.post("/journeys/1/people/4/take-out", follow_redirects=True)
    assert "is not in the journey any more" in once_more.text


def test_a_new_edition_while_people_are_inside(ida, database, journey, keeper):
    """One waits a day, one for three: the first wait becomes two days, worked out anew from when
    they came; the second step is taken away, and whoever is on it goes on behind it."""
    starts(ida, database)
    buys(database, 1)
    advance(database, NOW + DAY)
    buys(database, 2, at=NOW + DAY)
    wait, wait_for = (one.id for one in draft(database).steps[1:])
    post(ida, database, "set", step=wait, amount="2", unit="day")
    post(ida, database, "do", do="remove", step=wait_for)
    post(ida, database, "add", text="wait 1 week")
    shown = ida.get("/journeys/1").text
    assert "There are changes that are not live yet." in shown
    starts(ida, database)
    advance(database, NOW + DAY)
    with database.session() as session:
        assert session.get_one(Journey, 1).edition == 2
        rows = session.scalars(sa.select(JourneyEntry).order_by(JourneyEntry.contact_id)).all()
        last = draft(database).steps[-1].id
        assert [(row.step, row.state) for row in rows] == [("", "finished"), (wait, "inside")]
        assert rows[1].due == NOW + 3 * DAY
        assert last not in {row.step for row in rows}
    answer = ida.post(
        "/journeys/1/start", data={"version": version(database)}, follow_redirects=True
    )
    assert "Nothing was changed since it started." in answer.text


@pytest.mark.parametrize(("where", "stand"), [("", "behind"), ("wait", "wait"), ("out", "left")])
def test_where_those_go_whose_step_is_taken_away(ida, database, journey, keeper, where, stand):
    """The step that waits for a visit is taken away while somebody is on it: they go behind it, to
    a step of the author's choice, or out."""
    post(ida, database, "add", text="wait 1 week")
    starts(ida, database)
    buys(database, 1)
    advance(database, NOW + DAY)
    _, wait, gone, behind = (one.id for one in draft(database).steps)
    post(ida, database, "do", do="remove", step=gone)
    shown = ida.get("/journeys/1?edit=1").text
    assert f'name="to-{gone}"' in shown and "They go" in shown
    data = {"version": version(database), f"to-{gone}": wait if where == "wait" else where}
    with clock.at(NOW + DAY):
        assert ida.post("/journeys/1/start", data=data).status_code == 303
    with database.session() as session:
        entry = queries.entry(session, 1, 1)
        found = (entry.step, entry.state, entry.because)
    assert (
        found
        == {
            "behind": (behind, "inside", ""),
            "wait": (wait, "inside", ""),
            "left": ("", "left", "removed"),
        }[stand]
    )
    # Where nobody can stand nobody is sent: on a step that is not there, or is switched off.
    post(ida, database, "do", do="off", step=behind)
    for nowhere in ("s99", behind):
        data = {"version": version(database), f"to-{gone}": nowhere}
        answer = ida.post("/journeys/1/start", data=data, follow_redirects=True)
        assert "is not there any more. Choose another." in answer.text


def test_a_step_is_switched_off_and_on_while_people_walk(ida, database, journey, keeper):
    starts(ida, database)
    buys(database, 1)
    advance(database, NOW)
    wait = draft(database).steps[1].id
    post(ida, database, "do", do="off", step=wait)
    shown = ida.get("/journeys/1?edit=1").text
    assert "is switched off; on to" in shown and "Switch on" in shown and "is-off" in shown
    with clock.at(NOW):
        starts(ida, database)
    advance(database, NOW)
    with database.session() as session:
        # Whoever waited there is on the step behind it, at once.
        assert queries.entry(session, 1, 1).step == draft(database).steps[2].id
    assert ida.get("/journeys/1/rehearsal").status_code == 200


def test_what_brought_them_in_is_not_the_goal(ida, database, journey, keeper):
    """They come in by buying a ticket, and are to buy another one."""
    post(ida, database, "goal", event="ticket_bought", days="14")
    starts(ida, database)
    buys(database, 1, 2)
    with database.session() as session:
        assert figures.numbers(session, 1).stand.reached == 0
    buys(database, 2, at=NOW + DAY)
    with database.session() as session:
        assert queries.entry(session, 1, 1).goal_at is None
        assert queries.entry(session, 1, 2).goal_at == NOW + DAY


def test_whoever_withdraws_leaves_or_stays(ida, database, journey):
    assert "they withdraw all consent" in ida.get("/journeys/1").text
    post(ida, database, "exits", remove="withdrew")
    assert draft(database).stays
    assert "they withdraw all consent" not in ida.get("/journeys/1").text
    post(ida, database, "exits", text="they withdraw their consent")
    assert not draft(database).stays and draft(database).exits == ()


def test_a_path_asks_what_the_event_said(ida, database, journey, keeper):
    post(ida, database, "add", text="if the event’s amount is over 50")
    branch = draft(database).steps[-1]
    path = branch.paths[0]
    assert (path.detail, path.compare, path.value) == ("amount", "more", "50")
    form = {"step": path.id, "detail": "amount", "compare": "less", "value": " 20 "}
    post(ida, database, "set", **form)
    shown = ida.get("/journeys/1").text
    assert "the event’s amount is less than 20" in shown
    assert "and the event that started it, or the webhook’s answer, says" in shown
    post(ida, database, "set", step=path.id, detail="", segment="1", compare="is", value="9")
    path = draft(database).steps[-1].paths[0]
    assert (path.detail, path.compare, path.value) == ("", "", "")


def test_a_control_group_is_set_and_shown_against_the_others(ida, database, journey, keeper):
    post(ida, database, "goal", event="visited", days="14", control="40")
    assert "with 40% as the control group" in ida.get("/journeys/1").text
    assert post(ida, database, "goal", event="visited", days="14", control="51").status_code == 422
    starts(ida, database)
    buys(database, 1, 2, 3, 4, 5)
    with database.session() as session:
        found = figures.compared(session, 1)
        control = {one for one in range(1, 6) if queries.entry(session, 1, one).control}
    assert found.control.people == len(control) and len(keeper.letters) == 5 - len(control)
    assert "Against the control group" in ida.get("/journeys/1").text


def test_erased_and_merged_people(ida, database, journey):
    starts(ida, database)
    buys(database, 1, 2, 3, 4)
    with database.session() as session:
        assert everything(session, 1)["journeys"][0]["name"] == "First two weeks"
        erase(session, IDA, NOW, 1)
        # Both are inside: the one that goes is taken out.
        merge(session, IDA, NOW, 2, 3, set())
        # Only the one that goes is inside: the way goes on with the one that stays.
        merge(session, IDA, NOW, 5, 4, set())
    advance(database, NOW + 9 * DAY)
    with database.session() as session:
        stand = figures.numbers(session, 1).stand
        assert (stand.entered, stand.finished, stand.left) == (4, 2, {"erased": 1, "merged": 1})
        whole = {row.contact_id for row in session.scalars(sa.select(JourneyEntry))}
        # What was before the merge is the history of the one that stays.
        assert whole == {1, 2, 5}
        assert session.get(Contact, 4) is None
    assert "an erased contact" in ida.get("/journeys/1/people?state=left").text


def test_somebody_without_consent_goes_on_without_it(ida, database, journey, keeper):
    with database.session() as session:
        people.set_consent(session, NOW, 1, 0, False, "test")
    starts(ida, database)
    buys(database, 1)
    assert keeper.letters == []
    story = ida.get("/journeys/1/people/1").text
    assert "Not sent: no consent for email" in story
    with database.session() as session:
        step = draft(database).steps[1].id
        assert queries.entry(session, 1, 1).step == step
