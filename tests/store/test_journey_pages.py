"""The pages of journeys: a journey is written, started, walked and asked about; what is wrong is
said, and nothing typed is lost."""

import datetime as dt
import re
from xml.etree import ElementTree

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
from meadowrun.shell import accounts
from meadowrun.tracking.taking import take_events
from tests.conftest import NOW
from tests.store.journeys import advance, due_next
from tests.store.people import IDA, ready_send
from tests.store.web import browser, sign_in, words
from tests.store.writing_journeys import begins, draft, post, ready, version, welcome

DAY = dt.timedelta(days=1)


@pytest.fixture
def web(client, database, job_context, keeper, still):
    return ready(client, database)


@pytest.fixture
def journey(web, database):
    return welcome(web, database)


def start(web, database):
    answer = web.post("/journeys/1/start", data={"version": version(database)})
    assert answer.status_code == 303
    with database.session() as session:
        return session.get_one(Journey, 1).state


def buys(database, *contacts, at=NOW):
    with clock.at(at), database.session() as session:
        rows = [
            {"event": "ticket_bought", "contact": one, "at": at.isoformat()} for one in contacts
        ]
        take_events(session, at, "t", rows)
    advance(database, at)


def test_it_is_written_line_by_line(web, database, journey):
    shown = web.get("/journeys/1").text
    for said in ("First two weeks", "Email", "Welcome", "1 day", "the first of these", "visited"):
        assert said in shown
    assert "someone bought a ticket" in shown
    assert "All paths of this step are empty: everyone goes on the same way." in shown
    steps = draft(database).steps
    assert [one.kind for one in steps] == ["message", "wait", "wait_for"]


def test_what_is_not_understood_is_said_and_kept(web, database, journey):
    answer = post(web, database, "add", text="fly to the moon")
    assert answer.status_code == 422
    assert (
        "“fly to the moon” is not a step." in answer.text
        and 'value="fly to the moon"' in answer.text
    )
    post(web, database, "add", text="wait 2 days unless it rains")
    assert "Not understood: “unless”, “rains”." in web.get("/journeys/1").text


@pytest.mark.parametrize(("path", "text"), [("add", "fly away"), ("starts", "the moon is full")])
def test_what_is_refused_while_it_runs_stays_where_it_was_typed(web, database, journey, path, text):
    start(web, database)
    answer = post(web, database, path, text=text)
    assert answer.status_code == 422 and f'value="{text}"' in answer.text


def test_what_would_be_made_of_a_step_is_shown(web, database, journey):
    said = web.get("/journeys/1/readings?text=email+wel").text
    assert "Email: Welcome" in said
    assert web.get("/journeys/1/readings?text=hello").text.strip() == ""


def test_lines_are_changed_moved_nested_taken_away_and_all_of_it_undone(web, database, journey):
    first, second, third = (one.id for one in draft(database).steps)
    post(web, database, "set", step=second, amount="2", unit="hour", at="10:00")
    assert (draft(database).steps[1].span.amount, draft(database).steps[1].at) == (2, 600)
    post(web, database, "do", do="up", step=second)
    assert [one.id for one in draft(database).steps] == [second, first, third]
    path = draft(database).steps[2].paths[0].id
    web.post(
        "/journeys/1/set",
        data={"version": version(database), "step": path, "what": "opened"},
    )
    assert draft(database).steps[2].paths[0].reaction == "opened"
    post(web, database, "add", text="exit", path=path)
    post(web, database, "do", do="add-path", step=third)
    assert len(draft(database).steps[2].paths) == 3
    post(web, database, "do", do="remove", step=third)
    assert len(draft(database).steps) == 2
    for _ in range(6):
        post(web, database, "do", do="undo")
    assert [one.id for one in draft(database).steps] == [first, second, third]
    post(web, database, "do", do="redo")
    assert draft(database).steps[1].at == 600


def test_somebody_else_wrote_meanwhile(web, database, journey):
    before = version(database)
    post(web, database, "add", text="wait 5 days")
    answer = web.post("/journeys/1/add", data={"version": before, "text": "wait 6 days"})
    assert answer.status_code == 409 and 'value="wait 6 days"' in answer.text
    assert len(draft(database).steps) == 4


