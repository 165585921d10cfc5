"""Writing a message as an author does: lines inside lines, words for some, reading as those who
differ, undone and kept."""

import pytest
import sqlalchemy as sa
from selenium.webdriver.common.action_chains import ActionChains
from selenium.webdriver.common.keys import Keys
from selenium.webdriver.support.ui import Select

from meadowrun.messages.models import Message
from tests.browser.conftest import saved, write


def inside(page):
    """The words of the mail on the reading side."""
    frame = page.find("#read")
    page.driver.switch_to.frame(frame)
    try:
        return page.driver.find_element("tag name", "body").text
    finally:
        page.driver.switch_to.default_content()


def reads(page, words):
    page.wait(lambda: words in inside(page), why=f"the mail does not say {words!r}")


def add(page, kind, into="#add-line"):
    """Adds a line of a kind, by typing its name."""
    before = len(page.all("#lines .line"))
    page.click(into)
    page.wait(lambda: page.all(".pop"))
    page.type(".pop input", kind)
    page.find(".pop input").send_keys(Keys.ENTER)
    page.wait(
        lambda: len(page.all("#lines .line")) > before and not page.all(".pop"),
        why=f"no line {kind}",
    )
    saved(page)


def begin(page, name, layout=""):
    page.open("/messages/new")
    page.type("#name", name)
    page.click(f'.tile:has([value="{layout}"])')
    page.press("Start writing")
    page.find("#lines .line")


def test_words_for_some_columns_and_steps_back(page, house):
    begin(page, "For some")
    write(page, '[data-slot="subject"].ink', "Come up")
    add(page, "Only if")
    # Who reads the first version: a sentence, as in a segment, typed by keyboard.
    page.click('.version [data-ask="who"]')
    page.wait(lambda: page.find("#who").is_displayed())
    page.type("#who-name", "Patrons")
    page.click("#who #narrow")
    page.wait(lambda: page.driver.switch_to.active_element.get_attribute("data-typed") is not None)
    page.driver.switch_to.active_element.send_keys("membership is Patron")
    page.wait(
        lambda: any(
            "membership is Patron" in choice.text
            for choice in page.all("[data-readings] .reading")[:1]
        )
    )
    page.driver.switch_to.active_element.send_keys(Keys.ENTER)
    page.wait(lambda: "membership is Patron" in page.text("#who"))
    page.click("#who-take")
    page.wait(
        lambda: "Patrons" in page.text("#lines") and "membership is Patron" in page.text("#lines")
    )
    add(page, "Text", '.version [data-into$=":case"][data-ask="add"]')
    write(page, ".version .ink[data-rich]", "The lounge is warm")
    add(page, "Text", '[data-into$=":else"][data-ask="add"]')
    write(page, '[data-into$=":else"] .ink[data-rich]', "The hill is free")
    # The margin counts both, and a click reads as one of them.
    page.wait(lambda: "Patrons" in page.text("#margin"))
    with house.database.session() as session:
        patrons, everyone = session.execute(
            sa.text(
                "SELECT count(*) FILTER (WHERE attributes->>'membership' = 'Patron'), count(*) "
                "FROM contacts"
            )
        ).one()
    assert f"{patrons:,} Patrons" in page.text(
        "#margin"
    ) and f"{everyone - patrons:,} everyone else" in page.text("#margin")
    page.press(f"{patrons:,} Patrons", "#margin")
    reads(page, "The lounge is warm")
    assert "The hill is free" not in inside(page)
    page.press(f"{everyone - patrons:,} everyone else", "#margin")
    reads(page, "The hill is free")
    # A line is selected on both sides.
    line = page.find('[data-into$=":else"] .line').get_attribute("data-id")

    def chosen():
        # The frame is drawn smaller than it is, which the driver does not know when it works out
        # where to click.
        page.driver.execute_script(
            "document.getElementById('read').contentDocument.querySelector(arguments[0]).click()",
            f".ln-{line}",
        )
        return "here" in page.find(f'.line[data-id="{line}"]').get_attribute("class")

    page.wait(chosen, why="a click in the mail does not select its line")
    # Columns, and steps back and forth.
    add(page, "Columns")
    add(page, "Heading", '[data-into$=":c1"][data-ask="add"]')
    write(page, '[data-into$=":c1"] .ink', "On the right")
    reads(page, "On the right")
    page.click("#undo")
    page.wait(lambda: "On the right" not in page.text("#lines"))
    page.click("#redo")
    page.wait(lambda: "On the right" in page.text("#lines"))
    # Moved by keyboard, switched off.
    moved = page.find('.line[data-type="columns"]').get_attribute("data-id")
    page.driver.execute_script(
        "arguments[0].focus()", page.find(f'.line[data-id="{moved}"] [data-ask="add"]')
    )
    page.driver.switch_to.active_element.send_keys(Keys.ALT, Keys.ARROW_UP)
    page.wait(
        lambda: (
            [x.get_attribute("data-type") for x in page.all("#lines > div > .line[data-type]")][-3]
            == "columns"
        )
    )
    page.driver.execute_script(
        "arguments[0].click()",
        page.find(f'.line[data-id="{moved}"] > .row-tools [data-do="off"]'),
    )
    page.wait(lambda: "On the right" not in inside(page))
    with house.database.session() as session:
        kept = session.scalars(sa.select(Message).where(Message.name == "For some")).one().document
    assert [x["off"] for x in kept["lines"] if x["type"] == "columns"] == [True]
    assert not [x for x in page.driver.get_log("browser") if x["level"] == "SEVERE"]


