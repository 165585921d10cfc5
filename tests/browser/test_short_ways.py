"""The ways that a marketer goes most, in few steps: each click and each thing that is typed is one,
and how many they were is printed. The last press, which would send to the whole world of the tests,
is counted and not made."""

import re

import pytest
import sqlalchemy as sa
from selenium.webdriver.common.keys import Keys

#: The last send of the demo that is done, by email.
LAST = """
SELECT s.id, s.message_id FROM sends s JOIN messages m ON m.id = s.message_id
WHERE s.state = 'done' AND m.channel = 'email' ORDER BY s.taken_at DESC LIMIT 1
"""


class Steps:
    """A page on which every step is counted."""

    def __init__(self, page):
        self.page, self.count = page, 0

    def __getattr__(self, name):
        done = getattr(self.page, name)
        if name not in ("press", "click", "type"):
            return done

        def counted(*arguments, **named):
            self.count += 1
            return done(*arguments, **named)

        return counted


@pytest.fixture
def last(page, house):
    with house.database.session() as session:
        found = session.execute(sa.text(LAST)).one()
        highest = session.execute(
            sa.text("SELECT (SELECT max(id) FROM sends), (SELECT max(id) FROM segments)")
        ).one()
    yield found
    with house.database.session() as session:
        for table, number in zip(("sends", "segments"), highest, strict=True):
            session.execute(sa.text(f"DELETE FROM {table} WHERE id > :id"), {"id": number})


def ready(steps):
    """The last look, with a button that would send."""
    steps.press("Review and send")
    steps.says("Review", "h1")
    button = steps.find("form button.btn-primary")
    assert re.match(r"Send to [\d,]+ (people|person)", button.text) and button.is_enabled()
    steps.count += 1


def test_from_a_result_to_a_follow_up(page, last):
    """In six steps at the most."""
    steps = Steps(page)
    page.open(f"/results/{last.id}")
    steps.press("Write to them again", "aside")
    steps.says("follow-up", "h1")
    page.says("did not open it and did not")
    page.says("Did not open", "#w-in")
    ready(steps)
    page.says("already", "#had")
    print(f"result → follow-up: {steps.count} steps")
    assert steps.count <= 6


def test_from_a_message_to_its_send(page, last):
    """In eight steps at the most."""
    steps = Steps(page)
    page.open(f"/messages/{last.message_id}")
    steps.press("Send this")
    steps.press("Continue to the send")
    steps.click("#w-in")
    steps.press("Members", ".pop")
    steps.press("Write to these", ".pop")
    page.wait(lambda: not page.all(".pop"))
    ready(steps)
    print(f"message → sent: {steps.count} steps")
    assert steps.count <= 8


def test_people_chosen_in_the_table_are_put_on_a_list_by_keys(page, house):
    """Enter in the name of the list puts them there; in the field of the tag it tags them."""
    page.open("/people")
    for box in page.all("tbody [name=contact]")[:2]:
        box.click()
    page.says("2 chosen", ".chosen")
    page.type(".chosen [name=name]", "Two of them")
    page.find(".chosen [name=name]").send_keys(Keys.ENTER)
    page.says("2 people put on “Two of them”.", "body")
    page.click("thead [type=checkbox]")
    page.type(".chosen [name=tags]", "seen")
    page.find(".chosen [name=tags]").send_keys(Keys.ENTER)
    page.says("Tagged: new to 50 people.", "body")
    with house.database.session() as session:
        session.execute(sa.text("DELETE FROM lists WHERE name = 'Two of them'"))
        session.execute(
            sa.text(
                "DELETE FROM contact_tags WHERE tag_id = (SELECT id FROM tags WHERE path = 'seen')"
            )
        )
        session.execute(sa.text("DELETE FROM tags WHERE path = 'seen'"))


def test_the_keys_are_listed_and_leave_again(page):
    page.open("/results")
    page.find("body").send_keys("?")
    page.says("find a page, a person or something to do", "#shortcuts")
    page.driver.switch_to.active_element.send_keys(Keys.ESCAPE)
    page.wait(lambda: not page.find("#shortcuts").is_displayed())
    # Where somebody types it is a question mark.
    page.open("/segments")
    page.find("body").send_keys(Keys.CONTROL, "k")
    page.type("#find input", "who?")
    assert not page.find("#shortcuts").is_displayed()


def test_the_preview_stays_in_view_and_shows_the_line_that_is_written(page, last):
    # So low a window that the end of what is written is far below its beginning.
    low = {"width": 1280, "height": 320, "deviceScaleFactor": 1, "mobile": False}
    page.driver.execute_cdp_cmd("Emulation.setDeviceMetricsOverride", low)
    try:
        page.open(f"/messages/{last.message_id}")
        page.wait(lambda: len(page.all("#lines .line")) > 3)
        page.driver.execute_script("scrollTo(0, document.body.scrollHeight)")
        place = (
            "const where = (name) => document.querySelector(`section[aria-label=${name}]`)"
            ".getBoundingClientRect().top; return [where('Write'), where('Read')]"
        )
        page.wait(lambda: page.driver.execute_script(place)[0] < -150)
        written, read = page.driver.execute_script(place)
        assert read - written > 100 and read > -150
    finally:
        page.driver.execute_cdp_cmd("Emulation.clearDeviceMetricsOverride", {})


