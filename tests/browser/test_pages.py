"""Every page: no WCAG 2.1 AA violation that axe can find, nothing blocked, nothing sticking out
sideways, also at twice the size."""

import datetime as dt
import json

import pytest
import sqlalchemy as sa
from selenium.webdriver.common.keys import Keys

from meadowrun.base import clock, signing
from meadowrun.people.queries import dictionary
from meadowrun.segments.actions import save
from meadowrun.shell import hidden
from tests.browser.conftest import ONCE, TWICE, lacks_at_twice_the_size, sized, violations
from tests.store.people import IDA

PAGES = [
    "/",
    "/people",
    "/people?search=~marsh",
    "/people?search=~zzzz",
    "/people/new",
    "/people/5",
    "/people/5/edit",
    "/companies",
    "/companies/1",
    "/people/fields",
    "/tags",
    "/tags/1",
    "/scores",
    "/scores/1",
    "/segments/new?about=score:1",
    "/segments?tag=1",
    "/people?tag=1",
    "/lists",
    "/people/suppressions",
    "/retention",
    "/message-limits",
    "/imports",
    "/imports/new",
    "/segments",
    "/segments/new",
    "/segments/1",
    "/segments/1/people",
    "/segments/1/history",
    "/segments/1/profile",
    "/segments/compare",
    "/segments/compare?of=1&of=2&of=3",
    "/segments/1/why/5",
    "/people/5/segments",
    "/groupings",
    "/groupings/1",
    "/groupings/1/groups/new",
    "/people/duplicates",
    "/people/fields/1",
    "/people/events/1",
    "/lists/1",
    "/messages",
    "/messages/new",
    "/messages/1",
    "/messages/1/drafts",
    "/messages/1/checks",
    "/messages/1/review",
    "/messages/1/compare",
    "/messages/2/text",
    "/messages/3/notification",
    "/messages/4",
    "/messages/2/checks",
    "/messages/3/checks",
    "/messages/4/checks",
    "/groupings/1/several",
    "/messages/shared",
    "/messages/shared/1",
    "/messages/shared/1/uses",
    "/messages/house",
    "/messages/lookups",
    "/files",
    "/campaigns",
    "/campaigns/new",
    "/campaigns/1",
    "/campaigns/1/edit",
    "/sends/1",
    "/sends/1/look",
    "/sends/2",
    "/sends/5",
    "/results",
    "/results/3",
    "/results/5",
    "/results/5/people/opened",
    "/results/5/people/control_converted",
    "/sends/5/mail/~",
    "/sends/5/why?who=ar",
    "/calendar",
    "/calendar?view=month",
    "/calendar?view=day",
    "/message-limits",
    "/message-limits/people",
    "/quiet-hours",
    "/best-hours",
    "/sending",
    "/mail-domains",
    "/readiness",
    "/changes",
    "/colleagues",
    "/password",
    "/connections",
    "/senders",
    "/nowhere",
]

#: Somebody who got the fifth send.
GOT = """
SELECT min(contact_id) FROM deliveries d JOIN sends s USING (dispatch_id) WHERE s.id = 5
AND outcome = 'delivered'
"""


@pytest.mark.parametrize("path", PAGES)
def test_a_page_is_sound(page, house, path):
    if "=~" in path:
        path, _, typed = path.partition("~")
        path += hidden.token_of(house.settings.secret, typed)
    if "~" in path:
        # Somebody who got the members' letter.
        with house.database.session() as session:
            got = session.scalar(sa.text(GOT))
        path = path.replace("~", str(got))
    page.open(path)
    page.find("main")
    assert page.driver.current_url == page.address + path and (path == "/nowhere") == bool(
        page.all("main .sheet.problem")
    )
    assert violations(page) == []
    wide = page.driver.execute_script("return document.documentElement.scrollWidth")
    assert wide <= 1280, f"{path} is {wide} pixels wide"
    sized(page, TWICE)
    try:
        assert lacks_at_twice_the_size(page) == []
    finally:
        sized(page, ONCE)
    complaints = [p for p in page.problems() if "404" not in p]
    assert complaints == []


@pytest.mark.parametrize(("kind", "purpose"), [("u", "leave"), ("p", "choose")])
def test_pages_that_readers_see_work_on_a_phone(page, house, kind, purpose):
    with house.database.session() as session:
        number, contact = session.execute(
            sa.text("SELECT number, contact_id FROM deliveries WHERE contact_id = 7 LIMIT 1")
        ).one()
    token = signing.make((house.folder / "secret").read_text(), purpose, number, contact)
    sized(page, {"width": 390, "height": 800, "deviceScaleFactor": 1, "mobile": False})
    try:
        page.open(f"/{kind}/{token}")
        assert violations(page) == []
        assert page.driver.execute_script("return document.documentElement.scrollWidth") <= 390
    finally:
        sized(page, ONCE)


