"""The pages of journeys: a journey is written, started, walked and asked about; what is wrong is
said, and nothing typed is lost."""

import re
from xml.etree import ElementTree

import pytest
import sqlalchemy as sa

from meadowrun.journeys.models import Journey
from meadowrun.messages.models import Message
from meadowrun.people.models import Contact
from meadowrun.shell import accounts
from tests.conftest import NOW
from tests.store.journeys import advance
from tests.store.people import ready_send
from tests.store.web import browser, sign_in, words
from tests.store.writing_journeys import buys, draft, post, starts, version, welcome


def test_it_is_written_line_by_line(ida, database, journey):
    shown = ida.get("/journeys/1").text
    for said in ("First two weeks", "Email", "Welcome", "1 day", "the first of these", "visited"):
        assert said in shown
    assert "someone bought a ticket" in shown
    assert "All paths of this step are empty: everyone goes on the same way." in shown
    steps = draft(database).steps
    assert [one.kind for one in steps] == ["message", "wait", "wait_for"]


def test_what_is_not_understood_is_said_and_kept(ida, database, journey):
    answer = post(ida, database, "add", text="fly to the moon")
    assert answer.status_code == 422
    assert (
        "“fly to the moon” is not a step." in answer.text
        and 'value="fly to the moon"' in answer.text
    )
    post(ida, database, "add", text="wait 2 days unless it rains")
    assert "Not understood: “unless”, “rains”." in ida.get("/journeys/1").text


@pytest.mark.parametrize(("path", "text"), [("add", "fly away"), ("starts", "the moon is full")])
def test_what_is_refused_while_it_runs_stays_where_it_was_typed(ida, database, journey, path, text):
    starts(ida, database)
    answer = post(ida, database, path, text=text)
    assert answer.status_code == 422 and f'value="{text}"' in answer.text


def test_what_would_be_made_of_a_step_is_shown(ida, database, journey):
    said = ida.get("/journeys/1/readings?text=email+wel").text
    assert "Email: Welcome" in said
    assert ida.get("/journeys/1/readings?text=hello").text.strip() == ""


def test_lines_are_changed_moved_nested_taken_away_and_all_of_it_undone(ida, database, journey):
    first, second, third = (one.id for one in draft(database).steps)
    post(ida, database, "set", step=second, amount="2", unit="hour", at="10:00")
    assert (draft(database).steps[1].span.amount, draft(database).steps[1].at) == (2, 600)
    post(ida, database, "do", do="up", step=second)
    assert [one.id for one in draft(database).steps] == [second, first, third]
    path = draft(database).steps[2].paths[0].id
    ida.post(
        "/journeys/1/set",
        data={"version": version(database), "step": path, "what": "opened"},
    )
    assert draft(database).steps[2].paths[0].reaction == "opened"
    post(ida, database, "add", text="exit", path=path)
    post(ida, database, "do", do="add-path", step=third)
    assert len(draft(database).steps[2].paths) == 3
    post(ida, database, "do", do="remove", step=third)
    assert len(draft(database).steps) == 2
    for _ in range(6):
        post(ida, database, "do", do="undo")
    assert [one.id for one in draft(database).steps] == [first, second, third]
    post(ida, database, "do", do="redo")
    assert draft(database).steps[1].at == 600


def test_somebody_else_wrote_meanwhile(ida, database, journey):
    before = version(database)
    post(ida, database, "add", text="wait 5 days")
    answer = ida.post("/journeys/1/add", data={"version": before, "text": "wait 6 days"})
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
def test_what_cannot_be_is_refused(ida, database, journey, path, data, said):
    step = draft(database).steps[1].id
    answer = post(ida, database, path, **{"step": step, **data})
    assert answer.status_code in (400, 422) and said in answer.text


def test_it_does_not_start_before_nothing_is_missing(ida, database):
    ida.post(f"/campaigns/{ida.campaign}/journeys", data={"name": "Empty"})
    answer = ida.post("/journeys/1/start", data={"version": 1}, follow_redirects=True)
    assert "Nothing starts this journey yet." in answer.text
    with database.session() as session:
        assert session.get_one(Journey, 1).state == "draft"
    ida.post("/journeys/1/delete")
    with database.session() as session:
        assert session.get(Journey, 1) is None


def test_what_changes_is_drawn_by_itself(ida, database, journey):
    starts(ida, database)
    assert 'data-follow="/journeys/1/live"' in ida.get("/journeys/1").text
    buys(database, 1)
    found = ida.get("/journeys/1/live").text
    assert "1 here" in found and "data-finished" not in found and "<html" not in found
    ida.post("/journeys/1/turn/pause")
    assert "data-finished" in ida.get("/journeys/1/live").text


