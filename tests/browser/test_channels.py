"""Each channel from end to end, as its author and its readers go: written, read as two people who
differ, proofed, sent, and seen in the village."""

import contextlib
import json

import pytest
import sqlalchemy as sa
from selenium.common.exceptions import WebDriverException
from selenium.webdriver.common.keys import Keys
from selenium.webdriver.support.ui import Select

from meadowrun.base import clock, signing
from meadowrun.people import actions as people
from meadowrun.people.queries import dictionary
from meadowrun.segments.actions import save
from meadowrun.tracking.actions import subscribe_device
from meadowrun.village.apps import new_app
from meadowrun.village.browsers import new_browser
from meadowrun.village.store import Store
from tests.browser.conftest import saved, write
from tests.store.people import IDA

TOWNS = {"ada": "Farrow", "ben": "Ossenmere"}
PHONES = {"ada": "+441632960801", "ben": "+441632960802"}


@pytest.fixture(scope="module")
def two(house):
    """Two people who differ in their towns, reachable on every channel, and a segment of them."""
    found, store = {}, Store(house.folder / "village.db")
    with house.database.session() as session:
        now = clock.now(session)
        for name, town in TOWNS.items():
            contact = people.save_contact(
                session,
                IDA,
                now,
                {
                    "email": f"{name}@channels.example",
                    "first_name": name.title(),
                    "town": town,
                    "phone": PHONES[name],
                },
                home="GB",
            )
            for channel in ("email", "sms"):
                people.set_consent(session, now, contact.id, 0, True, "test", channel)
            found[name] = contact.id
        subscribe_device(
            session,
            now,
            found["ada"],
            new_browser(store, str(found["ada"]), house.site),
            house.settings.inner,
        )
        subscribe_device(session, now, found["ben"], new_app(store, str(found["ben"]), "ios"))
        save(
            session,
            IDA,
            now,
            dictionary(session),
            "The two",
            {
                "lines": [
                    {
                        "id": "a",
                        "kind": "field",
                        "field": "email",
                        "op": "contains",
                        "value": "@channels.example",
                    }
                ]
            },
        )
    store.close()
    return found


def begin(page, name, channel):
    page.open("/messages/new")
    page.type("#name", name)
    page.click(f'[name=channel][value="{channel}"]')
    page.press("Start writing")
    page.find(".ink")


def read_as(page, name):
    page.click("#read-as")
    page.type(".pop input", f"{name}@channels")
    page.press(name.title(), ".pop")
    page.wait(lambda: page.text("#read-as").startswith(name.title()))


def field(page, place, label, fallback=""):
    """Puts a field in where the caret is, by keyboard."""
    page.find(place).send_keys("@")
    page.type(".pop [data-narrow]", label)
    if fallback:
        page.type(".pop [name=fallback]", fallback)
    page.press(label, ".pop")
    page.wait(lambda: not page.all(".pop"))


def only_for(page, town, then, other):
    """Words only for those of a town, from the open menu."""
    page.find(".pop #ci")
    Select(page.find(".pop #ci")).select_by_value("contact.town")
    for place, words in (("#cv", town), ("#ct", then), ("#co", other)):
        page.type(place, words)
    page.press("Apply", ".pop")
    page.wait(lambda: not page.all(".pop"))


def said_for(page, sentence, then, other):
    """Words only for those whom a typed sentence describes, from the open menu, by keyboard."""
    page.press("or describe them as in a segment", ".pop")
    page.wait(lambda: page.find("#who").is_displayed())
    page.wait(lambda: page.driver.switch_to.active_element.get_attribute("id") == "narrow")
    page.driver.switch_to.active_element.send_keys(Keys.ENTER)
    page.type(".pop [data-typed]", sentence)
    page.click(".pop .reading")
    page.wait(lambda: not page.all(".pop"))
    page.press("Save", "#who")
    for place, words in (("#ct", then), ("#co", other)):
        page.type(place, words)
    page.find("#co").send_keys(Keys.ENTER)
    page.wait(lambda: not page.all(".pop") and not page.find("#who").is_displayed())


def send_it(page, message):
    page.open("/campaigns/new")
    page.type("#c-name", f"Campaign of {message}")
    page.press("Create campaign")
    page.press("Add a send")
    page.type("#as-name", f"Send of {message}")
    page.press("Continue", "dialog")
    for slot, choice, confirm in (("in", "The two", "Write to these"), ("message", message, None)):
        page.click(f"#w-{slot}")
        page.press(choice, ".pop")
        if confirm:
            page.press(confirm, ".pop")
        page.wait(lambda: not page.all(".pop"))
    page.says("2 people")
    page.press("Review and send")
    page.press("Send to 2 people")
    page.says("Everyone accounted for", seconds=40)


