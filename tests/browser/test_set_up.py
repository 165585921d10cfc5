"""A marketer sees whether everything is set up, sends at each person's best hour, looks before they
stop, and a reader chooses how often they hear of us."""

import pytest
import sqlalchemy as sa
from selenium.webdriver.support.ui import Select

from meadowrun.base import signing
from tests.browser import new_sends
from tests.browser.conftest import violations

READER = """
SELECT c.id FROM contacts c JOIN consents k ON k.contact_id = c.id
WHERE k.channel = 'email' AND k.topic_id = 0 AND k.agreed AND c.email_usable
AND c.bounced_at IS NULL AND c.language = :language ORDER BY c.id DESC LIMIT 1
"""


def choose(page, selector, words):
    Select(page.find(selector)).select_by_visible_text(words)


def test_everything_is_tried(page):
    page.open("/readiness")
    page.press("Try everything now")
    page.says("signed with mr")
    page.says("v=DMARC1")
    page.open("/mail-domains")
    page.press("Make new keys")
    page.says("not used yet")
    # What was made is taken away again, after it was asked.
    for _ in range(2):
        page.press("Delete")
        page.press("Delete", "dialog[open]")
        page.says("was deleted")
    assert "not used yet" not in page.driver.page_source


@pytest.fixture
def draft(house):
    """The number of a send that can be worked on; it is gone afterwards."""
    with house.database.session() as session:
        ident = new_sends.make(session, "A send to work on")
    yield ident
    with house.database.session() as session:
        new_sends.delete(session, [ident])


def test_a_send_goes_at_each_persons_best_hour(page, draft):
    page.open(f"/sends/{draft}")
    page.click("#w-portions")
    page.press("at each person’s best hour, within a day", ".pop")
    page.press("Apply", ".pop")
    page.says("at each person’s best hour")
    page.says("When people get it")
    page.says("of their own")
    page.press("See them")
    page.says("When people open and click")
    page.says("Does it help?")


def test_a_reader_chooses_how_often_and_where(page, house):
    with house.database.session() as session:
        contact = session.execute(sa.text(READER), {"language": "en"}).scalar_one()
    path = f"/p/{signing.make(house.settings.secret, 'choose', 7, contact)}"
    page.open(path)
    page.says("What you get from us")
    choose(page, "#often", "2 messages a week")
    choose(page, "#pause", "2 months from now")
    page.type("#email", "somewhere.else@post.example")
    page.press("Save")
    page.says("Saved. Thank you.")
    page.says("You paused until")
    page.says("We have sent an email to somewhere.else@post.example")
    with house.database.session() as session:
        found = session.execute(
            sa.text("SELECT most_a_week, paused_until FROM contacts WHERE id = :id"),
            {"id": contact},
        ).one()
        assert found.most_a_week == 2 and found.paused_until is not None
    page.open(path)
    choose(page, "#often", "as often as there is something")
    choose(page, "#pause", "end the pause now")
    page.press("Save")
    page.says("Saved. Thank you.")
    assert "You paused until" not in page.driver.page_source


def test_a_reader_reads_their_own_language(page, house):
    with house.database.session() as session:
        contact = session.execute(sa.text(READER), {"language": "de"}).scalar_one()
    page.open(f"/p/{signing.make(house.settings.secret, 'choose', 7, contact)}")
    page.says("Was Sie von uns erhalten")
    page.says("Himmelstagebuch")
    page.says("was es diesen Monat zu sehen gibt, einmal im Monat")
    choose(page, "#often", "3 Nachrichten pro Woche")
    page.press("Speichern")
    page.says("Gespeichert. Vielen Dank.")
    assert violations(page) == []
