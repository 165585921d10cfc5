"""A marketer builds a journey by the keyboard, checks it, starts it, brings somebody in, sees the
email arrive, and asks where that person is."""

import time

import pytest
import sqlalchemy as sa
from selenium.webdriver import ActionChains
from selenium.webdriver.common.keys import Keys
from selenium.webdriver.support.ui import Select

from meadowrun.base import clock
from meadowrun.campaigns.models import Campaign
from meadowrun.core.journeys import edit
from meadowrun.core.journeys.steps import MessageStep, Path, Span, WaitForStep, WaitStep
from meadowrun.journeys import actions
from tests.browser.conftest import press, violations
from tests.store.people import IDA

#: Somebody to whom email can be sent.
WHO = """
SELECT c.id, c.email FROM contacts c JOIN consents k ON k.contact_id = c.id
LEFT JOIN suppressions s ON s.address_key = c.email_key
WHERE k.channel = 'email' AND k.topic_id = 0 AND k.agreed AND c.email_usable
AND c.bounced_at IS NULL AND s.address_key IS NULL AND c.paused_until IS NULL
ORDER BY c.id LIMIT 1
"""
DELIVERED = """
SELECT d.outcome FROM deliveries d JOIN dispatches s ON s.id = d.dispatch_id
WHERE s.owner_kind = 'journey' AND d.contact_id = :id
"""
STEPS = (
    "email Your first night",
    "wait 2 days until 10:00",
    "wait for opened or visited the dome, 4 days",
    "wait 3 days",
    "email Leonid nights",
)


@pytest.fixture
def who(house):
    with house.database.session() as session:
        return session.execute(sa.text(WHO)).one()


def typed(page, text):
    """Types a step where the page waits for one, and sees it become a line."""
    before = len(page.all("[data-step]"))
    page.wait(
        lambda: page.driver.switch_to.active_element.get_attribute("name") == "text",
        why="the field for the next step has the focus",
    )
    press(page, text)
    page.wait(lambda: page.all(".typed-readings button"), why="what is made of it is shown")
    press(page, Keys.ENTER)
    page.wait(lambda: len(page.all("[data-step]")) > before, why=f"“{text}” became a line")


def test_a_journey_from_nothing_by_keyboard(page, house, who):
    begun = time.monotonic()
    page.open("/campaigns/1")
    page.press("Add a journey")
    press(page, "First nights", Keys.ENTER)
    page.says("First nights", "h1")
    page.says("Nothing starts this journey yet", ".margin")
    for text in STEPS:
        typed(page, text)
    # A line is moved up and back by keys, and a change is undone.
    lines = [line.get_attribute("data-step") for line in page.all("[data-step]")]
    page.driver.execute_script("document.querySelector('#line-s2').focus()")
    press(page, Keys.ALT + Keys.ARROW_UP)
    page.wait(
        lambda: page.all("[data-step]")[0].get_attribute("data-step") == "s2",
        why="the line is moved",
    )
    page.driver.execute_script("document.querySelector('#line-s2').focus()")
    press(page, Keys.CONTROL + "z")
    page.wait(
        lambda: [line.get_attribute("data-step") for line in page.all("[data-step]")] == lines,
        why="the move is undone",
    )
    page.type("#starts [name=text]", "started a membership")
    press(page, Keys.ENTER)
    page.says("someone started a membership")
    page.click("#line-goal summary")
    Select(page.find("#goal-event")).select_by_visible_text("visited the dome")
    page.press("Save", "#line-goal")
    page.says("visited the dome within 30 days")
    assert len(page.all(".river a")) == 5
    assert violations(page) == []
    assert time.monotonic() - begun < 180
    # Before anybody is written to it is tried in imagined time.
    page.press("Rehearse", ".doing")
    page.says("imagined · nothing leaves")
    first = page.find("[x-data=pin] [role=status]").text
    page.driver.execute_script(
        "const r = document.querySelector('[type=range]'); r.value = 9;"
        "r.dispatchEvent(new Event('input', {bubbles: true}))"
    )
    page.wait(
        lambda: page.find("[x-data=pin] [role=status]").text != first,
        why="the text tells the day of the pin",
    )
    assert violations(page) == []
    page.press("Back to writing")
    page.press("Start", ".doing")
    page.press("Start", "dialog[open]")
    page.says("Running since")
    page.press("Bring somebody in")
    page.type("#bring-email", who.email)
    page.press("Bring in", "dialog[open]")
    page.says("came in.")

    def outcome():
        with house.database.session() as session:
            return session.execute(sa.text(DELIVERED), {"id": who.id}).scalar()

    page.wait(lambda: outcome() == "delivered", seconds=60, why="the first email has left")
    page.wait(lambda: went_on(house, who.id), seconds=60, why="they went on to the wait")
    page.open(f"/people/{who.id}")
    page.says("First nights", ".margin")
    page.press("First nights", ".margin")
    page.says("It was sent: on to 2 · Wait: 2 days, then until 10:00 their time")
    assert violations(page) == []