@pytest.mark.parametrize(
    ("path", "data", "said"),
    [
        ("set", {"amount": "many", "unit": "day"}, "is not a whole number"),
        ("set", {"amount": "2", "unit": "day", "at": "25:00"}, "is not a time"),
        ("set", {"amount": "-1", "unit": "day"}, "cannot be that"),
        ("goal", {"event": "visited", "days": "0"}, "cannot be that"),
        ("sending", {"rule": "everybody"}, "Choose who may get its messages."),
        ("sending", {"rule": "agreed", "from": "09:00"}, "Give both hours, or none."),
        ("sending", {"rule": "agreed", "from": "9", "to": "17:00"}, "is not a time"),
    ],
)
def test_what_cannot_be_is_refused(web, database, journey, path, data, said):
    step = draft(database).steps[1].id
    answer = post(web, database, path, **{"step": step, **data})
    assert answer.status_code in (400, 422) and said in answer.text


def test_it_does_not_start_before_nothing_is_missing(web, database):
    web.post(f"/campaigns/{web.campaign}/journeys", data={"name": "Empty"})
    answer = web.post("/journeys/1/start", data={"version": 1}, follow_redirects=True)
    assert "Nothing starts this journey yet." in answer.text
    with database.session() as session:
        assert session.get_one(Journey, 1).state == "draft"
    web.post("/journeys/1/delete")
    with database.session() as session:
        assert session.get(Journey, 1) is None


def test_people_walk_it(web, database, journey, keeper):
    """Two people buy a ticket: both get the welcome; the one who visits goes on at once, the other
    after three days. A third bought before it ran, one a week ago."""
    buys(database, 3, at=NOW - DAY)
    assert start(web, database) == "running"
    buys(database, 1, 2)
    assert sorted(letter.to for letter in keeper.letters) == ["p1@post.example", "p2@post.example"]
    assert due_next(database, NOW) == NOW + DAY
    advance(database, NOW + DAY)
    shown = web.get("/journeys/1").text
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
        assert web.get(f"/journeys/1{path}").status_code == 200
    story = web.get("/journeys/1/people/1").text
    assert "Came in" in story and "Reached the goal" in story and "out of the journey" in story
    assert "it did not happen since it runs" in web.get("/journeys/1/people/5").text
    assert web.get("/journeys/1.json").json["itinerary"]["starts"][0]["event"] == "ticket_bought"
    campaign = web.get(f"/campaigns/{web.campaign}").text
    assert "First two weeks" in campaign and "First two weeks" in web.get("/journeys").text


def refused(database):
    with database.session() as session:
        return figures.numbers(session, 1).refused


def test_a_kind_of_event_that_was_merged_into_another(web, database, journey):
    """What was written before goes on: the start, and what is waited for."""
    start(web, database)
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
    assert "someone bought" in web.get("/journeys/1").text


def test_details_of_the_event_stand_in_the_message(web, database, journey, keeper):
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
    start(web, database)
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


def test_its_messages_keep_hours(web, database, journey, keeper):
    """It is 14:00: from 9:00 to 11:00 nothing goes before the next morning, and the wait counts
    from then."""
    post(web, database, "sending", sender="1", rule="agreed", **{"from": "09:00", "to": "11:00"})
    assert "from 09:00 to 11:00" in web.get("/journeys/1").text
    start(web, database)
    buys(database, 1)
    assert keeper.letters == []
    morning = NOW.replace(hour=9) + DAY
    advance(database, morning)
    assert len(keeper.letters) == 1
    with database.session() as session:
        assert queries.entry(session, 1, 1).due == morning + DAY


def test_what_changes_is_drawn_by_itself(web, database, journey):
    start(web, database)
    assert 'data-follow="/journeys/1/live"' in web.get("/journeys/1").text
    buys(database, 1)
    found = web.get("/journeys/1/live").text
    assert "1 here" in found and "data-finished" not in found and "<html" not in found
    web.post("/journeys/1/turn/pause")
    assert "data-finished" in web.get("/journeys/1/live").text


