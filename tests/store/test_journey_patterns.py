"""Steps are copied within a journey, kept under a name, and put into another journey."""

import re

import sqlalchemy as sa

from meadowrun.core.journeys.steps import Parting
from meadowrun.journeys.models import Journey
from meadowrun.journeys.patterns import all_patterns
from tests.store.writing_journeys import draft, post


def kinds_of(itinerary):
    return [one.kind for one, _, _ in itinerary.walk()]


def keep(ida, step, name, **more):
    return ida.post("/journeys/1/patterns", data={"step": step, "name": name, **more})


def patterns(database):
    with database.session() as session:
        return [(one.name, len(one.steps)) for one in all_patterns(session)]


def test_a_step_is_copied_with_all_that_is_in_it(ida, database, journey):
    waits = draft(database).steps[2]
    post(ida, database, "add", path=waits.paths[0].id, text="exit")
    post(ida, database, "do", do="copy", step=waits.id)
    found = draft(database)
    assert kinds_of(found) == ["message", "wait", "wait_for", "exit", "wait_for", "exit"]
    idents = [one.id for one, _, _ in found.walk()]
    idents += [path.id for one in found.steps if isinstance(one, Parting) for path in one.paths]
    assert len(set(idents)) == len(idents) == 10
    post(ida, database, "do", do="undo")
    assert kinds_of(draft(database)) == ["message", "wait", "wait_for", "exit"]


def test_steps_are_kept_and_typed_by_their_name_in_another_journey(
    ida,
    database,
    journey,
):
    second = draft(database).steps[1].id
    assert keep(ida, second, "  Wait  and see ", following="yes").status_code == 303
    keep(ida, second, "A day")
    assert patterns(database) == [("A day", 1), ("Wait and see", 2)]
    ida.post(f"/campaigns/{ida.campaign}/journeys", data={"name": "Second"})
    said = ida.get("/journeys/2/readings?text=wait+and").text
    [ident] = re.findall(r'name="pattern" value="(\d+)"', said)
    with database.session() as session:
        now = session.get_one(Journey, 2).version
    ida.post("/journeys/2/add", data={"version": now, "text": "wait and", "pattern": ident})
    found = draft(database, 2)
    assert kinds_of(found) == ["wait", "wait_for"]
    assert found.steps[1].paths[0].event == "visited"
    # By its whole name, without looking at what is offered.
    ida.post("/journeys/2/add", data={"version": now + 1, "text": "pattern a day"})
    assert kinds_of(draft(database, 2)) == ["wait", "wait_for", "wait"]


def test_a_pattern_has_a_name_of_its_own_and_goes_without_taking_steps_along(
    ida,
    database,
    journey,
):
    step = draft(database).steps[1].id
    keep(ida, step, "A day")
    for name in ("", "a DAY"):
        keep(ida, step, name)
    keep(ida, "gone", "Another")
    assert patterns(database) == [("A day", 1)]
    post(ida, database, "add", text="pattern A day")
    shown = ida.get("/journeys").text
    assert "Patterns" in shown and "A day" in shown
    ida.post("/journeys/patterns/1/delete")
    assert patterns(database) == [] and len(draft(database).steps) == 4
    assert "A day" in ida.get("/changes").text
    with database.session() as session:
        did = session.scalars(
            sa.text("SELECT did FROM audit WHERE object_kind = 'journey pattern' ORDER BY id")
        ).all()
    assert did == ["kept", "deleted"]


def test_what_is_typed_is_a_step_first(ida, database, journey):
    """A pattern that is called like a step is offered, and typing the step still means the step."""
    keep(ida, draft(database).steps[2].id, "wait 2 days")
    post(ida, database, "add", text="wait 2 days")
    assert kinds_of(draft(database))[-1] == "wait"
