"""Lines of an itinerary are changed in their place: nothing is loaded again, and nothing typed is
lost, however fast it comes."""

import pytest
from selenium.webdriver.common.keys import Keys

from tests.browser.conftest import AWAY, BACK, press

#: The requests of a page come to no end from now on, but for the head of their answers.
SLOW = """
window.reached = window.fetch;
window.cut = 0;
window.fetch = (address, asks) => Promise.resolve({
  ok: true,
  text: () => new Promise((_, fail) => asks.signal.addEventListener('abort', () => {
    window.cut += 1;
    fail(asks.signal.reason);
  })),
});
"""


@pytest.fixture
def written(page):
    """A journey without a step, and a mark that a page loaded anew would not have."""
    page.open("/campaigns/1")
    page.press("Add a journey")
    press(page, "Typed at speed", Keys.ENTER)
    page.says("Typed at speed", "h1")
    page.wait(lambda: focused(page) == "add", why="the first step can be typed")
    page.driver.execute_script("window.mark = 'here'")
    return page


def focused(page):
    """The form of the field that has the focus."""
    return page.driver.execute_script(
        "const field = document.activeElement; return field.form ? field.form.id : ''"
    )


def said(page):
    """What each line of the itinerary says, without the paths."""
    lines = page.all("[data-step]:not(.is-path) .step-kind")
    what = page.all("[data-step]:not(.is-path) .step-what .word")
    return [f"{one.text} {other.text}" for one, other in zip(lines, what, strict=True)]


def typed(page):
    return page.find("#add [name=text]").get_attribute("value")


def test_steps_are_typed_one_after_the_other_without_waiting(written):
    press(written, "wait 3 days", Keys.ENTER, "wait 2 hours", Keys.ENTER, "wait 1 week", Keys.ENTER)
    press(written, "wait 5 d")
    written.wait(lambda: len(said(written)) == 3, why="three steps were added")
    assert said(written) == ["Wait 3 days", "Wait 2 hours", "Wait 1 week"]
    # What was begun meanwhile still stands where it was typed, and is finished.
    assert typed(written) == "wait 5 d"
    press(written, "ays", Keys.ENTER)
    written.wait(lambda: len(said(written)) == 4, why="the fourth step was added")
    assert said(written)[3] == "Wait 5 days"
    # Keys follow one another, too.
    line = written.all("[data-step]")[3].get_attribute("id")
    written.driver.execute_script(f"document.getElementById('{line}').focus()")
    press(written, Keys.ALT + Keys.ARROW_UP + Keys.ARROW_UP + Keys.ARROW_UP)
    written.wait(lambda: said(written)[0] == "Wait 5 days", why="it was moved to the top")
    assert said(written) == ["Wait 5 days", "Wait 3 days", "Wait 2 hours", "Wait 1 week"]
    assert written.driver.execute_script("return window.mark") == "here"


def test_what_is_typed_on_gives_up_what_was_asked_for_before(written):
    """Also while the answer comes in, of which nobody need be told."""
    written.driver.execute_script(SLOW)
    press(written, "wait 3 d")
    # Typing pauses, so that it is asked what it means.
    written.driver.execute_async_script("setTimeout(arguments[0], 600)")
    press(written, "ays")
    written.wait(lambda: written.driver.execute_script("return window.cut") == 1)
    written.driver.execute_script(BACK)
    press(written, " ")
    written.wait(lambda: written.all("#add .typed-readings > *"), why="it is read again")
    assert not written.all("#said")


def test_what_is_refused_stays_where_it_was_typed(written):
    press(written, "sing a song", Keys.ENTER)
    written.says("“sing a song” is not a step", "[role=alert]")
    assert typed(written) == "sing a song"
    assert focused(written) == "add"
    written.type("#starts [name=text]", "sing a song")
    press(written, Keys.ENTER)
    written.says("cannot start a journey", "[role=alert]")
    assert written.find("#starts [name=text]").get_attribute("value") == "sing a song"
    assert focused(written) == "starts"
    assert written.driver.execute_script("return window.mark") == "here"
    # The browser notes the refusal, and nothing else.
    assert [one.rsplit("status of ")[1][:3] for one in written.problems()] == ["422", "422"]


def test_without_a_network_nothing_typed_is_lost(written):
    written.driver.execute_script(AWAY)
    press(written, "wait 3 days", Keys.ENTER)
    written.says("What you typed is still here", "#said")
    assert typed(written) == "wait 3 days"
    written.driver.execute_script(BACK)
    press(written, Keys.ENTER)
    written.wait(lambda: said(written) == ["Wait 3 days"], why="the step was added")
    assert not written.all("#said")
