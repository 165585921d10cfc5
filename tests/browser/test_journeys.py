"""A marketer builds a journey by the keyboard, checks it, starts it, brings somebody in, sees the
email arrive, and asks where that person is."""

import time

import pytest
import sqlalchemy as sa
from selenium.webdriver.common.keys import Keys
from selenium.webdriver.support.ui import Select

from tests.browser.conftest import press, violations

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
    page.says("Nothing brings anybody in yet", ".margin")
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
    page.click("#line-start summary")
    Select(page.find("#start-what")).select_by_visible_text("started a membership")
    page.press("Save", "#line-start")
    page.says("someone started a membership")
    page.click("#line-goal summary")
    Select(page.find("#goal-event")).select_by_visible_text("visited the dome")
    page.press("Save", "#line-goal")
    page.says("visited the dome within 30 days")
    assert len(page.all(".river a")) == 5
    assert violations(page) == []
    assert time.monotonic() - begun < 180
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


def went_on(house, contact):
    asked = "SELECT step FROM journey_entries WHERE contact_id = :id"
    with house.database.session() as session:
        return session.execute(sa.text(asked), {"id": contact}).scalar() == "s2"