def test_email(page, house, two):
    begin(page, "Channel mail", "email")
    write(page, '[data-slot="subject"].ink', "Come up, ")
    field(page, '[data-slot="subject"].ink', "first name", "friend")
    write(page, '[data-slot="preheader"].ink', "A clear night")
    write(page, ".line[data-type=heading] .ink", "A night out")
    write(page, ".line[data-type=text] .ink", "Bring a blanket. ")
    page.press("only for some", ".line.here")
    said_for(page, "town is Farrow", "You can stroll.", "There is room to park.")
    # A click on the words changes them, and who reads them; so with a field.
    page.click(".fill.only")
    assert page.text(".pop [data-who]") == "whose town is Farrow"
    page.type("#ct", "You can walk.")
    page.press("Apply", ".pop")
    page.wait(
        lambda: page.text(".fill.only").startswith("You can walk. (those whose town is Farrow)")
    )
    page.click('[data-slot="subject"] .fill')
    page.type("#fb", "stargazer")
    page.press("Apply", ".pop")
    page.wait(lambda: page.text('[data-slot="subject"] .fill') == "first name, or “stargazer”")
    write(page, ".line[data-type=button] .ink", "Choose your night")
    page.type(".line[data-type=button] [data-slot=href]", f"{house.site}/observatory/tickets")
    saved(page)
    page.says("“You can walk.”", "#margin")
    page.driver.refresh()
    page.wait(
        lambda: (
            [c.text for c in page.all(".line .fill")]
            == [
                "first name, or “stargazer”",
                "first name, or “friend”",
                "You can walk. (those whose town is Farrow), else There is room to park.",
            ]
        )
    )
    for name, words in (("ada", "You can walk."), ("ben", "There is room to park.")):
        read_as(page, name)
        page.says(f"Come up, {name.title()}", "#read-subject")
        page.wait(lambda words=words: words in _frame(page, "#read"))
    page.press("Send a proof", ".head")
    page.type("#p-to", "colleague@channels-proof.example")
    page.press("Send proof", "dialog")
    page.says("was sent to 1 of 1 address", "body")
    page.open(f"{house.site}/mailbox/colleague@channels-proof.example")
    page.says("[Proof] Come up, Ben")
    send_it(page, "Channel mail")
    for name, words in (("ada", "You can walk."), ("ben", "There is room to park.")):
        page.open(f"{house.site}/mailbox/{name}@channels.example")
        page.press(f"Come up, {name.title()}")
        page.wait(lambda words=words: words in _frame(page, "#mail"))


def _frame(page, selector):
    page.driver.switch_to.frame(page.find(selector))
    try:
        return page.driver.find_element("tag name", "body").text
    finally:
        page.driver.switch_to.default_content()


def test_text_message(page, house, two):
    begin(page, "Channel text", "sms")
    page.click(".ink")
    page.find(".ink").send_keys(Keys.CONTROL, "a")
    page.find(".ink").send_keys("Hill: clear tonight, ")
    field(page, ".ink", "first name", "friend")
    page.find(".ink").send_keys(". ", Keys.ENTER, "Next line ")
    page.press("only for some")
    only_for(page, "Farrow", "Walk & see", "Drive up")
    # One field too many, taken out again.
    field(page, ".ink", "last name")
    page.all(".ink .fill")[-1].click()
    page.press("Remove", ".pop")
    page.find(".ink").send_keys(Keys.CONTROL, Keys.END)
    page.find(".ink").send_keys(f" {house.site}/observatory/tickets STOP ends these")
    saved(page)
    for name, words in (
        ("ada", "Hill: clear tonight, Ada.\nNext line Walk & see"),
        ("ben", "Hill: clear tonight, Ben.\nNext line Drive up"),
    ):
        read_as(page, name)
        page.wait(lambda words=words: words in page.text("#bubble"), why=words)
    # One step back and forth again, as in every editor.
    page.click("#undo")
    page.wait(lambda: "STOP ends these" not in page.text("#bubble"))
    page.click("#redo")
    page.wait(lambda: "STOP ends these" in page.text("#bubble"))
    # Some first names need Unicode, which counts for everyone.
    page.says("2 parts", "#margin")
    # What was typed comes back as coloured words.
    page.driver.refresh()
    page.wait(
        lambda: (
            [c.text for c in page.all(".ink .fill")]
            == ["first name, or “friend”", "Walk & see (if Farrow), else Drive up"]
        )
    )
    page.press("Send a proof", ".head")
    page.type("#p-to", "+441632960899")
    page.press("Send proof", "dialog")
    page.says("was sent to 1 of 1 number", "body")
    page.open(f"{house.site}/phone/+441632960899")
    page.says("[Proof] Hill: clear tonight")
    send_it(page, "Channel text")
    page.open(f"{house.site}/phone/{PHONES['ada']}")
    page.says("Hill: clear tonight, Ada.")
    page.press("http")
    page.says("Tickets for a night at the dome")
    page.open(f"{house.site}/phone/{PHONES['ben']}")
    page.says("Drive up")
    page.type("input[name=text]", "Stop")
    page.press("Answer")
    with house.database.session() as session:
        page.wait(
            lambda: (
                session.execute(
                    sa.text(
                        "SELECT agreed FROM consents WHERE contact_id = :id AND channel = 'sms'"
                    ),
                    {"id": two["ben"]},
                ).scalar()
                is False
            )
        )
        people.set_consent(session, clock.now(session), two["ben"], 0, True, "test", "sms")