def test_what_brings_people_in_takes_them_out_and_is_asked_of_them(page, house):
    page.open("/campaigns/1")
    page.press("Add a journey")
    press(page, "Before renewal", Keys.ENTER)
    page.says("Before renewal", "h1")
    typed(page, "email Your first night")
    typed(page, "if membership is Student")
    typed(page, "call for Hetty: ask whether they stay, in 3 days")
    page.says("to Hetty Brook, due after 3 days")
    page.click("#line-start summary")
    # What is asked beside the date shows itself only where a date is chosen.
    assert not page.find("#new-at").is_displayed()
    Select(page.find("#new-what")).select_by_visible_text("renewal date")
    page.wait(lambda: page.find("#new-at").is_displayed(), why="the hour can be set")
    days = page.find("#line-start [name=days]")
    days.clear()
    days.send_keys("7")
    page.type("#new-who-who", "lives in Farrow")
    page.press("Save", "#line-start")
    page.says("it is 7 days before their renewal date, at 9:00 their time, if it is one whose town")
    page.type("#starts [name=text]", "let a membership lapse")
    press(page, Keys.ENTER)
    page.says("someone let a membership lapse")
    page.type("#exits [name=text]", "renewed a membership")
    press(page, Keys.ENTER)
    page.says("they renewed a membership")
    assert violations(page) == []
    page.press("Rehearse", ".doing")
    page.says("whose date comes in these days")
    assert violations(page) == []


def test_tasks_are_done_where_they_are_listed(page, house):
    with house.database.session() as session:
        session.execute(
            sa.text(
                "INSERT INTO colleague_tasks (contact_id, kind, subject, priority, due_at, user_id,"
                " source, source_id, step, about, created_at) SELECT min(c.id), 'call', "
                "'Ask how it was', 'usual', now(), (SELECT id FROM users WHERE name = 'Ida Vance'),"
                " 'test', 1, '', 'browser', now() FROM contacts c"
            )
        )
    page.open("/tasks")
    page.says("Ask how it was")
    page.type("[name=outcome]", "Glad to be asked")
    assert violations(page) == []
    page.press("Done", ".table")
    page.says("No task")
    page.open("/tasks?of=all&state=done")
    page.says("Glad to be asked")


def went_on(house, contact):
    asked = "SELECT step FROM journey_entries WHERE contact_id = :id"
    with house.database.session() as session:
        return session.execute(sa.text(asked), {"id": contact}).scalar() == "s2"


@pytest.fixture
def long_one(house):
    """A journey of 27 steps that is not started; its number."""
    with house.database.session() as session:
        now = clock.now(session)
        campaign = session.scalars(sa.select(Campaign).order_by(Campaign.id)).first()
        message = session.scalar(sa.text("SELECT min(id) FROM messages WHERE channel = 'email'"))
        made = actions.create(session, IDA, now, campaign, f"A long one {now:%H%M%S%f}")

        def built(itinerary):
            for _ in range(9):
                ways = (Path("", (MessageStep("", message),), reaction="opened"), Path(""))
                itinerary = edit.add(itinerary, WaitForStep("", Span(3, "day"), ways))
                itinerary = edit.add(itinerary, WaitStep("", Span(1, "day")))
            return itinerary

        actions.write(session, IDA, now, made, made.version, "wrote", built)
        return made.id


def test_a_wide_map_is_moved_and_the_form_of_a_line_comes_as_it_is_opened(page, long_one):
    page.open(f"/journeys/{long_one}?fold=")
    sheet = page.find(".river-sheet")

    def stands():
        return page.driver.execute_script("return arguments[0].scrollLeft", sheet)

    assert stands() == 0
    # Its far end, by the small map; back by dragging the large one.
    small = page.find(".river-whole")
    ActionChains(page.driver).move_to_element_with_offset(small, 120, 0).click().perform()
    page.wait(lambda: stands() > 800, why="the small map moves the large one")
    there = stands()
    drag = ActionChains(page.driver).move_to_element_with_offset(sheet, 0, 120)
    drag.click_and_hold().move_by_offset(200, 0).release().perform()
    page.wait(lambda: stands() == there - 200, why="the map is dragged")
    # The frame shows what is in view.
    frame, width = page.driver.execute_script(
        "const f = document.querySelector('.river-whole rect');"
        "return [f.x.baseVal.value, arguments[0].scrollWidth]",
        sheet,
    )
    scale = page.driver.execute_script("return arguments[0].viewBox.baseVal.width", small) / width
    assert abs(frame - stands() * scale) < 2
    assert violations(page) == []
    # A step is folded where it stands.
    marks = len(page.all(".river a:not(.fold)"))
    page.driver.execute_script("document.querySelector('.fold').focus()")
    press(page, Keys.ENTER)
    page.wait(lambda: len(page.all(".river a:not(.fold)")) == marks - 1, why="it is folded")
    # The form of a line is fetched as it is opened, by keys; what it says is kept.
    line = page.find("[data-step] summary")
    assert not page.all("[data-step] .drop-sheet form")
    line.send_keys(Keys.ENTER)
    field = page.find("[data-step] .drop-sheet [name=amount]")
    field.send_keys(Keys.CONTROL, "a")
    field.send_keys("5", Keys.ENTER)
    page.says("up to 5 days")