#: A file of one's own.
FILE = """email,first name,last name
ada@own.example,Ada,Rill
bea@own.example,Bea,Rill
cas@own.example,Cas,Rill
"""
#: What became of the send of a name: how many of its emails were handed over.
GONE = """
SELECT count(*) FROM deliveries d JOIN dispatches s ON s.id = d.dispatch_id
JOIN sends x ON x.dispatch_id = s.id WHERE x.name = :name AND d.outcome = 'delivered'
"""


def bring_in(steps, path):
    """The file becomes three people and a list."""
    steps.press("Import people")
    steps.type("#file", str(path), clear=False)
    steps.press("Continue")
    steps.says("Columns to match")
    if steps.all("input[name=agreed]:not(:checked)"):
        steps.click("input[name=agreed]")
    steps.type("#evidence", "signed the card")
    steps.click("input[name=as_list]")
    steps.type("input[name=list_name]", "Own people")
    steps.press("Preview import")
    steps.says("What would happen")
    steps.press("Import 3 people")
    steps.says("What happened")


def gather(steps):
    """A segment of those on the list."""
    steps.press("People", "nav.trail")
    steps.press("Segments", ".tabs")
    steps.press("New segment")
    steps.press("Add condition")
    steps.type(".pop [data-narrow]", "on the list Own people")
    steps.wait(lambda: any("Own people" in one.text for one in steps.all(".reading")))
    steps.page.find(".pop [data-narrow]").send_keys(Keys.ENTER)
    steps.count += 1
    steps.page.wait(lambda: steps.text("[data-size]") == "3")
    steps.click("#save")
    steps.type("#sn", "Own people now")
    steps.page.find("#sn").send_keys(Keys.ENTER)
    steps.count += 1
    steps.says("Saved: Own people now, 3 people now.")


def write(steps, house):
    """An email in a few words."""
    steps.press("Messages", "nav.trail")
    steps.press("New message")
    steps.type("#name", "A word to you")
    steps.press("Start writing")
    for selector, words in (
        ("[data-slot=subject]", "A word to you"),
        ("[data-slot=preheader]", "In short"),
        (".line[data-type=heading] .ink", "Come and see"),
        (".line[data-type=button] .ink", "Choose"),
        (".line[data-type=button] [data-slot=href]", f"{house.site}/observatory/tickets"),
    ):
        steps.type(selector, words, clear=False)
    steps.says("Everything passed", "#margin")
    steps.wait(lambda: "saved" in steps.text("#saved"))


def test_from_a_file_of_ones_own_to_a_send_that_went(page, house, tmp_path):
    """In sixty steps at the most, by mouse and keyboard from Today on, the last press made."""
    path = tmp_path / "people.csv"
    path.write_text(FILE)
    steps = Steps(page)
    page.open("/")
    bring_in(steps, path)
    gather(steps)
    write(steps, house)
    steps.press("Send this")
    steps.press("Continue to the send")
    steps.click("#w-in")
    steps.press("Own people now", ".pop")
    steps.press("Write to these", ".pop")
    page.wait(lambda: not page.all(".pop"))
    steps.press("Review and send")
    steps.says("Review", "h1")
    steps.press("Send to 3 people")
    steps.says("Everyone accounted for", seconds=40)
    print(f"own file → sent: {steps.count} steps")
    assert steps.count <= 60
    with house.database.session() as session:
        name = session.scalar(sa.text("SELECT name FROM sends ORDER BY id DESC LIMIT 1"))
        assert session.scalar(sa.text(GONE), {"name": name}) == 3


@pytest.mark.parametrize(
    ("path", "typed", "button", "place"),
    [
        ("/people/new", {"email": "ann@@post.example"}, "Add this contact", "email"),
        ("/campaigns/new", {"name": "Refused", "fact": "2nd", "fact_value": "x"}, "Create", "fact"),
    ],
)
def test_a_refused_form_has_the_caret_where_it_was_refused(page, path, typed, button, place):
    """And still says what was typed."""
    page.open(path)
    for name, text in typed.items():
        page.type(f"main [name={name}]", text)
    page.press(button, "main")
    page.wait(lambda: page.all("main [role=alert]"))
    here = page.driver.switch_to.active_element
    assert here.get_attribute("name") == place
    assert here.get_attribute("aria-invalid") == "true"
    for name, text in typed.items():
        assert page.find(f"main [name={name}]").get_attribute("value") == text
    assert ["422" in problem for problem in page.problems()] == [True]
