"""A limit is set, seen where one launches, and taken away again."""

import re

import pytest
import sqlalchemy as sa
from selenium.webdriver.support.ui import Select


@pytest.fixture
def without_limits(house):
    """Whatever the test leaves behind goes: other tests send in the same world."""
    yield
    with house.database.session() as session:
        session.execute(sa.text("DELETE FROM caps"))


def test_a_limit_is_set_and_said_where_one_launches(page, house, without_limits):
    page.open("/message-limits")
    page.says("No limit is set")
    page.type("form [name=most]", "1")
    page.type("form [name=length]", "12")
    Select(page.find("form [name=unit]")).select_by_value("month")
    Select(page.find("form [name=channel]")).select_by_value("email")
    page.press("Add")
    page.says("at most 1 email in 12 months", "table")

    page.open("/campaigns/new")
    page.type("#c-name", "Too much of it")
    page.press("Create campaign")
    page.press("Add a send")
    page.type("#as-name", "One more")
    page.press("Continue", "dialog")
    page.click("#w-in")
    page.press("everyone", ".pop")
    page.press("Write to these", ".pop")
    page.wait(lambda: not page.all(".pop"))
    # The demo's people had emails within the year.
    page.says("would wait")
    waits = int(re.search(r"([\d,]+) would wait", page.text())[1].replace(",", ""))
    with house.database.session() as session:
        had = session.execute(
            sa.text(
                "SELECT count(DISTINCT d.contact_id) FROM deliveries d JOIN dispatches s ON "
                "s.id = d.dispatch_id WHERE s.channel = 'email' AND d.outcome = 'delivered'"
            )
        ).scalar_one()
    assert 0 < waits <= had

    page.click("#w-caps")
    page.says("at most 1 email in 12 months", ".pop")
    page.press("goes to everyone all the same", ".pop")
    page.press("Apply", ".pop")
    page.wait(lambda: not page.all(".pop"))
    page.says("goes beyond the message limits, but counts")
    assert "would wait" not in page.text()

    page.open("/message-limits")
    page.press("Delete")
    page.says("No limit is set")