def test_a_segment_that_a_journey_uses_is_not_deleted(web, database, journey):
    post(web, database, "add", text="if in Everyone")
    assert "First two weeks" in web.get("/segments/1").text
    web.post("/segments/1/delete")
    assert web.get("/segments/1").status_code == 200


def test_starts_that_are_refused_are_counted(web, database, journey):
    start(web, database)
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


def test_again_after_some_days(web, database, journey):
    begins(web, database, "event:ticket_bought", "after")
    start(web, database)
    for days in (0, 29, 31):
        buys(database, 1, at=NOW + days * DAY)
        advance(database, NOW + days * DAY + 6 * DAY)
    with database.session() as session:
        began = session.scalars(sa.select(JourneyEntry.began_at).order_by(JourneyEntry.id)).all()
    assert began == [NOW, NOW + 31 * DAY]
    assert refused(database) == {"before": 1}


def test_everyone_in_a_segment_once(web, database, journey):
    begins(web, database, "everyone:", "once", segment="1")
    start(web, database)
    jobs.run_here("journeys.begin", journey_id=1, start=draft(database).starts[0].id)
    advance(database, NOW)
    with database.session() as session:
        assert figures.numbers(session, 1).stand.entered == 5


def test_paused_wound_down_and_ended(web, database, journey, keeper):
    start(web, database)
    buys(database, 1)
    web.post("/journeys/1/turn/pause")
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
    web.post("/journeys/1/turn/resume")
    web.post("/journeys/1/turn/wind-down")
    buys(database, 3, at=NOW + 9 * DAY)
    with database.session() as session:
        stand = figures.numbers(session, 1).stand
        assert (stand.entered, stand.finished) == (1, 1)
    answer = web.post("/journeys/1/turn/pause", follow_redirects=True)
    assert "Paused" in answer.text
    web.post("/journeys/1/turn/end")
    with database.session() as session:
        found = session.get_one(Journey, 1)
        assert (found.state, found.ended_at) == ("ended", NOW)
    answer = post(web, database, "add", text="wait 1 day")
    assert answer.status_code == 409 and "This journey has ended." in answer.text


def test_brought_in_and_taken_out_by_hand(web, database, journey, keeper):
    start(web, database)
    answer = web.post("/journeys/1/bring-in", data={"email": "P4@post.example"})
    assert answer.status_code == 303
    advance(database, NOW)
    assert [letter.to for letter in keeper.letters] == ["p4@post.example"]
    again = web.post(
        "/journeys/1/bring-in", data={"email": "p4@post.example"}, follow_redirects=True
    )
    assert "did not come in: they are inside already." in again.text
    nobody = web.post("/journeys/1/bring-in", data={"email": "x@y.example"}, follow_redirects=True)
    assert "Nobody has the address “x@y.example”." in nobody.text
    web.post("/journeys/1/people/4/take-out")
    with database.session() as session:
        assert figures.numbers(session, 1).stand.left == {"by_hand": 1}
    once_more = web.post("/journeys/1/people/4/take-out", follow_redirects=True)
    assert "is not in the journey any more" in once_more.text


def test_a_new_edition_while_people_are_inside(web, database, journey, keeper):
    """One waits a day, one for three: the first wait becomes two days, worked out anew from when
    they came; the second step is taken away, and whoever is on it goes on behind it."""
    start(web, database)
    buys(database, 1)
    advance(database, NOW + DAY)
    buys(database, 2, at=NOW + DAY)
    wait, wait_for = (one.id for one in draft(database).steps[1:])
    post(web, database, "set", step=wait, amount="2", unit="day")
    post(web, database, "do", do="remove", step=wait_for)
    post(web, database, "add", text="wait 1 week")
    shown = web.get("/journeys/1").text
    assert "There are changes that are not live yet." in shown
    start(web, database)
    advance(database, NOW + DAY)
    with database.session() as session:
        assert session.get_one(Journey, 1).edition == 2
        rows = session.scalars(sa.select(JourneyEntry).order_by(JourneyEntry.contact_id)).all()
        last = draft(database).steps[-1].id
        assert [(row.step, row.state) for row in rows] == [("", "finished"), (wait, "inside")]
        assert rows[1].due == NOW + 3 * DAY
        assert last not in {row.step for row in rows}
    answer = web.post(
        "/journeys/1/start", data={"version": version(database)}, follow_redirects=True
    )
    assert "Nothing was changed since it started." in answer.text