def test_push_notification(page, house, two):
    begin(page, "Channel notice", "push")
    page.click('[data-slot="subject"]')
    page.find('[data-slot="subject"]').send_keys("Clear tonight, ")
    field(page, '[data-slot="subject"]', "first name", "friend")
    page.find('[data-slot="plain"]').send_keys("The dome opens at seven. ")
    page.all('.line [data-insert="?"]')[1].click()
    only_for(page, "Farrow", "Walk up.", "Drive up.")
    page.type('[data-slot="href"]', f"{house.site}/observatory/tickets")
    page.press("Add a button")
    page.wait(lambda: page.all('[data-slot="buttons.0.label"]'))
    page.find('[data-slot="buttons.0.label"]').send_keys("What is up")
    page.type('[data-slot="buttons.0.href"]', f"{house.site}/observatory/programme")
    saved(page)
    for name, words in (("ada", "Walk up."), ("ben", "Drive up.")):
        read_as(page, name)
        page.says(f"Clear tonight, {name.title()}", "#n-title")
        page.says(words, "#n-body")
    # A tap can open a page of ours instead: one of the messages.
    Select(page.find('[data-slot="tap"]')).select_by_value("page")
    page.wait(lambda: page.all('[data-slot="page"]'))
    page.says("Choose the page that a tap opens", "#margin")
    Select(page.find('[data-slot="page"]')).select_by_visible_text("Welcome to the hill")
    page.says("a tap opens this page", "#n-leads")
    page.wait(lambda: "Choose the page" not in page.text("#margin"))
    page.press("Send a proof", ".head")
    page.type("#p-to", "ada@channels.example")
    page.press("Send proof", "dialog")
    page.says("was sent to 1 of 1 address", "body")
    send_it(page, "Channel notice")
    page.open(f"{house.site}/browsers")
    page.press(f"contact {two['ada']}")
    page.says("[Proof] Clear tonight, Ben")
    page.says("Clear tonight, Ada")
    page.says("Walk up.")
    page.open(f"{house.site}/apps")
    page.press(f"contact {two['ben']}")
    page.says("Drive up.")
    page.press("Clear tonight, Ben")
    page.says("Welcome to the hill", "body")
    page.open(f"{house.site}/apps")
    page.press(f"contact {two['ben']}")
    page.press("What is up")
    page.says("What is on")


def in_app_text(page):
    """The words of the in-app message on the website: its lines, then its buttons."""
    return page.driver.execute_script("""
        const host = document.getElementById('meadowrun-in-app');
        if (!host) return '';
        const inside = host.shadowRoot.querySelector('iframe').contentDocument;
        const buttons = [...host.shadowRoot.querySelectorAll('.doing button')];
        return [inside.body.innerText, ...buttons.map((b) => b.textContent)].join(' | ');""")


def press_in_app(page, words):
    page.driver.execute_script(
        "[...document.getElementById('meadowrun-in-app').shadowRoot.querySelectorAll('button')]"
        ".find((b) => b.textContent === arguments[0]).click()",
        words,
    )


def visitor(house, number):
    return signing.visitor(house.settings.secret, number, clock.machine_now())


