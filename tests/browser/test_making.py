"""What is missing is made where it is missed; long lists are searched by typing; one draft serves
several channels."""

from selenium.webdriver.common.action_chains import ActionChains
from selenium.webdriver.common.keys import Keys


def typed(page, *keys):
    page.driver.switch_to.active_element.send_keys(*keys)


def test_a_long_pick_list_is_searched_by_typing(page):
    page.open("/messages/lookups")
    select = page.find("select[name=looked_up_by]")
    ActionChains(page.driver).click(select).perform()
    typed(page, "first")
    page.wait(
        lambda: (
            page.text(".pick li[aria-selected]") == "first name"
            and len(page.all(".pick [role=option]")) == 1
        )
    )
    typed(page, Keys.ENTER)
    assert select.get_attribute("value") == "contact.first_name" and not page.all(".pick")
    # By keyboard alone: the first letters open it, arrows go on, Escape leaves everything as it
    # was.
    select.send_keys("t")
    typed(page, "own")
    page.wait(lambda: "town" in page.text(".pick li[aria-selected]"))
    typed(page, Keys.ESCAPE)
    assert (
        select.get_attribute("value") == "contact.first_name"
        and page.driver.switch_to.active_element == select
    )
    select.send_keys(Keys.ARROW_DOWN)
    page.wait(lambda: page.text(".pick li[aria-selected]") == "first name")
    typed(page, Keys.ARROW_DOWN, Keys.ENTER)
    assert select.get_attribute("value") not in ("contact.first_name", "")
    # A short list stays the browser's own.
    page.click("details.pad > summary")
    short = page.find("details.pad select[name=when_down]")
    short.send_keys("w")
    assert short.get_attribute("value") == "wait"
    assert not page.all(".pick") and page.problems() == []


def test_a_send_is_put_together_without_leaving_its_sheet(page):
    page.open("/campaigns/new")
    page.type("[name=name]", "On the spot")
    page.press("Create")
    page.press("Add the first send")
    page.wait(lambda: page.find("#as-name").is_displayed())
    page.find("#as-name").send_keys(Keys.ENTER)
    page.click("#w-in")
    page.type("#w-said", "first name is not blank")
    page.wait(lambda: page.text("#w-reads") == "Everyone whose first name is not blank.")
    typed(page, Keys.ENTER)
    page.says("First name is not blank, leaving out")
    page.click("#w-message")
    page.type("#w-new", "Said on the spot")
    typed(page, Keys.ENTER)
    page.says("Said on the spot (email, draft 1")
    # Another one by the mouse: the row that was pressed is the one that is taken, also when the
    # field loses the focus by it.
    page.click("#w-message")
    page.wait(lambda: len(page.all(".pop button.choice")) > 1)
    second = page.all(".pop button.choice")[1]
    name = second.text.splitlines()[0]
    second.click()
    page.wait(
        lambda: (
            page.text("#w-message")
            and name.startswith(page.text("#w-message"))
            and page.text("#w-message") != "Said on the spot"
        )
    )
    assert page.problems() == []


def test_an_email_goes_on_as_a_text_message(page):
    page.open("/messages/new")
    page.type("#name", "For two channels")
    page.click('.tile:has([value="one-thing"])')
    page.press("Start writing")
    page.find("#lines .line")
    page.click("summary.btn")
    page.press("Also as a text message")
    page.says("Started from “For two channels”.")
    page.says("The one thing, as a sentence. Why now, in one sentence.", "#bubble")
    where = page.driver.current_url
    page.click("summary.btn")
    page.press("Delete it")
    page.says("This cannot be undone.", "dialog.sure")
    page.press("Keep it as it is", "dialog.sure")
    page.wait(lambda: not page.all("dialog.sure"))
    assert page.driver.current_url == where
    page.press("Delete it")
    page.press("Delete it", "dialog.sure")
    page.says("“For two channels, text message” was deleted.")
    assert page.problems() == []
