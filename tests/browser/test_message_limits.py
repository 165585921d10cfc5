"""A limit is set, seen where one launches, and taken away again."""

import re

import pytest
import sqlalchemy as sa
from selenium.webdriver.support.ui import Select

#: Once more what was lately sent to most people, two hours later, so that somebody had two emails
#: on one day.
AGAIN = """
WITH last AS (
    SELECT * FROM dispatches WHERE channel = 'email' AND taken_at > now() - interval '60 days'
    ORDER BY size DESC NULLS LAST LIMIT 1),
made AS (
    INSERT INTO dispatches (owner_kind, owner_id, name, channel, message_id, edition_id, sender_id,
        campaign_id, consent_rule, taken_at, state, unsettled)
    SELECT 'send', owner_id, 'The same again', channel, message_id, edition_id, sender_id,
        campaign_id, consent_rule, taken_at, 'done', FALSE FROM last RETURNING id)
INSERT INTO deliveries (contact_id, dispatch_id, taken_at, due, outcome, at)
SELECT d.contact_id, made.id, d.taken_at, d.due, d.outcome, d.at + interval '2 hours'
FROM deliveries d, last, made WHERE d.dispatch_id = last.id AND d.outcome = 'delivered'
"""
GONE = """
DELETE FROM deliveries WHERE dispatch_id IN (
    SELECT id FROM dispatches WHERE name = 'The same again')
"""


@pytest.fixture
def sent_twice(house):
    """Somebody had two emails on one day. Whatever the test leaves behind goes: other tests send in
    the same world."""
    with house.database.session() as session:
        session.execute(sa.text(AGAIN))
    yield
    with house.database.session() as session:
        session.execute(sa.text("DELETE FROM caps"))
        session.execute(sa.text(GONE))
        session.execute(sa.text("DELETE FROM dispatches WHERE name = 'The same again'"))


def test_a_limit_is_set_and_said_where_one_launches(page, house, sent_twice):
    page.open("/message-limits")
    # A number is tried on what really happened before it is set.
    page.says("Tried on the last 90 days")
    page.says("affected none of")
    page.type("[name='most:email::month:1']", "1")
    page.says("1 number tried, not saved")
    page.wait(lambda: "who were sent something" in page.text("[x-ref=tried]"), why=page.text())
    assert "affected none of" not in page.text()
    page.click("summary")
    page.click("[name=more]")
    page.type("[name=most]", "1")
    page.type("[name=length]", "12")
    Select(page.find("[name=unit]")).select_by_value("month")
    Select(page.find("[name=channel]")).select_by_value("email")
    page.press("Save these limits")
    page.says("2 limits changed")
    page.says("emails in 12 months")

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
    for number in page.all("input.cap"):
        number.clear()
    page.press("Save these limits")
    page.says("limits changed")
    page.says("affected none of")
    with house.database.session() as session:
        assert session.execute(sa.text("SELECT count(*) FROM caps")).scalar_one() == 0