def test_in_app(page, house, two):
    begin(page, "Channel card", "in_app")
    write(page, ".line[data-type=heading] .ink", "Good to see you, ")
    field(page, ".line[data-type=heading] .ink", "first name", "friend")
    write(page, '[data-slot="subject"].ink', "Become a member")
    write(page, ".line[data-type=text] .ink", "Members come every clear night. ")
    page.press("only for some", ".line.here")
    only_for(page, "Farrow", "You can walk.", "There is room to park.")
    write(page, '[data-slot="buttons.0.label"]', "See what members get")
    page.type('[data-slot="buttons.0.href"]', f"{house.site}/observatory/join")
    page.press("Add a button")
    page.find('[data-slot="buttons.1.label"]')
    write(page, '[data-slot="buttons.1.label"]', "Not now")
    page.type('[data-slot="page"]', "/observatory*")
    Select(page.find('[data-slot="unless"]')).select_by_value("membership_started")
    page.wait(lambda: "last day" in page.text("#margin"))
    saved(page)
    for name, words in (("ada", "You can walk."), ("ben", "There is room to park.")):
        read_as(page, name)
        page.wait(
            lambda words=words, name=name: (
                words in _frame(page, "#read")
                and f"Good to see you, {name.title()}" in _frame(page, "#read")
            )
        )
    assert "Not now" in _frame(page, "#read")
    page.press("Send a proof", ".head")
    page.press("Show it", "dialog")
    page.open(page.find("#proof-at").get_attribute("href"))
    page.wait(lambda: "Good to see you, Ben" in in_app_text(page))
    send_it(page, "Channel card")
    # Ada comes, puts it off; Ben goes where the button leads.
    page.open(f"{house.site}/observatory/?mr={visitor(house, two['ada'])}")
    page.wait(
        lambda: "Good to see you, Ada" in in_app_text(page) and "You can walk." in in_app_text(page)
    )
    assert "See what members get | Not now" in in_app_text(page)
    press_in_app(page, "Not now")
    page.wait(lambda: not in_app_text(page))
    page.open(f"{house.site}/observatory/programme")
    page.says("What is on")
    page.open(f"{house.site}/observatory/?mr={visitor(house, two['ben'])}")
    page.wait(lambda: "There is room to park." in in_app_text(page))
    press_in_app(page, "See what members get")
    page.says("Become a member", "h1")
    page.press("Join as a household")
    page.says("It is booked")
    assert in_app_text(page) == ""
    with house.database.session() as session:
        rows = session.execute(
            sa.text(
                "SELECT r.contact_id, r.kind FROM reactions r JOIN sends s USING (dispatch_id) "
                "WHERE s.name = 'Send of Channel card'"
            )
        ).all()
        assert {tuple(r) for r in rows} == {
            (two["ada"], "opened"),
            (two["ben"], "opened"),
            (two["ben"], "clicked"),
        }
        ident = session.execute(
            sa.text("SELECT id FROM sends WHERE name = 'Send of Channel card'")
        ).scalar()
    page.open(f"/results/{ident}")
    page.says("2 showings")
    assert (
        page.text("[data-count=put_off]"),
        page.text(".funnel [data-count=opened]"),
        page.text(".funnel [data-count=clicked]"),
    ) == ("1", "2", "1")


WORKER = """
    const done = arguments[0];
    navigator.serviceWorker.register('/site-worker.js').then(() => navigator.serviceWorker.ready)
      .then((r) => done(r.scope), (e) => done(String(e)));"""
SHOWN = """
    const done = arguments[0];
    const told = (n) => ({
      title: n.title, body: n.body, actions: n.actions.map((a) => a.title), own: n.data.own});
    navigator.serviceWorker.getRegistration()
      .then((r) => r.getNotifications())
      .then((all) => done(all.map(told)));"""


def test_the_worker_of_a_website_shows_what_is_pushed(page, house):
    """Our service worker in a real browser, a push notification handed to it as the browser's push
    service would."""
    driver = page.driver
    driver.execute_cdp_cmd(
        "Browser.grantPermissions", {"origin": house.site, "permissions": ["notifications"]}
    )
    page.open(f"{house.site}/observatory/")
    driver.execute_cdp_cmd("ServiceWorker.enable", {})
    assert driver.execute_async_script(WORKER) == f"{house.site}/"
    notification = {
        "title": "Clear tonight",
        "body": "The dome opens at seven",
        "url": f"{house.site}/observatory/tickets",
        "buttons": [{"label": "Book", "href": f"{house.site}/observatory/tickets"}],
        "data": {"night": "Leonids"},
    }

    def shown():
        # The browser numbers its workers by itself; only ours takes what is for this website.
        for ident in range(20):
            with contextlib.suppress(WebDriverException):
                driver.execute_cdp_cmd(
                    "ServiceWorker.deliverPushMessage",
                    {
                        "origin": house.site,
                        "registrationId": str(ident),
                        "data": json.dumps(notification),
                    },
                )
        found = driver.execute_async_script(SHOWN)
        return found and found[0] == {
            "title": "Clear tonight",
            "body": "The dome opens at seven",
            "actions": ["Book"],
            "own": {"night": "Leonids"},
        }

    page.wait(shown, seconds=20, why="the worker shows nothing")