def test_a_line_is_kept_and_another_message_follows(page, house):
    begin(page, "Keeps", "note")
    write(page, '[data-slot="subject"].ink', "A note")
    page.driver.execute_script(
        "arguments[0].click()", page.find('.line[data-type="text"] [data-ask="keep"]')
    )
    page.type(".pop input", "Our greeting")
    page.press("Save", ".pop .doing")
    page.wait(lambda: page.all('.line[data-type="shared"]'))
    saved(page)
    page.open("/messages/shared")
    page.press("Our greeting")
    write(page, "#lines .ink[data-rich]", Keys.END + " Mind the step.")
    page.press("Where it is used")
    page.wait(lambda: "version 1" in page.text() and "The newest version is 2" in page.text())
    page.press("Update these to version 2")
    page.wait(lambda: "reads version 2 now" in page.text())
    page.press("Keeps")
    reads(page, "Mind the step.")


def test_a_letter_is_written_by_keyboard_with_one_stop_for_each_row_of_tools(page):
    begin(page, "By keyboard", "text")
    page.driver.execute_script("document.querySelector('[data-slot=subject].ink').focus()")

    def pressed(*keys):
        page.driver.switch_to.active_element.send_keys(*keys)
        return page.driver.switch_to.active_element

    assert pressed("Seats on Friday", Keys.TAB).text.startswith("field"), (
        "from the words to their tools"
    )
    assert pressed(Keys.ARROW_RIGHT).text.startswith("fact"), "along them by arrows"
    assert pressed(Keys.ARROW_LEFT, Keys.ARROW_LEFT).text == "suggest", "and round"
    assert pressed(Keys.TAB).get_attribute("data-slot") == "preheader", "out of them at once"
    assert pressed(Keys.SHIFT, Keys.TAB).get_attribute("data-slot") == "subject", (
        "and back to the words; the tools are of the line one is in"
    )
    pressed(Keys.TAB), pressed(Keys.TAB)
    page.driver.switch_to.active_element.send_keys("Doors at seven")
    page.wait(lambda: "saved" in page.text("#saved") and "writing" not in page.text("#saved"))
    assert not page.all("[role=toolbar] [tabindex='-1']"), "nothing is left out of reach"