def test_a_segment_that_a_journey_uses_is_not_deleted(ida, database, journey):
    post(ida, database, "add", text="if in Everyone")
    assert "First two weeks" in ida.get("/segments/1").text
    ida.post("/segments/1/delete")
    assert ida.get("/segments/1").status_code == 200


def test_steps_and_paths_get_names_and_lose_them(ida, database, journey):
    step = draft(database).steps[2]
    post(ida, database, "name", step=step.id, name="  Do they   come? ")
    post(ida, database, "name", step=step.paths[0].id, name="Came")
    shown = ida.get("/journeys/1").text
    assert "Do they come?: the first of these" in shown and "Came: visited" in shown
    # On the map the name stands alone.
    assert ">Came</text>" in shown
    post(ida, database, "name", step=step.id, name="")
    assert draft(database).steps[2].name == ""
    assert post(ida, database, "name", step=step.id, name="x" * 101).status_code == 422


def test_a_change_is_made_in_its_place(ida, database, journey):
    post(ida, database, "add", text="set town to Farrow")
    step = draft(database).steps[-1]
    assert (step.what, step.field, step.value) == ("field", "town", "Farrow")
    post(ida, database, "set", step=step.id, field="language", value=" cy ")
    changed = draft(database).steps[-1]
    assert (changed.field, changed.value) == ("language", "cy")
    assert "set “language” to “cy”" in ida.get("/journeys/1").text


def test_a_message_gets_others_that_are_tried_in_turn(ida, database, journey):
    with database.session() as session:
        other = ready_send(session, NOW, {"in": [], "out": []}).message_id
        session.execute(
            sa.text("UPDATE messages SET name = 'The other' WHERE id = :id"), {"id": other}
        )
    step = draft(database).steps[0]
    form = {"step": step.id, "message": "1", "instead": [str(other), ""], "refused": "exit"}
    post(ida, database, "set", **form)
    changed = draft(database).steps[0]
    assert (changed.message, changed.instead, changed.refused) == (1, (other,), "exit")
    assert "Welcome, or else The other (email)" in ida.get("/journeys/1").text


def test_a_message_is_begun_where_it_is_missed(ida, database, journey):
    """“email Thank you for coming” names a message that is not there: it is written from here."""
    post(ida, database, "add", text="email Thank you for coming")
    step = draft(database).steps[-1]
    assert (step.message, step.note, step.channel) == (0, "Thank you for coming", "email")
    shown = ida.get("/journeys/1").text
    assert "(Thank you for coming)" in shown and "Write it now" in shown
    assert "Choose the message of this step, or write it." in shown
    answer = post(ida, database, "message", step=step.id, channel="email")
    made = draft(database).steps[-1].message
    assert answer.status_code == 303 and answer.headers["Location"].endswith(f"/messages/{made}")
    with database.session() as session:
        assert session.get_one(Message, made).name == "Thank you for coming"
    # It is empty still: the journey does not start with it.
    assert "“Thank you for coming”: There is no subject." in ida.get("/journeys/1").text
    # The step has one now, there is no such channel, and no such step.
    for line, channel in ((step.id, "email"), (step.id, "carrier pigeon"), ("s99", "email")):
        assert post(ida, database, "message", step=line, channel=channel).status_code == 422


def test_by_the_api(api, ida, database, journey, keeper):
    starts(ida, database)
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
    assert ida.get("/api/itinerary.schema.json").json["title"] == "A journey's itinerary"
    assert api("delete", "/journeys/1/people/1")[0] == 204
    assert api("get", "/journeys/1/people/1")[1]["because"] == "by_hand"


def test_a_viewer_sees_it_and_changes_nothing(ida, database, settings, journey):
    with database.session() as session:
        accounts.add_user(session, NOW, "vi@farrowhill.example", "Vi", "viewer", "a long password")
    viewer = browser(database, settings)
    sign_in(viewer, "vi")
    shown = viewer.get("/journeys/1")
    assert shown.status_code == 200 and "Add a step" not in shown.text
    assert viewer.post("/journeys/1/add", data={"text": "exit", "version": 1}).status_code == 403


def test_it_begins_with_a_worked_example(ida, database):
    shown = ida.get(f"/campaigns/{ida.campaign}").text
    assert "A welcome over two weeks" in shown
    begun = {"name": "New members", "begin": "welcome"}
    answer = ida.post(f"/campaigns/{ida.campaign}/journeys", data=begun, follow_redirects=True).text
    assert "(welcome them)" in answer and "Choose the message of this step, or write it." in answer
    steps = draft(database).steps
    post(ida, database, "set", step=steps[0].id, message="1", refused="go_on", hold="168")
    assert draft(database).steps[0].message == 1
    # A step that is added later takes no id that is there.
    post(ida, database, "add", text="wait 3 days")
    idents = [one.id for one, _, _ in draft(database).walk()]
    assert len(idents) == len(set(idents)) == len(list(draft(database).walk()))