@pytest.mark.parametrize(("where", "stand"), [("", "behind"), ("wait", "wait"), ("out", "left")])
def test_where_those_go_whose_step_is_taken_away(web, database, journey, keeper, where, stand):
    """The step that waits for a visit is taken away while somebody is on it: they go behind it, to
    a step of the author's choice, or out."""
    post(web, database, "add", text="wait 1 week")
    start(web, database)
    buys(database, 1)
    advance(database, NOW + DAY)
    _, wait, gone, behind = (one.id for one in draft(database).steps)
    post(web, database, "do", do="remove", step=gone)
    shown = web.get("/journeys/1?edit=1").text
    assert f'name="to-{gone}"' in shown and "They go" in shown
    data = {"version": version(database), f"to-{gone}": wait if where == "wait" else where}
    with clock.at(NOW + DAY):
        assert web.post("/journeys/1/start", data=data).status_code == 303
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
    post(web, database, "do", do="off", step=behind)
    for nowhere in ("s99", behind):
        data = {"version": version(database), f"to-{gone}": nowhere}
        answer = web.post("/journeys/1/start", data=data, follow_redirects=True)
        assert "is not there any more. Choose another." in answer.text


def test_a_step_is_switched_off_and_on_while_people_walk(web, database, journey, keeper):
    start(web, database)
    buys(database, 1)
    advance(database, NOW)
    wait = draft(database).steps[1].id
    post(web, database, "do", do="off", step=wait)
    shown = web.get("/journeys/1?edit=1").text
    assert "is switched off; on to" in shown and "Switch on" in shown and "is-off" in shown
    with clock.at(NOW):
        start(web, database)
    advance(database, NOW)
    with database.session() as session:
        # Whoever waited there is on the step behind it, at once.
        assert queries.entry(session, 1, 1).step == draft(database).steps[2].id
    assert web.get("/journeys/1/rehearsal").status_code == 200


def test_steps_and_paths_get_names_and_lose_them(web, database, journey):
    step = draft(database).steps[2]
    post(web, database, "name", step=step.id, name="  Do they   come? ")
    post(web, database, "name", step=step.paths[0].id, name="Came")
    shown = web.get("/journeys/1").text
    assert "Do they come?: the first of these" in shown and "Came: visited" in shown
    # On the map the name stands alone.
    assert ">Came</text>" in shown
    post(web, database, "name", step=step.id, name="")
    assert draft(database).steps[2].name == ""
    assert post(web, database, "name", step=step.id, name="x" * 101).status_code == 422


def test_a_change_is_made_in_its_place(web, database, journey):
    post(web, database, "add", text="set town to Farrow")
    step = draft(database).steps[-1]
    assert (step.what, step.field, step.value) == ("field", "town", "Farrow")
    post(web, database, "set", step=step.id, field="language", value=" cy ")
    changed = draft(database).steps[-1]
    assert (changed.field, changed.value) == ("language", "cy")
    assert "set “language” to “cy”" in web.get("/journeys/1").text


def test_a_message_gets_others_that_are_tried_in_turn(web, database, journey):
    with database.session() as session:
        other = ready_send(session, NOW, {"in": [], "out": []}).message_id
        session.execute(
            sa.text("UPDATE messages SET name = 'The other' WHERE id = :id"), {"id": other}
        )
    step = draft(database).steps[0]
    form = {"step": step.id, "message": "1", "instead": [str(other), ""], "refused": "exit"}
    post(web, database, "set", **form)
    changed = draft(database).steps[0]
    assert (changed.message, changed.instead, changed.refused) == (1, (other,), "exit")
    assert "Welcome, or else The other (email)" in web.get("/journeys/1").text


