"""Tasks for colleagues: given by a journey in turn, one for each time, also where somebody is away;
what comes of them goes back to the journey; their page."""

import datetime as dt

import pytest
import sqlalchemy as sa

from meadowrun.base import clock
from meadowrun.core.journeys.steps import Path, Span, TaskStep, WaitForStep, WaitStep
from meadowrun.journeys import queries
from meadowrun.people.duplicates import merge
from meadowrun.people.wholly import erase
from meadowrun.shell.models import User
from meadowrun.tasks.actions import set_away
from meadowrun.tasks.models import ColleagueTask
from meadowrun.tracking.taking import take_events
from tests.conftest import NOW
from tests.store.journeys import advance
from tests.store.people import IDA
from tests.store.tasks import running, with_colleagues
from tests.store.web import sign_in

DAY = dt.timedelta(days=1)
CALL = TaskStep("", "call", "Ask how it was", Span(2, "day"), "high")


@pytest.fixture
def world(database, settings, job_context, keeper):
    return with_colleagues(database)


def visits(database, at, *contacts):
    with clock.at(at), database.session() as session:
        rows = [{"event": "visited", "contact": one, "at": at.isoformat()} for one in contacts]
        take_events(session, at, "t", rows)
    advance(database, at)


def whose(database):
    with database.session() as session:
        asked = sa.select(ColleagueTask.contact_id, ColleagueTask.user_id)
        return list(session.execute(asked.order_by(ColleagueTask.id)).tuples())


def call(*colleagues):
    return TaskStep("", "call", "Ask how it was", Span(2, "day"), "high", colleagues)


def test_in_turn_one_for_each_time_and_never_twice(database, world):
    ana, ben, cleo = world[1]
    running(database, world, call(ana, ben, cleo))
    visits(database, NOW, 1, 2)
    visits(database, NOW + DAY, 3, 4)
    assert [user for _, user in whose(database)] == [ana, ben, cleo, ana]
    # Looked at again nothing is given again.
    advance(database, NOW + DAY)
    assert len(whose(database)) == 4
    # Somebody who comes a second time is called a second time.
    visits(database, NOW + 2 * DAY, 1)
    assert whose(database)[-1] == (1, ben)
    with database.session() as session:
        first = session.get_one(ColleagueTask, 1)
        assert (first.kind, first.priority, first.due_at) == ("call", "high", NOW + 2 * DAY)


def test_whoever_is_away_or_gone_gets_none(database, world):
    ana, ben, cleo = world[1]
    with database.session() as session:
        set_away(session, ben, NOW.date(), NOW.date() + DAY)
        session.get_one(User, cleo).active = False
    running(database, world, call(ana, ben, cleo))
    visits(database, NOW, 1, 2)
    assert [user for _, user in whose(database)] == [ana, ana]
    visits(database, NOW + 2 * DAY, 3)
    assert whose(database)[-1][1] == ben


def test_where_all_are_away_it_is_nobodys(database, world):
    with database.session() as session:
        set_away(session, world[1][0], NOW.date(), NOW.date())
    running(database, world, call(world[1][0]))
    visits(database, NOW, 1)
    assert whose(database) == [(1, None)]


def test_what_came_of_it_takes_the_person_on(database, client, world, still):
    waits = WaitForStep("", Span(5, "day"), (Path("", event="task_done"), Path("")))
    sign_in(client)
    ident = running(database, world, call(*world[1]), waits, WaitStep("", Span(9, "day")))
    visits(database, NOW, 1)
    shown = client.get("/tasks?of=all").text
    assert "Ask how it was" in shown and "First1 Last" in shown and "high" in shown
    done = client.post("/tasks/1/finish", data={"state": "done", "outcome": "Loved  it"})
    assert done.status_code == 303
    again = client.post("/tasks/1/finish", data={"state": "done"}, follow_redirects=True)
    assert "Somebody finished this task already." in again.text
    with database.session() as session:
        at = session.get_one(ColleagueTask, 1).done_at
    advance(database, at + dt.timedelta(minutes=1))
    with database.session() as session:
        entry = queries.entry(session, ident, 1)
        way = queries.walked(session, queries.journey(session, ident)).steps[1].paths[0].id
        assert [one.because for one in queries.moves(session, entry.id)][-1] == way
    assert "Loved it" in client.get("/tasks?of=all&state=done").text
    assert "Ask how it was" in client.get("/people/1").text


def test_it_is_handed_over_and_put_aside(database, client, world, still):
    sign_in(client)
    running(database, world, call(world[1][0]))
    visits(database, NOW, 1, 2)
    client.post("/tasks/1/hand-over", data={"user": world[1][2]})
    client.post("/tasks/2/finish", data={"state": "not_needed"})
    with database.session() as session:
        tasks = session.scalars(sa.select(ColleagueTask).order_by(ColleagueTask.id)).all()
        assert tasks[0].user_id == world[1][2] and tasks[1].state == "not_needed"
        assert (
            session.scalar(
                sa.text(
                    "SELECT count(*) FROM events e JOIN event_kinds k "
                    "ON k.id = e.kind_id WHERE k.key = 'task_done'"
                )
            )
            == 0
        )
    wrong = client.post("/tasks/1/hand-over", data={"user": "99"}, follow_redirects=True)
    assert "Choose a colleague." in wrong.text
    wrong = client.post(
        "/tasks/away", data={"first": "2026-12-24", "last": "2026-12-01"}, follow_redirects=True
    )
    assert "Give the first and the last day, in that order." in wrong.text
    client.post("/tasks/away", data={"first": "2026-12-24", "last": "2026-12-31"})
    assert 'value="2026-12-24"' in client.get("/tasks").text


def test_tasks_follow_a_merge_and_go_with_the_erased(database, world):
    running(database, world, call(world[1][0]))
    visits(database, NOW, 1, 2)
    with clock.at(NOW), database.session() as session:
        merge(session, IDA, NOW, 3, 1, set())
    assert [contact for contact, _ in whose(database)] == [3, 2]
    with clock.at(NOW), database.session() as session:
        erase(session, IDA, NOW, 2)
    assert [contact for contact, _ in whose(database)] == [3]


def test_by_the_api(api, database, world):
    running(database, world, call(world[1][0]))
    visits(database, NOW, 1, 2)
    found = api("get", "/tasks")[1]["items"]
    assert [(one["contact"], one["kind"], one["state"]) for one in found] == [
        (1, "call", "open"),
        (2, "call", "open"),
    ]
    done = {"state": "done", "outcome": "will come again"}
    code, said = api("post", f"/tasks/{found[0]['id']}/finish", done)
    assert (code, said["outcome"]) == (200, "will come again")
    assert api("post", f"/tasks/{found[0]['id']}/finish", done)[0] == 409
    assert len(api("get", "/tasks?state=done")[1]["items"]) == 1