def test_a_message_of_a_journey_is_offered_what_the_event_says(ida, database):
    """While a message goes nowhere, nothing of an event; in a journey what starts it says."""

    def offered():
        found = ida.get("/messages/1/fills").json["fields"]
        return {one["ref"]: one["label"] for one in found if one["ref"].startswith("event.")}

    assert offered() == {}
    welcome(ida, database)
    assert offered() == {
        "event.amount": "amount, of what starts the journey",
        "event.night": "night, of what starts the journey",
    }


def test_a_journey_whose_owner_left_is_looked_after_by_an_administrator(ida, database, journey):
    starts(ida, database)
    deactivated = "UPDATE users SET active = :active WHERE name = :name"
    with database.session() as session:
        max_at = "max@farrowhill.example"
        accounts.add_user(session, NOW, max_at, "Max", "approver", "three long words")
        owner = {"name": "Max", "id": 1}
        session.execute(sa.text("UPDATE journeys SET started_by = :name WHERE id = :id"), owner)
    assert "was deactivated" not in ida.get("/journeys/1").text
    with database.session() as session:
        session.execute(sa.text(deactivated), {"active": False, "name": "Max"})
    assert "Max, who started it, was deactivated" in ida.get("/").text
    assert "Max, who started it, was deactivated" in ida.get("/journeys/1").text
    assert ida.post("/journeys/1/take-over").status_code == 303
    assert "was deactivated" not in ida.get("/journeys/1").text
    assert "was deactivated" not in ida.get("/").text
    with database.session() as session:
        assert session.get_one(Journey, 1).started_by == "Admin"


def test_today_shows_journeys_that_people_are_on(ida, database, journey):
    assert "Journeys that people are on" not in ida.get("/").text
    starts(ida, database)
    address = Contact.email
    with database.session() as session:
        one = session.scalar(sa.select(address).where(Contact.id == 1))
    ida.post("/journeys/1/bring-in", data={"email": one})
    page = words(ida.get("/").text)
    print(page[page.index("Journeys that") :][:200])
    assert "First two weeks Running 1 1 0 0 0" in page


def test_the_map_and_the_notation_are_files_of_their_own(ida, database, journey):
    drawn = ida.get("/journeys/1.svg")
    root = ElementTree.fromstring(drawn.data)
    assert root.tag == "{http://www.w3.org/2000/svg}svg" and "Figtree" in drawn.text
    texts = [one.text for one in root.iter("{http://www.w3.org/2000/svg}text")]
    assert "Welcome" in texts
    notation = ida.get("/journeys/1.bpmn")
    assert "journey-1.bpmn" in notation.headers["Content-Disposition"]
    names = [one.get("name") for one in ElementTree.fromstring(notation.data).iter()]
    assert "Email: Welcome" in names and "First two weeks" in names


def test_of_a_long_itinerary_the_forms_come_one_by_one(ida, database, journey):
    """Three steps bring their forms along; of two dozen each is fetched as it is opened."""
    first = draft(database).steps[0].id
    assert f'id="m-{first}"' in ida.get("/journeys/1").text
    for _ in range(21):
        post(ida, database, "add", text="wait 2 days")
    page = ida.get("/journeys/1").text
    assert f'id="m-{first}"' not in page
    address = re.search(rf'data-sheet="([^"]*lines/{first}[^"]*)"', page)[1]
    form = ida.get(address.replace("&amp;", "&")).text
    assert f'id="m-{first}"' in form and 'name="hold"' in form and "<summary" not in form
    # What it says is what is saved.
    assert f'name="version" value="{version(database)}"' in form
    assert ida.get("/journeys/1/lines/nothing").text.strip() == ""


def river(page):
    """The map of a page."""
    return re.search(r'<svg class="river.*?</svg>', page, re.S)[0]


def test_a_step_with_paths_is_folded_on_the_map_and_out_again(ida, database, journey):
    path = draft(database).steps[2].paths[0].id
    post(ida, database, "add", text="email Welcome", path=path)
    shown = river(ida.get("/journeys/1").text)
    inner = draft(database).steps[2].paths[0].steps[0].id
    assert f'href="#line-{inner}"' in shown and "Fold “" in shown
    link = re.search(r'<a href="([^"]*)" class="fold"', shown)[1].replace("&amp;", "&")
    folded = river(ida.get(link).text)
    assert f'href="#line-{inner}"' not in folded and "1 step" in folded
    back = re.search(r'<a href="([^"]*)" class="fold"', folded)[1].replace("&amp;", "&")
    assert "fold=#" in back and f'href="#line-{inner}"' in river(ida.get(back).text)
    # The line of a step that is folded lights the mark that it is in.
    lit = ida.get(f"{link.partition('#')[0]}&step={inner}").text
    assert 'fill="#f6e7c4"' in river(lit) and 'fill="#f6e7c4"' not in folded