def test_a_field_is_typed_as_fast_as_one_types(page):
    """A sign asks for a field at the beginning of a word only; what is typed behind it finds the
    field, or stays in the text where it finds none."""
    begin(page, "Typed fast", "text")
    subject = page.find("[data-slot=subject].ink")
    subject.send_keys("Your seat, @first")
    page.driver.switch_to.active_element.send_keys(Keys.ENTER)
    page.wait(lambda: subject.text == "Your seat, first name")
    page.driver.switch_to.active_element.send_keys(" of #1 at the desk")
    page.wait(lambda: subject.text == "Your seat, first name of #1 at the desk")
    preheader = page.find("[data-slot=preheader].ink")
    preheader.send_keys("Write to desk@farrowhill.example or @nobody")
    assert page.all(".pop")
    page.driver.switch_to.active_element.send_keys(Keys.ESCAPE)
    page.wait(lambda: not page.all(".pop"))
    assert preheader.text == "Write to desk@farrowhill.example or @nobody"
    page.wait(lambda: "saved" in page.text("#saved") and "writing" not in page.text("#saved"))


@pytest.mark.parametrize(
    ("typed", "link"),
    [
        ("www.farrowhill.example/tickets", "https://www.farrowhill.example/tickets"),
        ("desk@farrowhill.example", "mailto:desk@farrowhill.example"),
        ("http://farrowhill.example", "http://farrowhill.example"),
        ("{{ fact.page }}", "{{ fact.page }}"),
    ],
)
def test_a_link_is_completed_when_one_leaves_it(page, typed, link):
    begin(page, f"Linked to {link}", "note")
    add(page, "button")
    field = page.find(".line[data-type=button] [data-slot=href]")
    field.send_keys(typed, Keys.TAB)
    page.wait(lambda: field.get_attribute("value") == link)
    saved(page)
    page.driver.refresh()
    kept = page.find(".line[data-type=button] [data-slot=href]")
    assert kept.get_attribute("value") == link


def test_looks_code_and_review(page):
    begin(page, "In code", "one-thing")
    write(page, '[data-slot="subject"].ink', "One thing")
    Select(page.find("#reader")).select_by_value("outlook.windows")
    reads(page, "The one thing")
    page.click('[data-look="plain"]')
    page.wait(lambda: "Unsubscribe:" in page.text("#read-plain"))
    page.click(".head details.drop summary")
    page.press("Work in code")
    page.wait(lambda: "cannot be brought back" in page.text("#code"))
    page.press("Continue in code", "#code")
    page.wait(lambda: page.all("textarea[data-slot=code]"))
    assert "{{ unsubscribe }}" in page.find("textarea[data-slot=code]").get_attribute("value")
    page.press("Ask for review")
    page.wait(lambda: "No edition is approved yet" in page.text())
    page.press("Ask about draft")
    page.wait(lambda: "waits for an answer" in page.text())
    page.press("Compare drafts")
    page.wait(lambda: "turned into code" in page.text())


def test_a_suggestion_is_chosen_and_edited(page, house):
    begin(page, "Helped", "note")
    page.click('[data-slot="subject"].ink')
    page.click('.line.here [data-ask="suggest"]')
    page.type(".pop [name=purpose]", "invite to the Leonid nights")
    page.press("Suggest", ".pop")
    page.wait(lambda: len(page.all(".pop .choice")) >= 3)
    page.click(".pop .choice")
    page.wait(lambda: "Leonid nights" in page.text('[data-slot="subject"].ink'))
    saved(page)
    with house.database.session() as session:
        assert (
            session.execute(
                sa.text("SELECT count(*) FROM audit WHERE did = 'took a suggestion for'")
            ).scalar()
            == 1
        )


def drag(page, handle, onto):
    """A line taken by its name and let go over another, as a hand does it: in small steps."""
    from selenium.webdriver.common.action_chains import ActionChains

    source, target = page.find(handle), page.find(onto)
    chain = (
        ActionChains(page.driver, duration=60)
        .click_and_hold(source)
        .move_by_offset(0, 6)
        .move_by_offset(0, 6)
    )
    for _ in range(3):
        chain = chain.move_to_element(target)
    chain.move_by_offset(0, 4).pause(0.3).release().perform()