def test_the_one_box_finds_and_does(page):
    page.open("/")
    page.find("body").send_keys(Keys.CONTROL, "k")
    page.type("#find input", "near renewal")
    page.says("Loyal members near renewal", "#find")
    page.find("#find input").send_keys(Keys.ENTER)
    page.wait(lambda: "/segments/" in page.driver.current_url)
    page.click("[data-find]")
    page.type("#find input", "import")
    page.says("Import people from a file", "#find")
    page.find("#find input").send_keys(Keys.ESCAPE)
    assert not page.find("#find").is_displayed()


def test_a_segment_by_keyboard_alone_and_back_again(page):
    page.open("/segments/new")
    everyone = page.text("[data-size]")
    page.find("body").send_keys("/")
    page.find(".pop [data-narrow]").send_keys("visited", Keys.ENTER)
    page.says("visited the dome", "[data-part=sieve]")
    page.wait(lambda: page.text("[data-size]") != everyone)
    # The first word of the new line has the focus: Enter opens just that word.
    page.driver.switch_to.active_element.send_keys(Keys.ENTER)
    page.find(".pop [name=n]").send_keys(Keys.CONTROL, "a")
    page.find(".pop [name=n]").send_keys("3", Keys.ENTER)
    page.says("3 times or more", "[data-part=sieve]")
    page.find("body").send_keys(Keys.CONTROL, "z")
    page.says("at least once", "[data-part=sieve]")
    page.click("#undo")
    page.wait(lambda: page.text("[data-size]") == everyone)
    page.driver.execute_script("document.getElementById('unsaved').hidden = true")


def test_two_authors_of_one_segment(page, house):
    """The second to save is told, and what they made is not lost."""
    page.open("/segments/2")
    data = json.loads(page.find("#segment").get_attribute("data-definition"))
    first = page.driver.execute_async_script(
        "const done = arguments[0]; Meadowrun.post('/segments/save', {definition: "
        "JSON.parse(document.getElementById('segment').dataset"
        ".definition), segment: 2, name: 'Members', version: "
        "Number(document.getElementById('segment').dataset.version)}).then(done)"
    )
    assert "to" in first and data["lines"]
    page.click("#save")
    page.find("#sn").send_keys(Keys.ENTER)
    page.says("saved this segment while you were editing it")
    page.says("whose membership is not blank", "[data-part=sieve]")
    assert [p for p in page.problems() if "409" not in p] == []


def clock_of(house):
    """What the demo's clock shows, and where it is heading."""
    with house.database.session() as session:
        return clock.now(session), session.execute(sa.select(clock.ClockOffset.moving_to)).scalar()


def plan(page):
    """Reviews and plans the send that is open; once more where people of the village came or went
    in between, which it says."""
    scheduled, changed = "Scheduled: it goes out", "Review it once more"
    for _ in range(3):
        page.press("Review and send")
        page.press("Plan it for")
        page.wait(lambda: scheduled in page.text() or changed in page.text())
        if scheduled in page.text():
            break
    page.says(scheduled)


def test_moving_the_clock_lets_the_village_live(page, house):
    """A planned send leaves when its moment comes, and people react by themselves."""
    with house.database.session() as session:
        # A segment of its own: other tests of the same house change the demo's.
        lines = [
            {"id": "a", "kind": "field", "field": "email", "op": "contains", "value": "hillmail"}
        ]
        chosen = save(
            session,
            IDA,
            clock.now(session),
            dictionary(session),
            "Who live through it",
            {"lines": lines},
        )
        session.execute(
            sa.text(
                "UPDATE sends SET audience = jsonb_build_object('in', "
                "jsonb_build_array(jsonb_build_object('segment', "
                "CAST(:id AS int))), 'out', '[]'::jsonb) WHERE id = 1"
            ),
            {"id": chosen.id},
        )
    page.open("/sends/1")
    page.click("#w-leaves")
    page.click(".pop input[value=at]")
    page.press("Apply", ".pop")
    page.says("in the time zone of Europe/London")
    plan(page)
    for _ in range(2):
        before = clock_of(house)[0]
        page.open("/calendar")
        page.click(".clock-open")
        page.press("A day on", ".drop-sheet")
        page.wait(
            lambda before=before: (
                clock_of(house)[0] - before > dt.timedelta(hours=23) and clock_of(house)[1] is None
            ),
            120,
        )

    def arrived():
        page.open("/results/1")
        return page.all("[data-count=delivered]")

    # Behind two busy houses the last batch may still be on its way.
    page.wait(arrived, 60)
    shown = {
        e.get_attribute("data-count"): int(e.text.replace(",", ""))
        for e in page.all("[data-count]")
    }
    assert shown["delivered"] > 50 and shown["opened"] > 10
    assert shown["clicked"] >= 1