def test_a_message_is_begun_where_it_is_missed(web, database, journey):
    """“email Thank you for coming” names a message that is not there: it is written from here."""
    post(web, database, "add", text="email Thank you for coming")
    step = draft(database).steps[-1]
    assert (step.message, step.note, step.channel) == (0, "Thank you for coming", "email")
    shown = web.get("/journeys/1").text
    assert "(Thank you for coming)" in shown and "Write it now" in shown
    assert "Choose the message of this step, or write it." in shown
    answer = post(web, database, "message", step=step.id, channel="email")
    made = draft(database).steps[-1].message
    assert answer.status_code == 303 and answer.headers["Location"].endswith(f"/messages/{made}")
    with database.session() as session:
        assert session.get_one(Message, made).name == "Thank you for coming"
    # It is empty still: the journey does not start with it.
    assert "“Thank you for coming”: There is no subject." in web.get("/journeys/1").text
    # The step has one now, there is no such channel, and no such step.
    for line, channel in ((step.id, "email"), (step.id, "carrier pigeon"), ("s99", "email")):
        assert post(web, database, "message", step=line, channel=channel).status_code == 422


def test_what_brought_them_in_is_not_the_goal(web, database, journey, keeper):
    """They come in by buying a ticket, and are to buy another one."""
    post(web, database, "goal", event="ticket_bought", days="14")
    start(web, database)
    buys(database, 1, 2)
    with database.session() as session:
        assert figures.numbers(session, 1).stand.reached == 0
    buys(database, 2, at=NOW + DAY)
    with database.session() as session:
        assert queries.entry(session, 1, 1).goal_at is None
        assert queries.entry(session, 1, 2).goal_at == NOW + DAY


def test_whoever_withdraws_leaves_or_stays(web, database, journey):
    assert "they withdraw all consent" in web.get("/journeys/1").text
    post(web, database, "exits", remove="withdrew")
    assert draft(database).stays
    assert "they withdraw all consent" not in web.get("/journeys/1").text
    post(web, database, "exits", text="they withdraw their consent")
    assert not draft(database).stays and draft(database).exits == ()


def test_a_path_asks_what_the_event_said(web, database, journey, keeper):
    post(web, database, "add", text="if the event’s amount is over 50")
    branch = draft(database).steps[-1]
    path = branch.paths[0]
    assert (path.detail, path.compare, path.value) == ("amount", "more", "50")
    form = {"step": path.id, "detail": "amount", "compare": "less", "value": " 20 "}
    post(web, database, "set", **form)
    shown = web.get("/journeys/1").text
    assert "the event’s amount is less than 20" in shown
    assert "and the event that started it, or the webhook’s answer, says" in shown
    post(web, database, "set", step=path.id, detail="", segment="1", compare="is", value="9")
    path = draft(database).steps[-1].paths[0]
    assert (path.detail, path.compare, path.value) == ("", "", "")


def test_a_control_group_is_set_and_shown_against_the_others(web, database, journey, keeper):
    post(web, database, "goal", event="visited", days="14", control="40")
    assert "with 40% as the control group" in web.get("/journeys/1").text
    assert post(web, database, "goal", event="visited", days="14", control="51").status_code == 422
    start(web, database)
    buys(database, 1, 2, 3, 4, 5)
    with database.session() as session:
        found = figures.compared(session, 1)
        control = {one for one in range(1, 6) if queries.entry(session, 1, one).control}
    assert found.control.people == len(control) and len(keeper.letters) == 5 - len(control)
    assert "Against the control group" in web.get("/journeys/1").text


def test_erased_and_merged_people(web, database, journey):
    start(web, database)
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
    assert "an erased contact" in web.get("/journeys/1/people?state=left").text


def test_somebody_without_consent_goes_on_without_it(web, database, journey, keeper):
    with database.session() as session:
        people.set_consent(session, NOW, 1, 0, False, "test")
    start(web, database)
    buys(database, 1)
    assert keeper.letters == []
    story = web.get("/journeys/1/people/1").text
    assert "Not sent: no consent for email" in story
    with database.session() as session:
        step = draft(database).steps[1].id
        assert queries.entry(session, 1, 1).step == step


