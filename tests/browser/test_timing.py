"""A send is planned into a clash, moved in the calendar, approved by a second person, and leaves by
people's own clocks; then one asks why."""

import datetime as dt

import pytest
import sqlalchemy as sa
from selenium.webdriver.common.action_chains import ActionChains
from selenium.webdriver.common.keys import Keys

from meadowrun.base import clock
from tests.browser import new_sends
from tests.browser.conftest import sign_in


@pytest.fixture
def planned(house):
    """Two sends to everybody on the same day in five weeks, the first planned by itself; the second
    is the one to work on. Whatever the test leaves behind goes."""
    with house.database.session() as session:
        now = clock.now(session)
        day = (now + dt.timedelta(days=35)).date()
        found = []
        for name, state, hour in (("First of the day", "planned", 9), ("Second one", "draft", 15)):
            at = dt.datetime.combine(day, dt.time(hour), dt.UTC)
            found.append(new_sends.make(session, name, state, at))
        session.execute(sa.text("UPDATE sending_rules SET second_person_above = 50"))
    yield day, found[1]
    with house.database.session() as session:
        session.execute(sa.text("UPDATE sending_rules SET second_person_above = NULL"))
        new_sends.delete(session, found)


def reopen(page, email):
    """Signed in as somebody else."""
    page.driver.delete_all_cookies()
    sign_in(page, email)


def test_planned_into_a_clash_moved_approved_and_asked_about(page, house, planned):
    day, ident = planned
    page.open(f"/sends/{ident}")
    # On everybody's own clock, on weekdays and weekends, in portions.
    page.click("#w-leaves")
    page.press("on each person’s own clock", ".pop")
    page.press("Apply", ".pop")
    page.says("at 15:00 their time")
    page.says("When people get it")
    page.says("in Europe")
    page.click("#w-portions")
    page.type(".pop [name=size]", "200")
    page.press("Apply", ".pop")
    page.says("in portions of 200, one every 30 minutes")

    page.press("Review and send")
    page.press("Ask for approval")
    page.says("asks for approval")
    assert not page.all("form[action$='/approve']")

    reopen(page, "hetty@farrowhill.example")
    page.says("Ida Vance asks you to approve")
    page.press("Second one")
    page.press("Approve, and Plan it for")
    page.says("Scheduled: it goes out")

    # Both reach everybody on one day: it is said, and moved by keys alone.
    page.open(f"/calendar?from={day.isoformat()}&view=week")
    page.says("also get First of the day")
    entry = page.find(f"[data-send='{ident}']")
    page.driver.execute_script("arguments[0].focus()", entry)
    keys = ActionChains(page.driver).key_down(Keys.ALT)
    keys.send_keys(Keys.ARROW_DOWN).key_up(Keys.ALT).perform()
    page.says("Move it?")
    page.says("0 people get another send within a day")
    page.press("Move it", "aside")
    moved = day + dt.timedelta(days=7)
    page.says("“Second one” goes out")
    with house.database.session() as session:
        local, state = session.execute(
            sa.text("SELECT local_at, state FROM sends WHERE id = :id"), {"id": ident}
        ).one()
    assert (local.date(), local.hour, state) == (moved, 15, "planned")

    page.open(f"/sends/{ident}/why?who=hillmail")
    page.says("Would get it")
    page.says("Based on:")
    reopen(page, "ida@farrowhill.example")