def test_a_line_is_dragged_by_mouse(page, house):
    begin(page, "Dragged")
    write(page, ".line[data-type=heading] .ink", "First")

    def kinds():
        return [x.get_attribute("data-type") for x in page.all("#lines > div > .line[data-type]")]

    before = kinds()
    drag(page, ".line[data-type=heading] .what", ".line[data-type=button] .what")
    page.wait(lambda: kinds() != before and sorted(kinds()) == sorted(before), why="nothing moved")
    saved(page)
    page.driver.refresh()
    page.find("#lines .line")
    assert kinds().index("heading") > kinds().index("text")


CHOOSE = """
const place = document.querySelector(arguments[0]);
place.focus();
const walker = document.createTreeWalker(place, NodeFilter.SHOW_TEXT);
while (walker.nextNode()) {
  const at = walker.currentNode.data.indexOf(arguments[1]);
  if (at < 0) continue;
  const range = document.createRange();
  range.setStart(walker.currentNode, at);
  range.setEnd(walker.currentNode, at + arguments[1].length);
  getSelection().removeAllRanges();
  getSelection().addRange(range);
  return true;
}
return false;
"""
PASTE = """
const held = new DataTransfer();
held.setData('text/plain', arguments[1]);
held.setData('text/html', '<h1 style="color:red">not this</h1>');
const paste = {clipboardData: held, bubbles: true, cancelable: true};
document.querySelector(arguments[0]).dispatchEvent(new ClipboardEvent('paste', paste));
"""


def test_words_are_formatted_and_steps_taken_back(page, house):
    begin(page, "Formatted")
    text = ".line[data-type=text] .ink"
    write(page, text, "Come up and see the rings tonight")

    def formatted(words, how):
        assert page.driver.execute_script(CHOOSE, text, words), words
        page.click(f".line.here [data-format={how}]")

    def kept():
        saved(page)
        with house.database.session() as session:
            found = session.scalars(sa.select(Message).where(Message.name == "Formatted")).one()
            return next(x["html"] for x in found.document["lines"] if x["type"] == "text")

    formatted("see the rings", "bold")
    assert "Come up and <b>see the rings</b> tonight" in kept()
    formatted("the", "italic")
    assert "<b>see <i>the</i> rings</b>" in kept()
    # Of what is bold a part is made plain again.
    formatted("see ", "bold")
    assert "and see <b><i>the</i> rings</b>" in kept()
    formatted("tonight", "link")
    page.type(".pop [name=link]", "https://farrow.example/rings")
    page.press("Apply", ".pop")
    page.wait(lambda: not page.all(".pop"))
    assert '<a href="https://farrow.example/rings">tonight</a>' in kept()
    formatted("rings", "colour")
    page.press("Apply", ".pop")
    page.wait(lambda: not page.all(".pop"))
    assert '<span style="color:' in kept()
    formatted("Come", "list")
    assert "<ul><li>Come up and" in kept()
    for _ in range(3):
        page.click("#undo")
        saved(page)
    page.wait(lambda: "<ul>" not in kept() and "<a " not in kept())
    assert "<b><i>the</i> rings</b>" in kept()
    page.click("#redo")
    page.wait(lambda: '<a href="https://farrow.example/rings">' in kept())
    # Pasting brings words, not looks, and what a rule refuses is said and not done.
    page.click(text)
    page.driver.switch_to.active_element.send_keys(Keys.CONTROL, Keys.END)
    page.driver.execute_script(PASTE, text, " before\nsnow")
    page.wait(lambda: "before<br>snow" in kept().replace("<br />", "<br>"))
    assert "not this" not in kept() and "red" not in kept()