def test_by_the_api(api, web, database, journey, keeper):
    start(web, database)
    assert api("post", "/journeys/1/people", {"contacts": [1, 2, 2, 99]}) == (200, {"entered": 2})
    advance(database, NOW)
    _, found = api("get", "/journeys")
    assert [(one["state"], one["inside"]) for one in found["items"]] == [("running", 2)]
    _, whole = api("get", "/journeys/1")
    first, second = (one["id"] for one in whole["itinerary"]["steps"][:2])
    assert whole["steps"][first] == {"came": 2, "here": 0, "went": {"sent": 2}}
    assert whole["steps"][second]["here"] == 2
    assert whole["refused"] == {"gone": 1}
    code, where = api("get", "/journeys/1/people/1")
    assert (code, where["step"], [one["because"] for one in where["moves"]]) == (
        200,
        second,
        ["by_hand", "sent"],
    )
    assert api("get", "/journeys/1/people/5")[0] == 404
    itinerary = whole["itinerary"]
    itinerary["steps"][1]["span"]["amount"] = 9
    code, written = api(
        "put", "/journeys/1/itinerary", {"version": whole["version"], "itinerary": itinerary}
    )
    assert code == 200 and draft(database).steps[1].span.amount == 9
    itinerary["steps"][1]["span"]["unit"] = "year"
    code, said = api(
        "put", "/journeys/1/itinerary", {"version": written["version"], "itinerary": itinerary}
    )
    assert (code, said["where"]) == (422, "itinerary.steps[1].span.unit")
    code, said = api("post", "/journeys/1/start", {"version": written["version"]})
    assert (code, said["edition"]) == (200, 2)
    code, said = api("post", "/journeys/1/state", {"do": "pause"})
    assert (code, said["state"]) == (200, "paused")
    assert api("post", "/journeys/1/state", {"do": "pause"})[0] == 409
    assert api("post", "/journeys/1/state", {"do": "dance"})[0] == 422
    assert api("post", "/journeys/1/state", {"do": "resume"})[1]["state"] == "running"
    assert web.get("/api/itinerary.schema.json").json["title"] == "A journey's itinerary"
    assert api("delete", "/journeys/1/people/1")[0] == 204
    assert api("get", "/journeys/1/people/1")[1]["because"] == "by_hand"


def test_a_viewer_sees_it_and_changes_nothing(web, database, settings, journey):
    with database.session() as session:
        accounts.add_user(session, NOW, "vi@farrowhill.example", "Vi", "viewer", "a long password")
    viewer = browser(database, settings)
    sign_in(viewer, "vi")
    shown = viewer.get("/journeys/1")
    assert shown.status_code == 200 and "Add a step" not in shown.text
    assert viewer.post("/journeys/1/add", data={"text": "exit", "version": 1}).status_code == 403


def test_it_begins_with_a_worked_example(web, database):
    shown = web.get(f"/campaigns/{web.campaign}").text
    assert "A welcome over two weeks" in shown
    begun = {"name": "New members", "begin": "welcome"}
    answer = web.post(f"/campaigns/{web.campaign}/journeys", data=begun, follow_redirects=True).text
    assert "(welcome them)" in answer and "Choose the message of this step, or write it." in answer
    steps = draft(database).steps
    post(web, database, "set", step=steps[0].id, message="1", refused="go_on", hold="168")
    assert draft(database).steps[0].message == 1
    # A step that is added later takes no id that is there.
    post(web, database, "add", text="wait 3 days")
    idents = [one.id for one, _, _ in draft(database).walk()]
    assert len(idents) == len(set(idents)) == len(list(draft(database).walk()))


def test_a_message_of_a_journey_is_offered_what_the_event_says(web, database):
    """While a message goes nowhere, nothing of an event; in a journey what starts it says."""

    def offered():
        found = web.get("/messages/1/fills").json["fields"]
        return {one["ref"]: one["label"] for one in found if one["ref"].startswith("event.")}

    assert offered() == {}
    welcome(web, database)
    assert offered() == {
        "event.amount": "amount, of what starts the journey",
        "event.night": "night, of what starts the journey",
    }


