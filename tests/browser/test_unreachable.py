"""Meadowrun does not answer while a page is open: each part that asks it for something says so,
and works again as soon as it does."""

import pytest
from selenium.webdriver.common.keys import Keys

from tests.browser import new_sends
from tests.browser.conftest import AWAY, BACK, press

AWAY_SAID = "Meadowrun does not answer. Try again."


@pytest.fixture
def drafted(house):
    with house.database.session() as session:
        ident = new_sends.make(session, "Of a page left open")
    yield ident
    with house.database.session() as session:
        new_sends.delete(session, [ident])


def test_a_word_of_a_send(page, drafted):
    page.open(f"/sends/{drafted}")
    away_and_back(page, lambda: page.click("#w-leaves"), ".pop")


def test_the_side_of_the_calendar(page):
    page.open("/calendar")
    away_and_back(page, lambda: page.click("[data-send]"), "[x-ref=side] a")


def test_what_a_typed_step_would_be(page):
    page.open("/campaigns/1")
    page.press("Add a journey")
    press(page, "Left open", Keys.ENTER)
    page.says("Left open", "h1")
    away_and_back(
        page,
        lambda: page.type("#add [name=text]", "wait 3 days"),
        "#add .typed-readings > *",
    )


def test_how_much_would_be_deleted(page):
    page.open("/retention")

    def ask():
        page.driver.execute_script(
            "const select = document.querySelector('select[name]');"
            "select.selectedIndex = (select.selectedIndex + 1) % select.length;"
            "select.dispatchEvent(new Event('change', {bubbles: true}));"
        )

    away_and_back(page, ask, None)


def away_and_back(page, ask, shown):
    """Asks for something while nothing answers, and once more when it does: then it is shown."""
    page.driver.execute_script(AWAY)
    ask()
    page.says(AWAY_SAID, "#said")
    if shown:
        assert not page.all(shown)
    page.driver.execute_script(BACK)
    ask()
    page.wait(lambda: not page.all("#said"), why="that nothing answers is no longer said")
    if shown:
        page.wait(lambda: page.all(shown), why="what was asked for is shown")