def test_what_a_rule_refuses_is_said_and_the_lines_stay(page, house):
    begin(page, "Refused")
    add(page, "Columns")
    add(page, "Columns")
    first, second = (x.get_attribute("data-id") for x in page.all(".line[data-type=columns]"))
    page.driver.execute_script(
        """
        const lines = window.Alpine.$data(document.querySelector('[x-data=lines]'));
        lines.change({do: 'put', line: arguments[1], into: arguments[0] + ':c0', index: 0});
        """,
        first,
        second,
    )
    page.says("phones could not stack them", "#said")
    # The browser notes the refusal, too.
    assert ["422" in problem for problem in page.problems()] == [True]
    write(page, '[data-slot="subject"].ink', "Still here")
    saved(page)
    with house.database.session() as session:
        document = (
            session.scalars(sa.select(Message).where(Message.name == "Refused")).one().document
        )
    assert document["subject"] == "Still here"
    assert [x["type"] for x in document["lines"]].count("columns") == 2


def test_two_windows_and_what_was_typed_in_both(page, house):
    begin(page, "Twice")
    here, first = page.driver.current_url, page.driver.current_window_handle
    page.driver.switch_to.new_window("tab")
    try:
        page.driver.get(here)
        page.find("#lines .line")
        write(page, '[data-slot="subject"].ink', "From the second window")
        saved(page)
    finally:
        page.driver.close()
        page.driver.switch_to.window(first)
    write(page, '[data-slot="preheader"].ink', "From the first")
    page.says("changed this message while you were writing", "#said")
    assert ["409" in problem for problem in page.problems()] == [True]
    assert "Not saved yet" in page.text("#saved")
    page.press("Keep mine", "#said")
    saved(page)
    with house.database.session() as session:
        message = session.scalars(sa.select(Message).where(Message.name == "Twice")).one()
        subjects = session.scalars(
            sa.text("SELECT document->>'subject' FROM drafts WHERE message_id = :id"),
            {"id": message.id},
        ).all()
        document = message.document
    assert (document["subject"], document["preheader"]) == ("", "From the first")
    assert "From the second window" in subjects, "theirs stays among the drafts"
    # What was kept goes on being written as usual.
    write(page, '[data-slot="subject"].ink', "Mine")
    saved(page)
    assert not page.all("#said")


def widths(page):
    return [part.text for part in page.all(".split-part")]


def test_columns_are_chosen_by_pictures_and_drawn_wider(page, house):
    """By a click, by mouse and by keys; what the server keeps is what is shown."""
    begin(page, "In columns")
    add(page, "Columns")
    assert widths(page) == ["50 %", "50 %"]
    page.click(".line[data-type=columns] > .what")
    page.click('.arrangements [data-value="25 50 25"]')
    page.wait(lambda: widths(page) == ["25 %", "50 %", "25 %"])
    assert (
        page.find('.arrangements [aria-pressed="true"]').get_attribute("data-value") == "25 50 25"
    )
    border = page.find('.split-border[data-at="0"]')
    wide = page.find(".split-bar").size["width"]
    ActionChains(page.driver).drag_and_drop_by_offset(border, round(0.1 * wide), 0).perform()
    page.wait(lambda: widths(page)[2] == "25 %" and 33 <= int(widths(page)[0][:2]) <= 37)
    saved(page)
    # The border that was moved keeps the focus, so that keys go on with it.
    page.wait(lambda: page.driver.switch_to.active_element.get_attribute("data-at") == "0")
    before = int(widths(page)[0][:2])
    page.driver.switch_to.active_element.send_keys(Keys.ARROW_LEFT)
    page.wait(lambda: int(widths(page)[0][:2]) == before - 5)
    page.wait(
        lambda: page.find(".split-bar").get_attribute("data-widths").startswith(str(before - 5))
    )
    saved(page)
    with house.database.session() as session:
        document = session.scalar(sa.select(Message.document).where(Message.name == "In columns"))
    split = next(line["split"] for line in document["lines"] if line["type"] == "columns")
    assert split == [int(text[:2]) for text in widths(page)] and sum(split) == 100