def test_a_journey_whose_owner_left_is_looked_after_by_an_administrator(web, database, journey):
    start(web, database)
    deactivated = "UPDATE users SET active = :active WHERE name = :name"
    with database.session() as session:
        max_at = "max@farrowhill.example"
        accounts.add_user(session, NOW, max_at, "Max", "approver", "three long words")
        owner = {"name": "Max", "id": 1}
        session.execute(sa.text("UPDATE journeys SET started_by = :name WHERE id = :id"), owner)
    assert "was deactivated" not in web.get("/journeys/1").text
    with database.session() as session:
        session.execute(sa.text(deactivated), {"active": False, "name": "Max"})
    assert "Max, who started it, was deactivated" in web.get("/").text
    assert "Max, who started it, was deactivated" in web.get("/journeys/1").text
    assert web.post("/journeys/1/take-over").status_code == 303
    assert "was deactivated" not in web.get("/journeys/1").text
    assert "was deactivated" not in web.get("/").text
    with database.session() as session:
        assert session.get_one(Journey, 1).started_by == "Admin"


def test_today_shows_journeys_that_people_are_on(web, database, journey):
    assert "Journeys that people are on" not in web.get("/").text
    start(web, database)
    address = Contact.email
    with database.session() as session:
        one = session.scalar(sa.select(address).where(Contact.id == 1))
    web.post("/journeys/1/bring-in", data={"email": one})
    page = words(web.get("/").text)
    print(page[page.index("Journeys that") :][:200])
    assert "First two weeks Running 1 1 0 0 0" in page


def test_the_map_and_the_notation_are_files_of_their_own(web, database, journey):
    drawn = web.get("/journeys/1.svg")
    root = ElementTree.fromstring(drawn.data)
    assert root.tag == "{http://www.w3.org/2000/svg}svg" and "Figtree" in drawn.text
    texts = [one.text for one in root.iter("{http://www.w3.org/2000/svg}text")]
    assert "Welcome" in texts
    notation = web.get("/journeys/1.bpmn")
    assert "journey-1.bpmn" in notation.headers["Content-Disposition"]
    names = [one.get("name") for one in ElementTree.fromstring(notation.data).iter()]
    assert "Email: Welcome" in names and "First two weeks" in names


def test_of_a_long_itinerary_the_forms_come_one_by_one(web, database, journey):
    """Three steps bring their forms along; of two dozen each is fetched as it is opened."""
    first = draft(database).steps[0].id
    assert f'id="m-{first}"' in web.get("/journeys/1").text
    for _ in range(21):
        post(web, database, "add", text="wait 2 days")
    page = web.get("/journeys/1").text
    assert f'id="m-{first}"' not in page
    address = re.search(rf'data-sheet="([^"]*lines/{first}[^"]*)"', page)[1]
    form = web.get(address.replace("&amp;", "&")).text
    assert f'id="m-{first}"' in form and 'name="hold"' in form and "<summary" not in form
    # What it says is what is saved.
    assert f'name="version" value="{version(database)}"' in form
    assert web.get("/journeys/1/lines/nothing").text.strip() == ""


def river(page):
    """The map of a page."""
    return re.search(r'<svg class="river.*?</svg>', page, re.S)[0]


def test_a_step_with_paths_is_folded_on_the_map_and_out_again(web, database, journey):
    path = draft(database).steps[2].paths[0].id
    post(web, database, "add", text="email Welcome", path=path)
    shown = river(web.get("/journeys/1").text)
    inner = draft(database).steps[2].paths[0].steps[0].id
    assert f'href="#line-{inner}"' in shown and "Fold “" in shown
    link = re.search(r'<a href="([^"]*)" class="fold"', shown)[1].replace("&amp;", "&")
    folded = river(web.get(link).text)
    assert f'href="#line-{inner}"' not in folded and "1 step" in folded
    back = re.search(r'<a href="([^"]*)" class="fold"', folded)[1].replace("&amp;", "&")
    assert "fold=#" in back and f'href="#line-{inner}"' in river(web.get(back).text)
    # The line of a step that is folded lights the mark that it is in.
    lit = web.get(f"{link.partition('#')[0]}&step={inner}").text
    assert 'fill="#f6e7c4"' in river(lit) and 'fill="#f6e7c4"' not in folded
