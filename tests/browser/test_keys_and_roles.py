"""By keyboard, in two windows at once, magnified, and as somebody who may only look."""

import pytest
import sqlalchemy as sa
from selenium.webdriver.common.by import By
from selenium.webdriver.common.keys import Keys

from meadowrun.base import clock
from meadowrun.bench import opening
from meadowrun.shell import accounts
from tests.browser.conftest import ONCE, TWICE, Page, lacks_at_twice_the_size, sized
from tests.browser.test_pages import PAGES
from tests.store.web import app_of


def focused(page: Page):
    return page.driver.switch_to.active_element


def test_a_word_is_changed_by_keyboard_and_one_is_back_at_it(page: Page):
    page.open("/segments/1")
    word = page.find(".word[data-slot=op]")
    line = word.get_attribute("data-line")
    word.send_keys(Keys.ENTER)
    page.find(".pop .choice")
    focused(page).send_keys(Keys.ARROW_DOWN, Keys.ENTER)
    page.wait(lambda: not page.all(".pop"))
    page.wait(
        lambda: (
            focused(page).get_attribute("data-line") == line
            and focused(page).get_attribute("data-slot") == "op"
        ),
        why="the focus is not back at the word",
    )


def test_of_two_who_save_a_segment_the_later_has_two_ways_out(page: Page, house):
    with house.database.session() as session:
        before = session.execute(sa.text("SELECT version, name FROM segments WHERE id = 2")).one()
    page.open("/segments/2")
    page.find("#narrow")
    with house.database.session() as session:
        session.execute(
            sa.text("UPDATE segments SET version = version + 1, changed_by = 'Otto' WHERE id = 2")
        )
    page.driver.find_element(By.TAG_NAME, "body").send_keys(Keys.CONTROL, "s")
    page.find("#sn").send_keys(Keys.CONTROL, "s")
    page.says("Otto saved this segment while you were editing it")
    # The browser notes the refusal, too.
    assert ["409" in problem for problem in page.problems()] == [True]
    page.press("Save mine (theirs stays among the earlier versions)")
    page.says("Saved: " + before.name)
    with house.database.session() as session:
        assert (
            session.scalar(sa.text("SELECT version FROM segments WHERE id = 2"))
            == before.version + 2
        )


def test_at_twice_the_size_everything_stays_within_the_window(page: Page, house):
    """Every page a person can open; what is pressed there is large enough, and what scrolls can be
    reached by keys. Those of test_pages.py are looked at there."""
    rules = app_of(house.settings, house.database).url_map.bind("127.0.0.1")
    elsewhere = {
        rules.match(path.partition("?")[0], method="GET", return_rule=True)[0].rule
        for path in PAGES
        if path != "/nowhere" and "~" not in path
    }
    lacking, seen = {}, 0
    sized(page, TWICE)
    try:
        for rule, path in opening.addresses(house.settings, house.database).items():
            if rule in elsewhere:
                continue
            page.open(path)
            if not page.all("main h1") or not page.all("nav.trail"):
                # A piece of a page, or one for people outside.
                continue
            seen += 1
            if found := lacks_at_twice_the_size(page):
                lacking[path] = found
    finally:
        sized(page, ONCE)
    assert lacking == {} and seen > 8


def test_a_viewer_meets_nothing_that_looks_live(page: Page, house):
    with house.database.session() as session:
        accounts.add_user(
            session,
            clock.now(session),
            "vera@farrowhill.example",
            "Vera",
            "viewer",
            "a long password",
        )
    mine = page.driver.get_cookie("meadowrun_in")
    page.driver.delete_cookie("meadowrun_in")
    try:
        page.open("/sign-in")
        page.type("[name=email]", "vera@farrowhill.example")
        page.type("[name=password]", "a long password")
        page.find("[name=password]").send_keys(Keys.ENTER)
        page.says("Today")
        page.open("/messages/1")
        page.wait(lambda: page.find("#add-line").get_attribute("disabled"))
        assert "“author”" in page.find("#add-line").get_attribute("title")
        assert not page.driver.execute_script(
            "return [...document.querySelectorAll('#lines .ink')].some((e) => e.isContentEditable)"
        )
        page.open("/segments/1")
        page.wait(lambda: page.find("#save").get_attribute("disabled"))
    finally:
        page.driver.delete_cookie("meadowrun_in")
        page.driver.add_cookie(mine)


def believed(house, contacts):
    """Makes the database believe that there are so many contacts."""
    with house.database.session() as session:
        session.execute(
            sa.text("UPDATE pg_class SET reltuples = :n WHERE oid = 'contacts'::regclass"),
            {"n": contacts},
        )


@pytest.mark.parametrize(
    ("path", "said"),
    [
        ("/people/duplicates", "Likely duplicates"),
        ("/segments/1/profile", "everyone"),
        ("/segments/1", "Add condition"),
        ("/messages/1/checks", "Checks"),
    ],
)
def test_on_a_large_world_a_dear_page_comes_in_by_itself(page: Page, house, path, said):
    believed(house, 1_000_000)
    try:
        page.open(path)
        page.wait(lambda: not page.all("#later") and page.all("main h1"))
        assert said.lower() in page.text().lower()
        assert page.driver.current_url.endswith(path)
    finally:
        believed(house, 1500)
